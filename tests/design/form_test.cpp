#include "base/angles.hpp"
#include "design/chain.hpp"
#include "support/studies.hpp"

#include <cmath>
#include <gtest/gtest.h>
#include <random>

using namespace upright;
using test::block_study;
using test::study_from;

namespace {

std::vector<double> random_values(std::size_t n) {
    std::mt19937 random(3);
    std::vector<double> out(n);
    for (double& v : out) v = 0.05 + 0.9 * static_cast<double>(random()) / 4294967295.0;
    return out;
}

// The densities that random variables come to.
struct Field {
    Study study;
    Model model;
    DesignChain chain;
    std::vector<double> density;
    explicit Field(const Study& s, double radius = 1.6)
        : study(s), model(build_model(study)), chain(model, radius, form_rules(model.form)),
          density(chain.physical(random_values(chain.variables()), 3.0)) {}
    double at(const Vec3& p) const {
        double best = 1e300;
        std::size_t found = 0;
        for (std::size_t e = 0; e < density.size(); ++e)
            if (const double d = (model.mesh.centers[e] - p).norm(); d < best) {
                best = d;
                found = e;
            }
        EXPECT_LT(best, 1e-6);
        return density[found];
    }
};

std::string ring(const std::string& extra) {
    return std::string("units = [\"mm\", \"N\", \"s\"]\n") + test::steel + R"(
[[frame]]
name = "axle"
kind = "cylindrical"
origin = [0, 0, 0]
axis = [0, 0, 1]
[[region]]
name = "ring"
role = "design"
material = "steel"
cylinder = { from = [0, 0, 0], to = [0, 0, 4], radius = 20 }
[[region]]
name = "bore"
role = "void"
cylinder = { from = [0, 0, 0], to = [0, 0, 4], radius = 8 }
[mesh]
kind = "polar"
frame = "axle"
size = 3
)" + extra;
}

} // namespace

TEST(Form, MirroredDensitiesAreEqualToTheLastBit) {
    const Field field(study_from(block_study("[form]\nmirror = [\"y = 2\", \"z = 2\"]\n")));
    EXPECT_EQ(field.chain.variables(), 8U * 2 * 2);
    EXPECT_EQ(field.chain.form().alone(), 0U);
    for (std::size_t e = 0; e < field.density.size(); ++e) {
        Vec3 p = field.model.mesh.centers[e];
        p.y() = 4 - p.y();
        EXPECT_EQ(field.at(p), field.density[e]);
        p.z() = 4 - p.z();
        EXPECT_EQ(field.at(p), field.density[e]);
    }
}

TEST(Form, ColumnsAreTheSameAllAlongEvenAcrossGaps) {
    const Field field(study_from(block_study("[[region]]\nname = \"gap\"\nrole = \"void\"\nbox = [[3, 0, 0], "
                                             "[5, 2, 4]]\n[form]\nextrude = \"x\"\n")));
    EXPECT_EQ(field.chain.variables(), 16U);
    for (std::size_t e = 0; e < field.density.size(); ++e) {
        Vec3 p = field.model.mesh.centers[e];
        p.x() = 0.5;
        EXPECT_EQ(field.at(p), field.density[e]);
    }
}

TEST(Form, SectorsRepeatOnAPolarMesh) {
    // Five does not divide twelve: the mesh has to know.
    const Field field(study_from(ring("[form]\nsectors = { frame = \"axle\", count = 5 }\n")), 4.0);
    EXPECT_TRUE(field.chain.form().exact());
    EXPECT_EQ(field.chain.variables() * 5, field.model.mesh.elements());
    const double turn = 2 * pi / 5;
    for (std::size_t e = 0; e < field.density.size(); e += 3) {
        const Vec3 p = field.model.mesh.centers[e];
        const Vec3 q(std::cos(turn) * p.x() - std::sin(turn) * p.y(),
                     std::sin(turn) * p.x() + std::cos(turn) * p.y(), p.z());
        EXPECT_EQ(field.at(q), field.density[e]);
    }
}

TEST(Form, RulesCombine) {
    const Field field(
        study_from(
            ring("[form]\nsectors = { frame = \"axle\", count = 6 }\nmirror = \"x = 0\"\nextrude = \"z\"\n")),
        4.0);
    EXPECT_TRUE(field.chain.form().exact());
    for (std::size_t e = 0; e < field.density.size(); ++e) {
        Vec3 p = field.model.mesh.centers[e];
        p.x() = -p.x();
        EXPECT_EQ(field.at(p), field.density[e]);
    }
}

TEST(Form, SectorsAreMirroredInThemselves) {
    const Field field(
        study_from(ring("[form]\nsectors = { frame = \"axle\", count = 5, mirrored = true }\n")), 4.0);
    EXPECT_TRUE(field.chain.form().exact());
    EXPECT_EQ(field.chain.variables() * 10, field.model.mesh.elements());
    for (std::size_t e = 0; e < field.density.size(); e += 3) {
        // About the middle of the first sector, at half of its angle.
        const Vec3 p = field.model.mesh.centers[e];
        const double angle = 2.0 * pi / 5 - std::atan2(p.y(), p.x());
        const double r = std::hypot(p.x(), p.y());
        EXPECT_EQ(field.at(Vec3(r * std::cos(angle), r * std::sin(angle), p.z())), field.density[e]);
    }
}

