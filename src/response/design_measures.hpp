// Everything that a study measures of a design: the values, and smooth functions of the densities with their
// gradients for an optimiser.
#pragma once

#include "response/design_state.hpp"
#include "response/response.hpp"
#include "response/stress_share.hpp"

#include <memory>
#include <string>
#include <vector>

namespace upright {

class DesignMeasures {
  public:
    // Throws Error (Input) where a measure finds nothing to measure.
    explicit DesignMeasures(StaticAnalysis& statics);

    const std::vector<Column>& columns() const { return columns_; }

    // Analyses a design in every case. Throws Error (Numerics).
    void analyse(const ThreeDesigns& designs, double penalty, const MeasureAccuracy& accuracy) {
        state_.analyse(designs, penalty, accuracy);
    }
    void analyse(const std::vector<double>& density, double penalty, const MeasureAccuracy& accuracy) {
        state_.analyse(density, penalty, accuracy);
    }
    // Of the last analysis.
    std::vector<Reading> readings() const;
    // Smooth functions of the columns marked, of the last analysis. With `adapt` the corrections of
    // aggregates move towards what was found (Le, Norato, Bruns, Ha & Tortorelli 2010): once an iteration.
    std::vector<Smooth> smooth(const std::vector<bool>& wanted, const SmoothWish& wish);

    // Around an analysis of the black-and-white form of the design analysed last (Measurement::before_made).
    void before_made();
    void after_made();

    const DesignState& state() const { return state_; }
    std::vector<std::string> take_notes() { return state_.take_notes(); }

    // What goes on from analysis to analysis, for checkpoints: corrections, followed shapes, warm starts.
    void walk(const Walk& w);

  private:
    ColumnAt at(std::size_t k) const;

    std::vector<Column> columns_;
    std::vector<std::unique_ptr<Measurement>> measurements_; // of each response
    DesignState state_;
    mutable Memory memory_; // of the measurements
};

} // namespace upright
