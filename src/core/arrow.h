// Columns that another library hands over, batch by batch: the C data and stream interfaces of
// Arrow, an open standard.
#pragma once
#include <atomic>
#include <cstdint>
#include <string>

#include "ordered_rows.h"

#ifndef ARROW_C_DATA_INTERFACE
#define ARROW_C_DATA_INTERFACE
struct ArrowSchema {
  const char* format;
  const char* name;
  const char* metadata;
  std::int64_t flags;
  std::int64_t n_children;
  struct ArrowSchema** children;
  struct ArrowSchema* dictionary;
  void (*release)(struct ArrowSchema*);
  void* private_data;
};

struct ArrowArray {
  std::int64_t length;
  std::int64_t null_count;
  std::int64_t offset;
  std::int64_t n_buffers;
  std::int64_t n_children;
  const void** buffers;
  struct ArrowArray** children;
  struct ArrowArray* dictionary;
  void (*release)(struct ArrowArray*);
  void* private_data;
};
#endif

#ifndef ARROW_C_STREAM_INTERFACE
#define ARROW_C_STREAM_INTERFACE
struct ArrowArrayStream {
  int (*get_schema)(struct ArrowArrayStream*, struct ArrowSchema* out);
  int (*get_next)(struct ArrowArrayStream*, struct ArrowArray* out);
  const char* (*get_last_error)(struct ArrowArrayStream*);
  void (*release)(struct ArrowArrayStream*);
  void* private_data;
};
#endif

namespace core {

enum class Drained { all, stopped, failed };

// Every batch of a stream to a pass: stamps in the first column, the hash of the keys of the series
// in the second if it is `keyed`, measures in the others.
// stopped: the pass cannot go on, `wanted` says that it need not, or a column is of another kind.
// failed: `trouble` has the word of who hands over.
Drained drain(ArrowArrayStream& stream, bool keyed, OrderedRows& rows,
              const std::atomic<bool>& wanted, std::string& trouble);

}  // namespace core
