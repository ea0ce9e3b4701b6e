#include "part/extract.hpp"

#include "base/angles.hpp"
#include "part/solid/design_field.hpp"
#include "support/studies.hpp"

#include <gtest/gtest.h>

using namespace upright;
using test::block_study;
using test::study_from;

namespace {

Part carve(const Model& model, const std::vector<double>& density, double at = 0.5, bool improve = true) {
    PartOptions options;
    options.threshold = at;
    options.improve = improve;
    return PartField(model, density).extract(options);
}

} // namespace

TEST(Extract, AFullBlockIsTheBlock) {
    const Study study = study_from(block_study());
    const Model model = build_model(study);
    const Part part = carve(model, std::vector<double>(model.mesh.elements(), 1.0));
    EXPECT_TRUE(part.closed);
    EXPECT_TRUE(part.one_piece());
    EXPECT_NEAR(part.volume, 128.0, 0.02 * 128.0); // edges are rounded by less than a lattice step
    EXPECT_NEAR(part.mass, part.volume * 7.85e-9, 1e-15);
    // Flat sides come out flat.
    double top = 0.0;
    for (const Vec3& p : part.surface.points) top = std::max(top, p.z());
    EXPECT_NEAR(top, 4.0, 1e-9);
}

TEST(Extract, HolesComeAsTheirShapesNotAsStairs) {
    const Study study = study_from(block_study("[[region]]\nname = \"hole\"\nrole = \"void\"\ncylinder = { "
                                               "from = [4, 2, 0], to = [4, 2, 4], radius = 1.3 }\n"));
    const Model model = build_model(study);
    const Part part = carve(model, std::vector<double>(model.mesh.elements(), 1.0));
    EXPECT_TRUE(part.closed);
    EXPECT_NEAR(part.volume, 128.0 - 4 * pi * 1.69, 0.03 * 128.0);
    for (const Vec3& p : part.surface.points)
        if (p.z() > 1 && p.z() < 3 && (p - Vec3(4, 2, p.z())).norm() < 1.6)
            EXPECT_NEAR((p - Vec3(4, 2, p.z())).norm(), 1.3, 0.03);
}

TEST(Extract, KeptRegionsStayWhateverTheDensity) {
    const Study study =
        study_from(block_study("[[region]]\nname = \"post\"\nrole = \"keep\"\nmaterial = \"steel\"\ncylinder "
                               "= { from = [4, 2, 0], to = [4, 2, 4], radius = 1.5 }\n"));
    const Model model = build_model(study);
    std::vector<double> density(model.mesh.elements());
    for (std::size_t e = 0; e < density.size(); ++e)
        density[e] = model.role(static_cast<ElementId>(e)) == Role::Keep ? 1.0 : 0.01;
    const Part part = carve(model, density);
    EXPECT_NEAR(part.volume, 4 * pi * 2.25, 0.04 * 4 * pi * 2.25);
    EXPECT_FALSE(part.one_piece()); // it reaches neither the clamp nor the tip
    EXPECT_EQ(part.missed.size(), 2U);
    EXPECT_NE(part.missed[0].find("support clamp on root"), std::string::npos);
}

