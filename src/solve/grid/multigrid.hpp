// Geometric multigrid on a lattice of box cells: one cycle in single precision as a preconditioner, and the
// product with the fine matrix in double precision, neither with the fine matrix assembled.
//
// The first coarse level of box cells has the mean stiffness of the cells within each; further ones are exact
// Galerkin products (trilinear interpolation) stored as stencils. The smoother is the fourth-kind Chebyshev
// polynomial with optimal weights (Lottes 2023) on the inverse of the diagonal (levels of cells) or of the
// nodes' blocks (stencils). The coarsest level is factorised. docs/theory.md tells more.
//
// Cells in the plane, cells whose matrices do not part into blocks, and cells that are turned (polar
// lattices) are served by stencils on the fine level too.
#pragma once

#include "solve/grid/kernels.hpp"
#include "solve/grid_system.hpp"
#include "solve/strip.hpp"

#include <array>
#include <memory>
#include <vector>

namespace upright::grid {

struct MultigridOptions {
    int threads = 1;
    int coarse_degree = 2;                 // of the smoother below the fine level: 1 or 2
    int visits = 1;                        // of each coarser level: 1 a V-cycle, 2 a W-cycle
    const Kernels* kernels = nullptr;      // null: the best
    double memory = 12e9;                  // bytes, of which a factor may take a half
    std::size_t nodes_to_factorise = 1500; // a level this small is the last
};

inline constexpr int most_together = 4; // right-hand sides in one cycle

class Multigrid {
  public:
    // Keeps a reference to the system.
    Multigrid(const GridSystem& system, const MultigridOptions& options);
    ~Multigrid();
    // Takes the scale of every element and builds the coarse levels. The coarsest one is factorised by the
    // first cycle, which throws Error (Numerics) where that cannot be.
    void update(const std::vector<double>& scale);

    // The scales alone, for products.
    void take(const std::vector<double>& scale);

    // Length of a fine vector: strips of nodes and a tail of zeros.
    std::size_t length() const { return length_; }
    // Where a lattice freedom stands in a fine vector.
    std::size_t place(std::size_t freedom) const;
    // out = K v on all lattice freedoms, held ones included. Returns v' K v. `v` must have its tail.
    double multiply(const double* v, double* out) const;
    double multiply(const float* v, double* out) const; // arithmetic in double all the same
    // x = B b for up to four right-hand sides; zero at freedoms that are not unknowns on their own. `b`
    // should be near one in size, and is projected.
    void cycle(float* const* b, float* const* x, int count);
    // For designs of thin members: factorises the material by itself, voids left to a cycle of their own, so
    // that what coarse cells glue together costs nothing. Serves cycles until the next update. Returns
    // whether it does so now: where `cycles` would take longer, by the operations that both need, and memory
    // allows.
    bool strengthen(double cycles);
    bool strengthened() const { return exact_ != nullptr; }

    // Takes the part of a vector that held directions allow: dependent within a node, held to zero.
    void project(double* v) const;
    // Nodes whose directions depend on each other within the node: whether all dependents are of that sort
    // but those `far` lists (indices into GridSystem::dependents).
    const std::vector<std::size_t>& far_dependents() const { return far_; }

    std::size_t stride() const; // of fine vectors
    int levels() const;
    double bytes() const;
    std::size_t coarsest_unknowns() const;
    bool matrix_free() const { return matrix_free_; }
    int threads() const { return options_.threads; }
    // For benchmarks: the nodes of a level, the length of its vectors, and the first of two steps of its
    // smoother.
    std::size_t nodes_of_level(std::size_t l) const;
    std::size_t length_of_level(std::size_t l) const;
    void sweep_for_bench(std::size_t l, const float* x, const float* b, float* out) const;

  private:
    struct Level;
    class Stencils;
    struct Coarsest;
    struct Exact;
    // A node whose displacement may only be in the range of a projector.
    struct Slope {
        std::size_t node = 0;
        Eigen::Matrix3d onto = Eigen::Matrix3d::Zero();
    };
    void find_blocks();
    void find_bound();
    void mark_nodes();
    void find_slopes();
    void mark_cells();
    template <class Call> void rows_beside_nodes(const Level& level, std::size_t row, Call&& call) const;
    void set_scales(const std::vector<double>& scale);
    void find_grandchildren();
    void make_rows(Level& level, const std::vector<std::uint64_t>& kinds);
    void average();
    void set_inverse(Level& level);
    void mark_free();
    void choose_levels(const std::vector<double>& scale);
    // The matrix of a cell of level 0 with its held directions taken out, or of level 1 from its children.
    bool fine_matrix(std::size_t cell, double* out) const;
    void held_matrix(std::size_t cell, float* out) const;
    const Eigen::Matrix3d* turn(std::size_t element) const {
        return system_.turn_of.empty() ? nullptr : &system_.turns[system_.turn_of[element]];
    }
    // The node of a corner of a cell of any level, and the planes beside one.
    std::size_t corner(const Level& level, std::size_t cell, int a) const;
    bool first_matrix(int i, int j, int k, float* out) const;
    void second_matrix(int i, int j, int k, float* out) const;
    // The order to eliminate the unknowns of a level's nodes in, and about the operations that it takes.
    std::pair<std::vector<std::int32_t>, double> order_of(const Level& level,
                                                          const std::vector<std::int32_t>& unknown_of) const;
    static bool take_pattern(Coarsest& coarsest, const std::vector<double>& diagonal);
    void factorise();

