// Dimensions in the base of an analyst: length, force, time, temperature and plane angle.
#pragma once

#include <string>

namespace upright {

// Exponents of the base quantities. Mass is force * time^2 / length.
struct Dimension {
    int length = 0;
    int force = 0;
    int time = 0;
    int temperature = 0;
    int angle = 0;

    friend bool operator==(const Dimension& a, const Dimension& b) {
        return a.length == b.length && a.force == b.force && a.time == b.time &&
               a.temperature == b.temperature && a.angle == b.angle;
    }
    friend bool operator!=(const Dimension& a, const Dimension& b) { return !(a == b); }
};

namespace dimension {
inline constexpr Dimension none{};
inline constexpr Dimension length{1, 0, 0, 0, 0};
inline constexpr Dimension area{2, 0, 0, 0, 0};
inline constexpr Dimension volume{3, 0, 0, 0, 0};
inline constexpr Dimension force{0, 1, 0, 0, 0};
inline constexpr Dimension moment{1, 1, 0, 0, 0}; // also energy and compliance
inline constexpr Dimension stress{-2, 1, 0, 0, 0};
inline constexpr Dimension mass{-1, 1, 2, 0, 0};
inline constexpr Dimension density{-4, 1, 2, 0, 0};
inline constexpr Dimension time{0, 0, 1, 0, 0};
inline constexpr Dimension frequency{0, 0, -1, 0, 0};
inline constexpr Dimension velocity{1, 0, -1, 0, 0};
inline constexpr Dimension acceleration{1, 0, -2, 0, 0};
inline constexpr Dimension temperature{0, 0, 0, 1, 0};
inline constexpr Dimension expansion{0, 0, 0, -1, 0};
inline constexpr Dimension stiffness{-1, 1, 0, 0, 0};
inline constexpr Dimension angle{0, 0, 0, 0, 1};
} // namespace dimension

// The base units of a study. `*_si` is the size of the unit in SI (m, N, s).
struct UnitSystem {
    std::string length = "mm";
    std::string force = "N";
    std::string time = "s";
    double length_si = 1e-3;
    double force_si = 1.0;
    double time_si = 1.0;

    // One unit of dimension `d`, in SI. Angles are in degrees, temperatures in K.
    double si(const Dimension& d) const;
    // The unit's text for people: "mm", "MPa", "t", "N·mm".
    std::string text(const Dimension& d) const;
    // A mass with its unit, and in pounds where that is what people weigh in (lengths in in or ft), in
    // kilograms where the coherent unit is another: "0.0123 t (12.3 kg)".
    std::string mass_text(double value, int digits = 6) const;
};

// "a length", "a force", … or "a quantity in mm2/s" where it has no name.
std::string describe(const Dimension& d, const UnitSystem& units);

} // namespace upright
