// Draw and overhang: what they do to any densities, their transposes, and what they refuse.
#include "design/chain.hpp"
#include "design/making_rule.hpp"
#include "optimize/gradient_check.hpp"
#include "support/silent.hpp"
#include "support/studies.hpp"

#include <gtest/gtest.h>
#include <random>

using namespace upright;
using test::block_study;
using test::Silent;
using test::study_from;

namespace {

Study study_of(const std::string& form, const std::string& more = {}, const std::string& size = "1") {
    return study_from(block_study(more + "[form]\n" + form), {"mesh.size=" + size});
}

std::vector<double> random_design(const DesignChain& chain, unsigned seed) {
    std::vector<double> x(chain.variables());
    std::mt19937 random(seed);
    for (double& v : x) v = static_cast<double>(random() % 1000) / 1000.0;
    return x;
}

// Of a grid: the element a step away, or -1.
long beside(const Model& model, std::size_t e, const Vec3& step) {
    for (std::size_t o = 0; o < model.mesh.elements(); ++o)
        if ((model.mesh.center(o) - model.mesh.center(e) - step).norm() < 1e-6 * model.mesh.size)
            return static_cast<long>(o);
    return -1;
}

const char* head =
    "[[region]]\nname = \"head\"\nrole = \"keep\"\nmaterial = \"steel\"\nbox = [[6, 1, 2], [8, 3, 3]]\n";

} // namespace

// Whatever the variables: density never grows away from the base, in no column.
TEST(Draw, NoDensitiesMakeAnUndercut) {
    for (const char* form : {"draw = { along = [0, 0, 1] }\n", "draw = { along = [0, 0, -1] }\n",
                             "draw = { along = [0, 1, 0] }\n"})
        for (const char* kept : {"", head}) {
            const Study study = study_of(form, kept);
            const Model model = build_model(study);
            const DesignChain chain(model, 1.4, form_rules(model.form));
            const Vec3 along = model.form.draw->along;
            for (const double sharpness : {0.0, 32.0}) {
                const std::vector<double> density = chain.physical(random_design(chain, 3), sharpness);
                std::size_t seen = 0;
                for (std::size_t e = 0; e < density.size(); ++e) {
                    const long above = beside(model, e, along);
                    if (above < 0) continue;
                    ++seen;
                    EXPECT_LE(density[static_cast<std::size_t>(above)], density[e] + 1e-12)
                        << form << model.mesh.center(e).transpose();
                }
                EXPECT_GT(seen, 50U);
            }
        }
}

TEST(Draw, TwoDiesPartWhereItIsSaid) {
    const std::pair<const char*, double> partings[] = {
        {"", 2.0},
        {", parting = \"middle\"", 2.0},
        {", parting = { point = [0, 0, 1], normal = [0, 0, -1] }", 1.0}};
    for (const auto& [words, at] : partings) {
        const Study study =
            study_of(std::string("draw = { along = [0, 0, 1], dies = 2") + words + " }\n", head);
        const Model model = build_model(study);
        EXPECT_NEAR(draw_parting(model, model.form), at, 0.11) << words;
        const DesignChain chain(model, 1.4, form_rules(model.form));
        const std::vector<double> density = chain.physical(random_design(chain, 5), 16.0);
        const double parting = draw_parting(model, model.form);
        for (std::size_t e = 0; e < density.size(); ++e) {
            const double z = model.mesh.center(e).z();
            const long away = beside(model, e, z > parting ? Vec3(0, 0, 1) : Vec3(0, 0, -1));
            if (away >= 0) EXPECT_LE(density[static_cast<std::size_t>(away)], density[e] + 1e-12) << words;
        }
    }
}

// Whatever the variables, along the draw no element is less dense than one to either side of it.
TEST(Draw, WithAFoundPartingEveryColumnHasOneInterval) {
    for (const char* along : {"[0, 0, 1]", "[0, 1, 0]"})
        for (const char* kept : {"", head}) {
            const Study study =
                study_of(std::string("draw = { along = ") + along + ", dies = 2, parting = \"found\" }\n",
                         kept, "0.5");
            const Model model = build_model(study);
            const DesignChain chain(model, 0.6, form_rules(model.form));
            const Vec3 step = 0.5 * model.form.draw->along;
            for (const double sharpness : {0.0, 32.0}) {
                const std::vector<double> density = chain.physical(random_design(chain, 11), sharpness);
                std::size_t columns = 0;
                for (std::size_t e = 0; e < density.size(); ++e) {
                    if (beside(model, e, -step) >= 0) continue;
                    ++columns;
                    std::vector<double> up;
                    for (long at = static_cast<long>(e); at >= 0;
                         at = beside(model, static_cast<std::size_t>(at), step))
                        up.push_back(density[static_cast<std::size_t>(at)]);
                    const auto top = std::max_element(up.begin(), up.end());
                    EXPECT_TRUE(std::is_sorted(up.begin(), top + 1)) << along << kept;
                    EXPECT_TRUE(std::is_sorted(top, up.end(), std::greater<>())) << along << kept;
                }
                EXPECT_EQ(columns, 16U * 8U) << along;
            }
        }
}

