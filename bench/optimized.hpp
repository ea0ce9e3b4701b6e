// Studies whose optimum is published or can be judged, as text: for verification and for tests.
#pragma once

#include <fmt/format.h>
#include <string>

namespace upright::bench {

// An L of 100 mm with legs of 40 mm, hung up on top and loaded at the tip of its arm; its inner corner is
// sharp. `least_weight`: least mass under a bound on stress; else least compliance at that mass fraction.
inline std::string l_bracket(double size, bool least_weight, double mass_fraction = 0.3) {
    return fmt::format(R"(units = ["mm", "N", "s"]
[[material]]
name = "alloy"
E = 70000
nu = 0.3
density = 2.7e-9
yield = 240
[[region]]
name = "leg"
role = "design"
material = "alloy"
box = [[0, 0], [40, 100]]
[[region]]
name = "arm"
role = "design"
material = "alloy"
box = [[40, 0], [100, 40]]
[[region]]
name = "pad"
role = "keep"
material = "alloy"
box = [[94, 30], [100, 40]]
[[surface]]
name = "top"
of = "leg"
facing = [0, 1]
[[surface]]
name = "seat"
of = "pad"
facing = [0, 1]
[[support]]
name = "clamp"
on = "top"
hold = ["x", "y"]
[[load]]
name = "press"
on = "seat"
force = [0, -240]
[[case]]
name = "press"
supports = "clamp"
loads = {{ press = 1 }}
[mesh]
size = {}
element = "plane-stress"
thickness = 1
[[response]]
name = "weight"
measure = "mass-fraction"
{}
[[response]]
name = "strength"
measure = "stress"
of = ["leg", "arm"]
except = "seat"
{}
[[response]]
name = "work"
measure = "compliance"
[goal]
minimize = "{}"
[run]
iterations = 200
filter = {}
)",
                       size, least_weight ? std::string() : fmt::format("max = {}", mass_fraction),
                       least_weight ? "max = \"60% of yield\"" : "", least_weight ? "weight" : "work",
                       2.5 * size);
}

// Du & Olhoff 2007: a beam of 8 x 1 with half its material, its ends held at mid-height, E = 1e7, density 1;
// the first circular frequency is raised from 68.7 to 174.7 rad/s.
inline std::string hinged_beam(double size, int iterations) {
    return fmt::format(R"(units = ["m", "N", "s"]
[[material]]
name = "unit"
E = 1e7
nu = 0.3
density = 1
[[region]]
name = "beam"
role = "design"
material = "unit"
box = [[0, 0], [8, 1]]
[[point]]
name = "left"
at = [0, 0.5]
[[point]]
name = "right"
at = [8, 0.5]
[[support]]
name = "ends"
on = ["left", "right"]
hold = ["x", "y"]
[[case]]
name = "ring"
kind = "modal"
supports = "ends"
modes = 5
[mesh]
size = {}
element = "plane-stress"
thickness = 1
formulation = "plain"
[[response]]
name = "pitch"
measure = "frequency"
[[response]]
name = "budget"
measure = "volume-fraction"
max = 0.5
[goal]
maximize = "pitch"
[run]
iterations = {}
filter = {}
)",
                       size, iterations, 1.5 * size);
}

} // namespace upright::bench
