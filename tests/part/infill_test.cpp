#include "base/angles.hpp"
#include "part/extract.hpp"
#include "part/section.hpp"
#include "part/solid/lattice_cell.hpp"
#include "support/crossings.hpp"
#include "support/studies.hpp"
#include "tell/part_text.hpp"

#include <gtest/gtest.h>
#include <random>
#include <set>

using namespace upright;
using test::study_from;
using test::StudyText;

namespace {

InfillCard card_of(InfillCard::Cell cell, double period, double thickness) {
    InfillCard out;
    out.cell = cell;
    out.period = period;
    out.thickness = thickness;
    out.skin = thickness;
    return out;
}

// A block of 48 x 24 x 24 mm, solid throughout, with a kept pad at its end.
std::string solid_block(const std::string& infill, const std::string& more = {}) {
    return StudyText()
        .steel()
        .region("block", "box = [[0, 0, 0], [48, 24, 24]]")
        .surface("root", "facing = [-1, 0, 0]")
        .region("pad", "box = [[40, 0, 0], [48, 24, 24]]", "keep")
        .surface("tip", "facing = [1, 0, 0]")
        .support("clamp", "root", R"(["x", "y", "z"])")
        .force("pull", "tip", "[0, 0, -100]")
        .load_case("bend", R"(["clamp"])", "{ pull = 1 }")
        .mesh("size = 4")
        .add(more)
        .card("infill", "core", infill);
}

Part filled(const Model& model, bool infill = true) {
    PartOptions options;
    options.infill = infill;
    return PartField(model, std::vector<double>(model.mesh.elements(), 1.0)).extract(options);
}

double volume_of(const Part& part, const std::string& region) {
    for (const RegionShare& r : part.regions)
        if (r.region == region) return r.volume;
    return 0.0;
}

} // namespace

TEST(LatticeCell, WeighsWhatClosedFormsSay) {
    for (const double t : {0.05, 0.1, 0.2}) {
        const double r = 0.5 * t;
        // Three cylinders that meet at right angles: 3 pi r^2 P - 8 sqrt(2) r^3 (Steinmetz).
        EXPECT_NEAR(LatticeCell(card_of(InfillCard::Cell::Cubic, 3.0, 3.0 * t)).share(),
                    3.0 * pi * r * r - 8.0 * std::sqrt(2.0) * r * r * r, 2e-3 * 3.0 * pi * r * r);
        // A minimal surface of area 3.0915 P^2 and Euler number -8 a period: A t + t^3 / 12 (2 pi)(-8).
        EXPECT_NEAR(LatticeCell(card_of(InfillCard::Cell::Gyroid, 2.0, 2.0 * t)).share(),
                    3.0915 * t - 4.0 / 3.0 * pi * t * t * t, 8e-3 * 3.0915 * t);
    }
    // Octet: 6 sqrt(2) pi (r / l)^2 less what joints share, which is of third order (Deshpande, Fleck & Ashby
    // 2001): from two radii.
    const auto of_first = [](double t) {
        const double slender = 0.5 * t * std::sqrt(2.0);
        return LatticeCell(card_of(InfillCard::Cell::Octet, 1.0, t)).share() /
               (6.0 * std::sqrt(2.0) * pi * slender * slender);
    };
    EXPECT_NEAR(2.0 * of_first(0.05) - of_first(0.1), 1.0, 0.01);
    EXPECT_NEAR(1.0 - of_first(0.1), 2.0 * (1.0 - of_first(0.05)), 0.01);
}

TEST(LatticeCell, OctetStrutsJoinTheNearestNodesOfAFaceCentredLattice) {
    const LatticeCell cell(card_of(InfillCard::Cell::Octet, 2.0, 0.2));
    std::vector<Vec3> nodes;
    for (int i = -2; i <= 4; ++i)
        for (int j = -2; j <= 4; ++j)
            for (int k = -2; k <= 4; ++k)
                if ((i + j + k) % 2 == 0) nodes.emplace_back(i, j, k);
    int smooth = 0;
    for (int n = 0; n < 200; ++n) {
        const Vec3 p(std::fmod(0.37713 * n, 2.0), std::fmod(0.73371 * n + 0.1, 2.0),
                     std::fmod(1.17897 * n, 2.0));
        double nearest = 1e300;
        for (const Vec3& a : nodes)
            for (const Vec3& b : nodes) {
                if (std::abs((b - a).norm() - std::sqrt(2.0)) > 1e-9) continue;
                const double along = std::clamp((p - a).dot(b - a) / 2.0, 0.0, 1.0);
                nearest = std::min(nearest, (p - a - along * (b - a)).norm());
            }
        Vec3 slope;
        EXPECT_NEAR(cell.distance(p, &slope), nearest - 0.1, 1e-12);
        // Where two struts are as near it has a kink.
        const double step = 1e-6;
        Vec3 by_differences;
        for (int a = 0; a < 3; ++a)
            by_differences[a] =
                (cell.distance(p + step * Vec3::Unit(a)) - cell.distance(p - step * Vec3::Unit(a))) /
                (2.0 * step);
        if (std::abs(by_differences.norm() - 1.0) < 1e-6) {
            EXPECT_LT((slope - by_differences).norm(), 1e-5);
            ++smooth;
        }
    }
    EXPECT_GT(smooth, 150);
}