// A design that dies can leave already stays what it is.
TEST(Draw, WithAFoundPartingWhatIsOneIntervalStays) {
    const Study study = study_of("draw = { along = [0, 0, 1], dies = 2, parting = \"found\" }\n", {}, "0.5");
    const Model model = build_model(study);
    const DesignChain chain(model, 0.1, form_rules(model.form)); // no neighbour in reach
    ASSERT_EQ(chain.variables(), model.mesh.elements());
    std::vector<double> x(chain.variables());
    const auto wanted = [&](std::size_t e) {
        const Vec3& p = model.mesh.center(e);
        const double from = 0.5 * static_cast<int>(p.x() * 0.6); // 0 to 2, by a cell at most
        return p.z() > from && p.z() < std::min(4.0, from + 2.0 + 0.5 * static_cast<int>(p.y()));
    };
    for (std::size_t e = 0; e < x.size(); ++e) x[e] = wanted(e) ? 1.0 : 0.0;
    const std::vector<double> density = chain.physical(x, 0.0);
    std::size_t wrong = 0;
    for (std::size_t e = 0; e < x.size(); ++e) wrong += (density[e] > 0.5) == wanted(e) ? 0 : 1;
    EXPECT_EQ(wrong, 0U);
}

TEST(Draw, WithAFoundPartingAWallStandsInEveryColumn) {
    const Study study = study_of(
        "draw = { along = [0, 0, 1], dies = 2, parting = \"found\", through = \"none\", wall = 1.5 }\n", {},
        "0.5");
    const Model model = build_model(study);
    const DesignChain chain(model, 0.6, form_rules(model.form));
    std::vector<double> x = random_design(chain, 2);
    for (std::size_t v = 0; v < x.size(); ++v)
        if (model.mesh.center(v).x() < 4.0) x[v] = 0.0;
    const std::vector<double> density = chain.physical(x, 32.0);
    for (std::size_t e = 0; e < density.size(); ++e) {
        if (beside(model, e, Vec3(0, 0, -0.5)) >= 0) continue;
        int solid = 0;
        for (long at = static_cast<long>(e); at >= 0;
             at = beside(model, static_cast<std::size_t>(at), Vec3(0, 0, 0.5)))
            solid += density[static_cast<std::size_t>(at)] > 0.5 ? 1 : 0;
        EXPECT_GE(solid, 2) << model.mesh.center(e).transpose();
        if (model.mesh.center(e).x() < 3.0) EXPECT_LE(solid, 3);
    }
}

TEST(Draw, WithoutHolesAWallStands) {
    const Study study = study_of("draw = { along = [0, 0, 1], through = \"none\", wall = 1 }\n");
    const Model model = build_model(study);
    const DesignChain chain(model, 1.4, form_rules(model.form));
    const std::vector<double> density = chain.physical(std::vector<double>(chain.variables(), 0.0), 8.0);
    for (std::size_t e = 0; e < density.size(); ++e)
        EXPECT_NEAR(density[e], model.mesh.center(e).z() < 1.0 ? 1.0 : 0.0, 0.03);
}

// A slab of 20 x 4 cells beside a kept column, above void: layer k reaches k + 1 cells out from the column.
TEST(Overhang, WhatCouldNeverBeThereIsDoubted) {
    const auto doubt = [](const std::string& under, const std::string& rule) {
        const Model model =
            build_model(test::study_from(test::StudyText()
                                             .steel()
                                             .region("column", "box = [[-2, 0, -2], [0, 3, 4]]", "keep")
                                             .region("slab", "box = [[0, 0, 0], [20, 3, 4]]")
                                             .region("under", "box = [[0, 0, -2], [20, 3, 0]]", under)
                                             .mesh("size = 1")
                                             .add("[form]\noverhang = { up = [0, 0, 1]" + rule + " }\n")));
        return form_rules(model.form).asked.at(0)->doubt(model, model.form);
    };
    const std::string told = doubt("void", "");
    EXPECT_NE(told.find("87.5 %"), std::string::npos) << told;
    EXPECT_NE(told.find("12.5 %"), std::string::npos) << told;
    EXPECT_EQ(doubt("design", ""), "");
    EXPECT_EQ(doubt("keep", ""), "");
    // Without a plate the lowest layers hang from the column as well: layer k of six reaches k cells out,
    // 15 of 120.
    const std::string hanging = doubt("design", ", plate = false");
    EXPECT_NE(hanging.find("12.5 % at most"), std::string::npos) << hanging;
}

