// Lines of delimited text and the cells that they hold.
#pragma once
#include <cstddef>
#include <string>
#include <vector>

namespace core {

// What `cells_by_line` gives for lines that hold no row of their own.
constexpr int kBlankLine = 0, kOpenQuote = -1, kGoesOn = -2;

// How many cells each line holds: kBlankLine for blanks and lines that only draw ("---+---"),
// kGoesOn for a line that ends within quotes (the line where they end counts the cells of both),
// kOpenQuote where quotes begin that do not end within `reach` lines, or stand where none may.
std::vector<int> cells_by_line(const char* begin, const char* end, char separator,
                               std::size_t reach = 1000);

// The rows of a text that have as many cells as its first, and those that have not.
struct Sifted {
  struct Run { const char *begin, *end; };
  struct Odd { std::size_t line; int cells; const char *begin, *end; };
  int wanted = 0;                      // cells of the first row; 0: there is none
  std::vector<Run> runs;               // lines that are kept
  std::vector<std::size_t> row_ends;   // the line (from 0) in which each kept row ends
  std::vector<Odd> odd;                // other rows, by the line in which they end
};
Sifted sift_lines(const char* begin, const char* end, char separator);

// Runs of blanks outside of quotes become one tab; blanks at the ends of lines go.
std::string tabs_for_blanks(const char* begin, const char* end);

}  // namespace core
