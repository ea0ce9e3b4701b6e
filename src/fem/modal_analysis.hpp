// Natural modes of a model: held or free, with the mass that rides on it.
#pragma once

#include "fem/constrained_solver.hpp"
#include "model/model.hpp"
#include "solve/lanczos.hpp"

#include <Eigen/Core>

#include <array>
#include <deque>
#include <map>
#include <memory>
#include <vector>

namespace upright {

struct Mode {
    double frequency = 0.0; // cycles a unit of time
    Eigen::VectorXd shape;  // every freedom of the model, of unit modal mass
    // Participation of the translations along x, y, z and the rotations about x, y, z through the centre of
    // mass; the square is the effective mass (inertia) that the mode moves.
    std::array<double, 6> participation{};
    int cluster = 0; // modes of one frequency (within 1e-4) share a number
    // What share of the mass moves, and where: of mass in pieces m whose mean square motion is v²,
    // (sum m v²)² / (sum m, sum m v⁴), the participation ratio (Bell & Dean 1970). 1 where all moves alike,
    // 0.36 for a cantilever's lowest bending; a loose sliver's mode has its share of the mass.
    double moved_share = 1.0;
    Vec3 moved_at = Vec3::Zero(); // the centre of what moves, by m v²
    bool local() const { return moved_share < local_below; }
    static constexpr double local_below = 0.02;
};

struct ModalResult {
    std::vector<Mode> modes;            // elastic ones, ascending
    std::vector<Mode> rigid;            // what is left free: found apart, frequency near zero
    int free_motions = 0;               // how many the supports leave free by geometry
    double mass = 0.0;                  // of the model, point masses included
    Vec3 center = Vec3::Zero();         // of that mass
    std::array<double, 6> moved_mass{}; // mass (inertia) about the centre: what effective masses add up to
    std::size_t unknowns = 0;
    int steps = 0;
    double seconds = 0.0;
    std::string method;             // in words
    std::vector<std::string> notes; // what the solvers had to say
};

// How exact modes have to be, and whether they may start from the last ones of the same case.
struct ModalAccuracy {
    double tolerance = 1e-4; // of the residual: see lobpcg.hpp; a factorisation is exact
    bool warm = false;
    bool masses =
        true; // mass, its centre and what each mode moves of it are found too (else these are as made)
};

class ModalAnalysis {
  public:
    explicit ModalAnalysis(const Model& model, const SolverOptions& options);
    ~ModalAnalysis();

    // One case, for the share of full stiffness and mass that each element has. Of a design that is partly
    // soft the mass should be modal_mass_share (design/): cells of little stiffness ring by themselves
    // otherwise. By shift-invert Lanczos on a factorisation where that is quick and fits; by a preconditioned
    // block eigensolver on multigrid elsewhere. What a case needs is made once and kept.
    // Throws Error (Numerics) when memory or convergence fails.
    ModalResult solve(const ModelModalCase& c, const std::vector<double>& stiffness,
                      const std::vector<double>& density, const ModalAccuracy& accuracy = {});

    // For a shape: twice the strain energy of each element of full stiffness, and twice the kinetic energy,
    // by the square of the circular frequency, of each of full mass: u'Ku and u'Mu.
    struct UnitEnergies {
        std::vector<double> strain, kinetic;
    };
    UnitEnergies unit_energies(const Eigen::VectorXd& shape, bool lumped_mass) const;
    // M u over elements and point masses.
    Eigen::VectorXd mass_times(const Eigen::VectorXd& u, const std::vector<double>& density,
                               bool lumped_mass) const;

    // Shapes that the next warm solve of each case starts from, in the order of the model's modal cases.
    std::vector<Eigen::MatrixXd> warm_state() const;
    void set_warm_state(const std::vector<Eigen::MatrixXd>& state);

  private:
    struct Found {
        EigenPairs pairs; // rigid ones first, with values near zero
        std::string method;
        double rigid_below = 0.0; // values below are rigid ones
    };
    // Sets what share of the mass each mode moves.
    void find_moved(std::vector<Mode>& modes, const std::vector<double>& density, bool lumped_mass) const;
    const ClassMatrices& mass(bool lumped_mass) const { return lumped_mass ? *lumped_ : *mass_; }
    struct Factored; // what a case needs on a factorisation
    struct Iterated; // or on a multigrid
    struct Kept;
    Kept& kept(const ModelModalCase& c);
    Found by_lanczos(const ModelModalCase& c, Kept& k, const std::vector<double>& stiffness,
                     const std::vector<double>& density) const;
    Found by_multigrid(const ModelModalCase& c, Kept& k, SolverKind kind,
                       const std::vector<double>& stiffness, const std::vector<double>& density,
                       const ModalAccuracy& accuracy) const;

    const Model& model_;
    SolverOptions options_;
    ShapeClasses classes_;
    std::unique_ptr<ClassMatrices> stiffness_, mass_, lumped_;
    std::map<std::string, std::unique_ptr<Kept>> kept_; // by the name of the case
};

} // namespace upright