// In black and white: a solid element has a solid one below it, or beside that one, or the plate.
TEST(Overhang, WhatIsSolidIsSupported) {
    for (const bool plate : {true, false})
        for (const Vec3& up : {Vec3(0, 0, 1), Vec3(-1, 0, 0)}) {
            const Study study =
                study_of("overhang = { up = [" + std::to_string(up.x()) + ", 0, " + std::to_string(up.z()) +
                             "], plate = " + (plate ? "true" : "false") + " }\n",
                         head, "0.5");
            const Model model = build_model(study);
            const DesignChain chain(model, 0.9, form_rules(model.form));
            std::size_t solid = 0;
            std::vector<double> x = random_design(chain, 9);
            for (double& v : x) v = v > 0.35 ? 1.0 : 0.0;
            const std::vector<double> density = chain.physical(x, 64.0);
            const std::vector<double> field = chain.field(x);
            const Vec3 u = std::abs(up.x()) > 0.5 ? Vec3::UnitY() : Vec3::UnitX();
            const Vec3 v = up.cross(u);
            const double low = up.x() < 0 ? -8.0 : 0.0;
            for (const std::vector<double>* values : {&density, &field})
                for (std::size_t e = 0; e < density.size(); ++e) {
                    if ((*values)[e] <= 0.5 || model.role(static_cast<ElementId>(e)) == Role::Keep) continue;
                    ++solid;
                    if (plate && model.mesh.center(e).dot(up) - low < 0.3) continue;
                    bool supported = false;
                    for (const Vec3& aside : {Vec3(0, 0, 0), u, Vec3(-u), v, Vec3(-v)}) {
                        const long below = beside(model, e, 0.5 * (aside - up));
                        supported =
                            supported || (below >= 0 && (*values)[static_cast<std::size_t>(below)] > 0.49);
                    }
                    EXPECT_TRUE(supported) << model.mesh.center(e).transpose() << " " << (*values)[e];
                }
            EXPECT_GT(solid, 20U);
            for (const double d : density) {
                EXPECT_LE(d, 1.0);
                EXPECT_GE(d, -1e-12);
            }
        }
}

TEST(MakingRules, PullGradientsBackOnEveryMesh) {
    const std::string fitted =
        "[[region]]\nname = \"hole\"\nrole = \"void\"\ncylinder = { from = [4, 2, 0], to = "
        "[4, 2, 4], radius = 1 }\n";
    const auto error = [](const Study& study) {
        const Model model = build_model(study);
        StaticAnalysis analysis(model, {});
        Silent silent;
        double out = 0.0;
        for (const GradientRow& row : check_gradients(analysis, silent).rows) out = std::max(out, row.error);
        return out;
    };
    for (const char* form :
         {"draw = { along = [0, 0, 1] }\n", "draw = { along = [0, 1, 0], dies = 2 }\nmirror = [\"z = 2\"]\n",
          "overhang = { up = [0, 0, 1] }\n", "overhang = { up = [1, 0, 0] }\nmirror = [\"y = 2\"]\n",
          "draw = { along = [0, 0, 1], dies = 2 }\noverhang = { up = [0, 0, 1] }\n",
          "draw = { along = [0, 0, 1], dies = 2, parting = \"found\" }\n",
          "draw = { along = [0, 1, 0], dies = 2, parting = \"found\", through = \"none\" }\n"}) {
        EXPECT_LT(error(study_of(form, head)), 1e-5) << form;
        EXPECT_LT(error(study_from(block_study(fitted + "[form]\n" + form), {"mesh.kind=fitted"})), 1e-5)
            << form << "fitted";
    }
}

TEST(MakingRules, RefuseWhatCannotBeMadeTogether) {
    const auto refused = [](const std::string& form, const std::string& why, const std::string& size = "1") {
        try {
            const Model model = build_model(study_of(form, {}, size));
            const DesignChain chain(model, 1.4, form_rules(model.form));
        } catch (const Error& e) {
            EXPECT_NE(std::string(e.what()).find(why), std::string::npos) << e.what();
            return;
        }
        ADD_FAILURE() << form;
    };
    refused("draw = { along = [0, 0, 1] }\nextrude = \"z\"\n", "one height everywhere");
    refused("draw = { along = [0, 0, 1] }\nmirror = [\"z = 2\"]\n", "mirror plane lies across the draw");
    refused("draw = { along = [0, 0, 1], wall = 2 }\n", "wall belongs to");
    refused("draw = { along = [0, 0, 1], parting = \"found\" }\n", "parting belongs to two dies");
    refused("draw = { along = [0, 0, 1], dies = 2, parting = \"found\", draft = \"2 deg\" }\n",
            "parting = \"found\" has none");
    refused("draw = { along = [0, 0, 1], dies = 2, parting = { point = [0, 0, 9], normal = [0, 0, 1] } }\n",
            "outside the space");
    refused("draw = { along = [0, 0, 1], dies = 2, parting = { point = [0, 0, 2], normal = [1, 0, 0] } }\n",
            "not across the draw");
    refused("overhang = { up = [0, 0, 1], angle = \"30 deg\" }\n", "see an angle of 45 degrees");
    refused("overhang = { up = [0, 0, 1] }\nmirror = [\"z = 2\"]\n", "lies across `up`");
}
