// One design made three times: as drawn, a little too thin and a little too thick, by three thresholds of the
// same filtered densities (Wang, Lazarov & Sigmund 2011). What the thin one carries and the thick one weighs
// leaves no member and no gap smaller than a size that the thresholds and the filter's radius give (Qian &
// Sigmund 2013; the relation here is their one for walls, solved for the threshold).
#pragma once

#include "study/study.hpp"

#include <vector>

namespace upright {

struct Thresholds {
    double thin = 0.5, thick = 0.5; // as drawn: 0.5
    bool three() const { return thin != 0.5 || thick != 0.5; }
};

// A design and, where a rule asks for them, its two neighbours; empty otherwise.
struct ThreeDesigns {
    std::vector<double> drawn, thin, thick; // physical density of every element
    // What is analysed.
    const std::vector<double>& analysed() const { return thin.empty() ? drawn : thin; }
};

// At a filter radius, for what [form] asks: `min_feature` strict, `min_slot`.
Thresholds thresholds_of(const FormCard& form, double filter_radius);

// The threshold at which a wall that just vanishes is as thick as `size` at 0.5, for 0 < size <= radius.
double threshold_for(double size, double filter_radius);

// How far a flat face moves between a threshold of 0.5 and another.
double face_shift(double threshold, double filter_radius);

} // namespace upright
