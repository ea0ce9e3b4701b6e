// Linear constraints u = T q + g, eliminated (never penalties): held directions, couplings, bonds, symmetry.
#pragma once

#include "base/error.hpp"

#include <Eigen/Core>

#include <cstddef>
#include <string>
#include <vector>

namespace upright {

// A share of one displacement component.
struct Term {
    std::size_t freedom = 0;
    double factor = 0.0;
};

// sum of factor * u[freedom] = value.
struct Equation {
    std::vector<Term> terms;
    double value = 0.0;
};

// What each displacement component is, of those that stay: u[i] = sum factor * q[freedom] + constant.
class Transform {
  public:
    // Every freedom on its own.
    explicit Transform(std::vector<double> scale_of_freedom);

    // Takes an equation away from the freedoms: its first term is expressed by the others where it can be,
    // else the largest one. Equations that say nothing new are left out. Throws Error (Input) where it
    // contradicts those before it; `who` names it.
    void add(const Equation& equation, const std::string& who, const Place& place = {});
    // Numbers what is left. To be called once, after the last equation.
    void finish();

    std::size_t freedoms() const { return rows_.size(); }
    std::size_t unknowns() const { return unknown_count_; }
    // The unknown that a freedom is, where it is one by itself; -1 where it is held or depends on others.
    std::int32_t unknown_of(std::size_t freedom) const { return unknown_of_[freedom]; }
    bool dependent(std::size_t freedom) const { return dependent_[freedom]; }
    // Of a dependent freedom; empty terms: held at the constant. After finish() the terms name unknowns.
    const std::vector<Term>& terms(std::size_t freedom) const { return rows_[freedom].terms; }
    double constant(std::size_t freedom) const { return rows_[freedom].constant; }
    bool moves() const { return moves_; } // some constant is not zero

    // u = T q (+ g), and T' f.
    Eigen::VectorXd expand(const Eigen::Ref<const Eigen::VectorXd>& q, bool with_constant) const;
    void expand(const Eigen::Ref<const Eigen::VectorXd>& q, bool with_constant, Eigen::VectorXd& out) const;
    Eigen::VectorXd gather(const Eigen::VectorXd& f) const;

  private:
    struct Row {
        std::vector<Term> terms;
        double constant = 0.0;
    };
    std::vector<double> scale_; // 1 for displacements, 1 / length for rotations
    std::vector<bool> dependent_;
    std::vector<Row> rows_;
    std::vector<std::vector<std::size_t>> users_; // dependent freedoms whose row holds a freedom
    std::vector<std::int32_t> unknown_of_;
    std::vector<std::size_t> all_dependent_; // freedoms, ascending
    std::size_t unknown_count_ = 0;
    bool moves_ = false;
};

} // namespace upright
