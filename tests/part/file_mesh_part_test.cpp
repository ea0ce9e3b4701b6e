// Parts of solid meshes from files: the elements themselves are cut, faces stay where the mesh has them, and
// supports and loads are found again on them.
#include "base/angles.hpp"
#include "model/finished.hpp"
#include "part/extract.hpp"
#include "part/part_mesh.hpp"
#include "part/solid/mesh_space.hpp"
#include "part/triangles.hpp"
#include "published.hpp"
#include "response/case_report.hpp"
#include "store/vtu.hpp"
#include "support/crossings.hpp"
#include "support/studies.hpp"

#include <functional>

namespace upright {
namespace {

using Place2Place = std::function<Vec3(const Vec3&)>;

// A block of 8 x 4 x 4.
Vec3 block_of(const Vec3& p) {
    return {8.0 * p.x(), 4.0 * p.y(), 4.0 * p.z()};
}
// A quarter of a ring about z, radii 3 and 6, 2 high.
Vec3 ring_of(const Vec3& p) {
    const double r = 3.0 + 3.0 * p.x();
    const double angle = 0.5 * pi * p.y();
    return {r * std::cos(angle), r * std::sin(angle), 2.0 * p.z()};
}

struct FromFile {
    Study study;
    Model model;
};

// The study of a unit cube's elements, shaped; cells beyond 0.75 along x are kept. Held and loaded by sets at
// the two ends along `axis`.
FromFile from_elements(ElementKind kind, const std::array<int, 3>& cells, const Place2Place& shaped, int axis,
                       const std::string& more = {}) {
    const test::TemporaryFolder folder;
    Mesh mesh = published::unit_mesh(kind, cells);
    std::vector<double> low;
    std::vector<double> high;
    for (const Vec3& p : mesh.nodes) {
        low.push_back(p[axis] < 1e-9 ? 1.0 : 0.0);
        high.push_back(p[axis] > 1.0 - 1e-9 ? 1.0 : 0.0);
    }
    mesh.finish();
    std::vector<double> zone;
    for (const Vec3& c : mesh.element_centers()) zone.push_back(c.x() > 0.75 ? 2.0 : 1.0);
    for (Vec3& p : mesh.nodes) p = shaped(p);
    mesh.finish();
    write_vtu(folder.path() / "m.vtu", mesh, {{"low", 1, low}, {"high", 1, high}}, {{"zone", 1, zone}});
    test::StudyText text;
    text.material("m", "1000", "0", "1e-9")
        .region("free", "cells = { array = \"zone\", value = 1 }")
        .region("kept", "cells = { array = \"zone\", value = 2 }", "keep")
        .card("surface", "low", "set = \"low\"")
        .card("surface", "high", "set = \"high\"")
        .support("clamp", "low", R"(["x", "y", "z"])")
        .force("f", "high", "[100, 0, 0]")
        .load_case("pull", R"(["clamp"])", "{ f = 1 }")
        .mesh("kind = \"file\"\nfile = \"m.vtu\"\n")
        .add(more);
    const auto file = folder.write("s.toml", text.str());
    const Study study = load_study(file);
    return {study, finished(build_model(study))};
}

Part part_of(const Model& model, const std::function<bool(const Vec3&)>& dense) {
    std::vector<double> density;
    for (const Vec3& c : model.mesh.element_centers()) density.push_back(dense(c) ? 1.0 : 0.0);
    return PartField(model, density).extract({});
}

bool everywhere(const Vec3& /*p*/) {
    return true;
}

double volume_of(const Mesh& mesh) {
    double out = 0.0;
    for (const double v : mesh.element_volumes()) out += v;
    return out;
}

constexpr std::array<ElementKind, 5> solids{ElementKind::Hex8, ElementKind::Hex20, ElementKind::Tet4,
                                            ElementKind::Tet10, ElementKind::Wedge6};

} // namespace

TEST(FileMeshPart, DividesEveryKindOfSolid) {
    for (const ElementKind kind : solids) {
        const FromFile m = from_elements(kind, {4, 3, 2}, block_of, 0);
        const SpaceTets space = space_of_mesh(m.model.mesh, {});
        double volume = 0.0;
        double kept = 0.0;
        for (std::size_t t = 0; t < space.tets.tets.size(); ++t) {
            ASSERT_GT(space.tets.volume(t), 0.0);
            volume += space.tets.volume(t);
            kept += space.tets.label[t] == 1 ? space.tets.volume(t) : 0.0;
        }
        EXPECT_NEAR(volume, 128.0, 1e-9) << traits(kind).name;
        EXPECT_NEAR(kept, 32.0, 1e-9) << traits(kind).name;
        // Six sides and the face between the two regions; each face of a tetrahedron has at most one
        // neighbour.
        EXPECT_EQ(space.sheets.count(), 7U) << traits(kind).name;
        std::map<std::array<std::int32_t, 3>, int> faces;
        for (const auto& n : space.tets.tets)
            for (const auto& f : tet_faces) {
                std::array<std::int32_t, 3> key{n[f[0]], n[f[1]], n[f[2]]};
                std::sort(key.begin(), key.end());
                ++faces[key];
            }
        double skin = 0.0;
        for (const auto& [key, count] : faces) {
            ASSERT_LE(count, 2);
            if (count == 2) continue;
            const auto& p = space.tets.points;
            std::array<Vec3, 3> at;
            for (std::size_t i = 0; i < 3; ++i) at[i] = p[static_cast<std::size_t>(key[i])];
            skin += 0.5 * Vec3(at[1] - at[0]).cross(at[2] - at[0]).norm();
        }
        EXPECT_NEAR(skin, 2.0 * (16.0 + 32.0 + 32.0), 1e-9) << "neighbours divide their faces alike";
    }
}

TEST(FileMeshPart, TheWholeIsTheMesh) {
    for (const ElementKind kind : solids) {
        const FromFile m = from_elements(kind, {4, 3, 2}, block_of, 0);
        const Part part = part_of(m.model, everywhere);
        EXPECT_TRUE(part.closed && part.one_piece()) << traits(kind).name;
        EXPECT_NEAR(part.volume, 128.0, 1e-7);
        EXPECT_NEAR(part.mass, 128.0 * 1e-9, 1e-16);
        EXPECT_EQ(test::crossings(part.surface, 1.0), 0U);
        for (const Vec3& p : part.surface.points) {
            double off = 1e300;
            for (int a = 0; a < 3; ++a)
                off = std::min({off, std::abs(p[a]), std::abs(p[a] - (a == 0 ? 8.0 : 4.0))});
            EXPECT_LT(off, 1e-9);
        }
    }
}

// A bar pulled along x, its ends free to draw in (nu is 0): u = F L / (E A).
TEST(FileMeshPart, ABarIsABarOnThePart) {
    for (const ElementKind kind : {ElementKind::Hex8, ElementKind::Tet4, ElementKind::Wedge6})
        for (const bool second : {false, true}) {
            const FromFile m = from_elements(kind, {4, 2, 2}, block_of, 0);
            const Part part = part_of(m.model, everywhere);
            const Model on_part = build_part_model(m.study, *part.solid, second, m.model);
            EXPECT_NEAR(on_part.surfaces.at(0).area, 16.0, 1e-9);
            EXPECT_NEAR(on_part.surfaces.at(1).area, 16.0, 1e-9);
            const double u = 100.0 * 8.0 / (1000.0 * 16.0);
            EXPECT_NEAR(analyze(on_part, {}).statics.at(0).compliance, 100.0 * u, 1e-6 * 100.0 * u);
        }
}

// Bent faces are known again: nodes lie on cylinders, and so does what the part has there.
TEST(FileMeshPart, BentFacesAreCylinders) {
    for (const ElementKind kind : {ElementKind::Hex8, ElementKind::Tet4, ElementKind::Wedge6}) {
        const FromFile m = from_elements(kind, {4, 8, 4}, ring_of, 1);
        const Part part = part_of(m.model, [](const Vec3& p) { return p.z() < 1.0; });
        EXPECT_TRUE(part.closed) << traits(kind).name;
        EXPECT_EQ(test::crossings(part.surface, 1.0), 0U);
        std::size_t inner = 0;
        std::size_t outer = 0;
        for (const Vec3& p : part.surface.points) {
            const double r = std::hypot(p.x(), p.y());
            inner += std::abs(r - 3.0) < 1e-6 ? 1 : 0;
            outer += std::abs(r - 6.0) < 1e-6 ? 1 : 0;
            EXPECT_GT(r, 3.0 - 1e-6);
            EXPECT_LT(r, 6.0 + 1e-6);
        }
        EXPECT_GT(inner, 10U);
        EXPECT_GT(outer, 10U);
        // The kept quarter beyond r = 5.25 stays whole, of the rest the lower half.
        EXPECT_NEAR(part.volume, 0.25 * pi * (2.0 * (36.0 - 5.25 * 5.25) + 1.0 * (5.25 * 5.25 - 9.0)), 1.6);
        // Middles of edges on the cylinders: the model of second order has the ring's volume.
        const Part whole = part_of(m.model, everywhere);
        const Model on_part = build_part_model(m.study, *whole.solid, true, m.model);
        EXPECT_NEAR(volume_of(on_part.mesh), 0.25 * pi * 27.0 * 2.0, 0.01) << traits(kind).name;
        EXPECT_NEAR(on_part.surfaces.at(0).area, 6.0, 1e-6);
    }
}

// What is neither plane nor cylinder stays as the elements have it.
TEST(FileMeshPart, WarpedFacesStayAsTheyAre) {
    const Place2Place wavy = [](const Vec3& p) {
        return Vec3(8.0 * p.x(), 4.0 * p.y(),
                    (4.0 + 0.6 * std::sin(3.0 * p.x()) * std::cos(2.0 * p.y())) * p.z());
    };
    for (const ElementKind kind : {ElementKind::Hex8, ElementKind::Tet4}) {
        const FromFile m = from_elements(kind, {8, 4, 4}, wavy, 0);
        const Part part = part_of(m.model, everywhere);
        EXPECT_TRUE(part.closed);
        EXPECT_NEAR(part.volume / volume_of(m.model.mesh), 1.0, 2e-3) << traits(kind).name;
        const Part half = part_of(m.model, [](const Vec3& p) { return p.y() < 2.0; });
        EXPECT_TRUE(half.closed && half.one_piece());
        EXPECT_EQ(test::crossings(half.surface, 1.0), 0U);
        for (const Vec3& p : half.surface.points) {
            const double top = wavy({p.x() / 8.0, p.y() / 4.0, 1.0}).z();
            EXPECT_LT(p.z(), top + 0.06);
        }
    }
}

// Of a half model the whole: mirrored to rounding, and analysed as the half.
TEST(FileMeshPart, MirrorsAtPlanesOfSymmetry) {
    const FromFile m =
        from_elements(ElementKind::Hex8, {8, 4, 4}, block_of, 0, "[symmetry]\nplanes = [\"y = 4\"]\n");
    const Part part = part_of(m.model, [](const Vec3& p) { return p.z() < 2.0; });
    EXPECT_TRUE(part.closed && part.one_piece());
    EXPECT_NEAR(part.volume, 2.0 * (32.0 + 48.0), 1.0);
    double low = 1e300;
    double high = -1e300;
    for (const Vec3& p : part.surface.points) {
        low = std::min(low, p.y());
        high = std::max(high, p.y());
    }
    EXPECT_NEAR(low, 0.0, 1e-12);
    EXPECT_NEAR(high, 8.0, 1e-12);
    const Model on_part = build_part_model(m.study, *part.solid, false, m.model);
    EXPECT_EQ(on_part.mesh.symmetry.size(), 1U);
    EXPECT_NEAR(on_part.surfaces.at(1).area, 16.0, 1e-9);
}

// A load's face of which the design took the half is named with what is left.
TEST(FileMeshPart, LostFacesAreNamed) {
    const FromFile m = from_elements(ElementKind::Hex8, {8, 4, 4}, block_of, 0);
    std::vector<double> density;
    for (const Vec3& c : m.model.mesh.element_centers()) density.push_back(c.z() < 2.0 ? 1.0 : 0.0);
    const PartField field(m.model, density);
    const Part part = field.extract({});
    const Model on_part = build_part_model(m.study, *part.solid, false, m.model);
    const Model whole = build_part_model(m.study, field.whole(), false, m.model);
    const std::vector<SurfaceLeft> left = surfaces_left(on_part, whole);
    EXPECT_NEAR(left.at(0).share(), 0.5, 0.06);
    EXPECT_NEAR(left.at(1).share(), 1.0, 1e-9); // of the kept region
    for (double& d : density) d = 0.0;
    const Part kept = PartField(m.model, density).extract({});
    EXPECT_THROW(build_part_model(m.study, *kept.solid, false, m.model), Error);
}

TEST(FileMeshPart, RegionsOfCellsHaveTheirFacesForAShape) {
    const FromFile m = from_elements(ElementKind::Tet4, {8, 4, 4}, block_of, 0);
    EXPECT_EQ(m.model.shapes.owner({1, 1, 1}), RegionId{0});
    EXPECT_EQ(m.model.shapes.owner({7, 1, 1}), RegionId{1});
    EXPECT_EQ(m.model.shapes.owner({9, 1, 1}), RegionId::None);
    EXPECT_NEAR(m.model.shapes.distance(1, {5.5, 2, 2}), 0.5, 1e-9);
}

TEST(FileMeshPart, RefusesWhatHasNoOnePart) {
    const FromFile finish =
        from_elements(ElementKind::Hex8, {4, 2, 2}, block_of, 0,
                      "[[finish]]\nname = \"drill\"\nrole = \"cut\"\nsphere = { center = [4, 2, 2], radius "
                      "= 1 }\n");
    ASSERT_TRUE(why_not_carved(finish.model));
    EXPECT_NE(std::string(why_not_carved(finish.model)->what()).find("\"drill\" is a shape"),
              std::string::npos);
    const FromFile plain = from_elements(ElementKind::Hex8, {4, 2, 2}, block_of, 0);
    EXPECT_FALSE(why_not_carved(plain.model));
    // An element whose middle lies outside of it.
    Mesh bent = published::unit_mesh(ElementKind::Hex8, {1, 1, 1});
    bent.finish();
    bent.size = 1.0;
    for (Vec3& p : bent.nodes)
        if (p.norm() < 1e-9) p = Vec3(0.9, 0.9, 0.9);
    EXPECT_THROW(space_of_mesh(bent, {}), Error);
}

} // namespace upright
