// Small studies for tests, written as text so that the whole way from the file is exercised.
#pragma once

#include "kinds/kinds.hpp"
#include "model/model.hpp"
#include "support/folder.hpp"
#include "support/study_text.hpp"

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
    return StudyText()
        .steel()
        .region("block", "box = [[0, 0, 0], [8, 4, 4]]")
        .surface("root", "facing = [-1, 0, 0]")
        .surface("tip", "facing = [1, 0, 0]")
        .support("clamp", "root", R"(["x", "y", "z"])")
        .force("pull", "tip", "[0, 0, -100]")
        .load_case("bend", R"(["clamp"])", "{ pull = 1 }")
        .response("stiffness", "compliance")
        .response("budget", "volume-fraction", "max = 0.4")
        .minimize("stiffness")
        .mesh("size = 1\n" + mesh_extra)
        .add(extra);
}

// A plane half beam; `mirrored` is the same problem seen from behind.
inline std::string half_beam(int nx, int ny, bool mirrored, const std::string& run = {}) {
    const std::string wide = std::to_string(nx);
    const std::string high = std::to_string(ny);
    const std::string near = mirrored ? wide : "0";
    const std::string far = mirrored ? "0" : wide;
    return StudyText()
        .material("unit", "1", "0.3", "1")
        .region("beam", "box = [[0, 0], [" + wide + ", " + high + "]]")
        .surface("cut", std::string("facing = [") + (mirrored ? "1" : "-1") + ", 0]")
        .point("top", "[" + near + ", " + high + "]")
        .point("foot", "[" + far + ", 0]")
        .support("mirror", "cut", R"(["x"])")
        .support("roller", "foot", R"(["y"])")
        .force("push", "top", "[0, -1]")
        .load_case("bend", R"(["mirror", "roller"])", "{ push = 1 }")
        .mesh("size = 1\nelement = \"plane-stress\"\nthickness = 1\nformulation = \"plain\"")
        .response("stiffness", "compliance")
        .response("budget", "volume-fraction", "max = 0.5")
        .minimize("stiffness")
        .section("run", "penalty = 3\nfilter = 2.4\nsharpen = false\n" + run);
}

} // namespace upright::test
