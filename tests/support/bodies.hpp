// The same question, a clamped body that is pulled, on every family of mesh: what holds for one must hold for
// all.
#pragma once

#include "support/study_text.hpp"

#include <algorithm>
#include <gtest/gtest.h>
#include <ostream>
#include <string>
#include <vector>

namespace upright::test {

struct Body {
    std::string name;
    std::string text;
    friend std::ostream& operator<<(std::ostream& out, const Body& body) { return out << body.name; }
};

// Of a test with one as its parameter.
inline std::string name_of(const testing::TestParamInfo<Body>& info) {
    std::string out = info.param.name;
    std::replace(out.begin(), out.end(), ' ', '_');
    return out;
}

namespace detail {

inline StudyText asked(StudyText text) {
    return text.response("stiffness", "compliance")
        .response("budget", "volume-fraction", "max = 0.4")
        .minimize("stiffness");
}

inline std::string block(const std::string& mesh) {
    return asked(StudyText()
                     .steel()
                     .region("body", "box = [[0, 0, 0], [8, 4, 4]]")
                     .surface("root", "facing = [-1, 0, 0]")
                     .surface("tip", "facing = [1, 0, 0]")
                     .support("clamp", "root", R"(["x", "y", "z"])")
                     .force("pull", "tip", "[0, 20, -100]")
                     .load_case("bend", R"(["clamp"])", "{ pull = 1 }"))
        .mesh(mesh);
}

// In two numbers: a plane model or a flat shell.
inline std::string sheet(const std::string& mesh, bool shell) {
    return asked(
               StudyText()
                   .steel()
                   .region("body", "box = [[0, 0], [8, 4]]")
                   .surface("root", "facing = [-1, 0]")
                   .surface("tip", "facing = [1, 0]")
                   .support("clamp", "root", shell ? R"(["x", "y", "z", "rx", "ry", "rz"])" : R"(["x", "y"])")
                   .force("pull", "tip", shell ? "[20, 10, -5]" : "[20, -100]")
                   .load_case("bend", R"(["clamp"])", "{ pull = 1 }"))
        .mesh(mesh);
}

inline std::string ring() {
    return asked(StudyText()
                     .steel()
                     .card("frame", "axle", "kind = \"cylindrical\"\norigin = [0, 0, 0]\naxis = [0, 0, 1]\n")
                     .region("body", "cylinder = { from = [0, 0, 0], to = [0, 0, 8], radius = 20 }")
                     .region("bore", "cylinder = { from = [0, 0, 0], to = [0, 0, 8], radius = 8 }", "void")
                     .card("surface", "root", "of = \"bore\"\n")
                     .card("surface", "tip",
                           "on_cylinder = { from = [0, 0, 0], to = [0, 0, 8], radius = 20 }\n"
                           "facing = [1, 0, 0]\n")
                     .support("clamp", "root", R"(["x", "y", "z"])")
                     .force("pull", "tip", "[0, 20, -100]")
                     .load_case("bend", R"(["clamp"])", "{ pull = 1 }"))
        .mesh("kind = \"polar\"\nframe = \"axle\"\nsize = 4\n");
}

} // namespace detail

inline std::vector<Body> bodies() {
    return {
        {"grid", detail::block("size = 1\n")},
        {"second order grid", detail::block("size = 2\norder = 2\n")},
        {"fitted", detail::block("kind = \"fitted\"\nsize = 2\n")},
        {"second order fitted", detail::block("kind = \"fitted\"\nsize = 4\norder = 2\n")},
        {"polar", detail::ring()},
        {"plane stress", detail::sheet("size = 0.5\nelement = \"plane-stress\"\nthickness = 2\n", false)},
        {"fitted plane",
         detail::sheet("kind = \"fitted\"\nsize = 0.7\nelement = \"plane-strain\"\nthickness = 2\n", false)},
        {"shell", detail::sheet("size = 0.5\nelement = \"shell\"\nthickness = 0.5\n", true)},
        {"fitted shell",
         detail::sheet("kind = \"fitted\"\nsize = 0.9\nelement = \"shell\"\nthickness = 0.5\n", true)}};
}

} // namespace upright::test
