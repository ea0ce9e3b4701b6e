#include "base/angles.hpp"
#include "design/chain.hpp"
#include "design/form.hpp"
#include "support/studies.hpp"

#include <cmath>
#include <gtest/gtest.h>
#include <random>
#include <set>

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
            if (const double d = (model.mesh.center(e) - p).norm(); d < best) {
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
        Vec3 p = field.model.mesh.center(e);
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
        Vec3 p = field.model.mesh.center(e);
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
        const Vec3 p = field.model.mesh.center(e);
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
        Vec3 p = field.model.mesh.center(e);
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
        const Vec3 p = field.model.mesh.center(e);
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
            Vec3 p = field.model.mesh.center(e);
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

TEST(Form, ObliqueMirrorsThatTheMeshHasAreExact) {
    const Field field(
        study_from(block_study("[form]\nmirror = { point = [4, 0, 2], normal = [-1, 0, 1] }\n")));
    // The plane x - 4 = z - 2 through a block of 8 x 4 x 4 in unit cells.
    std::size_t seen = 0;
    for (std::size_t e = 0; e < field.density.size(); ++e) {
        const Vec3& p = field.model.mesh.center(e);
        const Vec3 image(p.z() + 2.0, p.y(), p.x() - 2.0);
        if (image.z() < 0.0 || image.z() > 4.0) continue;
        EXPECT_EQ(field.density[e], field.at(image));
        ++seen;
    }
    EXPECT_EQ(seen, 64U);
}

TEST(Form, ObliqueMirrorsThatTheMeshHasNotAreInterpolated) {
    for (const char* mesh : {"size = 0.5", "kind = \"fitted\"\nsize = 1.1"}) {
        std::string text = block_study("[form]\nmirror = { point = [4, 2, 2], normal = [1, 0.4, 0] }\n");
        const auto at = text.find("size = 1");
        ASSERT_NE(at, std::string::npos) << text;
        text.replace(at, 8, mesh);
        const Study study = study_from(text);
        const Model model = build_model(study);
        const DesignChain chain(model, 1.6, form_rules(model.form));
        // A smooth design: waves through the block.
        std::vector<double> smooth(model.mesh.elements());
        for (std::size_t e = 0; e < smooth.size(); ++e) {
            const Vec3& p = model.mesh.center(e);
            smooth[e] = 0.5 + 0.4 * std::sin(0.7 * p.x() + 0.5 * p.y()) * std::cos(0.4 * p.z());
        }
        const std::vector<double> x = chain.variables_of(smooth);
        const std::vector<double> density = chain.physical(x, 0.0);
        const Vec3 normal = Vec3(1, 0.4, 0).normalized();
        std::size_t seen = 0;
        double most = 0.0;
        for (std::size_t e = 0; e < density.size(); ++e) {
            const Vec3& p = model.mesh.center(e);
            const double before = normal.dot(p - Vec3(4, 2, 2));
            const Vec3 image = p - 2.0 * before * normal;
            if (before > -1e-9) continue;
            // The nearest element before the plane.
            double best = 1e300;
            std::size_t other = 0;
            for (std::size_t k = 0; k < density.size(); ++k)
                if (const double d = (model.mesh.center(k) - image).norm(); d < best) {
                    best = d;
                    other = k;
                }
            if (best > 0.5 * model.mesh.size) continue; // beyond the block
            most = std::max(most, std::abs(density[e] - density[other]));
            ++seen;
        }
        EXPECT_GT(seen, 30U) << mesh;
        EXPECT_LT(most, 0.12) << mesh; // half a cell of waves
        // Its transpose.
        std::vector<double> gradient(density.size());
        std::vector<double> along(x.size());
        for (std::size_t e = 0; e < gradient.size(); ++e)
            gradient[e] = std::cos(1.3 * static_cast<double>(e));
        for (std::size_t i = 0; i < along.size(); ++i) along[i] = std::sin(2.1 * static_cast<double>(i));
        const std::vector<double> pulled = chain.pull_back(x, 2.0, gradient);
        const auto value = [&](double h) {
            std::vector<double> moved = x;
            for (std::size_t i = 0; i < moved.size(); ++i) moved[i] += h * along[i];
            const std::vector<double> d = chain.physical(moved, 2.0);
            double out = 0.0;
            for (std::size_t e = 0; e < d.size(); ++e) out += d[e] * gradient[e];
            return out;
        };
        double slope = 0.0;
        for (std::size_t i = 0; i < x.size(); ++i) slope += pulled[i] * along[i];
        const double difference = (value(1e-5) - value(-1e-5)) / 2e-5;
        EXPECT_NEAR(slope, difference, 1e-6 * std::max(1.0, std::abs(difference))) << mesh;
    }
}

TEST(Form, ImagesAndCopiesOfPatterns) {
    const Model model =
        build_model(study_from(ring("[form]\nsectors = { frame = \"axle\", count = 5, mirrored = "
                                    "true }\n")));
    const FormRules rules = form_rules(model.form);
    const auto images = pattern_images(model, rules);
    ASSERT_EQ(images.size(), 2U);
    const Vec3 p(15.0, 1.0, 2.0);
    const Vec3 turned = *images[0].at(p);
    EXPECT_NEAR(turned.norm(), p.norm(), 1e-12);
    EXPECT_NEAR(std::atan2(turned.y(), turned.x()) - std::atan2(p.y(), p.x()), 2.0 * pi / 5.0, 1e-12);
    EXPECT_NEAR((*images[1].at(p) - Vec3(15.0, -1.0, 2.0)).norm(), 0.0, 1e-12);
    // Ten copies: five sectors and their halves.
    std::set<int> seen;
    for (std::size_t e = 0; e < model.mesh.elements(); ++e)
        seen.insert(pattern_copy(model, rules, model.mesh.center(e), model.mesh.region[e]));
    EXPECT_EQ(seen.size(), 10U);
    EXPECT_EQ(pattern_copy(model, rules, p, RegionId(0)), 0);
}
