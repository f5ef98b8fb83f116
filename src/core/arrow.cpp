#include "arrow.h"

#include <cstring>
#include <vector>

#include "interrupt.h"

namespace core {

namespace {

// What is handed over is given back, however its use ends.
template <typename T>
struct Held : T {
  Held() { this->release = nullptr; }
  Held(const Held&) = delete;
  ~Held() {
    if (this->release) this->release(this);
  }
};

bool begins(const char* format, const char* with) {
  return std::strncmp(format, with, std::strlen(with)) == 0;
}

enum class Kind { key, micros, days, number, other };

Kind kind_of(const char* format) {
  if (std::strcmp(format, "L") == 0) return Kind::key;
  if (begins(format, "tsu:")) return Kind::micros;
  if (std::strcmp(format, "tdD") == 0) return Kind::days;
  if (std::strcmp(format, "g") == 0) return Kind::number;
  return Kind::other;
}

void cells_of(const ArrowArray& column, const ArrowArray& batch, Cells& out) {
  out.there = static_cast<const std::uint8_t*>(column.buffers[0]);
  out.skip = static_cast<std::size_t>(column.offset + batch.offset);
}

}  // namespace

Drained drain(ArrowArrayStream& stream, bool keyed, OrderedRows& rows,
              const std::atomic<bool>& wanted, std::string& trouble) {
  const auto failed = [&] {
    const char* word = stream.get_last_error(&stream);
    trouble = word ? word : "The engine does not say why.";
    return Drained::failed;
  };
  Held<ArrowSchema> schema;
  if (stream.get_schema(&stream, &schema)) return failed();
  std::vector<Kind> kinds;
  for (std::int64_t i = 0; i < schema.n_children; ++i) {
    kinds.push_back(kind_of(schema.children[i]->format));
  }
  const std::size_t before = keyed ? 2 : 1;
  if (kinds.size() < before) return Drained::stopped;
  if (kinds[0] != Kind::micros && kinds[0] != Kind::days && kinds[0] != Kind::number) {
    return Drained::stopped;
  }
  if (keyed && kinds[1] != Kind::key) return Drained::stopped;
  for (std::size_t i = before; i < kinds.size(); ++i) {
    if (kinds[i] != Kind::number) return Drained::stopped;
  }
  while (true) {
    checkpoint();
    if (!wanted) return Drained::stopped;
    Held<ArrowArray> batch;
    if (stream.get_next(&stream, &batch)) return failed();
    if (!batch.release) return rows.finish() ? Drained::all : Drained::stopped;
    RowBatch taken;
    taken.rows = static_cast<std::size_t>(batch.length);
    const ArrowArray& stamps = *batch.children[0];
    cells_of(stamps, batch, taken.stamp);
    if (kinds[0] == Kind::micros) {
      taken.stamp.micros = static_cast<const std::int64_t*>(stamps.buffers[1]);
    } else if (kinds[0] == Kind::days) {
      taken.stamp.days = static_cast<const std::int32_t*>(stamps.buffers[1]);
    } else {
      taken.stamp.seconds = static_cast<const double*>(stamps.buffers[1]);
    }
    KeyCells keys;
    if (keyed) {
      const ArrowArray& column = *batch.children[1];
      cells_of(column, batch, keys);
      keys.key = static_cast<const std::uint64_t*>(column.buffers[1]);
      taken.key = &keys;
    }
    for (std::size_t i = before; i < kinds.size(); ++i) {
      const ArrowArray& column = *batch.children[i];
      NumberCells cells;
      cells_of(column, batch, cells);
      cells.value = static_cast<const double*>(column.buffers[1]);
      taken.measures.push_back(cells);
    }
    if (!rows.take(taken)) return Drained::stopped;
  }
}

}  // namespace core
