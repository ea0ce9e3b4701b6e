// Linear constraints u = T q + g, eliminated (never penalties): held directions, couplings, bonds, symmetry.
#pragma once

#include "base/error.hpp"

#include <Eigen/Core>

#include <algorithm>
#include <cstddef>
#include <cstdint>
#include <string>
#include <unordered_map>
#include <utility>
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

// What each displacement component is, of those that stay: u[i] = sum factor * q[freedom] + constant. Four
// bytes for each that is one by itself.
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

    std::size_t freedoms() const { return links_.size(); }
    std::size_t unknowns() const { return unknown_count_; }
    // The unknown that a freedom is, where it is one by itself; -1 where it is held or depends on others.
    std::int32_t unknown_of(std::size_t freedom) const { return std::max(links_[freedom], alone); }
    bool dependent(std::size_t freedom) const { return links_[freedom] < alone; }
    // Of a dependent freedom; empty terms: held at the constant. After finish() the terms name unknowns.
    const std::vector<Term>& terms(std::size_t freedom) const { return row(freedom).terms; }
    double constant(std::size_t freedom) const { return row(freedom).constant; }
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
    // Of a dependent freedom.
    const Row& row(std::size_t freedom) const {
        return rows_[static_cast<std::size_t>(first_row - links_[freedom])];
    }
    Row& row(std::size_t freedom) { return const_cast<Row&>(std::as_const(*this).row(freedom)); }

    static constexpr std::int32_t alone = -1, first_row = -2;
    // Of each freedom: its unknown once they are numbered, `alone` before that, or its row counted down from
    // `first_row`.
    std::vector<std::int32_t> links_;
    std::vector<Row> rows_;
    std::vector<std::size_t> all_dependent_; // freedoms, ascending
    // Until unknowns are numbered: 1 for displacements, 1 / length for rotations; and the dependent freedoms
    // whose row holds a freedom.
    std::vector<double> scale_;
    std::unordered_map<std::size_t, std::vector<std::size_t>> users_;
    std::size_t unknown_count_ = 0;
    bool moves_ = false;
};

} // namespace upright
