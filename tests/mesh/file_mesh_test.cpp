// Meshes that come from a file: read back as they were written, swept, and refused where they are broken.
#include "mesh/generators.hpp"

#include "published.hpp"
#include "store/vtu.hpp"
#include "support/studies.hpp"

#include <fstream>
#include <gtest/gtest.h>

using namespace upright;

namespace {

double volume_of(const Mesh& mesh) {
    double out = 0.0;
    for (std::size_t e = 0; e < mesh.elements(); ++e) out += mesh.volume(static_cast<ElementId>(e));
    return out;
}

std::string error_of(const std::filesystem::path& file, ElementFamily family = ElementFamily::Solid) {
    try {
        read_mesh_file(file, {}, 1.0, family);
    } catch (const Error& bad) {
        return bad.what();
    }
    return {};
}

} // namespace

TEST(FileMesh, ComesBackWithItsCellsAndSets) {
    const test::TemporaryFolder folder;
    for (const ElementKind kind : {ElementKind::Hex8, ElementKind::Hex20, ElementKind::Tet4,
                                   ElementKind::Tet10, ElementKind::Wedge6}) {
        Mesh mesh = published::unit_mesh(kind, {2, 2, 1});
        for (Vec3& p : mesh.nodes) p = Vec3(2 * p.x(), p.y() + 0.1 * p.x(), 3 * p.z());
        mesh.finish();
        std::vector<double> zone;
        for (std::size_t e = 0; e < mesh.elements(); ++e) zone.push_back(static_cast<double>(e % 3));
        std::vector<double> left;
        for (const Vec3& p : mesh.nodes) left.push_back(p.x() < 1e-9 ? 1.0 : 0.0);
        const auto file = folder.path() / (std::string(traits(kind).name) + ".vtu");
        write_vtu(file, mesh,
                  {{"left", 1, left}, {"wind", 3, std::vector<double>(3 * mesh.nodes.size(), 1.0)}},
                  {{"zone", 1, zone}});
        const FileMesh back = read_mesh_file(file, {}, 10.0, ElementFamily::Solid);
        ASSERT_EQ(back.mesh.elements(), mesh.elements()) << traits(kind).name;
        EXPECT_EQ(back.mesh.kind(ElementId{0}), kind);
        EXPECT_NEAR(volume_of(back.mesh), 1000.0 * volume_of(mesh), 1e-9 * 6000);
        EXPECT_EQ(back.sets.cells.at("zone"), zone);
        EXPECT_EQ(back.sets.points.at("left"), left);
        EXPECT_EQ(back.sets.point_vectors.at("wind"), 3);
    }
}

TEST(FileMesh, APlaneMeshIsSweptToSolids) {
    for (const ElementKind kind : {ElementKind::Quad4, ElementKind::Tri3}) {
        Mesh plane = published::unit_mesh(kind, {3, 2, 1});
        plane.finish();
        const Mesh solid = sweep(plane, Vec3(0.5, 0.0, 4.0), 5);
        EXPECT_EQ(solid.elements(), 5 * plane.elements());
        EXPECT_EQ(solid.nodes.size(), 6 * plane.nodes.size());
        EXPECT_EQ(solid.kind(ElementId{0}),
                  kind == ElementKind::Quad4 ? ElementKind::Hex8 : ElementKind::Wedge6);
        // A way that leans makes the body no larger: area times height.
        EXPECT_NEAR(volume_of(solid), 4.0, 1e-12);
    }
}

