#include "fields.h"

#include <cstring>

#include "calendar.h"
#include "parallel.h"

namespace core {

namespace {

// Reads "2031-03-01T14:05:09Z" and its like; days repeat from line to line, so
// the last one is kept. Everything else goes to the general reader.
class FastStamps {
 public:
  explicit FastStamps(DayOrder order) : order_(order) {}
  // Bytes of a full ISO stamp at `s` that is followed by the separator, else 0.
  std::size_t full_stamp(const char* s, const char* end, char separator, ReadStamp& out) {
    if (end - s < 21) return 0;
    // The separator may stand between a day and its clock just as well.
    if (s[10] != 'T' && (s[10] != ' ' || separator == ' ')) return 0;
    const std::size_t n = s[19] == separator ? 19 : s[19] == 'Z' && s[20] == separator ? 20 : 0;
    if (n == 0) return 0;
    out = read(s, n);
    return out.trouble == StampTrouble::fine ? n : 0;
  }

  ReadStamp read(const char* s, std::size_t n) {
    if (n >= 19 && n <= 20 && s[4] == '-' && s[7] == '-' && s[13] == ':' && s[16] == ':' &&
        (s[10] == 'T' || s[10] == ' ') && (n == 19 || s[19] == 'Z')) {
      const int hour = two(s + 11), minute = two(s + 14), second = two(s + 17);
      if (hour >= 0 && hour < 24 && minute >= 0 && minute < 60 && second >= 0 && second < 60 &&
          same_day(s)) {
        return {day_ + hour * 3600 + minute * 60 + second,
                n == 20 ? StampKind::absolute : StampKind::local, StampTrouble::fine,
                DayOrder::unknown};
      }
    }
    return read_stamp(s, n, order_);
  }

