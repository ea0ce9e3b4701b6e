// The block that the benches measure: clamped at one end, pulled down over the other.
#pragma once

#include "kinds/kinds.hpp"
#include "support/study_text.hpp"

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
    return test::StudyText()
        .steel()
        .region("bar", fmt::format("box = [[0, 0, 0], [{0}, {1}, {1}]]", length, side))
        .surface("root", "facing = [-1, 0, 0]")
        .surface("tip", "facing = [1, 0, 0]")
        .support("clamp", "root", R"(["x", "y", "z"])")
        .force("pull", "tip", "[0, 0, -1]")
        .card("load", "weight", "gravity = [0, 0, -9810]")
        .load_case("bend", "\"clamp\"", "{ pull = 1 }")
        .load_case("sag", "\"clamp\"", "{ pull = 0.5, weight = 3 }")
        .mesh(fmt::format("size = {}\nformulation = \"{}\"", size, formulation));
}

} // namespace upright::bench
