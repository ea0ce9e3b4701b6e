// The sweeps over boxes of equal cells; included by kernels_impl.hpp once for each instruction set.
#pragma once

#include "solve/grid/kernels_vector.hpp"

#include <algorithm>

namespace upright::grid {
namespace UPRIGHT_ISA {

// The rows of buffers that one part of a box sweep works in. All but `high` stay in the first-level cache.
template <class T> struct BoxBuffers {
    std::size_t stride = 0;
    T* front = nullptr; // 12 strips: the transformed displacements of the rows of nodes before the cells
    T* carry = nullptr; // 12 strips: forces on those rows that the cells before gave
    T* high = nullptr;  // 6 strips a row of nodes: what the plane below gave
    T* sum = nullptr;   // 6 strips with 16 values before each, for each of two rows
    T* highs(int row, int s) const { return high + static_cast<std::size_t>(6 * row + s) * stride; }
    T* sums(int layer, int s) const {
        return sum + static_cast<std::size_t>(6 * layer + s) * (stride + 16) + 16;
    }
};

// Cells are walked row after row along y, plane after plane along z. Displacements are summed and subtracted
// along x and z first, then along y; the third of the kernel's axes is y, the second z, and so are
// components.
template <class T, class Stored, bool Scaled, bool Full> struct BoxKernel {
    using V = Vector<T>;
    static constexpr std::size_t W = width<T>;
    static constexpr bool entry(int P, int r, int c) { return Full || block_entry(P, r, c); }
    const BoxSweep<T, Stored>& sweep;
    BoxBuffers<T> buffers;
    std::size_t stride;

    std::size_t row_of(int j, int k) const {
        return static_cast<std::size_t>(k) * static_cast<std::size_t>(sweep.grid.ny + 1) +
               static_cast<std::size_t>(j);
    }
    // Where a component begins within a row of nodes.
    std::size_t component(int c) const { return c == 0 ? 0 : static_cast<std::size_t>(3 - c) * stride; }
    // Displacements at a place of the vectors.
    inline __attribute__((always_inline)) V displacement(std::size_t at) const {
        const V v = load_as(sweep.vectors.v + at, T(0));
        if constexpr (Scaled)
            return v * load_as(sweep.inverse_diagonal + at, T(0));
        else
            return v;
    }

    // Sum and difference along x and z of two rows of nodes that begin at `near` and `far`.
    inline __attribute__((always_inline)) void transform(std::size_t near, std::size_t far,
                                                         V (&t)[3][4]) const {
#pragma GCC unroll 4
        for (int c = 0; c < 3; ++c) {
            const std::size_t a = near + component(c);
            const std::size_t b = far + component(c);
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

    // The rows of nodes that the first cells of a layer begin at.
    void begin(int j, int k) {
        for (std::size_t i = 0; i < stride; i += W) {
            V t[3][4];
            transform(row_of(j, k) * 3 * stride + i, row_of(j, k + 1) * 3 * stride + i, t);
#pragma GCC unroll 4
            for (int c = 0; c < 3; ++c)
#pragma GCC unroll 4
                for (int p = 0; p < 4; ++p)
                    store(buffers.front + static_cast<std::size_t>(4 * c + p) * stride + i, t[c][p]);
        }
        std::fill_n(buffers.carry, 12 * stride, T(0));
    }

    // What block P makes of its three transformed displacements (see block_entry in kernels.hpp).
    template <int P, int R>
    static inline __attribute__((always_inline)) V force(const T* m, const V (&v)[3], V scale) {
        V out;
        bool begun = false;
        const auto add = [&](int c) __attribute__((always_inline)) {
            out = begun ? out + m[3 * R + c] * v[c] : m[3 * R + c] * v[c];
            begun = true;
        };
        if constexpr (entry(P, R, 0)) add(0);
        if constexpr (entry(P, R, 1)) add(1);
        if constexpr (entry(P, R, 2)) add(2);
        return out * scale;
    }

    // The forces of two blocks that differ in the third axis, parted into those even and odd along it.
    template <int A, int B, bool first>
    static inline __attribute__((always_inline)) void blocks(const T* m, V scale, const V (&e)[3],
                                                             const V (&o)[3], V (&ge)[3], V (&go)[3]) {
        constexpr int even = A + 2 * B;
        constexpr int odd = even + 4;
        const V i0[3] = {e[0], e[1], o[2]};
        const V i1[3] = {o[0], o[1], e[2]};
        const auto put = [&](V & to, V f) __attribute__((always_inline)) {
            to = first ? f : to + f;
        };
        // A translation gives none.
        if constexpr (entry(even, 0, 0)) put(ge[0], force<even, 0>(m + 9 * even, i0, scale));
        if constexpr (entry(even, 1, 1)) put(ge[1], force<even, 1>(m + 9 * even, i0, scale));
        put(go[2], force<even, 2>(m + 9 * even, i0, scale));
        put(go[0], force<odd, 0>(m + 9 * odd, i1, scale));
        put(go[1], force<odd, 1>(m + 9 * odd, i1, scale));
        if constexpr (entry(odd, 2, 2)) put(ge[2], force<odd, 2>(m + 9 * odd, i1, scale));
    }

    struct Row {
        const CellRow* from;
        const CellRow* to;
        std::size_t near, far; // the rows of nodes behind the cells, below and above them
    };
    Row row_behind(int j, int k) const {
        const auto row = static_cast<std::size_t>(k) * static_cast<std::size_t>(sweep.grid.ny) +
                         static_cast<std::size_t>(j);
        return {sweep.grid.rows + sweep.grid.starts[row], sweep.grid.rows + sweep.grid.starts[row + 1],
                row_of(j + 1, k) * 3 * stride, row_of(j + 1, k + 1) * 3 * stride};
    }

    template <int A, int B, bool single>
    inline __attribute__((always_inline)) void pair(const Row& row, std::size_t i, const V (&t)[3][4],
                                                    V (&front)[3][4], V (&carry)[3][4],
                                                    V (&low)[3][4]) const {
        constexpr int at_of[3] = {(A ^ 1) + 2 * B, A + 2 * (B ^ 1), A + 2 * B};
        // Even along the third axis are translations of one component.
        constexpr bool still[3] = {!entry(A + 2 * B, 0, 0), !entry(A + 2 * B, 1, 1),
                                   !entry(A + 2 * B + 4, 2, 2)};
        V e[3];
        V o[3];
        V ge[3];
        V go[3];
#pragma GCC unroll 4
        for (int c = 0; c < 3; ++c) {
            const V before = front[c][at_of[c]];
            const V behind = t[c][at_of[c]];
            front[c][at_of[c]] = behind;
            e[c] = still[c] ? behind : behind + before;
            o[c] = behind - before;
        }
        if constexpr (single) {
            blocks<A, B, true>(sweep.blocks + 72 * row.from->kind, load_as(row.from->scale + i, T(0)), e, o,
                               ge, go);
        } else {
#pragma GCC unroll 4
            for (int c = 0; c < 3; ++c) ge[c] = go[c] = V{};
            for (const CellRow* entry = row.from; entry != row.to; ++entry)
                blocks<A, B, false>(sweep.blocks + 72 * entry->kind, load_as(entry->scale + i, T(0)), e, o,
                                    ge, go);
        }
#pragma GCC unroll 4
        for (int c = 0; c < 3; ++c) {
            V& up = carry[c][at_of[c]];
            low[c][at_of[c]] = still[c] ? up - go[c] : up + (ge[c] - go[c]);
            up = still[c] ? go[c] : ge[c] + go[c];
        }
    }

    // A chunk of cells: takes the transformed displacements before it and the forces carried to there, leaves
    // those behind it.
    template <bool single>
    inline __attribute__((always_inline)) void chunk(const Row& row, std::size_t i, V (&front)[3][4],
                                                     V (&carry)[3][4], int j, int number) {
        V t[3][4];
        transform(row.near + i, row.far + i, t);
        V low[3][4];
        pair<0, 0, single>(row, i, t, front, carry, low);
        pair<1, 0, single>(row, i, t, front, carry, low);
        pair<0, 1, single>(row, i, t, front, carry, low);
        pair<1, 1, single>(row, i, t, front, carry, low);
        finish_row(low, i, j, number);
    }

    // Asks for what the next rows take from memory: arithmetic and the hardware's own guesses do not hide it.
    // In double precision arithmetic does.
    template <int Rows>
    inline __attribute__((always_inline)) void fetch(std::size_t far, std::size_t own) const {
        constexpr std::size_t ahead = 2 * 3 * Rows;
#pragma GCC unroll 6
        for (std::size_t strip = ahead; strip < ahead + 3 * Rows; ++strip) {
            __builtin_prefetch(sweep.vectors.v + far + strip * stride);
            __builtin_prefetch(sweep.inverse_diagonal + own + strip * stride);
            if (sweep.vectors.b != nullptr) __builtin_prefetch(sweep.vectors.b + own + strip * stride);
            __builtin_prefetch(sweep.vectors.out + own + strip * stride, 1);
        }
    }

    // Rows of cells from j on in the layer above plane k, `Rows` of them: forces on the rows of nodes before
    // each into `sum`, those on the rows behind the last into the carry. Rows together go to the buffers
    // once.
    template <int Rows, bool single> void cells(int j, int k, int first) {
        T* front_row = buffers.front;
        T* carry_row = buffers.carry;
        const Row one = row_behind(j, k);
        const Row two = Rows == 2 ? row_behind(j + 1, k) : one;
        for (std::size_t i = 0; i < stride; i += W) {
            if constexpr (sizeof(T) == sizeof(float)) fetch<Rows>(one.far + i, row_of(j, k) * 3 * stride + i);
            V front[3][4];
            V carry[3][4];
#pragma GCC unroll 4
            for (int c = 0; c < 3; ++c)
#pragma GCC unroll 4
                for (int p = 0; p < 4; ++p) {
                    const std::size_t n = static_cast<std::size_t>(4 * c + p) * stride + i;
                    front[c][p] = load(static_cast<const T*>(front_row + n));
                    carry[c][p] = load(static_cast<const T*>(carry_row + n));
                }
            chunk<single>(one, i, front, carry, j - first, 0);
            if (Rows == 2) chunk<single>(two, i, front, carry, j + 1 - first, 1);
#pragma GCC unroll 4
            for (int c = 0; c < 3; ++c)
#pragma GCC unroll 4
                for (int p = 0; p < 4; ++p) {
                    const std::size_t n = static_cast<std::size_t>(4 * c + p) * stride + i;
                    store(front_row + n, front[c][p]);
                    store(carry_row + n, carry[c][p]);
                }
        }
    }

    // Back along z and x: the row of nodes below into `sum` with what the plane below gave, the one above
    // kept.
    inline __attribute__((always_inline)) void finish_row(const V (&low)[3][4], std::size_t i, int row,
                                                          int number) {
#pragma GCC unroll 4
        for (int c = 0; c < 3; ++c) {
            const V near_even = low[c][0] - low[c][2];
            const V far_even = low[c][0] + low[c][2];
            const V near_odd = low[c][1] - low[c][3];
            const V far_odd = low[c][1] + low[c][3];
            T* left = buffers.highs(row, 2 * c) + i;
            T* right = left + stride;
            store(buffers.sums(number, 2 * c) + i,
                  load(static_cast<const T*>(left)) + (near_even - near_odd));
            store(buffers.sums(number, 2 * c + 1) + i,
                  load(static_cast<const T*>(right)) + (near_even + near_odd));
            store(left, far_even - far_odd);
            store(right, far_even + far_odd);
        }
    }

    // The last row of nodes has no cells behind it.
    void carried(int row) {
        for (std::size_t i = 0; i < stride; i += W) {
            V low[3][4];
#pragma GCC unroll 4
            for (int c = 0; c < 3; ++c)
#pragma GCC unroll 4
                for (int p = 0; p < 4; ++p)
                    low[c][p] = load(static_cast<const T*>(buffers.carry) +
                                     static_cast<std::size_t>(4 * c + p) * stride + i);
            finish_row(low, i, row, 0);
        }
    }

    // What is left for a row of nodes on the plane above the last cells.
    void kept(int row) {
        for (int s = 0; s < 6; ++s)
            std::memcpy(buffers.sums(0, s), buffers.highs(row, s), stride * sizeof(T));
    }

    // Calls with the place of a chunk of the row's vectors and its A v.
    template <class Call>
    inline __attribute__((always_inline)) void each(std::size_t row, int number, Call&& call) const {
#pragma GCC unroll 4
        for (int c = 0; c < 3; ++c) {
            const T* left = buffers.sums(number, 2 * c);
            const T* right = buffers.sums(number, 2 * c + 1) - 1;
            const std::size_t base = row * 3 * stride + component(c);
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
        const int last = std::min(sweep.to_row - 1, ny - 1); // row of cells
        const int start = std::max(sweep.from_plane - 1, 0);
        std::fill_n(buffers.high, static_cast<std::size_t>(6 * (sweep.to_row - first)) * stride, T(0));
        for (int layer = 0; layer < 2; ++layer)
            for (int s = 0; s < 6; ++s) std::fill_n(buffers.sums(layer, s) - 16, 16, T(0));
        for (int k = start; k < sweep.to_plane; ++k) {
            const bool out = k >= sweep.from_plane;
            if (k == nz) {
                for (int j = sweep.from_row; j < sweep.to_row; ++j) {
                    kept(j - first);
                    emit(j, k, 0);
                }
                break;
            }
            begin(first, k);
            for (int j = first; j <= last;) {
                const int together = j < last ? 2 : 1;
                if (together == 2) {
                    if (one_kind(j, k) && one_kind(j + 1, k))
                        cells<2, true>(j, k, first);
                    else
                        cells<2, false>(j, k, first);
                } else if (one_kind(j, k)) {
                    cells<1, true>(j, k, first);
                } else {
                    cells<1, false>(j, k, first);
                }
                for (int number = 0; number < together && out; ++number)
                    if (j + number >= sweep.from_row) emit(j + number, k, number);
                j += together;
            }
            if (sweep.to_row == ny + 1) {
                carried(ny - first);
                if (out) emit(ny, k, 0);
            }
        }
    }
};

template <class T, class Stored, bool Scaled, bool Full>
void run_box_of(const BoxSweep<T, Stored>& sweep, void* scratch) {
    BoxKernel<T, Stored, Scaled, Full> kernel{sweep, {}, sweep.grid.stride};
    const std::size_t stride = sweep.grid.stride;
    T* at = static_cast<T*>(scratch);
    kernel.buffers.stride = stride;
    kernel.buffers.front = at;
    kernel.buffers.carry = at + 12 * stride;
    kernel.buffers.sum = at + 24 * stride;
    kernel.buffers.high = at + 24 * stride + 12 * (stride + 16);
    kernel.run();
}

template <class T, class Stored, bool Scaled> void run_box(const BoxSweep<T, Stored>& sweep, void* scratch) {
    if (sweep.full)
        run_box_of<T, Stored, Scaled, true>(sweep, scratch);
    else
        run_box_of<T, Stored, Scaled, false>(sweep, scratch);
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

} // namespace UPRIGHT_ISA
} // namespace upright::grid
