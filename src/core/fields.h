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
  bool quoted = false;               // quotes are left to a reader that knows them
};

TextPieces cut_text(const char* begin, const char* end, int threads);

// Reads field number `field` (from 0) of every line that is not blank into
// `out`, which has room for all lines. Returns a bit for each StampKind that was
// read, or 0 where a stamp could not be read.
unsigned scan_stamps(const TextPieces& text, char separator, int field, int threads, double* out);

}  // namespace core
