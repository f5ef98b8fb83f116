#include "text_lines.h"

#include <algorithm>
#include <cstring>

namespace core {

namespace {

const char* end_of_line(const char* from, const char* end) {
  const void* at =
      from < end ? std::memchr(from, '\n', static_cast<std::size_t>(end - from)) : nullptr;
  return at ? static_cast<const char*>(at) : end;
}

bool is_blank(char c) { return c == ' ' || c == '\t' || c == '\r'; }

// Nothing, or only what consoles draw below names, with a rule of three signs at least.
bool holds_nothing(const char* from, const char* to) {
  std::size_t rule = 0;
  bool seen = false;
  for (; from < to; ++from) {
    const char c = *from;
    if (is_blank(c)) continue;
    if (c != '-' && c != '=' && c != '+' && c != '|' && c != ':') return false;
    seen = true;
    rule += c == '-' || c == '=';
  }
  return !seen || rule >= 3;
}

// A quote that ends a cell, in a line that begins within it: its place, or null.
const char* quote_that_ends(const char* from, const char* to, char separator) {
  for (; from < to; ++from) {
    if (*from != '"') continue;
    if (from + 1 < to && from[1] == '"') {
      ++from;
      continue;
    }
    const char* after = from + 1;
    while (after < to && (*after == ' ' || *after == '\r')) ++after;
    return after == to || *after == separator ? from : nullptr;
  }
  return nullptr;
}

struct Count {
  int cells = 0;
  bool open = false;    // the line ends within quotes
  bool proper = true;   // which began a cell
};

// Cells of a line that begins at the begin of a cell, or (with `inside`) within quotes.
Count count_cells(const char* from, const char* to, char separator, bool inside) {
  Count out;
  out.cells = 1;
  bool at_start = !inside;
  for (const char* at = from; at < to; ++at) {
    if (inside) {
      if (*at == '"') {
        if (at + 1 < to && at[1] == '"') ++at; else inside = false;
      }
      continue;
    }
    if (*at == '"') {
      inside = true;
      out.proper = at_start;
    } else if (*at == separator) {
      ++out.cells;
      at_start = true;
      continue;
    }
    if (*at != ' ') at_start = false;
  }
  out.open = inside;
  return out;
}

}  // namespace

std::vector<int> cells_by_line(const char* begin, const char* end, char separator,
                               std::size_t reach) {
  std::vector<int> out;
  const bool quotes =
      begin < end && std::memchr(begin, '"', static_cast<std::size_t>(end - begin)) != nullptr;
  const char* at = begin;
  while (at < end) {
    const char* stop = end_of_line(at, end);
    if (stop - at < 400 && holds_nothing(at, stop)) {
      out.push_back(kBlankLine);
      at = stop + 1;
      continue;
    }
    if (!quotes || !std::memchr(at, '"', static_cast<std::size_t>(stop - at))) {
      out.push_back(1 + static_cast<int>(std::count(at, stop, separator)));
      at = stop + 1;
      continue;
    }
    const Count first = count_cells(at, stop, separator, false);
    if (!first.open) {
      out.push_back(first.cells);
      at = stop + 1;
      continue;
    }
    // Where the quotes end, if they do; the cells after that are of the same row.
    const char* next = stop + 1;
    std::size_t lines = 0;
    int cells = kOpenQuote;
    while (first.proper && next < end && lines < reach) {
      const char* next_stop = end_of_line(next, end);
      ++lines;
      bool any = std::memchr(next, '"', static_cast<std::size_t>(next_stop - next)) != nullptr;
      if (any) {
        const char* closes = quote_that_ends(next, next_stop, separator);
        if (closes) {
          const Count rest = count_cells(next, next_stop, separator, true);
          if (!rest.open) cells = first.cells + rest.cells - 1;
        }
        next = next_stop + 1;
        break;
      }
      next = next_stop + 1;
    }
    if (cells == kOpenQuote) {
      out.push_back(kOpenQuote);
      at = stop + 1;
      continue;
    }
    for (std::size_t l = 0; l < lines; ++l) out.push_back(kGoesOn);
    out.push_back(cells);
    at = next;
  }
  return out;
}

Sifted sift_lines(const char* begin, const char* end, char separator) {
  const std::vector<int> cells = cells_by_line(begin, end, separator);
  Sifted out;
  std::size_t header = 0;
  while (header < cells.size() && (cells[header] == kBlankLine || cells[header] == kGoesOn))
    ++header;
  if (header == cells.size()) return out;
  out.wanted = cells[header];
  out.row_ends.reserve(cells.size() - header);
  const char *at = begin, *row = begin, *kept = nullptr, *kept_end = nullptr;
  const auto keep_run = [&] {
    if (kept) out.runs.push_back({kept, kept_end});
    kept = nullptr;
  };
  std::size_t first_line = 0;
  for (std::size_t line = 0; line < cells.size(); ++line) {
    const char* stop = std::min(end_of_line(at, end) + 1, end);
    const int held = cells[line];
    at = stop;
    if (held == kGoesOn) continue;
    if (held == out.wanted) {
      if (!kept) kept = row;
      kept_end = stop;
      out.row_ends.push_back(line);
    } else {
      keep_run();
      if (held != kBlankLine) {
        for (std::size_t l = first_line; l <= line; ++l) {
          const char* line_stop = end_of_line(row, end);
          // Lines that go on in an odd one go with it, and the last of them speaks for all.
          if (l == line) out.odd.push_back({l, held, row, line_stop});
          row = std::min(line_stop + 1, end);
        }
      }
    }
    row = stop;
    first_line = line + 1;
  }
  keep_run();
  return out;
}

std::string tabs_for_blanks(const char* begin, const char* end) {
  std::string out;
  out.reserve(static_cast<std::size_t>(end - begin));
  bool inside = false, waits = false, started = false;
  for (; begin < end; ++begin) {
    const char c = *begin;
    if (c == '\n') {
      out += '\n';
      inside = waits = started = false;
      continue;
    }
    if (!inside && is_blank(c)) {
      waits = started;
      continue;
    }
    if (waits) out += '\t';
    waits = false;
    started = true;
    if (c == '"') inside = !inside;
    out += c;
  }
  return out;
}

}  // namespace core
