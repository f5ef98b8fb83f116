#include <Rcpp.h>

#include <exception>
#include <utility>

#include "core/interrupt.h"

#ifndef _WIN32
#include <signal.h>
#include <unistd.h>

#include <chrono>
#include <thread>
#endif

namespace {

// An interrupt, or the end of a limit of time: R goes on with it when the core's work is put away.
std::exception_ptr cut_off;

SEXP look_for_interrupt(void*) {
  R_CheckUserInterrupt();
  return R_NilValue;
}

bool is_interrupted() {
  try {
    Rcpp::unwindProtect(look_for_interrupt, nullptr);
  } catch (...) {
    cut_off = std::current_exception();
    return true;
  }
  return false;
}

void interrupt() { std::rethrow_exception(std::exchange(cut_off, nullptr)); }

}  // namespace

// What stops R stops the core, too.
// [[Rcpp::init]]
void stop_core_with_r(DllInfo* dll) {
  (void)dll;
  core::stop_with(is_interrupted, interrupt);
}

// A forked process ends when the one that made it is gone, also where that was killed and could say
// nothing.
// [[Rcpp::export]]
void cpp_end_with(int parent) {
#ifndef _WIN32
  if (getpid() == static_cast<pid_t>(parent))
    return;  // one item is not worth a process, and runs here
  std::thread([parent] {
    while (getppid() == static_cast<pid_t>(parent))
      std::this_thread::sleep_for(std::chrono::milliseconds(200));
    kill(getpid(), SIGKILL);
  }).detach();
#else
  (void)parent;
#endif
}
