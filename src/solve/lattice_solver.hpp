// Conjugate gradients with multigrid whose coarser levels are regular lattices laid over the nodes of any
// solid mesh: trilinear functions of the lattice at the nodes, exact Galerkin matrices, the spacing doubled
// from level to level (auxiliary-space ideas: Xu 1996, "The auxiliary space method"). Fourth-kind Chebyshev
// smoothing on the inverses of the nodes' own 3 x 3 blocks.
#pragma once

#include "base/vectors.hpp"
#include "solve/conjugate_gradients.hpp"
#include "solve/lattice/block_rows.hpp"
#include "solve/linear_solver.hpp"
#include "solve/strip.hpp"

#include <cstdint>
#include <memory>
#include <vector>

namespace upright {

// Where the unknowns of a system stand.
struct UnknownPlaces {
    std::vector<std::int32_t> node_of;      // of each unknown
    std::vector<std::uint8_t> component_of; // 0, 1 or 2 of its node
    std::vector<Vec3> places;               // by node
    // By node: no point of the body (translations or rotations of a reference point). Such a motion of its
    // own stays one on every level.
    std::vector<std::uint8_t> beyond;
    double spacing = 0.0; // from a node to its neighbours, on the mean
    int degree = 2;       // of the smoother on the nodes themselves: 1 to 4
};

// Measured on two cores; for choosing and for estimates.
inline constexpr double lattice_bytes = 1000.0;           // an unknown
inline constexpr double lattice_setup_seconds = 4e-6;     // an unknown
inline constexpr double lattice_iteration_seconds = 2e-7; // an unknown and right-hand side

// The matrix with its levels; for conjugate gradients and for modes. Long vectors: three numbers a node, in
// an order of its own.
class LatticeOperator : public IterativeSystem {
  public:
    // `system` and its element matrices must live as long.
    LatticeOperator(const ElementSystem& system, UnknownPlaces places, int threads);
    ~LatticeOperator() override;
    // Throws Error (Numerics) for a system that is not held.
    void update(const std::vector<double>& scale);

    std::size_t length() const override { return 3 * nodes_; }
    double multiply(double* v, double* out) override;
    double multiply(float* v, double* out) override;
    void precondition(float* const* r, float* const* z, int count) override;
    bool steady() override;
    int threads() const override { return threads_; }

    // The unknowns in a long vector, whose other places become zero; and back.
    void spread(const double* unknowns, double* out) const;
    void collect(const double* v, double* unknowns) const;

    double bytes() const;
    int levels() const { return static_cast<int>(levels_.size()); }

  private:
    struct Level;
    void make_fine_pattern();
    void find_offsets();
    void assemble(const std::vector<double>& scale);
    void add_whole(std::size_t e, double scale, std::size_t node, std::size_t first, std::size_t last,
                   std::vector<double>& made);
    void add_rows(std::size_t e, double scale, std::size_t node, const std::vector<std::size_t>& place,
                  Eigen::MatrixXd& room);
    void cycle(std::size_t l, const float* const* b, float* const* x, int count);

    const ElementSystem& system_;
    int threads_ = 1;
    std::size_t nodes_ = 0;
    std::vector<std::int32_t> node_of_;      // of each unknown, in the order of the long vectors
    std::vector<std::uint8_t> component_of_; // of each unknown
    std::vector<std::size_t> held_;          // places of long vectors that are no unknowns
    // Elements at each node, and which of them have all freedoms of their nodes, three by three.
    std::vector<std::size_t> element_starts_;
    std::vector<std::uint32_t> elements_at_;
    std::vector<std::uint8_t> whole_;
    // Of those: where its blocks stand in the rows of its nodes, row of blocks by row of blocks.
    std::vector<std::uint32_t> offsets_at_; // by element
    std::vector<std::uint8_t> offsets_;
    Strip<double> blocks_; // of the fine level
    double wider_ = 1.0;   // than was estimated the smoothers' bounds are
    std::vector<std::unique_ptr<Level>> levels_;
};

std::unique_ptr<LinearSolver> make_lattice_solver(const ElementSystem& system, UnknownPlaces places,
                                                  const SolverOptions& options);

} // namespace upright
