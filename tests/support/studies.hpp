// Small studies for tests, written as text so that the whole way from the file is exercised.
#pragma once

#include "kinds/kinds.hpp"
#include "model/model.hpp"
#include "support/folder.hpp"

#include <Eigen/Geometry>
#include <filesystem>
#include <fstream>
#include <gtest/gtest.h>
#include <string>

namespace upright::test {

inline Study study_from(const std::string& text, const std::vector<std::string>& settings = {}) {
    const TemporaryFolder folder;
    return load_study(folder.write("study.toml", text), settings);
}

// The message of the error that loading a study gives, without its folder; empty when there is none.
inline std::string error_of(const std::string& text, const std::vector<std::string>& settings = {}) {
    const TemporaryFolder folder;
    const auto file = folder.write("study.toml", text);
    try {
        build_model(load_study(file, settings));
    } catch (const Error& bad) {
        std::string message = bad.what();
        const auto at = message.find(folder.path().string() + "/");
        if (at != std::string::npos) message.erase(at, folder.path().string().size() + 1);
        return message;
    }
    return {};
}

inline const char* steel = R"(
[[material]]
name = "steel"
E = 210000
nu = 0.3
density = 7.85e-9
)";

// A block of 8 x 4 x 4 mm in cells of 1 mm, clamped at x = 0 and pulled down over the far end.
inline std::string block_study(const std::string& extra = {}, const std::string& mesh_extra = {}) {
    return std::string("units = [\"mm\", \"N\", \"s\"]\n") + steel + R"(
[[region]]
name = "block"
role = "design"
material = "steel"
box = [[0, 0, 0], [8, 4, 4]]

[[surface]]
name = "root"
of = "block"
facing = [-1, 0, 0]

[[surface]]
name = "tip"
of = "block"
facing = [1, 0, 0]

[[support]]
name = "clamp"
on = "root"
hold = ["x", "y", "z"]

[[load]]
name = "pull"
on = "tip"
force = [0, 0, -100]

[[case]]
name = "bend"
supports = ["clamp"]
loads = { pull = 1 }

[[response]]
name = "stiffness"
measure = "compliance"

[[response]]
name = "budget"
measure = "volume-fraction"
max = 0.4

[goal]
minimize = "stiffness"

[mesh]
size = 1
)" + mesh_extra +
           extra;
}

// A plane half beam; `mirrored` is the same problem seen from behind.
inline std::string half_beam(int nx, int ny, bool mirrored, const std::string& run = {}) {
    const std::string x0 = mirrored ? std::to_string(nx) : "0";
    const std::string x1 = mirrored ? "0" : std::to_string(nx);
    return std::string("units = [\"mm\", \"N\", \"s\"]\n[[material]]\nname = \"unit\"\nE = 1\nnu = "
                       "0.3\ndensity = 1\n") +
           "[[region]]\nname = \"beam\"\nrole = \"design\"\nmaterial = \"unit\"\nbox = [[0, 0], [" +
           std::to_string(nx) + ", " + std::to_string(ny) +
           "]]\n[[surface]]\nname = \"cut\"\nof = \"beam\"\nfacing = [" + (mirrored ? "1" : "-1") +
           ", 0]\n[[point]]\nname = \"top\"\nat = [" + x0 + ", " + std::to_string(ny) +
           "]\n[[point]]\nname = \"foot\"\nat = [" + x1 +
           ", 0]\n[[support]]\nname = \"mirror\"\non = \"cut\"\nhold = [\"x\"]\n[[support]]\nname = "
           "\"roller\"\non = \"foot\"\nhold = [\"y\"]\n"
           "[[load]]\nname = \"push\"\non = \"top\"\nforce = [0, -1]\n[[case]]\nname = \"bend\"\nsupports = "
           "[\"mirror\", \"roller\"]\nloads = { push = 1 }\n"
           "[mesh]\nsize = 1\nelement = \"plane-stress\"\nthickness = 1\nformulation = \"plain\"\n"
           "[[response]]\nname = \"stiffness\"\nmeasure = \"compliance\"\n[[response]]\nname = "
           "\"budget\"\nmeasure = \"volume-fraction\"\nmax = 0.5\n"
           "[goal]\nminimize = \"stiffness\"\n[run]\npenalty = 3\nfilter = 2.4\nsharpen = false\n" +
           run;
}

} // namespace upright::test
