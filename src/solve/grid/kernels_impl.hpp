// The bodies of the kernels; included once for each instruction set with UPRIGHT_ISA (a namespace) and
// UPRIGHT_VECTOR (bytes of a vector) set.
#include "solve/grid/kernels.hpp"

#include <algorithm>
#include <cstring>
#ifdef __F16C__
#include <immintrin.h>
#endif

namespace upright::grid {
namespace UPRIGHT_ISA {

template <class T> struct VectorOf;
template <> struct VectorOf<float> {
    typedef float type __attribute__((vector_size(UPRIGHT_VECTOR)));
    typedef float loose __attribute__((vector_size(UPRIGHT_VECTOR), aligned(4), may_alias));
};
template <> struct VectorOf<double> {
    typedef double type __attribute__((vector_size(UPRIGHT_VECTOR)));
    typedef double loose __attribute__((vector_size(UPRIGHT_VECTOR), aligned(8), may_alias));
};
template <class T> using Vector = typename VectorOf<T>::type;
template <class T> constexpr std::size_t width = UPRIGHT_VECTOR / sizeof(T);

template <class T> inline __attribute__((always_inline)) Vector<T> load(const T* p) {
    return *reinterpret_cast<const typename VectorOf<T>::loose*>(p);
}
template <class T> inline __attribute__((always_inline)) void store(T* p, Vector<T> v) {
    *reinterpret_cast<typename VectorOf<T>::loose*>(p) = v;
}
// Floats as they are, or widened beside doubles.
inline __attribute__((always_inline)) Vector<float> load_as(const float* p, float /*type*/) {
    return load(p);
}
inline __attribute__((always_inline)) Vector<double> load_as(const float* p, double /*type*/) {
    typedef float half __attribute__((vector_size(UPRIGHT_VECTOR / 2), aligned(4), may_alias));
    return __builtin_convertvector(*reinterpret_cast<const half*>(p), Vector<double>);
}
inline __attribute__((always_inline)) Vector<double> load_as(const double* p, double /*type*/) {
    return load(p);
}

// The rows of buffers that one part of a box sweep works in; the last two for each of two layers.
template <class T> struct BoxBuffers {
    std::size_t stride = 0;
    T* plane = nullptr; // 12 strips a row of cells: the transformed plane below the cells
    T* carry = nullptr; // 12 strips a row of cells: forces on the plane that the cells below it gave
    T* high = nullptr;  // 6 strips: what the row of cells before gives to its far row of nodes
    T* sum = nullptr;   // 6 strips with 16 values before each
    T* highs(int layer, int s) const { return high + static_cast<std::size_t>(6 * layer + s) * stride; }
    T* sums(int layer, int s) const {
        return sum + static_cast<std::size_t>(6 * layer + s) * (stride + 16) + 16;
    }
};

template <class T, class Stored, bool Scaled> struct BoxKernel {
    using V = Vector<T>;
    static constexpr std::size_t W = width<T>;
    const BoxSweep<T, Stored>& sweep;
    BoxBuffers<T> buffers;
    std::size_t stride;

    std::size_t row_of(int j, int k) const {
        return static_cast<std::size_t>(k) * static_cast<std::size_t>(sweep.grid.ny + 1) +
               static_cast<std::size_t>(j);
    }
    // Displacements at a place of the vectors.
    inline __attribute__((always_inline)) V displacement(std::size_t at) const {
        const V v = load_as(sweep.vectors.v + at, T(0));
        if constexpr (Scaled)
            return v * load_as(sweep.inverse_diagonal + at, T(0));
        else
            return v;
    }

    // Sum and difference along x and y of two rows of nodes that begin at `near` and `far`.
    inline __attribute__((always_inline)) void transform(std::size_t near, std::size_t far,
                                                         V (&t)[3][4]) const {
#pragma GCC unroll 4
        for (int c = 0; c < 3; ++c) {
            const std::size_t a = near + static_cast<std::size_t>(c) * stride;
            const std::size_t b = far + static_cast<std::size_t>(c) * stride;
            const V a0 = displacement(a);
            const V a1 = displacement(a + 1);
            const V b0 = displacement(b);
            const V b1 = displacement(b + 1);
            const V as = a1 + a0;
            const V ad = a1 - a0;
            const V bs = b1 + b0;
            const V bd = b1 - b0;
            t[c][0] = bs + as;
            t[c][1] = bd + ad;
            t[c][2] = bs - as;
            t[c][3] = bd - ad;
        }
    }

    void begin(int first, int last, int k) {
        for (int j = first; j <= last; ++j) {
            T* plane = buffers.plane + static_cast<std::size_t>(j - first) * 12 * stride;
            for (std::size_t i = 0; i < stride; i += W) {
                V t[3][4];
                transform(row_of(j, k) * 3 * stride + i, row_of(j + 1, k) * 3 * stride + i, t);
#pragma GCC unroll 4
                for (int c = 0; c < 3; ++c)
#pragma GCC unroll 4
                    for (int p = 0; p < 4; ++p)
                        store(plane + static_cast<std::size_t>(4 * c + p) * stride + i, t[c][p]);
            }
        }
    }

    // Adds what one pair of blocks gives to six transformed displacements.
    static inline __attribute__((always_inline)) void
    blocks(const T* even, const T* odd, V scale, const V (&e)[3], const V (&o)[3], V (&ge)[3], V (&go)[3]) {
        const V i0[3] = {e[0], e[1], o[2]};
        const V i1[3] = {o[0], o[1], e[2]};
        V f0[3];
        V f1[3];
#pragma GCC unroll 4
        for (int r = 0; r < 3; ++r) {
            f0[r] = (even[3 * r] * i0[0] + even[3 * r + 1] * i0[1] + even[3 * r + 2] * i0[2]) * scale;
            f1[r] = (odd[3 * r] * i1[0] + odd[3 * r + 1] * i1[1] + odd[3 * r + 2] * i1[2]) * scale;
        }
        ge[0] += f0[0];
        ge[1] += f0[1];
        go[2] += f0[2];
        go[0] += f1[0];
        go[1] += f1[1];
        ge[2] += f1[2];
    }

    struct Row {
        const CellRow* from;
        const CellRow* to;
        std::size_t near, far; // rows of nodes on the plane above
    };
    Row row_above(int j, int k) const {
        const auto row = static_cast<std::size_t>(k) * static_cast<std::size_t>(sweep.grid.ny) +
                         static_cast<std::size_t>(j);
        return {sweep.grid.rows + sweep.grid.starts[row], sweep.grid.rows + sweep.grid.starts[row + 1],
                row_of(j, k + 1) * 3 * stride, row_of(j + 1, k + 1) * 3 * stride};
    }

    // One layer of cells of a chunk: takes the transformed displacements below and the forces carried up to
    // there, leaves those of the plane above.
    template <bool single>
    inline __attribute__((always_inline)) void layer(const Row& row, std::size_t i, V (&plane)[3][4],
                                                     V (&carry)[3][4], int number) {
        V t[3][4];
        transform(row.near + i, row.far + i, t);
        V low[3][4];
#pragma GCC unroll 4
        for (int b = 0; b < 2; ++b)
#pragma GCC unroll 4
            for (int a = 0; a < 2; ++a) {
                const int at_of[3] = {(a ^ 1) + 2 * b, a + 2 * (b ^ 1), a + 2 * b};
                V e[3];
                V o[3];
                V ge[3];
                V go[3];
#pragma GCC unroll 4
                for (int c = 0; c < 3; ++c) {
                    const V below = plane[c][at_of[c]];
                    const V above = t[c][at_of[c]];
                    plane[c][at_of[c]] = above;
                    e[c] = above + below;
                    o[c] = above - below;
                    ge[c] = V{} + T(0);
                    go[c] = V{} + T(0);
                }
                const std::ptrdiff_t block = 9 * (a + 2 * b);
                if (single) {
                    const T* m = sweep.blocks + 72 * row.from->kind + block;
                    blocks(m, m + 36, load_as(row.from->scale + i, T(0)), e, o, ge, go);
                } else {
                    for (const CellRow* entry = row.from; entry != row.to; ++entry) {
                        const T* m = sweep.blocks + 72 * entry->kind + block;
                        blocks(m, m + 36, load_as(entry->scale + i, T(0)), e, o, ge, go);
                    }
                }
#pragma GCC unroll 4
                for (int c = 0; c < 3; ++c) {
                    low[c][at_of[c]] = carry[c][at_of[c]] + (ge[c] - go[c]);
                    carry[c][at_of[c]] = ge[c] + go[c];
                }
            }
        finish_row(low, i, number);
    }

    // A row of cells above plane k, `Layers` of them one above the other: forces on the planes below each
    // into `sum`, those on the last plane into the carry. Layers together go to the buffers once.
    template <int Layers, bool single> void cells(int first, int j, int k) {
        const std::size_t at = static_cast<std::size_t>(j - first) * 12 * stride;
        T* plane_row = buffers.plane + at;
        T* carry_row = buffers.carry + at;
        const Row lower = row_above(j, k);
        const Row upper = Layers == 2 ? row_above(j, k + 1) : lower;
        for (std::size_t i = 0; i < stride; i += W) {
            V plane[3][4];
            V carry[3][4];
#pragma GCC unroll 4
            for (int c = 0; c < 3; ++c)
#pragma GCC unroll 4
                for (int p = 0; p < 4; ++p) {
                    const std::size_t n = static_cast<std::size_t>(4 * c + p) * stride + i;
                    plane[c][p] = load(static_cast<const T*>(plane_row + n));
                    carry[c][p] = load(static_cast<const T*>(carry_row + n));
                }
            layer<single>(lower, i, plane, carry, 0);
            if (Layers == 2) layer<single>(upper, i, plane, carry, 1);
#pragma GCC unroll 4
            for (int c = 0; c < 3; ++c)
#pragma GCC unroll 4
                for (int p = 0; p < 4; ++p) {
                    const std::size_t n = static_cast<std::size_t>(4 * c + p) * stride + i;
                    store(plane_row + n, plane[c][p]);
                    store(carry_row + n, carry[c][p]);
                }
        }
    }

    // Back along y and x: near row of nodes into `sum` with what the row before gave, far row kept.
    inline __attribute__((always_inline)) void finish_row(const V (&low)[3][4], std::size_t i, int number) {
#pragma GCC unroll 4
        for (int c = 0; c < 3; ++c) {
            const V near_even = low[c][0] - low[c][2];
            const V far_even = low[c][0] + low[c][2];
            const V near_odd = low[c][1] - low[c][3];
            const V far_odd = low[c][1] + low[c][3];
            T* left = buffers.highs(number, 2 * c) + i;
            T* right = left + stride;
            store(buffers.sums(number, 2 * c) + i,
                  load(static_cast<const T*>(left)) + (near_even - near_odd));
            store(buffers.sums(number, 2 * c + 1) + i,
                  load(static_cast<const T*>(right)) + (near_even + near_odd));
            store(left, far_even - far_odd);
            store(right, far_even + far_odd);
        }
    }

    // The last plane has no cells above it.
    void carried(int first, int j) {
        T* carry = buffers.carry + static_cast<std::size_t>(j - first) * 12 * stride;
        for (std::size_t i = 0; i < stride; i += W) {
            V low[3][4];
#pragma GCC unroll 4
            for (int c = 0; c < 3; ++c)
#pragma GCC unroll 4
                for (int p = 0; p < 4; ++p)
                    low[c][p] =
                        load(static_cast<const T*>(carry + static_cast<std::size_t>(4 * c + p) * stride + i));
            finish_row(low, i, 0);
        }
    }

    // What is left for the row of nodes beyond the last cells.
    void last_row(int number) {
        for (int s = 0; s < 6; ++s)
            std::memcpy(buffers.sums(number, s), buffers.highs(number, s), stride * sizeof(T));
    }

    // Calls with the place of a chunk of the row's vectors and its A v.
    template <class Call>
    inline __attribute__((always_inline)) void each(std::size_t row, int number, Call&& call) const {
#pragma GCC unroll 4
        for (int c = 0; c < 3; ++c) {
            const T* left = buffers.sums(number, 2 * c);
            const T* right = buffers.sums(number, 2 * c + 1) - 1;
            const std::size_t base = (row * 3 + static_cast<std::size_t>(c)) * stride;
            for (std::size_t i = 0; i < stride; i += W) call(base + i, load(left + i) + load(right + i));
        }
    }

    void emit(int j, int k, int number) {
        const std::size_t row = row_of(j, k);
        const T* b = sweep.vectors.b;
        T* out = sweep.vectors.out;
        const float* S = sweep.inverse_diagonal;
        const T c0 = T(sweep.factors.c0);
        const T c1 = T(sweep.factors.c1);
        switch (sweep.sweep) {
        case Sweep::Product: {
            V dot = V{} + T(0);
            each(
                row, number, [&](std::size_t at, V value) __attribute__((always_inline)) {
                    dot += displacement(at) * value;
                    store(out + at, value);
                });
            if (sweep.dots != nullptr) {
                double sum = 0.0;
                for (std::size_t l = 0; l < W; ++l) sum += static_cast<double>(dot[l]);
                sweep.dots[row] = sum;
            }
            break;
        }
        case Sweep::Residual:
            each(
                row, number, [&](std::size_t at, V value) __attribute__((always_inline)) {
                    store(out + at, load(b + at) - value);
                });
            break;
        case Sweep::Single:
            each(
                row, number, [&](std::size_t at, V value) __attribute__((always_inline)) {
                    store(out + at, displacement(at) + c1 * load_as(S + at, T(0)) * (load(b + at) - value));
                });
            break;
        case Sweep::Step:
            each(
                row, number, [&](std::size_t at, V value) __attribute__((always_inline)) {
                    store(out + at, c1 * load_as(S + at, T(0)) * (load(b + at) - value));
                });
            break;
        case Sweep::Finish:
            if (sweep.fresh)
                each(
                    row, number, [&](std::size_t at, V value) __attribute__((always_inline)) {
                        store(out + at, c0 * displacement(at) - c1 * load_as(S + at, T(0)) * value);
                    });
            else
                each(
                    row, number, [&](std::size_t at, V value) __attribute__((always_inline)) {
                        store(out + at, load(static_cast<const T*>(out) + at) + c0 * displacement(at) -
                                            c1 * load_as(S + at, T(0)) * value);
                    });
            break;
        }
    }

    bool one_kind(int j, int k) const {
        const auto row = static_cast<std::size_t>(k) * static_cast<std::size_t>(sweep.grid.ny) +
                         static_cast<std::size_t>(j);
        return sweep.grid.starts[row + 1] - sweep.grid.starts[row] == 1;
    }

    void run() {
        const int ny = sweep.grid.ny;
        const int nz = sweep.grid.nz;
        const int first = std::max(sweep.from_row - 1, 0);
        const int last = std::min(sweep.to_row - 1, ny - 1);
        const auto rows = static_cast<std::size_t>(last - first + 1);
        const int start = std::max(sweep.from_plane - 1, 0);
        begin(first, last, start);
        std::fill_n(buffers.carry, rows * 12 * stride, T(0));
        for (int layer = 0; layer < 2; ++layer)
            for (int s = 0; s < 6; ++s) std::fill_n(buffers.sums(layer, s) - 16, 16, T(0));
        for (int k = start; k < sweep.to_plane;) {
            const int together = k + 1 < sweep.to_plane && k + 1 < nz ? 2 : 1;
            std::fill_n(buffers.high, 12 * stride, T(0));
            for (int j = first; j <= last; ++j) {
                if (k == nz) {
                    carried(first, j);
                } else if (together == 2) {
                    if (one_kind(j, k) && one_kind(j, k + 1))
                        cells<2, true>(first, j, k);
                    else
                        cells<2, false>(first, j, k);
                } else if (one_kind(j, k)) {
                    cells<1, true>(first, j, k);
                } else {
                    cells<1, false>(first, j, k);
                }
                for (int number = 0; number < together; ++number)
                    if (k + number >= sweep.from_plane && j >= sweep.from_row) emit(j, k + number, number);
            }
            for (int number = 0; number < together; ++number)
                if (k + number >= sweep.from_plane && sweep.to_row == ny + 1) {
                    last_row(number);
                    emit(ny, k + number, number);
                }
            k += together;
        }
    }
};

template <class T, class Stored, bool Scaled> void run_box(const BoxSweep<T, Stored>& sweep, void* scratch) {
    BoxKernel<T, Stored, Scaled> kernel{sweep, {}, sweep.grid.stride};
    const std::size_t stride = sweep.grid.stride;
    const auto rows = static_cast<std::size_t>(sweep.to_row - sweep.from_row + 1);
    T* at = static_cast<T*>(scratch);
    kernel.buffers.stride = stride;
    kernel.buffers.plane = at;
    kernel.buffers.carry = at + rows * 12 * stride;
    kernel.buffers.high = at + 2 * rows * 12 * stride;
    kernel.buffers.sum = kernel.buffers.high + 12 * stride;
    kernel.run();
}

inline void box_float(const BoxSweep<float>& sweep, void* scratch) {
    if (sweep.scaled)
        run_box<float, float, true>(sweep, scratch);
    else
        run_box<float, float, false>(sweep, scratch);
}

template <class Stored> void box_in_double(const BoxSweep<double, Stored>& sweep, void* scratch) {
    run_box<double, Stored, false>(sweep, scratch);
}

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
                               UPRIGHT_ISA::unpack,
                               UPRIGHT_ISA::cell_product};

} // namespace upright::grid
