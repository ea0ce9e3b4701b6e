// Parts with smaller tetrahedra where they are wished for, and parts from bodies that were made elsewhere.
#include "geometry/file_body.hpp"
#include "part/extract.hpp"
#include "part/part_mesh.hpp"
#include "support/crossings.hpp"
#include "support/studies.hpp"

namespace upright {
namespace {

using test::block_study;
using test::study_from;

// A block with a bore, cut by a slope.
Study bored() {
    return study_from(
        block_study("[[region]]\nname = \"bore\"\nrole = \"void\"\ncylinder = { from = [4, 2, 0], "
                    "to = [4, 2, 4], radius = 1 }\n"));
}
std::vector<double> sloped(const Model& model) {
    std::vector<double> out;
    for (const Vec3& c : model.mesh.element_centers())
        out.push_back(std::clamp(0.5 + (3.0 - 0.2 * c.x() - c.z()), 0.0, 1.0));
    return out;
}

} // namespace

TEST(PartSizes, EdgesAreAsShortAsWished) {
    const Model model = build_model(bored());
    const PartField field(model, sloped(model));
    PartOptions options;
    const Part plain = field.extract(options);
    options.size = [](const Vec3& p) { return p.x() < 3.0 ? 0.35 : 5.0; };
    const Part finer = field.extract(options);
    const auto mean_edge = [](const SolidPart& s, bool left) {
        double sum = 0.0;
        double count = 0.0;
        for (const auto& t : s.tets)
            for (std::size_t i = 0; i < 4; ++i)
                for (std::size_t j = i + 1; j < 4; ++j) {
                    const Vec3& a = s.points[static_cast<std::size_t>(t[i])];
                    const Vec3& b = s.points[static_cast<std::size_t>(t[j])];
                    if (left ? std::max(a.x(), b.x()) > 2.5 : std::min(a.x(), b.x()) < 5.0) continue;
                    sum += (a - b).norm();
                    count += 1.0;
                }
        return sum / count;
    };
    EXPECT_LT(mean_edge(*finer.solid, true), 0.42);
    EXPECT_GT(mean_edge(*plain.solid, true), 0.7);
    EXPECT_NEAR(mean_edge(*finer.solid, false), mean_edge(*plain.solid, false), 0.05);
    // It is the same part: as heavy, closed, exact at its bore, with good tetrahedra.
    EXPECT_TRUE(finer.closed);
    EXPECT_NEAR(finer.volume, plain.volume, 4e-3 * plain.volume);
    EXPECT_EQ(test::crossings(finer.surface, 1.0), 0U);
    EXPECT_GT(finer.solid->least_angle, 15.0);
    std::size_t on_bore = 0;
    for (const Improved::Face& f : finer.solid->faces) {
        if (f.sheet < 0 || (*finer.solid->sheets)[f.sheet].kind != Sheet::Kind::Cylinder) continue;
        for (const std::int32_t n : f.nodes) {
            const Vec3& p = finer.solid->points[static_cast<std::size_t>(n)];
            EXPECT_NEAR(std::hypot(p.x() - 4.0, p.y() - 2.0), 1.0, 1e-9);
            ++on_bore;
        }
    }
    EXPECT_GT(on_bore, 20U);
}

TEST(MadeElsewhere, APartComesBackFromItsFile) {
    const Study study = bored();
    const Model model = build_model(study);
    const Part part = PartField(model, sloped(model)).extract({});
    const test::TemporaryFolder folder;
    const auto file = folder.path() / "part.stl";
    write_stl(file, part.surface, "part");
    const BodyFile read = read_bodies(file, {}, 1.0, model.units.length_si, false);
    const Part again = PartField(model, read.bodies).extract({});
    EXPECT_TRUE(again.closed);
    EXPECT_NEAR(again.volume, part.volume, 5e-3 * part.volume);
    EXPECT_TRUE(again.one_piece());
    // Supports and loads are found on its exact faces.
    const Model on_part = build_part_model(study, *again.solid, true, model);
    const Model before = build_part_model(study, *part.solid, true, model);
    for (std::size_t s = 0; s < before.surfaces.size(); ++s)
        EXPECT_NEAR(on_part.surfaces[s].area, before.surfaces[s].area, 0.02 * before.surfaces[s].area);
}

// Kept regions are what the body leaves of them, and what lies beyond the space is none of the part's.
TEST(MadeElsewhere, TheBodyDecidesEverywhere) {
    const Study study = study_from(block_study("[[region]]\nname = \"head\"\nrole = \"keep\"\nmaterial = "
                                               "\"steel\"\nbox = [[6, 0, 0], [8, 4, 4]]\n"),
                                   {"surface.tip.of=head"});
    const Model model = build_model(study);
    // A bar of 2.5 x 4 mm, longer than the block.
    Triangles bar;
    for (const double x : {-1.0, 9.0})
        for (const double y : {0.0, 4.0})
            for (const double z : {0.0, 2.5}) bar.points.emplace_back(x, y, z);
    bar.corners = {{0, 1, 3}, {0, 3, 2}, {4, 6, 7}, {4, 7, 5}, {0, 4, 5}, {0, 5, 1},
                   {2, 3, 7}, {2, 7, 6}, {0, 2, 6}, {0, 6, 4}, {1, 5, 7}, {1, 7, 3}};
    ASSERT_TRUE(closed(bar));
    ASSERT_NEAR(volume(bar), 100.0, 1e-9);
    const test::TemporaryFolder folder;
    const auto file = folder.path() / "bar.stl";
    write_stl(file, bar, "bar");
    const Part part =
        PartField(model, read_bodies(file, {}, 1.0, model.units.length_si, false).bodies).extract({});
    EXPECT_NEAR(part.volume, 80.0, 0.002 * 80.0);
    ASSERT_EQ(part.regions.size(), 2U);
    EXPECT_NEAR(part.regions[1].volume, 20.0, 0.1);
    double top = 0.0;
    for (const Vec3& p : part.surface.points) top = std::max(top, p.z());
    EXPECT_NEAR(top, 2.5, 1e-6);
}

} // namespace upright
