#include "solve/grid/kernels.hpp"

#include <cstdlib>
#include <cstring>
#include <initializer_list>

namespace upright::grid {

extern const Kernels kernels_baseline;
#ifdef UPRIGHT_X86_KERNELS
extern const Kernels kernels_avx2;
extern const Kernels kernels_avx512;
#endif

const Kernels* kernels_named(const char* name) {
#ifdef UPRIGHT_X86_KERNELS
#ifdef __clang__ // whose version 14 does not ask for these; every processor with AVX2 has them
    const bool halves = true;
#else
    const bool halves = __builtin_cpu_supports("f16c") != 0;
#endif
    const bool avx2 = halves && __builtin_cpu_supports("avx2") != 0 && __builtin_cpu_supports("fma") != 0;
    const bool avx512 = avx2 && __builtin_cpu_supports("avx512f") != 0 &&
                        __builtin_cpu_supports("avx512vl") != 0 && __builtin_cpu_supports("avx512dq") != 0 &&
                        __builtin_cpu_supports("avx512bw") != 0;
    if (std::strcmp(name, "avx512") == 0) return avx512 ? &kernels_avx512 : nullptr;
    if (std::strcmp(name, "avx2") == 0) return avx2 ? &kernels_avx2 : nullptr;
#endif
    return std::strcmp(name, "baseline") == 0 ? &kernels_baseline : nullptr;
}

const Kernels& kernels() {
    static const Kernels& best = [&]() -> const Kernels& {
        const char* asked = std::getenv("UPRIGHT_SIMD");
        if (asked != nullptr)
            if (const Kernels* k = kernels_named(asked)) return *k;
        for (const char* name : {"avx512", "avx2"})
            if (const Kernels* k = kernels_named(name)) return *k;
        return kernels_baseline;
    }();
    return best;
}

std::size_t box_scratch(std::size_t stride, int rows) {
    const auto r = static_cast<std::size_t>(rows + 1);
    return sizeof(double) * (24 * stride + 12 * (stride + 16) + 6 * r * stride);
}

} // namespace upright::grid
