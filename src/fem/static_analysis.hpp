// Static analysis of all cases: those that share supports are solved together on one factorisation.
#pragma once

#include "fem/box_energies.hpp"
#include "fem/constrained_solver.hpp"
#include "model/model.hpp"
#include "solve/linear_solver.hpp"

#include <Eigen/Core>

#include <array>
#include <deque>
#include <memory>
#include <vector>

namespace upright {

// What one case came to.
struct CaseResult {
    Eigen::VectorXd displacement; // every freedom of the model, reference points of couplings included
    double compliance = 0.0;      // force times displacement
    // The displacement under the same forces with every enforced motion at zero: the adjoint of the
    // compliance. Empty where nothing is enforced and it is the displacement itself.
    Eigen::VectorXd unmoved;
    const Eigen::VectorXd& adjoint() const { return unmoved.size() > 0 ? unmoved : displacement; }
};

// How exact an iterative solver has to be; a factorisation is exact.
struct Accuracy {
    double energy = 1e-18; // share of the energy that the error may have: see SolveWish
    bool warm = false;     // start from the results of the last solve
};

// A load on the freedoms of a case under which its structure, supports at rest, is solved once more.
struct AdjointLoad {
    CaseId in_case = CaseId::None;
    Eigen::VectorXd load;
};

class StaticAnalysis {
  public:
    // Throws Error (Numerics) when the model needs more memory than the options allow, Error (Input) when
    // supports and couplings contradict each other.
    StaticAnalysis(const Model& model, const SolverOptions& options);

    // Solves every case for the share of its full stiffness and of its full mass that each element has.
    // Throws Error (Numerics) when the structure is singular.
    std::vector<CaseResult> solve(const std::vector<double>& stiffness, const std::vector<double>& density,
                                  const Accuracy& accuracy = {});
    // The same into the results of an earlier solve, whose memory is used again.
    void solve(const std::vector<double>& stiffness, const std::vector<double>& density,
               const Accuracy& accuracy, std::vector<CaseResult>& out);

    // The answers to adjoint loads for the stiffness of the last solve(): K v = T load, every freedom of the
    // model. Loads that come in the same order as the last time start from the last answers where `warm`.
    std::vector<Eigen::VectorXd> solve_adjoints(const std::vector<AdjointLoad>& loads,
                                                const Accuracy& accuracy);

    // Answers to loads on every freedom, one a column, under the supports of a case at rest, for the
    // stiffness of the last solve(). Nothing is kept of them.
    Eigen::MatrixXd answers(CaseId c, const Eigen::MatrixXd& loads, const Accuracy& accuracy);

    // K u over elements and joints, constraints not applied.
    Eigen::VectorXd stiffness_times(const Eigen::VectorXd& u, const std::vector<double>& stiffness) const;

    // The strain energy u_e' k_e v_e of full material, for each element (v is u where it is not given).
    std::vector<double> unit_energy(const Eigen::VectorXd& u, const Eigen::VectorXd* v = nullptr) const;
    void unit_energy(const Eigen::VectorXd& u, const Eigen::VectorXd* v, std::vector<double>& out) const;

    // Forces of a case on every freedom, heat included.
    Eigen::VectorXd forces(const ModelCase& c, const std::vector<double>& stiffness,
                           const std::vector<double>& density) const;
    // The work of the heat of a case on displacements, for each element of full stiffness; empty without
    // heat.
    std::vector<double> unit_heat_work(const ModelCase& c, const Eigen::VectorXd& u) const;

    // K u - f of a case on every freedom: what couplings, bonds and supports have to meet
    // (support_forces.hpp).
    Eigen::VectorXd residual(const CaseResult& result, const ModelCase& c,
                             const std::vector<double>& stiffness, const std::vector<double>& density) const;
    // Forces of a joint on its freedoms, beside ModelJoint::freedoms, and the strain energy of all joints.
    static Eigen::VectorXd joint_forces(const ModelJoint& joint, const Eigen::VectorXd& u);
    double joint_energy(const Eigen::VectorXd& u) const;

    // Forces of supports, symmetry planes and joints to the ground on the freedoms they hold: what keeps
    // everything else in balance.
    Eigen::VectorXd reactions(const CaseResult& result, const ModelCase& c,
                              const std::vector<double>& stiffness, const std::vector<double>& density) const;

    // Von Mises stress in the material at the middle of each element (full modulus: the stress that the solid
    // material of a partly filled cell would feel); of a shell that of the face where it is larger. Thermal
    // strain of the case is taken off.
    std::vector<double> von_mises_stress(const Eigen::VectorXd& displacement,
                                         const ModelCase* c = nullptr) const;

    // The same of one element, at the faces of a shell one after the other: values, and where `derivative` is
    // given the derivative of each by the element's displacements, one a column. `rise` in kelvin.
    std::array<double, 2> von_mises_at(ElementId e, const Eigen::VectorXd& u, double rise,
                                       Eigen::MatrixXd* derivative) const;
    int stress_layers() const { return model_.mesh.shell() ? 2 : 1; }

    // Solutions that the next warm solve starts from, to be kept with a checkpoint.
    std::vector<Eigen::MatrixXd> warm_state() const;
    void set_warm_state(std::vector<Eigen::MatrixXd> state);

    // Full stiffness of each class of elements.
    const ClassMatrices& stiffness_by_class() const { return *stiffness_; }
    const ShapeClasses& classes() const { return classes_; }

    // The freedoms of one element, node by node.
    Eigen::VectorXd element_displacement(const Eigen::VectorXd& u, ElementId e) const;
    // The rise of temperature of a case, in kelvin.
    double rise(const ModelCase& c) const;

    const Model& model() const { return model_; }
    const SolverOptions& options() const { return options_; }
    SolverCost cost() const;
    // The plan of each group of cases that share supports.
    std::vector<SolverPlan> plans() const;
    // What the solvers had to say since the last call.
    std::vector<std::string> take_notes();

  private:
    // The forces of a case: where they do not vary with the design, those freedoms alone that have any.
    struct Forces {
        bool fixed = false;
        std::vector<Term> some;
        std::vector<std::pair<Eigen::Index, double>> gathered; // the same on the unknowns
        Eigen::VectorXd all;
        double times(const Eigen::VectorXd& u) const;
    };
    struct Group {
        explicit Group(Transform t) : transform(std::move(t)) {}
        std::vector<CaseId> cases;
        Transform transform;
        std::unique_ptr<ConstrainedSolver> solver;
        std::vector<Forces> forces;    // of each case
        Eigen::VectorXd enforced;      // on the unknowns: what the enforced motion alone comes to
        Eigen::MatrixXd last;          // solution, one right-hand side a column
        Eigen::MatrixXd last_adjoints; // the same of adjoint loads
    };
    static Loads loads_of(const Group& group); // refers to it
    void take_loads(Group& group, const std::vector<double>& stiffness, const std::vector<double>& density);

    const Model& model_;
    SolverOptions options_;
    int threads_ = 1;
    ShapeClasses classes_;
    std::unique_ptr<ClassMatrices> stiffness_;
    std::unique_ptr<BoxEnergies> boxes_;
    std::vector<Eigen::MatrixXd> stress_; // stress from displacements at the middle, by class that is kept
    std::deque<Group> groups_;
};

} // namespace upright
