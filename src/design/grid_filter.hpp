// The hat filter on a grid of equal cells: one small table of weights, no matrix.
#pragma once

#include "model/model.hpp"
#include "solve/strip.hpp"

#include <array>
#include <memory>
#include <vector>

namespace upright {

// Not for several threads at once: apply() and transpose() share their working room.
class GridFilter {
  public:
    // `variable_of`: for each element its variable, or -1. Weights as those of DensityFilter: beyond a
    // symmetry plane the average runs over the mirrored cells.
    GridFilter(const Model& model, const std::vector<std::int32_t>& variable_of, double radius);
    void apply(const std::vector<double>& x, std::vector<double>& out) const;
    void transpose(const std::vector<double>& g, std::vector<double>& out) const;

  private:
    // Rows of cells that weigh alike: their distances in memory, weights of 0, 1, … cells to either side.
    struct Tap {
        std::vector<double> weights;
        std::vector<std::ptrdiff_t> away;
    };
    // The weighted sum around every variable of values at variables, which are multiplied by `before` first;
    // multiplied by `after` (where those are given).
    void sum(const std::vector<double>& values, const double* before, const double* after,
             std::vector<double>& out) const;

    // The variables of a row of cells: their numbers are by_cell_[first..last), or first..last where that is
    // empty.
    struct Span {
        std::size_t first = 0, last = 0;
    };
    Span variables_of(std::size_t row) const { return {row_start_[row], row_start_[row + 1]}; }
    std::size_t variable(std::size_t at) const { return by_cell_.empty() ? at : by_cell_[at]; }

    CellGrid grid_;
    // Values of all cells with what lies beyond the grid: room that is used again.
    std::unique_ptr<Strip<double>> wide_ = std::make_unique<Strip<double>>();
    std::array<int, 3> reach_{};
    std::array<std::size_t, 3> padded_{};
    std::size_t row_ = 0;                    // places of a padded row
    std::array<std::vector<int>, 3> source_; // of each padded index along an axis; -1: nothing there
    std::vector<Tap> taps_;
    std::vector<std::uint32_t> cells_;     // that are variables, ascending
    std::vector<std::uint32_t> by_cell_;   // the variable of each of them; empty: they count alike
    std::vector<std::uint32_t> row_start_; // where each row of cells begins among them, and the end
    std::vector<double> inverse_sum_;      // of the weights in reach, for each variable
};

} // namespace upright
