// The hat filter on a grid of equal cells: one small table of weights, no matrix.
#pragma once

#include "model/model.hpp"

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
    std::vector<double> apply(const std::vector<double>& x) const;
    std::vector<double> transpose(const std::vector<double>& g) const;

  private:
    struct Tap {
        int dj = 0, dk = 0, reach = 0; // rows away; cells to either side
        std::size_t first = 0;         // weights of 0, 1, … reach cells away
    };
    // The weighted sum around every variable of values at variables.
    std::vector<double> sum(const std::vector<double>& values) const;

    struct Room {
        std::vector<double> plain, wide, sums; // cells; with what lies beyond the grid; results
    };

    CellGrid grid_;
    std::unique_ptr<Room> room_ = std::make_unique<Room>();
    std::array<int, 3> reach_{};
    std::array<std::size_t, 3> padded_{};
    std::array<std::vector<int>, 3> source_; // of each padded index along an axis; -1: nothing there
    std::vector<Tap> taps_;
    std::vector<double> weights_;
    std::vector<std::size_t> cell_of_; // of each variable
    bool in_order_ = false;            // variables stand in the order of cells
    std::vector<double> inverse_sum_;  // of the weights in reach, for each variable
};

} // namespace upright
