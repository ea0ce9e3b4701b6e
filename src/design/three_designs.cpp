#include "design/three_designs.hpp"

#include <algorithm>
#include <cmath>

namespace upright {

namespace {

// Integral of the hat of radius 1 from its middle to t.
double half_hat(double t) {
    const double s = std::clamp(std::abs(t), 0.0, 1.0);
    return std::copysign(s - 0.5 * s * s, t);
}

// A wall of variables 2 a thick, filtered, at t from its middle.
double filtered_wall(double a, double t) {
    return half_hat(t + a) - half_hat(t - a);
}

} // namespace

double threshold_for(double size, double filter_radius) {
    const double t = 0.5 * std::clamp(size / filter_radius, 0.0, 1.0);
    // The wall whose filtered density is 0.5 at t grows with t.
    double low = 0.0;
    double high = 1.0;
    for (int i = 0; i < 60; ++i) {
        const double a = 0.5 * (low + high);
        (filtered_wall(a, t) < 0.5 ? low : high) = a;
    }
    return filtered_wall(0.5 * (low + high), 0.0);
}

double face_shift(double threshold, double filter_radius) {
    const double beyond = std::abs(threshold - 0.5);
    return filter_radius * (1.0 - std::sqrt(std::max(0.0, 1.0 - 2.0 * beyond)));
}

Thresholds thresholds_of(const FormCard& form, double filter_radius) {
    Thresholds out;
    if (form.min_feature && form.strict) out.thin = threshold_for(*form.min_feature, filter_radius);
    const std::optional<double> slot = form.min_slot ? form.min_slot
                                       : form.strict ? form.min_feature
                                                     : std::nullopt;
    if (slot) out.thick = 1.0 - threshold_for(*slot, filter_radius);
    return out;
}

} // namespace upright