// Of a design that bends all ways beside a bore and a post: neither triangles of the skin nor tetrahedra are
// thin.
TEST(Extract, FacetsAreNotThin) {
    const std::string shapes =
        "[[region]]\nname = \"hole\"\nrole = \"void\"\ncylinder = { from = [2, 2, 0], to = "
        "[2, 2, 4], radius = 0.9 }\n[[region]]\nname = \"post\"\nrole = \"keep\"\nmaterial = "
        "\"steel\"\ncylinder = { from = [6, 0, 2], to = [6, 4, 2], radius = 0.8 }\n";
    for (const char* size : {"mesh.size=0.5", "mesh.size=0.4"}) {
        const Model model = build_model(study_from(block_study(shapes), {size}));
        std::vector<double> density(model.mesh.elements(), 1.0);
        for (std::size_t e = 0; e < density.size(); ++e) {
            const Vec3 p = model.mesh.center(static_cast<ElementId>(e));
            if (model.role(static_cast<ElementId>(e)) == Role::Design)
                density[e] = 0.5 + 0.2 * (std::sin(1.9 * p.x()) * std::cos(1.9 * p.y()) +
                                          std::sin(1.9 * p.y()) * std::cos(1.9 * p.z()) + 0.3);
        }
        for (const double at : {0.45, 0.5, 0.55}) {
            const Part part = carve(model, density, at);
            double least = 180.0;
            for (const auto& t : part.surface.corners)
                for (std::size_t k = 0; k < 3; ++k) {
                    const Vec3 a = part.surface.points[t[(k + 1) % 3]] - part.surface.points[t[k]];
                    const Vec3 b = part.surface.points[t[(k + 2) % 3]] - part.surface.points[t[k]];
                    least = std::min(least, std::atan2(a.cross(b).norm(), a.dot(b)) / degree);
                }
            EXPECT_GT(least, 5.0) << size << " " << at;
            EXPECT_GT(part.solid->least_angle, 15.0) << size << " " << at;
        }
    }
}

TEST(Extract, NamesPiecesAndDropsIslands) {
    const Study study = study_from(block_study(), {"mesh.size=0.5"});
    const Model model = build_model(study);
    std::vector<double> density(model.mesh.elements(), 0.0);
    for (std::size_t e = 0; e < density.size(); ++e) {
        const double x = model.mesh.center(static_cast<ElementId>(e)).x();
        density[e] = x < 2 || x > 6 || (x > 3.4 && x < 4.6) ? 1.0 : 0.0;
    }
    const Part part = carve(model, density, 0.5, false);
    ASSERT_EQ(part.pieces.size(), 3U);
    EXPECT_FALSE(part.one_piece());
    int dropped = 0;
    for (const PartPiece& p : part.pieces) {
        if (p.dropped) {
            ++dropped;
            EXPECT_NEAR(p.center.x(), 4.0, 0.6);
        } else {
            EXPECT_EQ(p.touches.size(), 1U);
        }
    }
    EXPECT_EQ(dropped, 1);
    PartOptions all;
    all.drop_islands = false;
    EXPECT_GT(PartField(model, density).extract(all).volume, part.volume * 1.1);
}

TEST(Extract, MirrorsAtSymmetryPlanesWithoutASeam) {
    const Study study = study_from(block_study("[symmetry]\nplanes = [\"y = 2\"]\n"));
    const Model model = build_model(study);
    const Part part = carve(model, std::vector<double>(model.mesh.elements(), 1.0));
    EXPECT_TRUE(part.closed);
    EXPECT_EQ(part.pieces.size(), 1U);
    EXPECT_NEAR(part.volume, 128.0, 0.02 * 128.0);
    // Nothing of the surface lies on the plane inside the block.
    for (const Vec3& p : part.surface.points)
        if (std::abs(p.y() - 2) < 0.1)
            EXPECT_TRUE(p.x() < 0.3 || p.x() > 7.7 || p.z() < 0.3 || p.z() > 3.7) << p.transpose();
}

TEST(Extract, PlaneModelsGetTheirThickness) {
    const Study study = study_from(test::half_beam(12, 4, false), {"mesh.thickness=3"});
    const Model model = build_model(study);
    const Part part = carve(model, std::vector<double>(model.mesh.elements(), 1.0));
    EXPECT_TRUE(part.closed);
    EXPECT_NEAR(part.volume, 144.0, 0.05 * 144.0);
}

TEST(Extract, LowerThresholdsNeverWeighLess) {
    const Study study = study_from(block_study());
    const Model model = build_model(study);
    std::vector<double> density(model.mesh.elements());
    for (std::size_t e = 0; e < density.size(); ++e)
        density[e] = 0.5 + 0.5 * std::sin(0.9 * model.mesh.center(static_cast<ElementId>(e)).x());
    double last = 1e300;
    for (const double at : {0.1, 0.3, 0.5, 0.7, 0.9}) {
        const double mass = carve(model, density, at, false).mass;
        EXPECT_LT(mass, last);
        last = mass;
    }
    EXPECT_THROW(carve(model, std::vector<double>(model.mesh.elements(), 0.01)), Error);
}

