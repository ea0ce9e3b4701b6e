// The bodies of the kernels; included once for each instruction set with UPRIGHT_ISA (a namespace) and
// UPRIGHT_VECTOR (bytes of a vector) set.
#include "solve/grid/kernels_box.hpp"
#include "solve/grid/kernels_vector.hpp"

#include <algorithm>
#include <cstring>
#ifdef __F16C__
#include <immintrin.h>
#endif

namespace upright::grid {
namespace UPRIGHT_ISA {

#ifdef __F16C__
using Coefficient = std::uint16_t;
inline __attribute__((always_inline)) Vector<float> load_coefficient(const Coefficient* p) {
#if UPRIGHT_VECTOR == 64
    return reinterpret_cast<Vector<float>>(
        _mm512_cvtph_ps(_mm256_loadu_si256(reinterpret_cast<const __m256i*>(p))));
#else
    return reinterpret_cast<Vector<float>>(
        _mm256_cvtph_ps(_mm_loadu_si128(reinterpret_cast<const __m128i*>(p))));
#endif
}
inline void pack(const float* in, void* out, std::size_t count) {
    auto* to = static_cast<Coefficient*>(out);
    for (std::size_t i = 0; i < count; ++i) to[i] = _cvtss_sh(in[i], 0);
}
inline void unpack(const void* in, float* out, std::size_t count) {
    const auto* from = static_cast<const Coefficient*>(in);
    for (std::size_t i = 0; i < count; ++i) out[i] = _cvtsh_ss(from[i]);
}
#else
using Coefficient = float;
inline __attribute__((always_inline)) Vector<float> load_coefficient(const Coefficient* p) {
    return load(p);
}
inline void pack(const float* in, void* out, std::size_t count) {
    std::memcpy(out, in, count * sizeof(float));
}
inline void unpack(const void* in, float* out, std::size_t count) {
    std::memcpy(out, in, count * sizeof(float));
}
#endif

template <int D, int N> void stencil_rows(const StencilSweep& s) {
    using V = Vector<float>;
    constexpr std::size_t W = width<float>;
    constexpr int neighbours = D == 3 ? 27 : 9;
    constexpr std::size_t block = static_cast<std::size_t>(D) * D * lanes;
    const std::size_t chunks = s.stride / lanes;
    for (int row = s.from_row; row < s.to_row; ++row) {
        const int j = row % s.nodes_y;
        const int k = row / s.nodes_y;
        const std::size_t base = static_cast<std::size_t>(row) * D * s.stride;
        for (std::size_t chunk = 0; chunk < chunks; ++chunk) {
            const std::size_t place = static_cast<std::size_t>(row) * chunks + chunk;
            const auto* beside = static_cast<const Coefficient*>(s.beside) + place * (neighbours - 1) * block;
            for (std::size_t lane = 0; lane < lanes; lane += W) {
                const std::size_t i = chunk * lanes + lane;
                V sum[N][D];
                for (int n = 0; n < N; ++n)
                    for (int c = 0; c < D; ++c) sum[n][c] = V{} + 0.0F;
                int at = 0;
                for (int dk = D == 3 ? -1 : 0; dk <= (D == 3 ? 1 : 0); ++dk)
                    for (int dj = -1; dj <= 1; ++dj) {
                        int plane = k + dk;
                        if (s.ring) plane = plane < 0 ? s.nodes_z - 1 : plane == s.nodes_z ? 0 : plane;
                        const bool there =
                            plane >= 0 && plane < s.nodes_z && j + dj >= 0 && j + dj < s.nodes_y;
                        for (int di = -1; di <= 1; ++di) {
                            if (di == 0 && dj == 0 && dk == 0) continue;
                            const Coefficient* m = beside + static_cast<std::size_t>(at++) * block + lane;
                            if (!there) continue;
                            const std::ptrdiff_t from =
                                static_cast<std::ptrdiff_t>(base) +
                                (static_cast<std::ptrdiff_t>(plane - k) * s.nodes_y + dj) * D *
                                    static_cast<std::ptrdiff_t>(s.stride) +
                                static_cast<std::ptrdiff_t>(i) + di;
                            for (int d = 0; d < D; ++d) {
                                V v[N];
                                for (int n = 0; n < N; ++n)
                                    v[n] = load(s.vectors[n].v + from +
                                                static_cast<std::ptrdiff_t>(d) *
                                                    static_cast<std::ptrdiff_t>(s.stride));
                                for (int c = 0; c < D; ++c) {
                                    const V a =
                                        load_coefficient(m + static_cast<std::size_t>(c * D + d) * lanes);
                                    for (int n = 0; n < N; ++n) sum[n][c] += a * v[n];
                                }
                            }
                        }
                    }
                const V scale = load(s.scale + static_cast<std::size_t>(row) * s.stride + i);
                const float* diagonal = s.diagonal + place * block + lane;
                const float* inverse = s.inverse + place * block + lane;
                for (int n = 0; n < N; ++n) {
                    const SweepVectors<float>& x = s.vectors[n];
                    V v[D];
                    for (int c = 0; c < D; ++c) {
                        sum[n][c] *= scale;
                        v[c] = load(x.v + base + static_cast<std::size_t>(c) * s.stride + i);
                    }
                    for (int c = 0; c < D; ++c)
                        for (int d = 0; d < D; ++d)
                            sum[n][c] += load(diagonal + static_cast<std::size_t>(c * D + d) * lanes) * v[d];
                    const auto place_of = [&](int c) {
                        return base + static_cast<std::size_t>(c) * s.stride + i;
                    };
                    if (s.sweep == Sweep::Product) {
                        for (int c = 0; c < D; ++c) store(x.out + place_of(c), sum[n][c]);
                        continue;
                    }
                    V r[D];
                    for (int c = 0; c < D; ++c)
                        r[c] = s.sweep == Sweep::Finish ? sum[n][c] : load(x.b + place_of(c)) - sum[n][c];
                    if (s.sweep == Sweep::Residual) {
                        for (int c = 0; c < D; ++c) store(x.out + place_of(c), r[c]);
                        continue;
                    }
                    for (int c = 0; c < D; ++c) {
                        V z = load(inverse + static_cast<std::size_t>(c * D) * lanes) * r[0];
                        for (int d = 1; d < D; ++d)
                            z += load(inverse + static_cast<std::size_t>(c * D + d) * lanes) * r[d];
                        z *= s.factors.c1;
                        float* out = x.out + place_of(c);
                        if (s.sweep == Sweep::Step)
                            store(out, z);
                        else if (s.sweep == Sweep::Single)
                            store(out, v[c] + z);
                        else if (s.fresh)
                            store(out, s.factors.c0 * v[c] - z);
                        else
                            store(out, load(static_cast<const float*>(out)) + s.factors.c0 * v[c] - z);
                    }
                }
            }
        }
    }
}

inline void stencil(const StencilSweep& s) {
    const auto run = [&](auto dimension) {
        constexpr int D = decltype(dimension)::value;
        switch (s.count) {
        case 1:
            return stencil_rows<D, 1>(s);
        case 2:
            return stencil_rows<D, 2>(s);
        case 3:
            return stencil_rows<D, 3>(s);
        default:
            return stencil_rows<D, 4>(s);
        }
    };
    if (s.dimension == 3)
        run(std::integral_constant<int, 3>());
    else
        run(std::integral_constant<int, 2>());
}

template <int D> void add_child_of(const float* child, const float* p, float* out) {
    constexpr int corners = D == 3 ? 8 : 4;
    constexpr int size = corners * D;
    alignas(64) float half[size * size];
    alignas(64) float turned[size * size];
    // Rows first; the result is symmetric, so the columns are rows of what is turned.
    const auto rows = [&](const float* from, float* to) __attribute__((always_inline)) {
        for (int a = 0; a < corners; ++a)
            for (int b = 0; b < corners; ++b) {
                const float w = p[a * corners + b];
                if (w == 0.0F) continue;
                for (int c = 0; c < D; ++c) {
                    const float* x = from + (a * D + c) * size;
                    float* y = to + (b * D + c) * size;
                    for (int i = 0; i < size; ++i) y[i] += w * x[i];
                }
            }
    };
    for (float& v : half) v = 0.0F;
    rows(child, half);
    for (int r = 0; r < size; ++r)
        for (int c = 0; c < size; ++c) turned[c * size + r] = half[r * size + c];
    rows(turned, out);
}

inline void add_child(int dimension, const float* child, const float* p, float* out) {
    if (dimension == 3)
        add_child_of<3>(child, p, out);
    else
        add_child_of<2>(child, p, out);
}

inline void add_scaled(float scale, const float* m, float* out, std::size_t count) {
    for (std::size_t i = 0; i < count; ++i) out[i] += scale * m[i];
}

// `Many` vectors of 16 of the sum, which stay in registers.
template <int Many>
inline __attribute__((always_inline)) void sum_vectors(const float* const* matrices, const float* scales,
                                                       std::size_t count, std::size_t first, float* out) {
    Sixteen sums[Many] = {};
    for (std::size_t n = 0; n < count; ++n) {
        const Sixteen* m = reinterpret_cast<const Sixteen*>(matrices[n] + first);
        const float scale = scales[n];
#pragma GCC unroll 8
        for (int v = 0; v < Many; ++v) sums[v] += scale * m[v];
    }
    Sixteen* to = reinterpret_cast<Sixteen*>(out + first);
#pragma GCC unroll 8
    for (int v = 0; v < Many; ++v) to[v] = sums[v];
}

inline void sum_scaled(const float* const* matrices, const float* scales, std::size_t count, float* out) {
    std::size_t first = 0;
    for (; first + 64 <= packed_matrix; first += 64) sum_vectors<4>(matrices, scales, count, first, out);
    sum_vectors<3>(matrices, scales, count, first, out);
}

template <int Width>
inline void cell_product_of(const double* m, double scale, const double* v, double* out) {
    double sum[Width] = {};
    for (int c = 0; c < Width; ++c) {
        const double x = scale * v[c];
        for (int r = 0; r < Width; ++r) sum[r] += m[c * Width + r] * x;
    }
    for (int r = 0; r < Width; ++r) out[r] = sum[r];
}

inline void cell_product(int width, const double* m, double scale, const double* v, double* out) {
    if (width == 24)
        cell_product_of<24>(m, scale, v, out);
    else
        cell_product_of<8>(m, scale, v, out);
}

} // namespace UPRIGHT_ISA

extern const Kernels UPRIGHT_TABLE;
const Kernels UPRIGHT_TABLE = {UPRIGHT_NAME,
                               static_cast<int>(sizeof(UPRIGHT_ISA::Coefficient)),
                               UPRIGHT_ISA::box_float,
                               UPRIGHT_ISA::box_in_double<double>,
                               UPRIGHT_ISA::box_in_double<float>,
                               UPRIGHT_ISA::stencil,
                               UPRIGHT_ISA::pack,
                               UPRIGHT_ISA::add_child,
                               UPRIGHT_ISA::add_scaled,
                               UPRIGHT_ISA::sum_scaled,
                               UPRIGHT_ISA::unpack,
                               UPRIGHT_ISA::cell_product};

} // namespace upright::grid
