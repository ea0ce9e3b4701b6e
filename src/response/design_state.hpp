// A design of a run as measures see it: densities, what they come to, the answers of every case.
#pragma once

#include "base/checkpoint.hpp"
#include "response/measure.hpp"

#include <optional>
#include <vector>

namespace upright {

struct MeasureAccuracy {
    Accuracy statics;
    ModalAccuracy modals;
};

class DesignState : public State {
  public:
    // `modal_wanted`: the modal cases that some response looks at; others are not solved. `stress`: some
    // response reads it.
    DesignState(StaticAnalysis& statics, const std::vector<bool>& modal_wanted, bool stress);
    // Neither: geometric stiffness points at displacements.
    DesignState(const DesignState&) = delete;
    DesignState& operator=(const DesignState&) = delete;

    // Analyses a design in every case. Throws Error (Numerics).
    void analyse(const ThreeDesigns& designs, double penalty, const MeasureAccuracy& accuracy);
    void analyse(const std::vector<double>& density, double penalty, const MeasureAccuracy& accuracy);

    const Model& model() const override { return model_; }
    const std::vector<double>* density() const override { return &density_; }
    const std::vector<double>* analysed() const override { return thin_.empty() ? &density_ : &thin_; }
    // nullptr where the design is made once.
    const std::vector<double>* thick() const { return thick_.empty() ? nullptr : &thick_; }
    bool has_case(CaseId c) const override { return index(c) < cases_.size(); }
    bool has_modal_case(ModalCaseId c) const override { return index(c) < modals_.size(); }
    const Eigen::VectorXd& displacement(CaseId c) const override { return cases_[index(c)].displacement; }
    double compliance(CaseId c) const override { return cases_[index(c)].compliance; }
    const std::vector<double>& von_mises(CaseId c) const override { return von_mises_[index(c)]; }
    const BucklingResult& buckling(CaseId c) const override { return buckling_[index(c)]; }
    const ModalResult& modes(ModalCaseId c) const override { return modals_[index(c)]; }
    Eigen::VectorXd mass_times(ModalCaseId c, const Eigen::VectorXd& shape) const override;
    Vec3 support_force(CaseId c, const std::string& support,
                       const std::array<Eigen::VectorXd, 3>& fields) const override;
    bool may_lack_modes() const override { return false; }

    const StaticAnalysis& statics() const { return statics_; }
    const ModalAnalysis& modal() const { return *modal_; }
    const std::vector<CaseResult>& cases() const { return cases_; }
    const std::vector<ModalResult>& modals() const { return modals_; }
    const std::vector<double>& stiffness() const { return stiffness_; }
    const std::vector<double>& slope() const { return slope_; }               // of stiffness by density
    const std::vector<double>& stress_slope() const { return stress_slope_; } // in geometric stiffness
    const GeometricStiffness& geometric(CaseId c) const { return *geometric_[index(c)]; }
    const std::vector<double>& mass_slope() const { return mass_slope_; }
    double gray() const { return gray_; } // of the design elements
    double buckling_seconds() const { return buckling_seconds_; }
    double modal_seconds() const { return modal_seconds_; }
    double adjoint_seconds() const { return adjoint_seconds_; }

    // Adds weight times the gradient of one case's compliance. Its adjoint v is u itself, or u without the
    // motions that supports enforce: dC/drho = (u + v)' df/drho - v' dK/drho u.
    void add_compliance(CaseId c, double weight, std::vector<double>& gradient) const;
    // Solves the adjoints of several functions together and completes their gradients.
    void solve_adjoints(std::vector<Pending>& pending);

    std::vector<std::string> take_notes();
    // What the solvers' next start needs.
    void walk(const Walk& w);

  private:
    void look_for_buckling(double penalty);

    const Model& model_;
    StaticAnalysis& statics_;
    std::optional<ModalAnalysis> modal_;
    std::vector<bool> modal_wanted_;
    bool stress_ = false;
    std::vector<bool> design_;
    std::vector<double> density_, thin_, thick_, stiffness_, slope_, mass_, mass_slope_;
    mutable std::vector<double> energy_; // room
    double gray_ = 0.0;
    Accuracy accuracy_;
    std::vector<CaseResult> cases_;
    std::vector<int> buckling_wanted_;
    std::vector<double> stress_share_, stress_slope_;
    std::vector<std::unique_ptr<GeometricStiffness>> geometric_; // by case; nullptr where not wanted
    std::vector<BucklingResult> buckling_;
    std::vector<ModalResult> modals_;            // without modes where no response looks
    std::vector<std::vector<double>> von_mises_; // by case, where some stress is measured
    double buckling_seconds_ = 0.0, modal_seconds_ = 0.0, adjoint_seconds_ = 0.0;
    std::vector<std::string> notes_;
};

} // namespace upright
