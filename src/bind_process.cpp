#include <Rcpp.h>

#ifndef _WIN32
#include <signal.h>
#include <unistd.h>

#include <chrono>
#include <thread>
#endif

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