 private:
  static int two(const char* s) {
    const int a = s[0] - '0', b = s[1] - '0';
    return a < 0 || a > 9 || b < 0 || b > 9 ? -1 : a * 10 + b;
  }
  bool same_day(const char* s) {
    if (std::memcmp(s, text_, 10) == 0) return true;
    const ReadStamp day = read_stamp(s, 10, DayOrder::unknown);
    if (day.trouble != StampTrouble::fine || day.kind != StampKind::date) return false;
    std::memcpy(text_, s, 10);
    day_ = day.seconds;
    return true;
  }
  DayOrder order_;
  char text_[10] = {0};
  double day_ = 0;
};

const char* line_end(const char* from, const char* end) {
  if (from == end) return end;
  const void* at = std::memchr(from, '\n', static_cast<std::size_t>(end - from));
  return at ? static_cast<const char*>(at) : end;
}

bool blank(const char* from, const char* to) {
  for (; from < to; ++from) if (*from != ' ' && *from != '\r' && *from != '\t') return false;
  return true;
}

std::size_t count_lines(const char* at, const char* end) {
  std::size_t lines = 0;
  while (at < end) {
    const char* stop = line_end(at, end);
    // Only short lines can be blank.
    lines += stop - at > 8 || !blank(at, stop);
    at = stop + 1;
  }
  return lines;
}

// Whether quotes go on from one line to the next.
bool goes_on(const char* at, const char* end) {
  while (at < end) {
    const char* stop = line_end(at, end);
    bool inside = false;
    for (const char* q = at; q < stop; ++q) inside = inside != (*q == '"');
    if (inside) return true;
    at = stop + 1;
  }
  return false;
}

// The field's text in [from, to); false where the line has too few fields.
bool find_field(const char* at, const char* stop, char separator, int field, const char*& from,
                const char*& to) {
  from = at;
  for (int f = 0; f < field; ++f) {
    from = static_cast<const char*>(
        std::memchr(from, separator, static_cast<std::size_t>(stop - from)));
    if (!from) return false;
    ++from;
  }
  const void* cut = std::memchr(from, separator, static_cast<std::size_t>(stop - from));
  to = cut ? static_cast<const char*>(cut) : stop;
  while (to > from && (to[-1] == '\r' || to[-1] == ' ')) --to;
  while (from < to && *from == ' ') ++from;
  return true;
}

// The same where cells may stand in quotes, which are taken off.
bool find_quoted_field(const char* at, const char* stop, char separator, int field,
                       const char*& from, const char*& to) {
  bool inside = false;
  from = at;
  int f = 0;
  for (; at < stop; ++at) {
    if (*at == '"') inside = !inside;
    if (inside || *at != separator) continue;
    if (f == field) break;
    from = at + 1;
    ++f;
  }
  if (f < field) return false;
  to = at;
  while (to > from && (to[-1] == '\r' || to[-1] == ' ')) --to;
  while (from < to && *from == ' ') ++from;
  if (to - from >= 2 && *from == '"' && to[-1] == '"') {
    ++from;
    --to;
  }
  return true;
}

unsigned scan_piece(const char* at, const char* end, char separator, int field, DayOrder order,
                    double* out, bool& proven) {
  FastStamps stamps(order);
  const bool quotes = std::memchr(at, '"', static_cast<std::size_t>(end - at)) != nullptr;
  ReadStamp s{};
  unsigned kinds = 0;
  while (at < end) {
    std::size_t taken = field == 0 ? stamps.full_stamp(at, end, separator, s) : 0;
    const char* stop = line_end(at + taken, end);
    if (taken == 0) {
      const char *from, *to;
      if (!(stop - at > 8) && blank(at, stop)) { at = stop + 1; continue; }
      const bool found = quotes ? find_quoted_field(at, stop, separator, field, from, to)
                                : find_field(at, stop, separator, field, from, to);
      if (!found) return 0;
      s = stamps.read(from, static_cast<std::size_t>(to - from));
      if (s.trouble != StampTrouble::fine) return 0;
    }
    kinds |= 1u << static_cast<unsigned>(s.kind);
    proven = proven || s.order == order;
    *out++ = s.seconds;
    at = stop + 1;
  }
  return kinds;
}

}  // namespace

TextPieces cut_text(const char* begin, const char* end, int threads) {
  TextPieces text;
  const std::size_t pieces = static_cast<std::size_t>(std::max(1, threads));
  text.cut.push_back(begin);
  for (std::size_t p = 1; p < pieces; ++p) {
    const char* near = begin + (end - begin) / static_cast<std::ptrdiff_t>(pieces) *
                                   static_cast<std::ptrdiff_t>(p);
    const char* from = std::max(near, text.cut.back());
    text.cut.push_back(from < end ? std::min(end, line_end(from, end) + 1) : end);
  }
  text.cut.push_back(end);
  text.lines.assign(pieces, 0);
  std::vector<int> quoted(pieces, 0);
  parallel_for(pieces, threads, [&](std::size_t p) {
    const char *from = text.cut[p], *to = text.cut[p + 1];
    if (from >= to) return;
    const bool quotes = std::memchr(from, '"', static_cast<std::size_t>(to - from)) != nullptr;
    quoted[p] = quotes && goes_on(from, to);
    if (!quoted[p]) text.lines[p] = count_lines(from, to);
  });
  for (std::size_t p = 0; p < pieces; ++p) {
    text.quoted = text.quoted || quoted[p];
    text.count += text.lines[p];
  }
  return text;
}

unsigned scan_stamps(const TextPieces& text, char separator, int field, DayOrder order, int threads,
                     double* out) {
  const std::size_t pieces = text.lines.size();
  std::vector<double*> start(pieces, out);
  for (std::size_t p = 1; p < pieces; ++p) start[p] = start[p - 1] + text.lines[p - 1];
  std::vector<unsigned> kinds(pieces, 0);
  std::vector<int> proof(pieces, 0);
  parallel_for(pieces, threads, [&](std::size_t p) {
    bool proven = false;
    if (text.lines[p]) {
      kinds[p] =
          scan_piece(text.cut[p], text.cut[p + 1], separator, field, order, start[p], proven);
    }
    proof[p] = proven;
  });
  bool proven = order == DayOrder::unknown;
  for (int p : proof) proven = proven || p != 0;
  if (!proven) return 0;
  unsigned all = 0;
  for (std::size_t p = 0; p < pieces; ++p) {
    if (text.lines[p] && kinds[p] == 0) return 0;
    all |= kinds[p];
  }
  return all;
}

WholeLines whole_lines(const char* begin, const char* end) {
  WholeLines out;
  if (begin == end) return out;
  const bool quotes = std::memchr(begin, '"', static_cast<std::size_t>(end - begin)) != nullptr;
  bool inside = false;
  std::size_t count = 0;
  for (const char* at = begin; at < end; ++at) {
    if (!quotes) {
      at = line_end(at, end);
      if (at == end) break;
    } else if (*at == '"') {
      // A quote within quotes is written twice, which turns the state over and back.
      inside = !inside;
      continue;
    } else if (*at != '\n') {
      continue;
    }
    ++count;
    if (!inside) out = {static_cast<std::size_t>(at + 1 - begin), count};
  }
  return out;
}

}  // namespace core
