// A loop over independent pieces on a few threads. Pieces write to places of
// their own, so that results do not depend on the number of threads.
#pragma once
#include <algorithm>
#include <atomic>
#include <cstddef>
#include <exception>
#include <thread>
#include <vector>

namespace core {

template <typename F>
void parallel_for(std::size_t count, int threads, F&& piece) {
  const std::size_t workers =
      std::min<std::size_t>(count, static_cast<std::size_t>(std::max(1, threads)));
  if (workers <= 1) {
    for (std::size_t i = 0; i < count; ++i) piece(i);
    return;
  }
  std::atomic<std::size_t> next{0};
  std::vector<std::exception_ptr> failure(workers);
  std::vector<std::thread> pool;
  for (std::size_t w = 0; w < workers; ++w) {
    pool.emplace_back([&, w] {
      try {
        for (std::size_t i = next++; i < count; i = next++) piece(i);
      } catch (...) {
        failure[w] = std::current_exception();
      }
    });
  }
  for (auto& t : pool) t.join();
  for (auto& f : failure) if (f) std::rethrow_exception(f);
}

}  // namespace core
