// The forces with which supports and symmetry planes hold a model in one case.
//
// In balance the residual r = K u - f of elements, joints and loads is met by couplings, bonds and what
// holds: r = sum lambda_e a_e over all equations a_e' u = value_e. Couplings and bonds do no work on the
// motions that they allow (u = T q), so T' r = sum lambda_e T' a_e over the equations that hold alone. Each
// lambda is the force of its equation. Where equations say the same twice (several held nodes of one rigid
// coupling) the least of all such sets of forces is taken; its resultants are the right ones whatever the
// set.
#pragma once

#include "model/model.hpp"

#include <Eigen/Core>

#include <memory>
#include <vector>

namespace upright {

class SupportForces {
  public:
    SupportForces(const Model& model, const ModelCase& c);
    ~SupportForces();
    SupportForces(const SupportForces&) = delete;
    SupportForces& operator=(const SupportForces&) = delete;

    struct Held {
        const Equation* equation = nullptr;  // of the model
        SupportId support = SupportId::None; // None: a symmetry plane
    };
    // In the order of the case's supports, symmetry last.
    const std::vector<Held>& held() const { return held_; }

    // The force of each equation, for a residual on every freedom of the model. An equation that repeats an
    // earlier one has none.
    Eigen::VectorXd of(const Eigen::VectorXd& residual) const;
    // The transpose: w on every freedom such that w' r = weights' of(r).
    Eigen::VectorXd field(const Eigen::VectorXd& weights) const;

  private:
    struct Block;
    Transform links_; // of couplings and bonds alone
    std::vector<Held> held_;
    std::vector<std::unique_ptr<Block>> blocks_;
};

} // namespace upright
