// Stock for machining on faces of a part, against closed forms.
#include "base/angles.hpp"
#include "model/finished.hpp"
#include "part/extract.hpp"
#include "part/part_mesh.hpp"
#include "part/solid/sharp_places.hpp"
#include "support/studies.hpp"

#include <gtest/gtest.h>

using namespace upright;
using test::block_study;
using test::study_from;

namespace {

struct Stocked {
    Part bare, part;
    std::shared_ptr<const Model> model;
};

// A full part with stock on some surfaces.
Stocked stocked(const std::string& more, const std::vector<std::string>& on, double depth,
                const std::vector<std::string>& set = {}) {
    std::string names;
    for (const std::string& s : on) names += (names.empty() ? "\"" : ", \"") + s + "\"";
    const Study study = study_from(
        block_study(more +
                    "[[surface]]\nname = \"top\"\nfacing = [0, 0, 1]\n[[finish]]\nname = \"stock\"\nrole = "
                    "\"add\"\nmaterial = \"steel\"\non = [" +
                    names + "]\nallowance = " + std::to_string(depth) + "\n"),
        set);
    const Model run = build_model(study);
    Stocked out;
    out.model = std::make_shared<const Model>(finished(run));
    const PartField field(*out.model, std::vector<double>(run.mesh.elements(), 1.0));
    out.bare = field.extract({});
    const Model faces = build_part_model(finished(study), *out.bare.solid, false, run);
    StockWish wish;
    wish.name = "stock";
    wish.depth = depth;
    wish.region = static_cast<RegionId>(out.model->regions.size() - 1);
    for (const ModelSurface& s : faces.surfaces)
        if (std::find(on.begin(), on.end(), s.name) != on.end())
            for (const MeshFace& f : s.faces) {
                const std::vector<NodeId> ring = faces.mesh.face_corners(f);
                wish.faces.push_back({static_cast<std::int32_t>(ring[0]), static_cast<std::int32_t>(ring[1]),
                                      static_cast<std::int32_t>(ring[2])});
            }
    out.part = field.with_stock(out.bare, wish);
    return out;
}

double sum_of_tets(const Part& part) {
    double out = 0.0;
    for (const auto& t : part.solid->tets) {
        std::array<Vec3, 4> p;
        for (std::size_t k = 0; k < 4; ++k) p[k] = part.solid->points[static_cast<std::size_t>(t[k])];
        const double volume = tet_volume(p);
        EXPECT_GT(volume, 0.0);
        out += volume;
    }
    return out;
}

} // namespace

TEST(Stock, OnOneFaceItIsASlab) {
    for (const char* size : {"mesh.size=1", "mesh.size=0.7"}) {
        const Stocked s = stocked("", {"top"}, 0.25, {size});
        EXPECT_TRUE(s.part.closed) << size;
        EXPECT_NEAR(s.part.volume, 128.0 + 8.0 * 4.0 * 0.25, 1e-9 * 128.0) << size;
        EXPECT_NEAR(sum_of_tets(s.part), s.part.volume, 1e-9 * 128.0) << size;
        EXPECT_NEAR(s.part.stock, 8.0 * 7.85e-9, 1e-15);
        // The angles that are told are those of the mesh with its stock, which is thin.
        ASSERT_FALSE(sharp_places(*s.part.solid, 45.0).empty());
        EXPECT_NEAR(s.part.solid->least_angle, sharp_places(*s.part.solid, 45.0).front().angle, 1e-9);
        EXPECT_EQ(s.part.regions.back().region, "stock");
        EXPECT_NEAR(s.part.regions.back().volume, 8.0, 1e-9);
        // Its faces are planes of the block, further out: every face of the skin lies on one.
        for (const Improved::Face& f : s.part.solid->faces)
            if (f.before < 0) EXPECT_GE(f.sheet, 0);
    }
}

TEST(Stock, IsMitredWhereFacesMeet) {
    const Stocked s = stocked("", {"top", "tip"}, 0.5);
    EXPECT_TRUE(s.part.closed);
    EXPECT_NEAR(s.part.volume, 8.5 * 4.0 * 4.5, 1e-9 * 153.0);
}

TEST(Stock, InABoreMakesItNarrower) {
    const std::string bore =
        "[[region]]\nname = \"hole\"\nrole = \"void\"\ncylinder = { from = [4, 2, 0], to = [4, "
        "2, 4], radius = 1.3 }\n[[surface]]\nname = \"bore\"\non_cylinder = { from = [4, 2, 0], to = [4, 2, "
        "4], radius = 1.3 }\n";
    const std::string half = "[symmetry]\nplanes = [\"y = 2\"]\n";
    for (const std::string& more : {bore, bore + half}) {
        const Stocked s = stocked(more, {"bore"}, 0.2, {"mesh.size=0.5"});
        EXPECT_TRUE(s.part.closed);
        int on_it = 0;
        for (const Vec3& p : s.part.surface.points) {
            const double r = std::hypot(p.x() - 4.0, p.y() - 2.0);
            if (r > 1.29) continue;
            EXPECT_NEAR(r, 1.1, 1e-9) << p.transpose();
            ++on_it;
        }
        EXPECT_GT(on_it, 40);
        // A ring in chords of at most 30 degrees.
        const double ring = 4.0 * pi * (1.3 * 1.3 - 1.1 * 1.1);
        EXPECT_NEAR(s.part.volume - s.bare.volume, ring, 0.03 * ring);
    }
    EXPECT_THROW(stocked(bore, {"bore"}, 1.5), Error);
}
