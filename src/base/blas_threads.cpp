#include "base/blas_threads.hpp"

#include "base/error.hpp"

#include <algorithm>
#include <cblas.h>
#include <cstddef>
#include <mutex>
#include <omp.h>
#include <sys/mman.h>

extern "C" void dpotrf_(const char* uplo, const int* n, double* a, const int* lda, int* info);

namespace upright {

namespace {

constexpr std::size_t buffer = (std::size_t{128} << 20) + (std::size_t{1} << 16);

bool there_is_room(std::size_t bytes) {
    void* place =
        ::mmap(nullptr, bytes, PROT_READ | PROT_WRITE, MAP_PRIVATE | MAP_ANONYMOUS | MAP_NORESERVE, -1, 0);
    if (place == MAP_FAILED) return false;
    ::munmap(place, bytes);
    return true;
}

// Whether there is room for the buffers of so many threads; those that are there once stay.
bool has_buffers(int count) {
    static std::mutex guard;
    static int there =
        openblas_get_num_threads() - 1; // of the library's own threads, from when it was loaded
    const std::lock_guard<std::mutex> lock(guard);
    if (count <= there) return true;
    // Beside them, the stacks of new threads.
    constexpr std::size_t stack = std::size_t{16} << 20;
    if (!there_is_room(static_cast<std::size_t>(count - there) * (buffer + stack))) return false;
    there = count;
    // The caller's own is taken at once, before anything else takes the room.
    double one = 1.0;
    const int n = 1;
    int info = 0;
    dpotrf_("L", &n, &one, &n, &info);
    return true;
}

} // namespace

BlasThreads::BlasThreads(int threads, int callers) : before_(openblas_get_num_threads()) {
    // With less room fewer threads, down to the callers' own.
    while (!has_buffers(std::max(before_, threads) - 1 + callers)) {
        if (threads <= before_)
            throw Error::numerics(
                "there is not enough memory: the linear algebra takes 134 MB for each thread that calls it",
                "Allow the program more memory");
        --threads;
    }
    openblas_set_num_threads(threads);
}

BlasThreads::~BlasThreads() {
    openblas_set_num_threads(before_);
}

int usable_threads() {
    static const int at_start = std::max(1, ::omp_get_max_threads()); // before anyone asked for others
    return at_start;
}

} // namespace upright