    void build();
    void build_level(std::size_t l);
    void make_room(Level& level) const;
    void make_matrices(std::size_t l, int k, float* here) const;
    void add_children(std::size_t l, int k, const float* lower, const float* upper);
    bool may_strengthen() const;
    void surround(Exact& exact, const std::vector<std::size_t>& cells,
                  const std::vector<std::int32_t>& unknown_of) const;
    void cycle_of_all(float* const* b, float* const* x, int count);
    void gather_plane(Level& level, int k, const float* below, const float* above);
    void estimate(Level& level);
    int degree_of(std::size_t l) const { return l == 0 ? 2 : options_.coarse_degree; }
    float* load_of(std::size_t l, int slot) const;
    float* solution_of(std::size_t l, int slot) const;
    void make_room(int count);
    void smooth_zero(std::size_t l, int first, int many);
    void smooth(std::size_t l, int first, int many);
    void solve_coarsest(int count);
    void scale_by_inverse(const Level& level, const float* b, double factor, float* x) const;
    void sweep(std::size_t l, Sweep kind, const SweepVectors<float>* vectors, int count,
               const SweepFactors& factors, bool fresh = false) const;
    template <class T, class Stored, class Fill>
    void box_sweep(const Level& level, void (*run)(const BoxSweep<T, Stored>&, void*), Fill&& fill) const;
    void add_special(const Level& level, Sweep kind, const SweepVectors<float>& vectors,
                     const SweepFactors& factors, bool scaled) const;
    void restrict_to(std::size_t l, int slot);
    void prolong_from(std::size_t l, int slot);
    void visit(std::size_t l, int count);
    template <class T> void fix(T* v) const;
    template <class V> void multiply_cells(const V* v, double* out) const;
    template <class V> double multiply_any(const V* v, double* out) const;

    const GridSystem& system_;
    MultigridOptions options_;
    const Kernels& kernels_;
    int dimension_ = 3;
    int corners_ = 8;
    int width_ = 24;
    std::size_t length_ = 0;
    bool matrix_free_ = true;
    bool full_blocks_ = false; // not the zeros of stiffness
    std::vector<double> blocks_double_;
    std::vector<float> blocks_float_;
    double bound_ = 0.0;                  // of the diagonal-scaled cell matrices
    std::vector<std::uint8_t> mask_;      // for each node: bits of components that are not free; 8: a slope
    std::vector<std::uint8_t> cell_kind_; // for each cell: 0 none, 1 plain, 2 touches held directions
    std::vector<Slope> slopes_;
    std::vector<std::int32_t> slope_at_; // sorted nodes
    std::vector<std::size_t> fixed_;     // places to be kept at zero
    std::vector<std::size_t> far_;
    const std::vector<double>* element_scale_ = nullptr; // while building
    std::vector<double> last_scale_;                     // of a design that may be strengthened
    std::vector<double> general_scale_;                  // where cells are multiplied one by one
    // Of the cycle that runs: the fine level's vectors are the caller's.
    std::array<float*, most_together> fine_load_{}, fine_solution_{};
    std::vector<std::array<Eigen::MatrixXf, 8>> child_; // kind by child: P' K P
    std::vector<Strip<float>> grandchild_;         // the same over two levels, 8 x 8 for each kind, packed
    std::array<Eigen::MatrixXd, 8> interpolation_; // of nodes, fine corners x coarse corners
    std::array<std::vector<float>, 8> interpolation_float_;
    // Of the one cell over of an odd ring: it is not halved along the ring.
    std::array<std::vector<float>, 4> over_interpolation_;
    mutable std::vector<double> dots_;
    mutable std::vector<Strip<char>> scratch_;
    std::vector<std::unique_ptr<Level>> levels_;
    std::unique_ptr<Coarsest> coarsest_;
    std::unique_ptr<Exact> exact_; // of the design of the last update
    bool factorised_ = false;      // the last level
    bool late_ = false;            // that level's matrices are made when it is factorised
    std::size_t thick_nodes_ = 0;  // of the first coarse level, in material
};

} // namespace upright::grid
