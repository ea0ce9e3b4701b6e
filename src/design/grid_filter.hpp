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

    struct Room {
        std::vector<double> plain, sums; // cells; results
        Strip<double> wide;              // with what lies beyond the grid
    };

    CellGrid grid_;
    std::unique_ptr<Room> room_ = std::make_unique<Room>();
    std::array<int, 3> reach_{};
    std::array<std::size_t, 3> padded_{};
    std::size_t row_ = 0;                    // places of a padded row
    std::array<std::vector<int>, 3> source_; // of each padded index along an axis; -1: nothing there
    std::vector<Tap> taps_;
    std::vector<std::size_t> cell_of_; // of each variable
    bool in_order_ = false;            // variables stand in the order of cells
    std::vector<double> inverse_sum_;  // of the weights in reach, for each variable
};

} // namespace upright
