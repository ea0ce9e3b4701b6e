// The inner loops of the grid multigrid, compiled once for each instruction set and chosen at run time.
//
// Vectors of a grid: for each row of nodes along x (rows count along y, then z) one strip of `stride` values
// for each displacement component; a stride is a multiple of 16 and its tail is zero.
#pragma once

#include <cstddef>
#include <cstdint>

namespace upright::grid {

inline constexpr int lanes = 16; // nodes that a chunk of a stencil holds

// A row of cells along x: its scales, one array for each kind of cell in it.
struct CellRow {
    const float* scale = nullptr;
    int kind = 0;
};

// Cells between the rows of nodes: (cells + 1) nodes along each axis.
struct CellGrid {
    int nx = 0, ny = 0, nz = 0; // cells
    std::size_t stride = 0;
    const std::uint32_t* starts = nullptr; // where the entries of a row of cells begin in `rows`
    const CellRow* rows = nullptr;
};

// What happens to a row of A v once it is known; S is the inverse of the (block) diagonal, v here the row's
// own.
enum class Sweep {
    Product,  // out = A v; of box cells the sum of v * A v of each row of nodes into `dots`
    Residual, // out = b - A v
    Single,   // out = v + c1 S (b - A v)
    Step,     // out = c1 S (b - A v)
    Finish    // out = c0 v - c1 S A v, added to what is there unless `fresh`
};

// One right-hand side of a sweep; `out` must not be `v`.
template <class T, class Stored = T> struct SweepVectors {
    const Stored* v = nullptr;
    const T* b = nullptr;
    T* out = nullptr;
};

struct SweepFactors {
    float c0 = 0.0F, c1 = 0.0F;
};

// Box cells of 8 nodes whose matrices fall into eight 3 x 3 blocks under the Hadamard transform of the nodes:
// 72 coefficients a kind, block a + 2 b + 4 c, row by row, belongs to displacements that are even (0) or odd
// in x, z and y in the manner (a, b, c) of a scalar; their components stand in that order as well.
//
// The stiffness of an element that is free of energy in translations and passes the patch test has zeros
// elsewhere (that is no matter of masses): block P holds
// a translation of component k where its only odd axis is k; with two odd axes the component of the third
// is an hourglass that nothing but itself resists.
constexpr bool block_entry(int P, int r, int c) {
    const int odd = (P & 1) + (P >> 1 & 1) + (P >> 2 & 1);
    if (odd == 0 || odd == 3) return true;
    const int alone = (odd == 1 ? P : 7 - P) >> 1; // the axis whose bit stands by itself
    if (r == c) return odd == 2 || r != alone;
    return r != alone && c != alone;
}

template <class T, class Stored = T> struct BoxSweep {
    CellGrid grid;
    const T* blocks = nullptr;
    Sweep sweep = Sweep::Product;
    bool full = false;   // every entry of the blocks counts, not those of block_entry alone
    bool scaled = false; // v is S times what `vectors.v` holds (Finish)
    bool fresh = false;
    SweepVectors<T, Stored> vectors;
    SweepFactors factors;
    const float* inverse_diagonal = nullptr; // beside the vectors
    double* dots = nullptr;                  // a row of nodes each
    int from_row = 0, to_row = 0, from_plane = 0, to_plane = 0;
};

// Bytes of scratch that a box sweep needs for a part of so many rows.
std::size_t box_scratch(std::size_t stride, int rows);

// A stencil over the 3^d neighbours of a node with d x d blocks, chunk by chunk of 16 nodes along x.
// Off-diagonal blocks (neighbours x fastest, the middle left out) are `coefficient_bytes` wide and multiplied
// by the node's scale; diagonal blocks and their inverses are floats.
struct StencilSweep {
    int dimension = 3;
    int nodes_y = 0, nodes_z = 0;
    bool ring = false; // planes close on themselves
    std::size_t stride = 0;
    const void* beside = nullptr;    // [row][chunk][neighbour][c][d][16]
    const float* scale = nullptr;    // [row][stride]
    const float* diagonal = nullptr; // [row][chunk][c][d][16]
    const float* inverse = nullptr;  // the same
    Sweep sweep = Sweep::Residual;
    bool fresh = false;
    const SweepVectors<float>* vectors = nullptr; // `count` of them
    int count = 1;                                // 1 to 4
    SweepFactors factors;
    int from_row = 0, to_row = 0; // over rows of all planes
};

// The upper triangle of a symmetric matrix of 24 x 24, row by row, filled up to whole vectors.
inline constexpr std::size_t packed_matrix = 304;

// The matrix of a coarse cell from those of its children, row by row: out += P' C P, `p` the interpolation of
// a child's corners (fine x coarse). And sums of scaled matrices.
struct Kernels {
    const char* name;
    int coefficient_bytes; // 2: IEEE half precision; 4
    void (*box_float)(const BoxSweep<float>&, void* scratch);
    void (*box_double)(const BoxSweep<double>&, void* scratch);
    void (*box_mixed)(const BoxSweep<double, float>&, void* scratch); // arithmetic in double
    void (*stencil)(const StencilSweep&);
    void (*pack)(const float* in, void* out, std::size_t count); // to coefficients
    void (*add_child)(int dimension, const float* child, const float* p, float* out);
    void (*add_scaled)(float scale, const float* m, float* out, std::size_t count);
    // out = sum of scales times matrices, all of packed_matrix values.
    void (*sum_scaled)(const float* const* matrices, const float* scales, std::size_t count, float* out);
    void (*unpack)(const void* in, float* out, std::size_t count);
    // out = scale * M v; M of 24 x 24 or 8 x 8, column by column.
    void (*cell_product)(int width, const double* m, double scale, const double* v, double* out);
};

// The best that this processor runs; the environment's UPRIGHT_SIMD = baseline, avx2 or avx512 asks for less.
const Kernels& kernels();
// One set by name, or null where the processor lacks it; for tests.
const Kernels* kernels_named(const char* name);

} // namespace upright::grid