TEST(Infill, StrutsAndSheetsComeOutAsHeavyAsTheyAreWritten) {
    const std::vector<std::pair<std::string, double>> cells{{"cubic", 3.0}, {"octet", 2.4}, {"gyroid", 2.0}};
    for (const auto& [word, thickness] : cells) {
        const Model model = build_model(study_from(
            solid_block("cell = \"" + word +
                        "\"\nperiod = 12\nskin = 3\nthickness = " + std::to_string(thickness) + "\n")));
        const Part part = filled(model);
        EXPECT_TRUE(part.closed) << word;
        EXPECT_TRUE(part.one_piece()) << word;
        EXPECT_EQ(test::crossings(part.surface, 2.0), 0U) << word;
        EXPECT_GT(part.solid->least_angle, 8.0) << word;
        // By points: the zone is the block less 3 mm all around; it ends at the pad, which is solid.
        const LatticeCell cell(model.infills[0]);
        std::mt19937 random(1);
        std::uniform_real_distribution<double> side(0.0, 1.0);
        const int points = 400000;
        double solid = 0.0;
        for (int n = 0; n < points; ++n) {
            const Vec3 p(3.0 + 37.0 * side(random), 3.0 + 18.0 * side(random), 3.0 + 18.0 * side(random));
            solid += cell.distance(p) < 0.0 ? 1.0 : 0.0;
        }
        const double zone = 37.0 * 18.0 * 18.0;
        solid *= zone / points;
        const double whole = 40.0 * 24.0 * 24.0;
        EXPECT_NEAR(part.infills[0].zone, zone, 0.005 * zone) << word;
        EXPECT_NEAR(part.infills[0].written, solid, 0.01 * solid) << word;
        EXPECT_NEAR(volume_of(part, "block"), whole - zone + solid, 0.005 * (whole - zone + solid)) << word;
        EXPECT_NEAR(volume_of(part, "pad"), 8.0 * 24.0 * 24.0, 1e-6 * whole) << word;
        EXPECT_NEAR(part.volume, volume_of(part, "block") + volume_of(part, "pad"), 1e-6 * whole) << word;
        EXPECT_NEAR(part.outside().volume, 48.0 * 24.0 * 24.0, 1e-6 * whole) << word;
        // What is between the struts is one void, what is between two sides of a sheet are two, and pockets.
        EXPECT_GE(closed_voids(part.surface), word == "gyroid" ? 2U : 1U) << word;
        EXPECT_LE(closed_voids(part.surface), word == "gyroid" ? 6U : 1U) << word;
        // Nothing comes nearer to the outside than the skin.
        for (const Vec3& p : part.surface.points) {
            const double depth = std::min({p.x(), p.y(), p.z(), 48.0 - p.x(), 24.0 - p.y(), 24.0 - p.z()});
            EXPECT_TRUE(depth < 1e-9 || depth > 2.5) << word << " " << p.transpose();
        }
    }
}

