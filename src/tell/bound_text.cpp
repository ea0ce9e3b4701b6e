#include "tell/bound_text.hpp"

#include <cmath>
#include <fmt/format.h>

namespace upright {

std::string limits_text(const std::optional<double>& min, const std::optional<double>& max,
                        const std::string& unit) {
    std::string out;
    const auto one = [&](const char* word, double limit) {
        out += fmt::format("{}{} {:.6g}{}{}", out.empty() ? "" : ", ", word, limit, unit.empty() ? "" : " ",
                           unit);
    };
    if (max) one("at most", *max);
    if (min) one("at least", *min);
    return out;
}

std::string standing_text(double excess) {
    const auto percent = [](double share) {
        return 100.0 * share < 99.5 ? fmt::format("{:.2g} %", 100.0 * share)
                                    : fmt::format("{:.0f} %", 100.0 * share);
    };
    constexpr double measurable = 1e6; // beyond it the bound is zero, of which there is no share
    if (excess > bound_tolerance) {
        if (excess >= measurable) return "broken";
        return excess < 10.0 ? "broken by " + percent(excess)
                             : fmt::format("broken by a factor of {:.3g}", 1.0 + excess);
    }
    if (excess >= -bound_tolerance) return "at the bound";
    return -excess < measurable ? "slack by " + percent(-excess) : std::string("slack");
}

} // namespace upright
