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
// `inverse` floats beside values of T: doubles are never smoothed.
inline __attribute__((always_inline)) Vector<float> load_scale(const float* p, float /*type*/) {
    return load(p);
}
inline __attribute__((always_inline)) Vector<double> load_scale(const float* p, double /*type*/) {
    typedef float half __attribute__((vector_size(UPRIGHT_VECTOR / 2), aligned(4), may_alias));
    return __builtin_convertvector(*reinterpret_cast<const half*>(p), Vector<double>);
}

// The rows of buffers that one part of a box sweep works in.
template <class T> struct BoxBuffers {
    std::size_t stride = 0;
    T* plane = nullptr; // 12 strips a row of cells: the transformed plane below the cells
    T* carry = nullptr; // 12 strips a row of cells: forces on the plane that the cells below it gave
    T* high = nullptr;  // 6 strips: what the row of cells before gives to its far row of nodes
    T* sum = nullptr;   // 6 strips with 16 values before each
    T* sums(int s) const { return sum + static_cast<std::size_t>(s) * (stride + 16) + 16; }
};

template <class T> struct BoxKernel {
    using V = Vector<T>;
    static constexpr std::size_t W = width<T>;
    const BoxSweep<T>& sweep;
    BoxBuffers<T> buffers;
    std::size_t stride;

    // Sum and difference along x and y of two rows of nodes.
    inline __attribute__((always_inline)) void transform(const T* near, const T* far, std::size_t i,
                                                         V (&t)[3][4]) const {
#pragma GCC unroll 4
        for (int c = 0; c < 3; ++c) {
            const T* a = near + static_cast<std::size_t>(c) * stride + i;
            const T* b = far + static_cast<std::size_t>(c) * stride + i;
            const V a0 = load(a);
            const V a1 = load(a + 1);
            const V b0 = load(b);
            const V b1 = load(b + 1);
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

    const T* nodes(int j, int k) const {
        const auto row = static_cast<std::size_t>(k) * static_cast<std::size_t>(sweep.grid.ny + 1) +
                         static_cast<std::size_t>(j);
        return sweep.vectors.v + row * 3 * stride;
    }

    void begin(int first, int last, int k) {
        for (int j = first; j <= last; ++j) {
            T* plane = buffers.plane + static_cast<std::size_t>(j - first) * 12 * stride;
            for (std::size_t i = 0; i < stride; i += W) {
                V t[3][4];
                transform(nodes(j, k), nodes(j + 1, k), i, t);
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

    // A row of cells above plane k: forces on the plane into `sum`, those on the next one into the carry.
    template <bool single> void cells(int first, int j, int k) {
        const std::size_t at = static_cast<std::size_t>(j - first) * 12 * stride;
        T* plane = buffers.plane + at;
        T* carry = buffers.carry + at;
        const auto row = static_cast<std::size_t>(k) * static_cast<std::size_t>(sweep.grid.ny) +
                         static_cast<std::size_t>(j);
        const CellRow* from = sweep.grid.rows + sweep.grid.starts[row];
        const CellRow* to = sweep.grid.rows + sweep.grid.starts[row + 1];
        const T* near = nodes(j, k + 1);
        const T* far = nodes(j + 1, k + 1);
        for (std::size_t i = 0; i < stride; i += W) {
            V t[3][4];
            transform(near, far, i, t);
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
                        T* lower = plane + static_cast<std::size_t>(4 * c + at_of[c]) * stride + i;
                        const V below = load(static_cast<const T*>(lower));
                        const V above = t[c][at_of[c]];
                        store(lower, above);
                        e[c] = above + below;
                        o[c] = above - below;
                        ge[c] = V{} + T(0);
                        go[c] = V{} + T(0);
                    }
                    const std::ptrdiff_t block = 9 * (a + 2 * b);
                    if (single) {
                        const T* m = sweep.blocks + 72 * from->kind + block;
                        blocks(m, m + 36, load_scale(from->scale + i, T(0)), e, o, ge, go);
                    } else {
                        for (const CellRow* entry = from; entry != to; ++entry) {
                            const T* m = sweep.blocks + 72 * entry->kind + block;
                            blocks(m, m + 36, load_scale(entry->scale + i, T(0)), e, o, ge, go);
                        }
                    }
#pragma GCC unroll 4
                    for (int c = 0; c < 3; ++c) {
                        T* up = carry + static_cast<std::size_t>(4 * c + at_of[c]) * stride + i;
                        low[c][at_of[c]] = load(static_cast<const T*>(up)) + (ge[c] - go[c]);
                        store(up, ge[c] + go[c]);
                    }
                }
            finish_row(low, i);
        }
    }

    // Back along y and x: near row of nodes into `sum` with what the row before gave, far row kept.
    inline __attribute__((always_inline)) void finish_row(const V (&low)[3][4], std::size_t i) {
#pragma GCC unroll 4
        for (int c = 0; c < 3; ++c) {
            const V near_even = low[c][0] - low[c][2];
            const V far_even = low[c][0] + low[c][2];
            const V near_odd = low[c][1] - low[c][3];
            const V far_odd = low[c][1] + low[c][3];
            T* left = buffers.high + static_cast<std::size_t>(2 * c) * stride + i;
            T* right = left + stride;
            store(buffers.sums(2 * c) + i, load(static_cast<const T*>(left)) + (near_even - near_odd));
            store(buffers.sums(2 * c + 1) + i, load(static_cast<const T*>(right)) + (near_even + near_odd));
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
            finish_row(low, i);
        }
    }

    // What is left for the row of nodes beyond the last cells.
    void last_row() {
        for (int s = 0; s < 6; ++s)
            std::memcpy(buffers.sums(s), buffers.high + static_cast<std::size_t>(s) * stride,
                        stride * sizeof(T));
    }

    void emit(int j, int k) {
        const auto row = static_cast<std::size_t>(k) * static_cast<std::size_t>(sweep.grid.ny + 1) +
                         static_cast<std::size_t>(j);
        const SweepVectors<T>& x = sweep.vectors;
        const T* source = x.b != nullptr ? x.b : x.r;
        V dot = V{} + T(0);
#pragma GCC unroll 4
        for (int c = 0; c < 3; ++c) {
            const T* left = buffers.sums(2 * c);
            const T* right = buffers.sums(2 * c + 1) - 1;
            const std::size_t base = (row * 3 + static_cast<std::size_t>(c)) * stride;
            for (std::size_t i = 0; i < stride; i += W) {
                const V value = load(left + i) + load(right + i);
                const std::size_t at = base + i;
                switch (sweep.sweep) {
                case Sweep::Product:
                    dot += load(x.v + at) * value;
                    store(x.r + at, value);
                    break;
                case Sweep::Residual:
                    store(x.r + at, load(x.b + at) - value);
                    break;
                case Sweep::First: {
                    const V r = load(x.b + at) - value;
                    const V z = T(sweep.factors.step) * load_scale(sweep.inverse_diagonal + at, T(0)) * r;
                    store(x.r + at, r);
                    store(x.z + at, z);
                    store(x.x + at, load(x.v + at) + T(sweep.factors.weight) * z);
                    break;
                }
                case Sweep::Further:
                case Sweep::Last: {
                    const V r = load(source + at) - value;
                    const V z = T(sweep.factors.keep) * load(x.v + at) +
                                T(sweep.factors.step) * load_scale(sweep.inverse_diagonal + at, T(0)) * r;
                    if (sweep.sweep == Sweep::Further) {
                        store(x.r + at, r);
                        store(x.z + at, z);
                    }
                    store(x.x + at, load(static_cast<const T*>(x.x) + at) + T(sweep.factors.weight) * z);
                    break;
                }
                }
            }
        }
        if (sweep.sweep == Sweep::Product && sweep.dots != nullptr) {
            double sum = 0.0;
            for (std::size_t l = 0; l < W; ++l) sum += static_cast<double>(dot[l]);
            sweep.dots[row] = sum;
        }
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
        for (int s = 0; s < 6; ++s) std::fill_n(buffers.sums(s) - 16, 16, T(0));
        for (int k = start; k < sweep.to_plane; ++k) {
            std::fill_n(buffers.high, 6 * stride, T(0));
            const bool out = k >= sweep.from_plane;
            for (int j = first; j <= last; ++j) {
                if (k == nz) {
                    carried(first, j);
                } else {
                    const auto row = static_cast<std::size_t>(k) * static_cast<std::size_t>(ny) +
                                     static_cast<std::size_t>(j);
                    if (sweep.grid.starts[row + 1] - sweep.grid.starts[row] == 1)
                        cells<true>(first, j, k);
                    else
                        cells<false>(first, j, k);
                }
                if (out && j >= sweep.from_row) emit(j, k);
            }
            if (out && sweep.to_row == ny + 1) {
                last_row();
                emit(ny, k);
            }
        }
    }
};

template <class T> void box(const BoxSweep<T>& sweep, void* scratch) {
    BoxKernel<T> kernel{sweep, {}, sweep.grid.stride};
    const std::size_t stride = sweep.grid.stride;
    const auto rows = static_cast<std::size_t>(sweep.to_row - sweep.from_row + 1);
    T* at = static_cast<T*>(scratch);
    kernel.buffers.stride = stride;
    kernel.buffers.plane = at;
    kernel.buffers.carry = at + rows * 12 * stride;
    kernel.buffers.high = at + 2 * rows * 12 * stride;
    kernel.buffers.sum = kernel.buffers.high + 6 * stride;
    kernel.run();
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
                    V r[D];
                    for (int c = 0; c < D; ++c) {
                        const std::size_t to = base + static_cast<std::size_t>(c) * s.stride + i;
                        if (s.sweep == Sweep::Product)
                            r[c] = sum[n][c];
                        else
                            r[c] = load(x.b != nullptr ? x.b + to : static_cast<const float*>(x.r) + to) -
                                   sum[n][c];
                        if (s.sweep != Sweep::Last) store(x.r + to, r[c]);
                    }
                    if (s.sweep == Sweep::Product || s.sweep == Sweep::Residual) continue;
                    for (int c = 0; c < D; ++c) {
                        const std::size_t to = base + static_cast<std::size_t>(c) * s.stride + i;
                        V z = load(inverse + static_cast<std::size_t>(c * D) * lanes) * r[0];
                        for (int d = 1; d < D; ++d)
                            z += load(inverse + static_cast<std::size_t>(c * D + d) * lanes) * r[d];
                        z *= s.factors.step;
                        if (s.sweep != Sweep::First) {
                            z += s.factors.keep * v[c];
                            store(x.x + to, load(static_cast<const float*>(x.x) + to) + s.factors.weight * z);
                        } else {
                            store(x.x + to, v[c] + s.factors.weight * z);
                        }
                        if (s.sweep != Sweep::Last) store(x.z + to, z);
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
                               UPRIGHT_ISA::box<float>,
                               UPRIGHT_ISA::box<double>,
                               UPRIGHT_ISA::stencil,
                               UPRIGHT_ISA::pack,
                               UPRIGHT_ISA::add_child,
                               UPRIGHT_ISA::add_scaled,
                               UPRIGHT_ISA::unpack,
                               UPRIGHT_ISA::cell_product};

} // namespace upright::grid