// A boss that only a joint holds is part of the part.
TEST(Extract, WhatAJointOrAMassHoldsIsNoIsland) {
    const std::string boss = R"(
[[region]]
name = "boss"
role = "keep"
material = "steel"
box = [[6, 0, 3], [8, 4, 4]]
[[surface]]
name = "seat"
of = "boss"
facing = [0, 0, 1]
[[coupling]]
name = "bolt"
surface = "seat"
)";
    for (const char* holder :
         {"[[joint]]\nname = \"j\"\nbetween = [\"bolt\", \"ground\"]\nstiffness = { axial = 10 }\n",
          "[[mass]]\nname = \"motor\"\non = \"bolt\"\nvalue = 0.001\n", ""}) {
        const Study study = study_from(block_study(boss + holder), {"load.pull.on=root"});
        const Model model = build_model(study);
        // Solid at the root and in the boss, nothing between.
        std::vector<double> density(model.mesh.elements(), 0.0);
        for (std::size_t e = 0; e < density.size(); ++e)
            if (model.mesh.center(e).x() < 3 || model.role(static_cast<ElementId>(e)) == Role::Keep)
                density[e] = 1.0;
        const Part part = carve(model, density);
        ASSERT_EQ(part.pieces.size(), 2U);
        EXPECT_FALSE(part.pieces[1].dropped) << holder; // what is kept stays
        EXPECT_EQ(part.pieces[1].touches.empty(), std::string(holder).empty()) << holder;
    }
}

// Pieces are named by what they hold and touch; where a design leaves two mounts apart, both are told.
TEST(Extract, MountsThatAreNotJoinedAreNamed) {
    const Study study = study_from(block_study("[[region]]\nname = \"mount\"\nrole = \"keep\"\nmaterial = "
                                               "\"steel\"\nbox = [[7, 0, 0], [8, 4, 4]]\n"));
    const Model model = build_model(study);
    std::vector<double> density;
    for (const Vec3& c : model.mesh.element_centers()) density.push_back(c.x() < 1 || c.x() > 7 ? 1.0 : 0.0);
    const PartField field(model, density);
    const Part part = field.extract({});
    ASSERT_EQ(part.pieces.size(), 2U);
    EXPECT_FALSE(part.one_piece());
    const PartPiece& mount = part.pieces[part.pieces[0].regions.empty() ? 1 : 0];
    const PartPiece& rest = part.pieces[part.pieces[0].regions.empty() ? 0 : 1];
    EXPECT_EQ(rest.touches, std::vector<std::string>{"support clamp"});
    EXPECT_EQ(mount.regions, std::vector<std::string>{"mount"});
    EXPECT_EQ(mount.touches, std::vector<std::string>{"load pull"});
    EXPECT_EQ(field.glance({}).pieces, 2U);
    EXPECT_THROW(field.largest_connected(), Error);
    ASSERT_EQ(part.regions.size(), 2U);
    EXPECT_NEAR(part.regions[1].volume, 16.0, 1e-6);
    EXPECT_NEAR(part.regions[0].mass + part.regions[1].mass, part.mass, 1e-12 * part.mass);
}

