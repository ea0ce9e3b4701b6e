// Files of parts through a reader that is none of ours: the same bodies, the same volume.
#include "part/extract.hpp"
#include "part/format.hpp"
#include "support/studies.hpp"

#include <assimp/Importer.hpp>
#include <assimp/postprocess.h>
#include <assimp/scene.h>

#include <set>

namespace upright {
namespace {

using test::block_study;
using test::study_from;

struct OutsideBody {
    std::string name, material;
    double volume = 0.0;
    Vec3 low = Vec3::Constant(1e300), high = Vec3::Constant(-1e300);
};

std::vector<OutsideBody> read_independently(const std::filesystem::path& file) {
    Assimp::Importer importer;
    const aiScene* scene =
        importer.ReadFile(file.string(), aiProcess_Triangulate | aiProcess_JoinIdenticalVertices);
    EXPECT_NE(scene, nullptr) << file << importer.GetErrorString();
    std::vector<OutsideBody> out;
    if (scene == nullptr) return out;
    for (unsigned m = 0; m < scene->mNumMeshes; ++m) {
        const aiMesh& mesh = *scene->mMeshes[m];
        OutsideBody body;
        body.name = mesh.mName.C_Str();
        body.material = scene->mMaterials[mesh.mMaterialIndex]->GetName().C_Str();
        const auto at = [&](unsigned n) {
            const aiVector3D& v = mesh.mVertices[n];
            return Vec3(v.x, v.y, v.z);
        };
        for (unsigned f = 0; f < mesh.mNumFaces; ++f) {
            const aiFace& face = mesh.mFaces[f];
            EXPECT_EQ(face.mNumIndices, 3U);
            body.volume += at(face.mIndices[0]).dot(at(face.mIndices[1]).cross(at(face.mIndices[2]))) / 6.0;
        }
        for (unsigned n = 0; n < mesh.mNumVertices; ++n) {
            body.low = body.low.cwiseMin(at(n));
            body.high = body.high.cwiseMax(at(n));
        }
        out.push_back(body);
    }
    return out;
}

// The reader of scenes knows no archives with 64-bit entries: one of Python packs the file anew.
std::filesystem::path packed_anew(const std::filesystem::path& file) {
    auto out = file;
    out.replace_filename("packed-" + file.filename().string());
    const std::string command = "python3 -c 'import sys, zipfile\n"
                                "old = zipfile.ZipFile(sys.argv[1])\n"
                                "new = zipfile.ZipFile(sys.argv[2], \"w\")\n"
                                "[new.writestr(n, old.read(n)) for n in old.namelist()]\n"
                                "new.close()' '" +
                                file.string() + "' '" + out.string() + "'";
    EXPECT_EQ(std::system(command.c_str()), 0);
    return out;
}

// Half of a block with a kept head of another material, a bore through it, and a wavy free surface.
Study carved_study() {
    return study_from(
        "title = \"Kopf & <Fuß>\"\n" +
            block_study("[[material]]\nname = \"bronze\"\nE = 110000\nnu = 0.34\ndensity = "
                        "8.7e-9\n[[region]]\nname = \"head\"\nrole = \"keep\"\nmaterial = "
                        "\"bronze\"\nbox = [[6, 0, 0], [8, 4, 4]]\n[[region]]\nname = \"bore\"\n"
                        "role = \"void\"\ncylinder = { from = [7, 2, 0], to = [7, 2, 4], radius = "
                        "0.8 }\n[symmetry]\nplanes = [\"y = 2\"]\n"),
        {"surface.tip.of=head", "mesh.size=0.5"});
}

Part wavy(const Model& model) {
    std::vector<double> density;
    for (const Vec3& c : model.mesh.element_centers())
        density.push_back(std::clamp(0.5 + (2.4 + 0.6 * std::sin(c.x()) - c.z()), 0.0, 1.0));
    return PartField(model, density).extract({});
}

} // namespace

TEST(IndependentReader, FindsTheSameVolumeInEveryFormat) {
    const Study study = carved_study();
    const Model model = build_model(study);
    const Part part = wavy(model);
    const test::TemporaryFolder folder;
    for (const std::string ending : {".stl", ".obj", ".ply"}) {
        const auto file = folder.path() / ("teil" + ending);
        format_of(part_formats(), file)
            .write({part.surface, model.units.length, model.title, &part, &model, {}}, file);
        const std::vector<OutsideBody> bodies = read_independently(file);
        double volume = 0.0;
        for (const OutsideBody& b : bodies) volume += b.volume;
        EXPECT_NEAR(volume, part.volume, 2e-6 * part.volume) << ending; // single precision
    }
}

TEST(IndependentReader, FindsRegionsMaterialsAndUnitsIn3mf) {
    const Study study = carved_study();
    const Model model = build_model(study);
    const Part part = wavy(model);
    const test::TemporaryFolder folder;
    const auto file = folder.path() / "teil.3mf";
    format_of(part_formats(), file)
        .write({part.surface, model.units.length, model.title, &part, &model, {}}, file);
    const std::vector<OutsideBody> bodies = read_independently(packed_anew(file));
    ASSERT_EQ(bodies.size(), 2U);
    ASSERT_EQ(part.regions.size(), 2U);
    // Of both halves, each region closed by itself.
    for (std::size_t b = 0; b < 2; ++b)
        EXPECT_NEAR(bodies[b].volume, part.regions[b].volume, 2e-6 * part.volume) << bodies[b].name;
    EXPECT_NE(bodies[0].material.find("steel"), std::string::npos) << bodies[0].material;
    EXPECT_NE(bodies[1].material.find("bronze"), std::string::npos) << bodies[1].material;
    EXPECT_NEAR(bodies[1].low.x(), 6.0, 1e-6);
    EXPECT_NEAR(bodies[1].high.y(), 4.0, 1e-6);
    EXPECT_NEAR(bodies[1].low.y(), 0.0, 1e-6);
}

// A length that the format has no word for goes by millimetres.
TEST(IndependentReader, ALengthWithoutAWordIsMillimetres) {
    const Study study = study_from(block_study(), {});
    const Model model = build_model(study);
    const Part part = PartField(model, std::vector<double>(model.mesh.elements(), 1.0)).extract({});
    const test::TemporaryFolder folder;
    const auto file = folder.path() / "teil.3mf";
    format_of(part_formats(), file).write({part.surface, "dm", model.title, &part, &model, {}}, file);
    const std::vector<OutsideBody> bodies = read_independently(packed_anew(file));
    ASSERT_EQ(bodies.size(), 1U);
    EXPECT_NEAR(bodies[0].high.x(), 800.0, 1e-3);
}

} // namespace upright
