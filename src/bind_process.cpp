#include <Rcpp.h>

#include "core/interrupt.h"

#ifndef _WIN32
#include <signal.h>
#include <unistd.h>

#include <chrono>
#include <thread>
#endif

namespace {

void look_for_interrupt(void*) { R_CheckUserInterrupt(); }

bool is_interrupted() { return R_ToplevelExec(look_for_interrupt, nullptr) == FALSE; }

void interrupt() { throw Rcpp::internal::InterruptedException(); }

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
