// The number of threads of the dense linear algebra library is one setting of the whole process.
#pragma once

#include <cblas.h>

namespace upright {

// Sets it for a scope; it is as before after that.
class BlasThreads {
  public:
    explicit BlasThreads(int threads) : before_(openblas_get_num_threads()) {
        openblas_set_num_threads(threads);
    }
    ~BlasThreads() { openblas_set_num_threads(before_); }
    BlasThreads(const BlasThreads&) = delete;
    BlasThreads& operator=(const BlasThreads&) = delete;

  private:
    int before_;
};

} // namespace upright