TEST(Infill, HasItsFrameItsShapeItsRegionsAndItsMirrorImage) {
    const Study study = study_from(
        solid_block("of = \"block\"\ninside = { box = [[0, 0, 0], [20, 24, 24]] }\ncell = \"cubic\"\n"
                    "frame = \"turned\"\nperiod = 10\nthickness = 2\nskin = 2\n",
                    "[symmetry]\nplanes = [\"y = 24\"]\n[[frame]]\nname = \"turned\"\nkind = "
                    "\"cartesian\"\norigin = [1, 2, 3]\n"
                    "axis = [0, 1, 1]\nstart = [1, 0, 0]\n"));
    const Model model = build_model(study);
    const Part part = filled(model);
    EXPECT_TRUE(part.closed);
    const Bounds& box = part.infills[0].box;
    EXPECT_LT(box.high.x(), 23.0);
    EXPECT_GT(box.high.x(), 19.0);
    EXPECT_NEAR(box.high.y(), 24.0, 1e-9); // the plane of symmetry is no skin
    const LatticeCell cell(model.infills[0]);
    EXPECT_NEAR(cell.distance({1, 2, 3}), -1.0, 1e-12);
    EXPECT_NEAR(cell.distance(Vec3(1, 2, 3) + 3.3 * Vec3(0, 1, 1).normalized()), -1.0, 1e-12);
    EXPECT_GT(cell.distance(Vec3(1, 2, 3) + Vec3(0, 3, 0)), 0.0);
    // Every point has its image.
    std::set<std::array<long, 3>> places;
    const auto key = [](const Vec3& p) {
        return std::array<long, 3>{std::lround(1e6 * p.x()), std::lround(1e6 * p.y()),
                                   std::lround(1e6 * p.z())};
    };
    for (const Vec3& p : part.surface.points) places.insert(key(p));
    for (const Vec3& p : part.surface.points) EXPECT_EQ(places.count(key({p.x(), 48.0 - p.y(), p.z()})), 1U);
}

TEST(Infill, SaysWhatCannotBe) {
    const auto refused = [](const std::string& infill) {
        try {
            filled(build_model(study_from(solid_block(infill))));
        } catch (const Error& e) {
            return std::string(e.what());
        }
        return std::string();
    };
    EXPECT_NE(refused("cell = \"cubic\"\nperiod = 8\nthickness = 2\nskin = 13\n").find("has no room"),
              std::string::npos);
    EXPECT_NE(refused("cell = \"cubic\"\nperiod = 0.02\nthickness = 0.01\nskin = 1\n").find("tetrahedra"),
              std::string::npos);
    EXPECT_NE(refused("cell = \"cubic\"\nperiod = 3\nthickness = 2\nskin = 2\n").find("leaves no room"),
              std::string::npos);
    EXPECT_NE(refused("cell = \"cubic\"\nperiod = 8\nthickness = 2\nskin = 0.5\n").find("is no wall"),
              std::string::npos);
    EXPECT_NE(refused("of = \"blok\"\ncell = \"cubic\"\nperiod = 8\nthickness = 2\nskin = 2\n").find("blok"),
              std::string::npos);
}

TEST(Infill, ZonesHaveTheVolumeOfTheirLatticesRoom) {
    const Model model =
        build_model(study_from(solid_block("cell = \"gyroid\"\nperiod = 12\nthickness = 1\nskin = 3\n")));
    const Part part = filled(model, false);
    std::vector<InfillMade> made;
    std::vector<InfillZone> zones;
    const SolidPart split = with_infill_zones(model, *part.solid, made, zones);
    ASSERT_EQ(zones.size(), 1U);
    double zone = 0.0;
    double all = 0.0;
    for (std::size_t t = 0; t < split.tets.size(); ++t) {
        std::array<Vec3, 4> p;
        for (std::size_t k = 0; k < 4; ++k) p[k] = split.points[static_cast<std::size_t>(split.tets[t][k])];
        all += tet_volume(p);
        if (index(split.region[t]) == model.regions.size()) zone += tet_volume(p);
    }
    EXPECT_NEAR(all, 48.0 * 24.0 * 24.0, 1e-6 * all);
    EXPECT_NEAR(zone, 37.0 * 18.0 * 18.0, 0.01 * zone);
    EXPECT_NEAR(made[0].voids[0], (1.0 - LatticeCell(model.infills[0]).share()) * made[0].zone, 0.02 * zone);
}

TEST(PartSection, IsClosedAndHasTheAreaThatIsCut) {
    const Model model =
        build_model(study_from(solid_block("cell = \"cubic\"\nperiod = 12\nthickness = 2\nskin = 3\n")));
    const Part part = filled(model, false);
    const PartSection half = section_of(model, part, Vec3::UnitX(), 17.3);
    EXPECT_NEAR(volume(half.surface), 17.3 * 24.0 * 24.0, 1e-6 * 17.3 * 24 * 24);
    Triangles cut;
    cut.points = half.surface.points;
    for (std::size_t t = 0; t < half.cut.size(); ++t)
        if (half.cut[t]) cut.corners.push_back(half.surface.corners[t]);
    EXPECT_NEAR(area(cut), 24.0 * 24.0, 1e-6 * 24 * 24);
}
