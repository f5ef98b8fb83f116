// Long work that can be stopped. The thread that began it asks, at most every tenth of a second,
// whether to go on; the threads that it started look at what it found. Who uses the core says how
// to ask and how to stop; without that nothing is ever stopped.
#pragma once
#include <atomic>
#include <chrono>
#include <thread>

namespace core {

// What ends the work of a thread that was started.
struct Stopped {};

struct Stops {
  bool (*asks)() = nullptr;   // whether somebody wants to stop
  void (*stops)() = nullptr;  // throws what the caller understands
  std::thread::id owner;
  std::chrono::steady_clock::time_point asked;
  std::atomic<bool> wanted{false};
};
inline Stops stops;

inline void stop_with(bool (*asks)(), void (*throws)()) {
  stops.asks = asks;
  stops.stops = throws;
  stops.owner = std::this_thread::get_id();
}

inline bool can_ask() { return stops.asks && std::this_thread::get_id() == stops.owner; }

// Only in the thread that can ask.
inline bool wants_to_stop() {
  const auto now = std::chrono::steady_clock::now();
  if (now - stops.asked < std::chrono::milliseconds(100)) return false;
  stops.asked = now;
  return stops.asks();
}

// To be passed often, by pieces of work that take less than a tenth of a second.
inline void checkpoint() {
  if (can_ask()) {
    if (wants_to_stop()) stops.stops();
  } else if (stops.wanted.load(std::memory_order_relaxed)) {
    throw Stopped{};
  }
}

// For long loops of short steps: a checkpoint now and then.
inline void now_and_then(std::size_t step) {
  if ((step & 4095) == 0) checkpoint();
}

}  // namespace core
