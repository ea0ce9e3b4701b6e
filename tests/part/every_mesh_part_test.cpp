// Carving on every family of mesh: the part of full density is the body, what is thin is gone, and the file
// that comes out is a body again.
#include "base/angles.hpp"
#include "geometry/file_body.hpp"
#include "part/extract.hpp"
#include "part/format.hpp"
#include "support/bodies.hpp"
#include "support/studies.hpp"

namespace upright {
namespace {

using test::Body;
using test::study_from;

// The closed form of a body's volume.
double volume_of(const Body& body) {
    if (body.name == "polar") return pi * (20.0 * 20.0 - 8.0 * 8.0) * 8.0;
    if (body.name.find("plane") != std::string::npos) return 8.0 * 4.0 * 2.0;
    if (body.name.find("shell") != std::string::npos) return 8.0 * 4.0 * 0.5;
    return 8.0 * 4.0 * 4.0;
}

Part carved(const Model& model, const std::vector<double>& density, double at = 0.5) {
    PartOptions options;
    options.threshold = at;
    return PartField(model, density).extract(options);
}

class EveryPart : public testing::TestWithParam<Body> {};

} // namespace

TEST_P(EveryPart, OfFullDensityIsTheBody) {
    const Model model = build_model(study_from(GetParam().text));
    const Part part = carved(model, std::vector<double>(model.mesh.elements(), 1.0));
    EXPECT_TRUE(part.closed);
    EXPECT_TRUE(part.one_piece());
    // Of flat models edges are rounded by a third of a cell; what is bent comes in chords.
    const double rounded = model.made_by.flat() ? 0.06 : GetParam().name == "polar" ? 0.02 : 1e-9;
    EXPECT_NEAR(part.volume, volume_of(GetParam()), rounded * volume_of(GetParam()));
    EXPECT_NEAR(part.mass, part.volume * 7.85e-9, 1e-6 * part.mass);
    EXPECT_TRUE(part.missed.empty());
}

TEST_P(EveryPart, TheFileIsABodyAgain) {
    const Model model = build_model(study_from(GetParam().text));
    const Part part = carved(model, std::vector<double>(model.mesh.elements(), 1.0));
    const test::TemporaryFolder folder;
    const auto file = folder.path() / "teil é.stl";
    format_of(part_formats(), file).write({part.surface, "mm", "body", nullptr, nullptr, {}}, file);
    const BodyFile back = read_bodies(file, {}, 1.0, 1e-3, false);
    ASSERT_EQ(back.bodies.size(), 1U);
    EXPECT_NEAR(back.bodies[0]->volume(), part.volume, 1e-4 * part.volume);
    // What lies in the middle of an element lies in it.
    std::size_t in = 0;
    for (const Vec3& c : model.mesh.element_centers()) {
        Vec3 p = c;
        if (model.mesh.dimension() == 2) p.z() = 1.0;
        in += back.bodies[0]->inside(p) ? 1 : 0;
    }
    EXPECT_GT(in, 0.97 * static_cast<double>(model.mesh.elements()));
}

// Dense where x is small: the volume grows with it, and thresholds change little where the design is sharp.
TEST_P(EveryPart, KeepsWhatIsDense) {
    const Model model = build_model(study_from(GetParam().text));
    const Bounds box = model.mesh.bounds;
    double last = 0.0;
    for (const double share : {0.35, 0.55, 0.8}) {
        const double end = box.low.x() + share * box.size().x();
        std::vector<double> density;
        double dense = 0.0;
        for (std::size_t e = 0; e < model.mesh.elements(); ++e) {
            density.push_back(model.mesh.center(e).x() < end ? 1.0 : 1e-3);
            dense += density.back() > 0.5 ? model.mesh.volume(static_cast<ElementId>(e)) : 0.0;
        }
        const Part part = carved(model, density);
        EXPECT_TRUE(part.closed) << share;
        EXPECT_NEAR(part.volume, dense, 0.12 * volume_of(GetParam())) << share;
        EXPECT_GT(part.volume, last);
        last = part.volume;
        const Part higher = carved(model, density, 0.7);
        EXPECT_LE(higher.volume, part.volume * 1.001);
        // Of four coarse elements a step is as wide as half the body.
        const double wide = GetParam().name.find("second order") == 0 ? 0.3 : 0.15;
        EXPECT_NEAR(higher.volume, part.volume, wide * volume_of(GetParam()));
        // Nothing lies beyond the dense part by more than a cell or two.
        for (const Vec3& p : part.surface.points) EXPECT_LT(p.x(), end + 2.5 * model.mesh.size);
    }
}

TEST_P(EveryPart, AThresholdThatLeavesNothingIsSaid) {
    const Model model = build_model(study_from(GetParam().text));
    EXPECT_THROW(carved(model, std::vector<double>(model.mesh.elements(), 0.2), 0.9), Error);
}

INSTANTIATE_TEST_SUITE_P(All, EveryPart, testing::ValuesIn(test::bodies()), test::name_of);

// Mirrored at planes across each axis and across two: the whole has twice and four times the half's volume,
// and mirrors.
TEST(PartSymmetry, MirrorsAcrossOnePlaneAndTwo) {
    for (const std::string planes : {"\"y = 2\"", "\"z = 4\"", "\"y = 2\", \"z = 4\""}) {
        const Model model =
            build_model(study_from(test::block_study("[symmetry]\nplanes = [" + planes + "]\n")));
        std::vector<double> density;
        for (const Vec3& c : model.mesh.element_centers())
            density.push_back(0.5 + 0.5 * std::sin(0.8 * c.x() + 0.5 * c.y() + 0.3 * c.z()));
        const Part part = carved(model, density, 0.4);
        EXPECT_TRUE(part.closed) << planes;
        for (const SymmetryCut& cut : model.mesh.symmetry) {
            // For every point of the surface its image lies near it.
            const FacetBody body("part", [&] {
                FacetMesh mesh;
                mesh.points = part.surface.points;
                mesh.triangles = part.surface.corners;
                mesh.face_of.assign(mesh.triangles.size(), 0);
                mesh.faces.emplace_back();
                return mesh;
            }());
            for (std::size_t i = 0; i < part.surface.points.size(); i += 7) {
                Vec3 image = part.surface.points[i];
                image[cut.axis] = 2 * cut.at - image[cut.axis];
                EXPECT_LT(body.tree().nearest(image).distance, 0.3 * model.mesh.size) << planes;
            }
        }
    }
}

} // namespace upright
