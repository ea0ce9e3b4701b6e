// The part as a model: its cards are found again on exact faces, and its analysis is that of the body.
#include "base/angles.hpp"
#include "part/extract.hpp"
#include "part/part_mesh.hpp"
#include "response/case_report.hpp"
#include "support/studies.hpp"

namespace upright {
namespace {

using test::block_study;
using test::study_from;

Part full(const Model& model) {
    return PartField(model, std::vector<double>(model.mesh.elements(), 1.0)).extract({});
}

} // namespace

// A bar pulled along x: u = F L / (E A), the same stress everywhere, without a bend in sight.
TEST(PartMesh, ABarIsABar) {
    for (const bool second : {false, true}) {
        const Study held = study_from(block_study(), {"load.pull.force=[100, 0, 0]", "material.steel.nu=0"});
        const Model model = build_model(held);
        const Part part = full(model);
        const Model of_part = build_part_model(held, *part.solid, second, model);
        EXPECT_EQ(of_part.mesh.kinds.front(), second ? ElementKind::Tet10 : ElementKind::Tet4);
        const AnalysisReport report = analyze(of_part, {});
        const double u = 100.0 * 8.0 / (210000.0 * 16.0);
        EXPECT_NEAR(report.statics.at(0).compliance, 100.0 * u, 1e-6 * 100.0 * u);
        EXPECT_NEAR(report.statics.at(0).stress_peak.value, 100.0 / 16.0, 1e-5);
        EXPECT_NEAR(report.mass, 128.0 * 7.85e-9, 1e-15);
    }
}

// Middles of edges lie on the bore, so that its volume is that of the cylinder.
TEST(PartMesh, MiddlesOfEdgesLieOnBentFaces) {
    const Study study =
        study_from(block_study("[[region]]\nname = \"hole\"\nrole = \"void\"\ncylinder = { from "
                               "= [4, 2, 0], to = [4, 2, 4], radius = 1.3 }\n"));
    const Model model = build_model(study);
    const Part part = full(model);
    const double exact = 128.0 - 4.0 * pi * 1.3 * 1.3;
    const auto volume = [&](bool second) {
        const Model of_part = build_part_model(study, *part.solid, second, model);
        double out = 0.0;
        for (const double v : of_part.mesh.element_volumes()) out += v;
        return out;
    };
    EXPECT_GT(std::abs(volume(false) - exact), 0.1);
    EXPECT_NEAR(volume(true), exact, 0.05);
}

// What the design drew is no place for a load, though it looks the same way as the face that was meant.
TEST(PartMesh, SurfacesAreFoundOnExactFacesAlone) {
    const Study study = study_from(block_study(), {"surface.tip.facing=[0, 0, 1]"});
    const Model model = build_model(study);
    std::vector<double> density;
    for (const Vec3& c : model.mesh.element_centers()) density.push_back(c.z() < 2 || c.x() < 4 ? 1.0 : 0.0);
    const PartField field(model, density);
    const Part part = field.extract({});
    const Model of_part = build_part_model(study, *part.solid, false, model);
    const Model whole = build_part_model(study, field.whole(), false, model);
    for (const MeshFace& f : of_part.surfaces.at(1).faces)
        EXPECT_NEAR(of_part.mesh.face_center(f).z(), 4.0, 1e-9);
    const std::vector<SurfaceLeft> left = surfaces_left(of_part, whole);
    EXPECT_NEAR(left.at(0).share(), 1.0, 1e-9); // the root is whole
    EXPECT_NEAR(left.at(1).of, 32.0, 1e-9);
    EXPECT_NEAR(left.at(1).share(), 0.5, 0.06);
    // And where nothing is left, it is named.
    for (double& d : density) d = 0.0;
    for (std::size_t e = 0; e < density.size(); ++e)
        if (model.mesh.center(e).z() < 2) density[e] = 1.0;
    const Part low = PartField(model, density).extract({});
    try {
        build_part_model(study, *low.solid, false, model);
        FAIL() << "nothing of the tip is left";
    } catch (const Error& e) {
        EXPECT_NE(std::string(e.what()).find("nothing of the surface \"tip\" is left"), std::string::npos)
            << e.what();
    }
}

// A kept plate within the design: its back is no outside, though the design leaves it bare; and "of" the
// block are faces of what took its place.
TEST(PartMesh, WhatTheDesignLaidBareIsNoOutside) {
    const Study study = study_from(block_study("[[region]]\nname = \"plate\"\nrole = \"keep\"\nmaterial = "
                                               "\"steel\"\nbox = [[7, 0, 0], [8, 4, 4]]\n"));
    const Model model = build_model(study);
    std::vector<double> density;
    for (const Vec3& c : model.mesh.element_centers()) density.push_back(c.z() < 2 || c.x() > 7 ? 1.0 : 0.0);
    const PartField field(model, density);
    const Part part = field.extract({});
    const Model of_part = build_part_model(study, *part.solid, false, model);
    for (const MeshFace& f :
         of_part.surfaces.at(0).faces) // the root looks along -x, as the plate's back does
        EXPECT_NEAR(of_part.mesh.face_center(f).x(), 0.0, 1e-9);
    EXPECT_NEAR(of_part.surfaces.at(1).area, 16.0, 1e-9); // the tip is the plate's front, of the block
}

// Half of a symmetric bar, analysed as a part, has half the compliance of the whole.
TEST(PartMesh, SymmetryHoldsThePart) {
    const auto compliance = [](const std::string& extra, const std::string& force) {
        const Study study = study_from(block_study(extra), {"load.pull.force=" + force});
        const Model model = build_model(study);
        const Part part = full(model);
        return analyze(build_part_model(study, *part.solid, true, model), {}).statics.at(0).compliance;
    };
    const double whole = compliance("", "[0, 0, -100]");
    const double half = compliance("[symmetry]\nplanes = [\"y = 2\"]\n", "[0, 0, -50]");
    EXPECT_NEAR(half, 0.5 * whole, 0.01 * whole);
}

} // namespace upright
