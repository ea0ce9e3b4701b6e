// What makes tetrahedra better must not change what they are a mesh of.
#include "mesh/tet_optimizer.hpp"

#include "base/edge_key.hpp"
#include "mesh/quality.hpp"

#include <gtest/gtest.h>
#include <map>
#include <random>

using namespace upright;

namespace {

// The box -1..1 (times `edge`): patches 0..5 are -x +x -y +y -z +z, curves 0..11 its edges.
class BoxSurface : public SurfaceGeometry {
  public:
    Vec3 on_patch(std::int32_t patch, const Vec3& p) const override {
        Vec3 out = p;
        out[patch / 2] = patch % 2 == 0 ? 0.0 : 1.0;
        return out;
    }
    Vec3 patch_normal(std::int32_t patch, const Vec3& /*p*/) const override {
        return (patch % 2 == 0 ? -1.0 : 1.0) * Vec3::Unit(patch / 2);
    }
    Vec3 on_curve(std::int32_t curve, const Vec3& p) const override {
        const int along = curve / 4;
        Vec3 out = Vec3::Zero();
        out[(along + 1) % 3] = curve % 2;
        out[(along + 2) % 3] = curve / 2 % 2;
        out[along] = p[along];
        return out;
    }
};

// The unit box in n^3 cells of six tetrahedra, inner nodes moved at random; two regions, left and right of
// x = 1/2 (patch 6 between them), or one.
TetMesh box_mesh(int n, double shake, bool two, unsigned seed) {
    TetMesh mesh;
    std::mt19937 random(seed);
    std::uniform_real_distribution<double> in(-shake / n, shake / n);
    const auto at = [&](int i, int j, int k) { return (k * (n + 1) + j) * (n + 1) + i; };
    for (int k = 0; k <= n; ++k)
        for (int j = 0; j <= n; ++j)
            for (int i = 0; i <= n; ++i) {
                TetMesh::Node node;
                const std::array<int, 3> ijk{i, j, k};
                int walls = 0;
                for (int a = 0; a < 3; ++a) {
                    node.p[a] = static_cast<double>(ijk[static_cast<std::size_t>(a)]) / n;
                    if (node.p[a] == 0.0) node.patches.push_back(2 * a), ++walls;
                    if (node.p[a] == 1.0) node.patches.push_back(2 * a + 1), ++walls;
                }
                const bool between = two && 2 * i == n;
                node.size = 1.0 / n;
                node.on = walls == 0 ? 3 : walls == 1 ? 2 : walls == 2 ? 1 : 0;
                if (node.on == 2) node.entity = node.patches.front();
                if (node.on == 1)
                    for (int a = 0; a < 3; ++a)
                        if (node.p[a] > 0.0 && node.p[a] < 1.0)
                            node.entity = 4 * a + (node.p[(a + 1) % 3] == 1.0 ? 1 : 0) +
                                          (node.p[(a + 2) % 3] == 1.0 ? 2 : 0);
                if (between) { // kept where they are: the test's plane in the middle has no geometry
                    node.patches.push_back(6);
                    node.on = 0;
                    node.entity = -1;
                }
                if (node.on == 3)
                    for (int a = 0; a < 3; ++a) node.p[a] += in(random);
                mesh.nodes.push_back(node);
            }
    static const int orders[6][3] = {{0, 1, 2}, {0, 2, 1}, {1, 0, 2}, {1, 2, 0}, {2, 0, 1}, {2, 1, 0}};
    for (int k = 0; k < n; ++k)
        for (int j = 0; j < n; ++j)
            for (int i = 0; i < n; ++i)
                for (const auto& order : orders) {
                    std::array<int, 3> c{i, j, k};
                    TetMesh::Tet tet;
                    tet.node[0] = at(c[0], c[1], c[2]);
                    for (std::size_t s = 0; s < 3; ++s) {
                        ++c[static_cast<std::size_t>(order[s])];
                        tet.node[s + 1] = at(c[0], c[1], c[2]);
                    }
                    const bool odd = (order[0] + 1) % 3 != order[1];
                    if (odd) std::swap(tet.node[2], tet.node[3]);
                    tet.region = two && 2 * i >= n ? 1 : 0;
                    mesh.tets.push_back(tet);
                }
    for (int a = 0; a < 6; ++a) mesh.patch_regions.push_back({0, -1});
    if (two) {
        mesh.patch_regions[1] = {1, -1};
        mesh.patch_regions.push_back({0, 1});
    }
    // Edges of the box.
    for (const TetMesh::Tet& t : mesh.tets)
        for (const std::int32_t a : t.node)
            for (const std::int32_t b : t.node) {
                if (a >= b) continue;
                const auto& p = mesh.nodes[static_cast<std::size_t>(a)].p;
                const auto& q = mesh.nodes[static_cast<std::size_t>(b)].p;
                int shared = 0;
                for (int axis = 0; axis < 3; ++axis)
                    shared += p[axis] == q[axis] && (p[axis] == 0.0 || p[axis] == 1.0) ? 1 : 0;
                if (shared >= 2) mesh.segments.insert(edge_key(a, b));
            }
    return mesh;
}

std::array<Vec3, 4> corners(const TetMesh& mesh, const TetMesh::Tet& t) {
    std::array<Vec3, 4> out;
    for (std::size_t i = 0; i < 4; ++i) out[i] = mesh.nodes[static_cast<std::size_t>(t.node[i])].p;
    return out;
}

struct Facts {
    std::map<std::int32_t, double> volume;
    double smallest = 180.0, largest = 0.0, least_volume = 1e300;
    std::size_t count = 0;
};
Facts facts_of(const TetMesh& mesh) {
    Facts out;
    for (const TetMesh::Tet& t : mesh.tets) {
        if (!t.alive) continue;
        const std::array<Vec3, 4> p = corners(mesh, t);
        const double v = (p[1] - p[0]).cross(p[2] - p[0]).dot(p[3] - p[0]) / 6.0;
        out.least_volume = std::min(out.least_volume, v);
        out.volume[t.region] += v;
        for (const double angle : dihedral_angles(p)) {
            out.smallest = std::min(out.smallest, angle);
            out.largest = std::max(out.largest, angle);
        }
        ++out.count;
    }
    return out;
}

// Each face lies between two tetrahedra, or on the box.
void expect_conforming(const TetMesh& mesh) {
    std::map<std::array<std::int32_t, 3>, int> faces;
    for (const TetMesh::Tet& t : mesh.tets) {
        if (!t.alive) continue;
        for (std::size_t f = 0; f < 4; ++f) {
            std::array<std::int32_t, 3> face{t.node[(f + 1) % 4], t.node[(f + 2) % 4], t.node[(f + 3) % 4]};
            std::sort(face.begin(), face.end());
            ++faces[face];
        }
    }
    double area = 0.0;
    for (const auto& [face, times] : faces) {
        ASSERT_LE(times, 2);
        if (times == 2) continue;
        const Vec3& a = mesh.nodes[static_cast<std::size_t>(face[0])].p;
        const Vec3& b = mesh.nodes[static_cast<std::size_t>(face[1])].p;
        const Vec3& c = mesh.nodes[static_cast<std::size_t>(face[2])].p;
        area += 0.5 * (b - a).cross(c - a).norm();
    }
    EXPECT_NEAR(area, 6.0, 1e-9); // of the box: nothing torn inside
}

} // namespace

