// The block that the benches measure: clamped at one end, pulled down over the other.
#pragma once

#include "kinds/kinds.hpp"

#include <filesystem>
#include <fmt/format.h>
#include <fstream>
#include <unistd.h>

namespace upright::bench {

// A study from its text; settings as on the command line.
inline Study study_of(const std::string& text, const std::vector<std::string>& settings = {}) {
    const auto file =
        std::filesystem::temp_directory_path() / fmt::format("upright-bench-{}.toml", ::getpid());
    std::ofstream(file) << text;
    const Study study = load_study(file, settings);
    std::filesystem::remove(file);
    return study;
}

inline std::string cantilever(const std::string& formulation, double length, double side, double size) {
    return fmt::format(R"(units = ["mm", "N", "s"]
[[material]]
name = "steel"
E = 210000
nu = 0.3
density = 7.85e-9
[[region]]
name = "bar"
role = "design"
material = "steel"
box = [[0, 0, 0], [{0}, {1}, {1}]]
[[surface]]
name = "root"
of = "bar"
facing = [-1, 0, 0]
[[surface]]
name = "tip"
of = "bar"
facing = [1, 0, 0]
[[support]]
name = "clamp"
on = "root"
hold = ["x", "y", "z"]
[[load]]
name = "pull"
on = "tip"
force = [0, 0, -1]
[[load]]
name = "weight"
gravity = [0, 0, -9810]
[[case]]
name = "bend"
supports = "clamp"
loads = {{ pull = 1 }}
[[case]]
name = "sag"
supports = "clamp"
loads = {{ pull = 0.5, weight = 3 }}
[mesh]
size = {2}
formulation = "{3}"
)",
                       length, side, size, formulation);
}

} // namespace upright::bench
