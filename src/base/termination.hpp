// SIGTERM put off for a scope. The library that orders large matrices traps it for its own errors (and takes
// it for one of them), so that what asks the program to end would be lost.
#pragma once

#include <csignal>
#include <pthread.h>

namespace upright {

namespace termination {
inline void change(int how) {
    sigset_t one;
    sigemptyset(&one);
    sigaddset(&one, SIGTERM);
    pthread_sigmask(how, &one, nullptr);
}
} // namespace termination

// In this thread and in those that are made meanwhile, which keep it so: what libraries make as they are
// loaded must not be where it arrives later.
class TerminationBlocked {
  public:
    TerminationBlocked() { termination::change(SIG_BLOCK); }
    ~TerminationBlocked() { termination::change(SIG_UNBLOCK); }
    TerminationBlocked(const TerminationBlocked&) = delete;
    TerminationBlocked& operator=(const TerminationBlocked&) = delete;
};

#ifdef _OPENMP
// In this thread and those of OpenMP; what came in the meantime takes effect at the end.
class TerminationHeld {
  public:
    TerminationHeld() { change(SIG_BLOCK); }
    ~TerminationHeld() { change(SIG_UNBLOCK); }
    TerminationHeld(const TerminationHeld&) = delete;
    TerminationHeld& operator=(const TerminationHeld&) = delete;

  private:
    static void change(int how) {
#pragma omp parallel
        termination::change(how);
    }
};
#endif

} // namespace upright
