#include "bind_convert.h"
#include "core/fields.h"
#include "core/text_lines.h"

#include <cmath>
#include <cstdio>
#include <cstdlib>
#include <cstring>

#ifdef _WIN32
#include <fstream>
#include <iterator>
#else
#include <fcntl.h>
#include <sys/mman.h>
#include <sys/stat.h>
#include <unistd.h>
#endif
#ifdef __linux__
#include <sys/syscall.h>
#endif

namespace {

// The bytes of a file, mapped where the system can.
class FileBytes {
 public:
  explicit FileBytes(const std::string& path) {
#ifdef _WIN32
    std::ifstream in(path, std::ios::binary);
    held_.assign(std::istreambuf_iterator<char>(in), {});
    begin_ = held_.data();
    size_ = held_.size();
#else
    const int file = open(path.c_str(), O_RDONLY);
    struct stat info;
    if (file < 0 || fstat(file, &info) != 0) {
      if (file >= 0) close(file);
      throw core::InputError("the file cannot be opened");
    }
    size_ = static_cast<std::size_t>(info.st_size);
    void* at = size_ ? mmap(nullptr, size_, PROT_READ, MAP_PRIVATE, file, 0) : nullptr;
    close(file);
    if (at == MAP_FAILED) throw core::InputError("the file cannot be mapped");
    begin_ = static_cast<const char*>(at);
#endif
  }
  ~FileBytes() {
#ifndef _WIN32
    if (begin_) munmap(const_cast<char*>(begin_), size_);
#endif
  }
  FileBytes(const FileBytes&) = delete;
  FileBytes& operator=(const FileBytes&) = delete;
  const char* begin() const { return begin_; }
  const char* end() const { return begin_ + size_; }

 private:
  const char* begin_ = nullptr;
  std::size_t size_ = 0;
#ifdef _WIN32
  std::vector<char> held_;
#endif
};

}  // namespace

// Takes the attribute `kinds` off again, in place: the vector is fresh from the
// scan, and taking it off in R would copy it.
// [[Rcpp::export]]
void cpp_forget_kinds(Rcpp::NumericVector scanned) { scanned.attr("kinds") = R_NilValue; }

// Stamps of one field of a delimited file without quotes, below its first line;
// NULL where that reader is not enough. `orders`: whether rows may prove the order of day and
// month. The result is POSIXct with the zone UTC, so that nothing has to be copied later; its
// attribute `kinds` has a bit for each kind read.
// [[Rcpp::export]]
Rcpp::RObject cpp_scan_stamps(std::string path, std::string separator, int field, int threads,
                              bool orders = false) {
  const FileBytes file(path);
  const char* at = file.begin();
  while (at < file.end() && *at != '\n') ++at;
  if (at >= file.end()) return R_NilValue;
  const core::TextPieces text = core::cut_text(at + 1, file.end(), threads);
  if (text.quoted || text.count == 0) return R_NilValue;
  Rcpp::NumericVector out = Rcpp::no_init(static_cast<R_xlen_t>(text.count));
  unsigned kinds = 0;
  for (auto order :
       {core::DayOrder::unknown, core::DayOrder::day_first, core::DayOrder::month_first}) {
    if (kinds == 0 && (orders || order == core::DayOrder::unknown)) {
      kinds = core::scan_stamps(text, separator[0], field, order, threads, out.begin());
    }
  }
  if (kinds == 0) return R_NilValue;
  out.attr("kinds") = static_cast<int>(kinds);
  out.attr("class") = Rcpp::CharacterVector::create("POSIXct", "POSIXt");
  out.attr("tzone") = "UTC";
  return out;
}

