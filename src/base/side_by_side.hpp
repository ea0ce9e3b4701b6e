// Tasks that do not know of each other, on all threads; what they do in parallel themselves each does alone.
#pragma once

#include <cstddef>
#include <exception>
#include <vector>

namespace upright {

// task(0) to task(n - 1). Of errors the first, in the order of the numbers, is thrown when all have ended.
template <class Task> void side_by_side(std::size_t n, Task&& task) {
    std::vector<std::exception_ptr> errors(n);
#pragma omp parallel for schedule(dynamic, 1)
    for (std::size_t i = 0; i < n; ++i) {
        try {
            task(i);
        } catch (...) {
            errors[i] = std::current_exception();
        }
    }
    for (const std::exception_ptr& error : errors)
        if (error) std::rethrow_exception(error);
}

} // namespace upright