TEST(FileMesh, RefusesWhatIsNoMesh) {
    const test::TemporaryFolder folder;
    EXPECT_NE(error_of(folder.path() / "none.vtu"), "");
    EXPECT_NE(error_of(folder.write("empty.vtu", "")).find("is no VTU file"), std::string::npos);
    EXPECT_NE(error_of(folder.write("words.vtu", "Dear Sir,\n")).find("is no VTU file"), std::string::npos);
    // Room for as many components would be made first, and take long; wherever the word lies.
    for (const int before : {0, 5, 20, 50, 70}) {
        const std::size_t padding = before == 0 ? 0 : (1U << 20U) - 80U - static_cast<std::size_t>(before);
        const std::string text =
            "<VTKFile type=\"UnstructuredGrid\"><!--" + std::string(padding, ' ') +
            "--><UnstructuredGrid><Piece NumberOfPoints=\"1\"><Points><DataArray type=\"Float64\" "
            "NumberOfComponents "
            "= '2147483648' format=\"ascii\">0 0 0</DataArray></Points></Piece></UnstructuredGrid></VTKFile>";
        EXPECT_NE(error_of(folder.write("many.vtu", text)).find("has 2147483648 components"),
                  std::string::npos)
            << before;
    }
    Mesh plane = published::unit_mesh(ElementKind::Quad4, {2, 2, 1});
    plane.finish();
    write_vtu(folder.path() / "plane.vtu", plane, {}, {});
    EXPECT_NE(error_of(folder.path() / "plane.vtu").find("holds no solid cells"), std::string::npos);
    EXPECT_EQ(error_of(folder.path() / "plane.vtu", ElementFamily::PlaneStress), "");
    // Cut off in the middle.
    Mesh mesh = published::unit_mesh(ElementKind::Hex8, {2, 2, 2});
    mesh.finish();
    write_vtu(folder.path() / "whole.vtu", mesh, {}, {});
    std::ifstream in(folder.path() / "whole.vtu", std::ios::binary);
    const std::string text((std::istreambuf_iterator<char>(in)), std::istreambuf_iterator<char>());
    EXPECT_NE(error_of(folder.write("cut.vtu", text.substr(0, text.size() / 2))), "");
}

TEST(FileMesh, WhatDoesNotFitTogetherIsNamed) {
    const test::TemporaryFolder folder;
    // Two cells, the second of which and an array can be made wrong.
    const auto said = [&](const std::string& connectivity, const std::string& offsets,
                          const std::string& types, const std::string& region,
                          const std::string& first = "0 0 0") {
        return error_of(folder.write(
            "two.vtu",
            R"(<VTKFile type="UnstructuredGrid" version="0.1" byte_order="LittleEndian"><UnstructuredGrid>
<Piece NumberOfPoints="9" NumberOfCells="2"><Points><DataArray type="Float64" NumberOfComponents="3" format="ascii">
)" + first + R"( 1 0 0 1 1 0 0 1 0 0 0 1 1 0 1 1 1 1 0 1 1 2 0 0</DataArray></Points><Cells>
<DataArray type="Int64" Name="connectivity" format="ascii">0 1 2 3 4 5 6 7 )" +
                connectivity + R"(</DataArray>
<DataArray type="Int64" Name="offsets" format="ascii">)" +
                offsets + R"(</DataArray>
<DataArray type="UInt8" Name="types" format="ascii">)" +
                types + R"(</DataArray></Cells>
<CellData><DataArray type="Float64" Name="region" format="ascii">)" +
                region + R"(</DataArray></CellData>
</Piece></UnstructuredGrid></VTKFile>)"));
    };
    EXPECT_EQ(said("1 8 2 6", "8 12", "12 10", "1 2"), "");
    EXPECT_NE(said("1 8 2 9", "8 12", "12 10", "1 2").find("a cell at point 9, but 9 points"),
              std::string::npos);
    EXPECT_NE(said("1 8 2 -6", "8 12", "12 10", "1 2").find("a cell at point -6"), std::string::npos);
    EXPECT_NE(said("1 8 2 6", "8 11", "12 10", "1 2").find("a tet4 with 3 points"), std::string::npos)
        << said("1 8 2 6", "8 11", "12 10", "1 2");
    EXPECT_NE(said("1 8 2 6", "8 12", "12 10", "1 2", "nan 0 0").find("no place"), std::string::npos)
        << said("1 8 2 6", "8 12", "12 10", "1 2", "nan 0 0");
    EXPECT_NE(said("1 8 2 6", "8 12", "12 10", "1 2", "1e200 0 0").find("no place"), std::string::npos);
    for (const char* offsets : {"8 4", "12 8", "8 99999999999", "-8 12", "8"})
        EXPECT_NE(said("1 8 2 6", offsets, "12 10", "1 2"), "") << offsets;
    EXPECT_NE(said("1 8 2 6", "8 12", "12", "1 2"), "");
    EXPECT_NE(said("1 8 2 6", "8 12", "12 10", "1"), "");
}
