// The number of threads of the dense linear algebra library is one setting of the whole process.
//
// The library takes a buffer of 128 MB of address space for each of its threads and for each thread that
// calls it, and tries for ever where there is none: whoever calls it asks for that room here first.
#pragma once

namespace upright {

// Sets it for a scope; it is as before after that.
class BlasThreads {
  public:
    // `callers`: of so many threads at once the library is called. Fewer threads where there is no room for
    // the buffers of all; throws Error (Numerics) where there is none for the callers'.
    explicit BlasThreads(int threads, int callers = 1);
    ~BlasThreads();
    BlasThreads(const BlasThreads&) = delete;
    BlasThreads& operator=(const BlasThreads&) = delete;

  private:
    int before_;
};

// Threads that this process may keep busy: what OMP_NUM_THREADS says, else the cores it may run on.
int usable_threads();

} // namespace upright