// Copies the rows of a file that have as many cells as its first to another file. Gives that number
// (`wanted`), the lines of the rows below the header (`at`), and the other rows: `odd` lines with
// their `cells` and `text`. Nothing is copied where most are odd.
// [[Rcpp::export]]
Rcpp::List cpp_sift_lines(std::string path, std::string out, std::string separator) {
  const FileBytes file(path);
  const core::Sifted sifted = core::sift_lines(file.begin(), file.end(), separator[0]);
  const std::size_t rows = sifted.row_ends.size(), others = sifted.odd.size();
  if (rows > others) {
    std::FILE* target = std::fopen(out.c_str(), "wb");
    if (!target) Rcpp::stop("A temporary file cannot be written.");
    bool whole = true;
    for (const auto& run : sifted.runs) {
      const std::size_t size = static_cast<std::size_t>(run.end - run.begin);
      whole = whole && std::fwrite(run.begin, 1, size, target) == size;
      if (size && run.end[-1] != '\n') whole = whole && std::fputc('\n', target) != EOF;
    }
    whole = std::fclose(target) == 0 && whole;
    if (!whole) Rcpp::stop("A temporary file cannot be written; is the disk full?");
  }
  Rcpp::IntegerVector at(static_cast<R_xlen_t>(rows ? rows - 1 : 0)),
      odd(static_cast<R_xlen_t>(others)), cells(static_cast<R_xlen_t>(others));
  std::vector<std::string> text;
  for (std::size_t i = 1; i < rows; ++i)
    at[static_cast<R_xlen_t>(i) - 1] = static_cast<int>(sifted.row_ends[i]) + 1;
  for (std::size_t i = 0; i < others; ++i) {
    const auto& row = sifted.odd[i];
    odd[static_cast<R_xlen_t>(i)] = static_cast<int>(row.line) + 1;
    cells[static_cast<R_xlen_t>(i)] = row.cells;
    text.emplace_back(row.begin, row.end);
  }
  using Rcpp::_;
  return Rcpp::List::create(_["wanted"] = sifted.wanted, _["at"] = at, _["odd"] = odd,
                            _["cells"] = cells, _["text"] = text);
}

// [[Rcpp::export]]
void cpp_tabs_for_blanks(std::string path, std::string out) {
  const FileBytes file(path);
  const std::string text = core::tabs_for_blanks(file.begin(), file.end());
  std::FILE* target = std::fopen(out.c_str(), "wb");
  if (!target) Rcpp::stop("A temporary file cannot be written.");
  const bool whole = std::fwrite(text.data(), 1, text.size(), target) == text.size();
  if (std::fclose(target) != 0 || !whole)
    Rcpp::stop("A temporary file cannot be written; is the disk full?");
}

// How many of these bytes are whole lines, and how many lines these are.
// [[Rcpp::export]]
Rcpp::NumericVector cpp_whole_lines(Rcpp::RawVector bytes) {
  const char* begin = reinterpret_cast<const char*>(bytes.begin());
  const core::WholeLines found = core::whole_lines(begin, begin + bytes.size());
  return {static_cast<double>(found.size), static_cast<double>(found.count)};
}

namespace {

// Whether a number is a whole one over a power of ten, with 15 digits at most: both are exact, and
// so is their quotient rounded, which is what reading the text gives.
bool few_decimals(double v) {
  for (double power = 1; power <= 1e6; power *= 10) {
    const double whole = std::nearbyint(v * power);
    if (std::fabs(whole) < 1e15 && whole / power == v) return true;
  }
  return false;
}

}  // namespace

// Numbers as text that gives them back exactly; NULL where 15 digits do for all of them, which
// any writer knows. Missing values are NA.
// [[Rcpp::export]]
Rcpp::RObject cpp_exact_text(Rcpp::NumericVector values) {
  const R_xlen_t n = values.size();
  char text[40];
  R_xlen_t first = 0;
  for (; first < n; ++first) {
    if (!std::isfinite(values[first]) || few_decimals(values[first])) continue;
    std::snprintf(text, sizeof text, "%.15g", values[first]);
    if (std::strtod(text, nullptr) != values[first]) break;
  }
  if (first == n) return R_NilValue;
  Rcpp::CharacterVector out(n);
  for (R_xlen_t i = 0; i < n; ++i) {
    const double v = values[i];
    if (std::isnan(v)) {
      out[i] = NA_STRING;
    } else if (std::isinf(v)) {
      out[i] = v > 0 ? "Inf" : "-Inf";
    } else {
      std::snprintf(text, sizeof text, "%.15g", v);
      // Sixteen digits are not always read back right by the library's fast reader; seventeen are.
      if (std::strtod(text, nullptr) != v) std::snprintf(text, sizeof text, "%.17g", v);
      out[i] = Rf_mkCharCE(text, CE_NATIVE);
    }
  }
  return out;
}

// Two files or folders change their places at once; false where the system cannot.
// [[Rcpp::export]]
bool cpp_exchange(const std::string& one, const std::string& other) {
#if defined(__linux__) && defined(SYS_renameat2)
  constexpr unsigned kExchange = 2;
  return syscall(SYS_renameat2, AT_FDCWD, one.c_str(), AT_FDCWD, other.c_str(), kExchange) == 0;
#else
  (void)one;
  (void)other;
  return false;
#endif
}