TEST(TetOptimizer, ShakenTetrahedraBecomeBetterAndFillTheSameBox) {
    const BoxSurface box;
    for (const unsigned seed : {1U, 2U, 3U}) {
        TetMesh mesh = box_mesh(5, 0.3, false, seed);
        const Facts before = facts_of(mesh);
        ASSERT_GT(before.least_volume, 0.0);
        ASSERT_LT(before.smallest, 16.0);
        optimise_tets(mesh, box, 25.0);
        const Facts after = facts_of(mesh);
        EXPECT_GT(after.least_volume, 0.0);
        EXPECT_NEAR(after.volume.at(0), 1.0, 1e-10);
        EXPECT_GT(after.smallest, 20.0) << before.smallest;
        EXPECT_LT(after.largest, 155.0) << before.largest;
        expect_conforming(mesh);
    }
}

TEST(TetOptimizer, NodesStayOnWhatTheyLieOn) {
    const BoxSurface box;
    TetMesh mesh = box_mesh(4, 0.3, false, 4);
    const TetMesh start = mesh;
    optimise_tets(mesh, box, 30.0);
    std::vector<bool> used(mesh.nodes.size(), false);
    for (const TetMesh::Tet& t : mesh.tets)
        if (t.alive)
            for (const std::int32_t n : t.node) used[static_cast<std::size_t>(n)] = true;
    for (std::size_t n = 0; n < start.nodes.size(); ++n) {
        const TetMesh::Node& node = mesh.nodes[n];
        if (start.nodes[n].on == 0) {
            EXPECT_EQ(node.p, start.nodes[n].p);
            EXPECT_TRUE(used[n]); // a corner is never collapsed away
        }
        if (!used[n]) continue;
        for (const std::int32_t patch : node.patches)
            EXPECT_NEAR((box.on_patch(patch, node.p) - node.p).norm(), 0.0, 1e-12);
        if (node.on == 1) EXPECT_NEAR((box.on_curve(node.entity, node.p) - node.p).norm(), 0.0, 1e-12);
    }
}

TEST(TetOptimizer, RegionsKeepTheirVolumes) {
    const BoxSurface box;
    TetMesh mesh = box_mesh(6, 0.3, true, 5);
    const Facts before = facts_of(mesh);
    optimise_tets(mesh, box, 25.0);
    const Facts after = facts_of(mesh);
    EXPECT_NEAR(before.volume.at(0), 0.5, 1e-10);
    EXPECT_NEAR(after.volume.at(0), 0.5, 1e-10);
    EXPECT_NEAR(after.volume.at(1), 0.5, 1e-10);
    EXPECT_GE(after.smallest, before.smallest);
    expect_conforming(mesh);
}

TEST(TetOptimizer, WhatIsGoodEnoughIsLeftAlone) {
    const BoxSurface box;
    TetMesh mesh = box_mesh(3, 0.0, false, 6); // 45 to 90 degrees
    const TetMesh start = mesh;
    optimise_tets(mesh, box, 20.0);
    ASSERT_EQ(mesh.tets.size(), start.tets.size());
    for (std::size_t t = 0; t < mesh.tets.size(); ++t) EXPECT_EQ(mesh.tets[t].node, start.tets[t].node);
    for (std::size_t n = 0; n < mesh.nodes.size(); ++n) EXPECT_EQ(mesh.nodes[n].p, start.nodes[n].p);
}
