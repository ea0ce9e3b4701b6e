// The design as it is made: every design element solid or void, cut at a threshold of the densities, and
// analysed again. It is what decides whether bounds hold.
#pragma once

#include "base/checkpoint.hpp"
#include "optimize/problem.hpp"

#include <vector>

namespace upright {

struct BlackAndWhite {
    double threshold = 0.0;          // elements denser are solid; 0: there is none
    std::vector<double> density;     // of every element, 0 or 1
    std::vector<double> thin, thick; // the same of a design that is made three times, else empty
    std::vector<Reading> readings;   // one a column
    double goal = 0.0;               // of several columns of the goal the worst
    double most_broken = -1.0;       // the largest excess of any bound
    std::vector<double> in_void;     // of each static case the share of the strain energy that void bears
    bool feasible = false;           // every bound holds, and every case is carried
    // Whether solid material bears each case: not where a load or a support has come off.
    bool carries() const;
    // By what share the worst bound is broken, zero where all hold; 1e300 where a case is not carried.
    double fault() const;
    bool there() const { return threshold > 0.0; }
    ThreeDesigns designs() const { return {density, thin, thick}; }
};

// Of several columns of the goal the worst.
double goal_of(const Problem& problem, const std::vector<Column>& columns,
               const std::vector<Reading>& readings);

class BlackAndWhiteLook {
  public:
    // `measures` lends its analyses: its last one is then of the black-and-white design.
    BlackAndWhiteLook(const Model& model, const Problem& problem, DesignMeasures& measures);

    // The best threshold for a design: of those whose bounds on material hold the one with the best goal
    // where every bound holds, else the one whose worst bound is broken least. A handful of analyses.
    // A design that is made three times is judged as it is analysed: thin.
    BlackAndWhite best(const ThreeDesigns& designs) const;
    // Near one threshold: the lowest from 0.5 on whose bounds on material hold. One analysis.
    BlackAndWhite quick(const ThreeDesigns& designs, const MeasureAccuracy& accuracy) const;

  private:
    // In the gap of the densities that `threshold` lies in.
    double nearest_middle(const std::vector<double>& density, double threshold) const;
    void take_paths(BlackAndWhite& out) const;
    BlackAndWhite cut(const ThreeDesigns& designs, double threshold, const MeasureAccuracy& accuracy) const;
    void keep_better(BlackAndWhite& best, BlackAndWhite other) const;
    // Lowest and highest threshold at which bounds on material hold.
    std::array<double, 2> range(const std::vector<double>& density) const;
    double material(const std::vector<double>& weights, const std::vector<double>& density,
                    double threshold) const;
    // Thresholds from `low` to `high`, one in each gap between densities, ascending.
    std::vector<double> gaps(const std::vector<double>& density, double low, double high) const;

    const Model& model_;
    const Problem& problem_;
    DesignMeasures& measures_;
    std::vector<bool> design_;
    std::vector<const ModelResponse*> material_; // bounds on it
};

} // namespace upright