TEST(Form, PatternsRepeatInRegionsOfOneSize) {
    const std::string webs =
        "[[region]]\nname = \"left\"\nrole = \"design\"\nmaterial = \"steel\"\nbox = [[0, 0, "
        "0], [3, 4, 4]]\n[[region]]\nname = \"right\"\nrole = \"design\"\nmaterial = "
        "\"steel\"\nbox = [[5, 0, 0], [8, 4, 4]]\n";
    for (const bool mirrored : {false, true}) {
        const Field field(study_from(block_study(webs +
                                                 "[form]\nrepeat = { regions = [\"left\", \"right\"], "
                                                 "mirrored = " +
                                                 (mirrored ? "true" : "false") + " }\n")));
        EXPECT_TRUE(field.chain.form().exact());
        EXPECT_EQ(field.chain.variables(), 5U * 16U);
        for (std::size_t e = 0; e < field.density.size(); ++e) {
            Vec3 p = field.model.mesh.centers[e];
            if (p.x() < 5.0) continue;
            p.x() = mirrored ? 8.0 - p.x() : p.x() - 5.0;
            EXPECT_EQ(field.at(p), field.density[e]);
        }
    }
    const auto refused = [&](const std::string& repeat, const std::string& why) {
        try {
            const Model model =
                build_model(study_from(block_study(webs + "[form]\nrepeat = " + repeat + "\n")));
            const DesignChain chain(model, 1.6, form_rules(model.form));
        } catch (const Error& e) {
            EXPECT_NE(std::string(e.what()).find(why), std::string::npos) << e.what();
            return;
        }
        ADD_FAILURE() << repeat;
    };
    refused("{ regions = [\"left\"] }", "repeats nothing");
    refused("{ regions = [\"left\", \"left\"] }", "stands twice");
    refused("{ regions = [\"left\", \"block\"] }", "is 3 x 4 x 4");
    refused("{ regions = [\"left\", \"wrong\"] }", "wrong");
}

TEST(Form, PullBackIsTheTransposeOfTheDerivative) {
    for (const char* rules :
         {"mirror = \"y = 2\"", "extrude = \"z\"", "mirror = [\"y = 2\", \"x = 4\"]\nextrude = \"z\""}) {
        const Study study = study_from(block_study(std::string("[form]\n") + rules + "\n"));
        const Model model = build_model(study);
        const DesignChain chain(model, 1.7, form_rules(model.form));
        const std::vector<double> x = random_values(chain.variables());
        const std::vector<double> g = random_values(model.mesh.elements());
        const std::vector<double> back = chain.pull_back(x, 4.0, g);
        ASSERT_EQ(back.size(), x.size());
        for (std::size_t v = 0; v < x.size(); v += 3) {
            const auto value = [&](double by) {
                std::vector<double> at = x;
                at[v] += by;
                const std::vector<double> density = chain.physical(at, 4.0);
                double sum = 0.0;
                for (std::size_t e = 0; e < g.size(); ++e) sum += g[e] * density[e];
                return sum;
            };
            EXPECT_NEAR(back[v], (value(1e-5) - value(-1e-5)) / 2e-5, 1e-7 * std::abs(back[v])) << rules;
        }
    }
}

TEST(Form, WhatHasNoImageStaysFree) {
    const Field field(study_from(block_study(
        "[[region]]\nname = \"gap\"\nrole = \"void\"\nbox = [[3, 0, 0], [5, 2, 2]]\n[form]\nmirror = "
        "\"y = 2\"\n")));
    EXPECT_TRUE(field.chain.form().exact());
    EXPECT_EQ(field.chain.form().alone(), 2U * 2 * 2);
}

// A fitted mesh is nowhere symmetric; elements follow the nearest image.
TEST(Form, AFittedMeshFollowsTheNearestImage) {
    const Field field(study_from(block_study("[form]\nmirror = \"y = 2\"\n"), {"mesh.kind=fitted"}), 2.0);
    EXPECT_FALSE(field.chain.form().exact());
    EXPECT_LT(field.chain.variables(), 0.65 * static_cast<double>(field.model.mesh.elements()));
    EXPECT_GT(field.chain.variables(), 0.35 * static_cast<double>(field.model.mesh.elements()));
}

TEST(Form, AHalfModelWithTheMirrorOfItsCutIsItself) {
    const Field field(
        study_from(block_study("[symmetry]\nplanes = [\"y = 2\"]\n[form]\nmirror = \"y = 2\"\n")));
    EXPECT_EQ(field.chain.variables(), field.model.mesh.elements());
}
