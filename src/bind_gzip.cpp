// Unpacking gzip member by member: length and check value of each are compared, so that a file that
// was cut or damaged is never taken for a whole one.
#include <Rcpp.h>
#include <zlib.h>

#include <cstdio>
#include <cstring>
#include <memory>
#include <string>
#include <vector>

namespace {
struct Closer {
  void operator()(std::FILE* f) const { std::fclose(f); }
};
using File = std::unique_ptr<std::FILE, Closer>;
}  // namespace

// What is wrong with the packed file ("" where it is whole), and how many bytes were unpacked. `to`
// may be "", to look only.
// [[Rcpp::export]]
Rcpp::List cpp_unzip(std::string from, std::string to) {
  constexpr std::size_t block = 1 << 18;
  std::vector<unsigned char> in(block), out(block);
  File source(std::fopen(from.c_str(), "rb"));
  File target(to.empty() ? nullptr : std::fopen(to.c_str(), "wb"));
  double made = 0;
  auto done = [&](const char* trouble) {
    return Rcpp::List::create(Rcpp::Named("trouble") = std::string(trouble),
                              Rcpp::Named("bytes") = made);
  };
  if (!source || (!to.empty() && !target)) return done("it cannot be opened");
  z_stream stream{};
  // 16: a gzip frame around it.
  if (inflateInit2(&stream, 15 + 16) != Z_OK) return done("there is no memory for it");
  const char* trouble = "";
  bool within = false;
  int members = 0;
  for (bool more = true; more && trouble[0] == '\0';) {
    Rcpp::checkUserInterrupt();
    stream.avail_in = static_cast<uInt>(std::fread(in.data(), 1, block, source.get()));
    stream.next_in = in.data();
    more = stream.avail_in > 0;
    while (stream.avail_in > 0 && trouble[0] == '\0') {
      // Zeros that pad the end of a tape are no member.
      if (!within && members > 0 && *stream.next_in == 0) {
        ++stream.next_in;
        --stream.avail_in;
        continue;
      }
      within = true;
      stream.next_out = out.data();
      stream.avail_out = static_cast<uInt>(block);
      const int state = inflate(&stream, Z_NO_FLUSH);
      const std::size_t size = block - stream.avail_out;
      if (target && std::fwrite(out.data(), 1, size, target.get()) != size)
        trouble = "the disk is full";
      made += static_cast<double>(size);
      if (state == Z_STREAM_END) {
        within = false;
        ++members;
        inflateReset(&stream);
      } else if (state != Z_OK && state != Z_BUF_ERROR) {
        trouble = "its bytes are damaged";
      }
    }
  }
  inflateEnd(&stream);
  if (trouble[0] == '\0' && within) trouble = "it ends too early; was it cut short?";
  return done(trouble);
}

// The check value (CRC-32) of a file's bytes, as zipped files tell it.
// [[Rcpp::export]]
double cpp_check_value(std::string path) {
  std::vector<unsigned char> block(1 << 18);
  File source(std::fopen(path.c_str(), "rb"));
  if (!source) return NA_REAL;
  uLong value = crc32(0L, nullptr, 0);
  for (std::size_t size; (size = std::fread(block.data(), 1, block.size(), source.get())) > 0;) {
    value = crc32(value, block.data(), static_cast<uInt>(size));
  }
  return static_cast<double>(value);
}

// How many lines of a file hold more than blanks.
// [[Rcpp::export]]
double cpp_count_lines(std::string path) {
  std::vector<char> block(1 << 18);
  File source(std::fopen(path.c_str(), "rb"));
  if (!source) return NA_REAL;
  double lines = 0;
  bool filled = false;
  for (std::size_t size; (size = std::fread(block.data(), 1, block.size(), source.get())) > 0;) {
    const char* at = block.data();
    const char* const end = at + size;
    while (at < end) {
      // What is left of a line that holds something need not be looked at.
      if (filled) {
        at = static_cast<const char*>(std::memchr(at, '\n', static_cast<std::size_t>(end - at)));
        if (!at) break;
        filled = false;
        ++at;
        continue;
      }
      const char c = *at++;
      if (c != '\n' && c != ' ' && c != '\t' && c != '\r') {
        filled = true;
        ++lines;
      }
    }
  }
  return lines;
}
