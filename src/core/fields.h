// The stamps of one column, read straight from delimited text.
#pragma once
#include <vector>

#include "stamps.h"

namespace core {

// The lines of a delimited text, cut into pieces for several threads. Fresh
// memory costs more here than a second look at the text, so that lines are
// counted first and stamps then written to where they stay.
struct TextPieces {
  std::vector<const char*> cut;      // where pieces begin, and the end
  std::vector<std::size_t> lines;    // lines that are not blank, by piece
  std::size_t count = 0;             // of all
  bool quoted = false;  // quotes that go on over lines are left to a reader that knows them
};

TextPieces cut_text(const char* begin, const char* end, int threads);

// Reads field number `field` (from 0) of every line that is not blank into
// `out`, which has room for all lines. Returns a bit for each StampKind that was
// read, or 0 where a stamp could not be read. With an order of day and month, 0 too where no line
// proves it.
unsigned scan_stamps(const TextPieces& text, char separator, int field, DayOrder order, int threads,
                     double* out);

// Where the last whole line of a piece of text ends (0 where none does), and how many line ends lie
// before it. Line ends within double quotes are part of a field.
struct WholeLines {
  std::size_t size = 0, count = 0;
};
WholeLines whole_lines(const char* begin, const char* end);

}  // namespace core
