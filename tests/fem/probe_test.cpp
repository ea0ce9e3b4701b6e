#include "fem/probe.hpp"

#include "published.hpp"

#include <gtest/gtest.h>
#include <random>

using namespace upright;

namespace {

// A block of cells that are no boxes: a smooth bend of the unit cube, edges of second-order cells included.
Vec3 bent(const Vec3& p) {
    return {p.x() + 0.1 * p.y() * p.z(), p.y() + 0.08 * p.x() * p.x(), p.z() - 0.07 * p.x() * p.y()};
}

Mesh bent_block(ElementKind kind) {
    Mesh mesh = published::unit_mesh(kind, {3, 2, 2});
    for (Vec3& p : mesh.nodes) p = bent(p);
    mesh.finish();
    return mesh;
}

} // namespace

TEST(Probe, FindsPlacesInsideAndInterpolatesThem) {
    for (const ElementKind kind : {ElementKind::Hex8, ElementKind::Hex20, ElementKind::Tet4,
                                   ElementKind::Tet10, ElementKind::Wedge6}) {
        const Mesh mesh = bent_block(kind);
        std::mt19937 random(3);
        const auto share = [&] { return 0.05 + 0.9 * static_cast<double>(random()) / 4294967295.0; };
        for (int i = 0; i < 60; ++i) {
            const Vec3 at = bent(Vec3(share(), share(), share()));
            const Probe probe = find_probe(mesh, at);
            // Faces of first-order cells cut corners of the bend: the place may lie a little outside.
            EXPECT_LT(probe.off, 0.02) << traits(kind).name;
            EXPECT_NEAR(probe.values.sum(), 1.0, 1e-10);
            Vec3 back = Vec3::Zero();
            const NodeRange ids = mesh.nodes_of(probe.element);
            for (std::size_t n = 0; n < ids.size(); ++n)
                back += probe.values[static_cast<Eigen::Index>(n)] * mesh.nodes[index(ids[n])];
            EXPECT_LT((back - probe.place).norm(), 1e-8) << traits(kind).name;
            EXPECT_NEAR((probe.place - at).norm(), probe.off, 1e-9);
        }
    }
}

TEST(Probe, NodesAreFoundAtThemselves) {
    const Mesh mesh = bent_block(ElementKind::Hex8);
    for (std::size_t n = 0; n < mesh.nodes.size(); ++n) {
        const Probe probe = find_probe(mesh, mesh.nodes[n]);
        EXPECT_LT(probe.off, 1e-9);
        const NodeRange ids = mesh.nodes_of(probe.element);
        double own = 0.0;
        for (std::size_t i = 0; i < ids.size(); ++i)
            if (index(ids[i]) == n) own = probe.values[static_cast<Eigen::Index>(i)];
        EXPECT_NEAR(own, 1.0, 1e-7);
    }
}

TEST(Probe, PlacesOutsideAreBroughtToTheBody) {
    Mesh mesh = published::unit_mesh(ElementKind::Hex8, {4, 4, 4});
    mesh.finish();
    const Probe face = find_probe(mesh, Vec3(0.3, 0.4, 1.5));
    EXPECT_NEAR(face.off, 0.5, 1e-9);
    EXPECT_LT((face.place - Vec3(0.3, 0.4, 1.0)).norm(), 1e-9);
    const Probe corner = find_probe(mesh, Vec3(2, 2, 2));
    EXPECT_NEAR(corner.off, std::sqrt(3.0), 1e-9);
    EXPECT_LT((corner.place - Vec3(1, 1, 1)).norm(), 1e-9);
}
