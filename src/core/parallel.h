// A loop over independent pieces on a few threads. Pieces write to places of
// their own, so that results do not depend on the number of threads.
#pragma once
#include <algorithm>
#include <atomic>
#include <condition_variable>
#include <cstddef>
#include <exception>
#include <mutex>
#include <thread>
#include <vector>

#include "interrupt.h"

namespace core {

template <typename F>
void parallel_for(std::size_t count, int threads, F&& piece) {
  const std::size_t workers =
      std::min<std::size_t>(count, static_cast<std::size_t>(std::max(1, threads)));
  if (workers <= 1) {
    for (std::size_t i = 0; i < count; ++i) {
      checkpoint();
      piece(i);
    }
    return;
  }
  std::atomic<std::size_t> next{0};
  std::vector<std::exception_ptr> failure(workers);
  std::vector<std::thread> pool;
  std::mutex mutex;
  std::condition_variable ended;
  std::size_t at_work = workers;
  for (std::size_t w = 0; w < workers; ++w) {
    pool.emplace_back([&, w] {
      try {
        for (std::size_t i = next++; i < count; i = next++) {
          checkpoint();
          piece(i);
        }
      } catch (...) {
        failure[w] = std::current_exception();
      }
      const std::lock_guard<std::mutex> lock(mutex);
      --at_work;
      ended.notify_one();
    });
  }
  bool stopped = false;
  if (can_ask()) {
    std::unique_lock<std::mutex> lock(mutex);
    while (!ended.wait_for(lock, std::chrono::milliseconds(50), [&] { return at_work == 0; })) {
      lock.unlock();
      if (!stopped && wants_to_stop()) stops.wanted = stopped = true;
      lock.lock();
    }
  }
  for (auto& t : pool) t.join();
  if (stopped) {
    stops.wanted = false;
    stops.stops();
  }
  for (auto& f : failure) if (f) std::rethrow_exception(f);
}

}  // namespace core