// By mass, by fraction, by what hangs together: the part has what was asked.
TEST(Extract, TheThresholdIsFoundByWhatComesOfIt) {
    const Model model =
        build_model(study_from(block_study("[symmetry]\nplanes = [\"y = 2\"]\n"), {"mesh.size=0.5"}));
    std::vector<double> density;
    // A bar along x whose waist at the middle is less dense.
    for (const Vec3& c : model.mesh.element_centers()) {
        const double off = Vec3(0, c.y() - 2, c.z() - 2).norm();
        density.push_back(
            std::clamp(1.1 - 0.35 * off - 0.3 * std::exp(-(c.x() - 4) * (c.x() - 4)), 0.0, 1.0));
    }
    const PartField field(model, density);
    const double mass = 0.4 * 128.0 * 7.85e-9;
    PartOptions options;
    options.threshold = field.threshold_of_mass(mass);
    EXPECT_NEAR(field.extract(options).mass, mass, 0.003 * mass);
    options.threshold = field.threshold_of_fraction(0.25);
    EXPECT_NEAR(field.extract(options).volume, 32.0, 0.003 * 32.0);
    EXPECT_THROW(field.threshold_of_mass(1.0), Error);
    options.threshold = field.largest_connected();
    EXPECT_TRUE(field.extract(options).one_piece()) << options.threshold;
    options.threshold += 0.05;
    EXPECT_FALSE(field.extract(options).one_piece()) << options.threshold;
}

// A sharp design whose filtered field is kept: the part has the volume of its dense cells, at any threshold.
TEST(Extract, ASharpDesignKeepsItsVolume) {
    const Model model = build_model(study_from(block_study({}), {"mesh.size=0.5"}));
    DesignValues design;
    design.sharpness = 128.0;
    design.threshold = 0.7;
    double dense = 0.0;
    for (std::size_t e = 0; e < model.mesh.elements(); ++e) {
        const Vec3& c = model.mesh.center(e);
        const double y =
            std::clamp(0.5 + 0.4 * (1.4 + 0.2 * std::sin(c.x()) - (c - Vec3(c.x(), 2, 2)).norm()), 0.0, 1.0);
        design.filtered.push_back(y);
        design.density.push_back(y > 0.5 ? 1.0 : 0.0);
        if (y > 0.5) dense += model.mesh.volume(e);
    }
    const PartField field(model, design);
    for (const double at : {0.1, 0.7, 0.95}) {
        PartOptions options;
        options.threshold = at;
        // A threshold is far from another by what the projection leaves between black and white.
        EXPECT_NEAR(field.extract(options).volume, dense, (at == 0.7 ? 0.01 : 0.06) * dense) << at;
    }
}

// Walls that are hardly above the level lie between the lattice's points: wherever the field is above it on a
// line through the wall, the line finds the part.
TEST(Extract, ThinWallsHaveNoHoles) {
    constexpr double size = 0.5;
    const Model model = build_model(study_from(block_study(), {"mesh.size=0.5"}));
    for (const Vec3& across : {Vec3(0.9, 0.3, 0.2), Vec3(0.8, 0.45, 0.15)}) {
        const Vec3 n = across.normalized();
        const Vec3 middle(4.03, 2.07, 1.94);
        std::vector<double> density;
        for (const Vec3& c : model.mesh.element_centers())
            density.push_back(std::clamp(1.0 - std::abs((c - middle).dot(n)) / (1.5 * size), 0.0, 1.0));
        const DesignField field(model.mesh, density, std::vector<bool>(density.size(), true), true);
        for (const double level : {0.45, 0.55, 0.6}) {
            PartOptions options;
            options.threshold = level;
            options.drop_islands = false;
            const Part part = PartField(model, density).extract(options);
            const FacetTree tree(part.surface.points, part.surface.corners);
            const Vec3 u = n.unitOrthogonal();
            const Vec3 v = n.cross(u);
            std::vector<FacetTree::Hit> hits;
            int seen = 0;
            int holes = 0;
            for (double i = -1.4; i < 1.4; i += 0.0671)
                for (double j = -1.4; j < 1.4; j += 0.0713) {
                    const Vec3 foot = middle + i * u + j * v;
                    double most = 0.0;
                    for (double s = -1.0; s < 1.0; s += 0.05)
                        most = std::max(most, field.value(foot + s * n));
                    if (most < level + 0.02) continue;
                    ++seen;
                    tree.crossings(foot - 3.0 * n, n, hits);
                    holes += hits.empty() ? 1 : 0;
                }
            EXPECT_GT(seen, 100) << level;
            EXPECT_LE(holes, seen / 500) << seen << " lines at " << level << ", across " << n.transpose();
        }
    }
}
