// Files of parts read back by readers of their own: the same closed body, in the same volume.
#include "part/extract.hpp"
#include "part/format.hpp"
#include "part/part_mesh.hpp"
#include "support/studies.hpp"

#include <cstring>
#include <fstream>
#include <map>
#include <sstream>

namespace upright {
namespace {

using test::block_study;
using test::study_from;

Part half_block(const Model& model) {
    std::vector<double> density;
    for (const Vec3& c : model.mesh.element_centers()) density.push_back(c.x() < 5 ? 1.0 : 0.0);
    return PartField(model, density).extract({});
}

Triangles read_obj(const std::filesystem::path& file) {
    Triangles out;
    std::ifstream in(file);
    for (std::string line; std::getline(in, line);) {
        std::istringstream words(line);
        std::string word;
        words >> word;
        if (word == "v") {
            Vec3 p;
            words >> p[0] >> p[1] >> p[2];
            out.points.push_back(p);
        } else if (word == "f") {
            std::array<std::int32_t, 3> t{};
            words >> t[0] >> t[1] >> t[2];
            for (std::int32_t& n : t) --n;
            out.corners.push_back(t);
        } else {
            EXPECT_TRUE(word == "#" || word == "g") << line;
        }
    }
    return out;
}

Triangles read_ply(const std::filesystem::path& file) {
    std::ifstream in(file, std::ios::binary);
    const std::string all{std::istreambuf_iterator<char>(in), std::istreambuf_iterator<char>()};
    const auto count = [&](const std::string& what) {
        const auto at = all.find("element " + what + " ");
        return std::stoul(all.substr(at + 9 + what.size()));
    };
    const char* at = all.data() + all.find("end_header\n") + 11;
    Triangles out;
    for (std::size_t n = 0; n < count("vertex"); ++n, at += 24) {
        Vec3 p;
        std::memcpy(p.data(), at, 24);
        out.points.push_back(p);
    }
    for (std::size_t t = 0; t < count("face"); ++t, at += 14) {
        EXPECT_EQ(*at, 3);
        std::array<std::int32_t, 3> corners{};
        std::memcpy(corners.data(), at + 1, 12);
        out.corners.push_back(corners);
    }
    EXPECT_EQ(at, all.data() + all.size());
    return out;
}

} // namespace

TEST(PartFormats, SurfacesComeBackWhole) {
    const Model model = build_model(study_from("title = \"Zwei\\nZeilen é\"\n" + block_study()));
    const Part part = half_block(model);
    const test::TemporaryFolder folder;
    for (const std::string ending : {".obj", ".ply"}) {
        const auto file = folder.path() / ("teil é" + ending);
        format_of(part_formats(), file)
            .write({part.surface, model.units.length, model.title, &part, &model, {}}, file);
        const Triangles back = ending == ".obj" ? read_obj(file) : read_ply(file);
        EXPECT_TRUE(closed(back)) << ending;
        EXPECT_NEAR(volume(back), part.volume, 1e-9 * part.volume) << ending;
        EXPECT_EQ(back.corners.size(), part.surface.corners.size());
    }
}

// As a mesh file of another study: regions by their arrays, surfaces by theirs, the same volume and loads.
TEST(PartFormats, AVtuIsAMeshFileOfAStudy) {
    const std::string mount = "[[region]]\nname = \"mount\"\nrole = \"keep\"\nmaterial = \"steel\"\n"
                              "box = [[7, 0, 0], [8, 4, 4]]\n[symmetry]\nplanes = [\"y = 2\"]\n";
    const Study study = study_from(block_study(mount), {"surface.tip.of=mount"});
    const Model model = build_model(study);
    std::vector<double> density;
    for (const Vec3& c : model.mesh.element_centers()) density.push_back(c.z() < 2.2 ? 1.0 : 0.0);
    const Part part = PartField(model, density).extract({});
    const Model on_part = build_part_model(study, *part.solid, false, model);
    PartToWrite written{part.surface, "mm", "part", &part, &model, {}};
    for (const ModelSurface& s : on_part.surfaces) {
        std::vector<bool> on(part.solid->points.size(), false);
        for (const NodeId n : s.nodes) on[index(n)] = true;
        written.surfaces.emplace_back(s.name, on);
    }
    const test::TemporaryFolder folder;
    const auto file = folder.path() / "part.vtu";
    format_of(part_formats(), file).write(written, file);
    folder.write("again.toml", std::string("units = [\"mm\", \"N\", \"s\"]\n") + test::steel + R"(
[[region]]
name = "block"
role = "design"
material = "steel"
cells = { array = "block" }
[[region]]
name = "mount"
role = "keep"
material = "steel"
cells = { array = "mount" }
[[surface]]
name = "root"
set = "root"
[[surface]]
name = "tip"
set = "tip"
[mesh]
kind = "file"
file = "part.vtu"
)");
    const Model again = build_model(load_study(folder.path() / "again.toml"));
    double volume = 0.0;
    for (const ModelRegion& r : again.regions) volume += r.volume;
    EXPECT_NEAR(volume, part.volume, 1e-9 * part.volume);
    EXPECT_NEAR(again.regions[1].volume, part.regions[1].volume, 1e-9);
    EXPECT_NEAR(again.surfaces[1].area, 16.0, 1e-6);                           // the whole tip
    EXPECT_NEAR(again.surfaces[0].area, 2.0 * on_part.surfaces[0].area, 1e-6); // of the half
}

} // namespace upright
