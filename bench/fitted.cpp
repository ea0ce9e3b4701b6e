// Fitted meshes of thirteen shapes, each at five random rotations: smallest dihedral angle, volumes, speed.
// With an argument: one sphere of about that many thousand tetrahedra, for the speed alone.
#include "base/angles.hpp"
#include "geometry/cad_module.hpp"
#include "mesh/fitted_mesh.hpp"
#include "mesh/mesh_kind.hpp"
#include "mesh/quality.hpp"
#include "study/file_slot.hpp"
#include "study/study.hpp"

#include <Eigen/Geometry>
#include <chrono>
#include <cmath>
#include <cstdio>
#include <cstdlib>
#include <functional>
#include <random>

using namespace upright;

namespace {

struct Maker {
    Study study;
    void add(const std::string& name, Role role, const Shape& shape) {
        RegionCard card;
        card.name = name;
        card.role = role;
        card.material = role == Role::Void ? "" : "m";
        card.extent = shape;
        study.regions.push_back(card);
    }
    void box(const Vec3& a, const Vec3& b, Role role = Role::Design) {
        add("box" + std::to_string(study.regions.size()), role, Box{a, b});
    }
    void rod(const Vec3& a, const Vec3& b, double r, Role role = Role::Design) {
        add("rod" + std::to_string(study.regions.size()), role, Cylinder{a, b, r});
    }
};

struct Case {
    const char* name;
    double size;
    std::function<void(Maker&)> make;
    std::vector<double> volumes; // of each region with material, 0: not compared
    bool forced = false;         // the shape has features that ask for flat elements
};

double sector(double r) {
    return pi * r * r;
}

std::vector<Case> cases() {
    const auto V = Role::Void;
    const auto K = Role::Keep;
    return {
        {"block",
         6,
         [](Maker& m) {
             m.box({0, 0, 0}, {40, 30, 20});
         },
         {24000}},
        {"rod",
         1.2,
         [](Maker& m) {
             m.rod({0, 0, 0}, {0, 0, 50}, 8);
         },
         {sector(8) * 50}},
        {"ball",
         1.25,
         [](Maker& m) {
             m.add("ball", Role::Design, Sphere{{0, 0, 0}, 15});
         },
         {4.0 / 3 * pi * 3375}},
        {"plate with holes",
         2.5,
         [=](Maker& m) {
             m.box({0, 0, 0}, {60, 40, 8});
             for (const Vec3& c : {Vec3(10, 10, 0), Vec3(50, 10, 0), Vec3(10, 30, 0), Vec3(50, 30, 0)})
                 m.rod(c - Vec3(0, 0, 1), c + Vec3(0, 0, 9), 4, V);
         },
         {60 * 40 * 8 - 4 * sector(4) * 8}},
        {"plate with boss",
         2,
         [=](Maker& m) {
             m.box({0, 0, 0}, {50, 50, 8});
             m.rod({25, 25, 8}, {25, 25, 25}, 10);
             m.rod({25, 25, -1}, {25, 25, 26}, 5, V);
         },
         {50 * 50 * 8 - sector(5) * 8, (sector(10) - sector(5)) * 17}},
        {"ring of another region",
         3,
         [=](Maker& m) {
             m.box({0, 0, 0}, {50, 40, 15});
             m.rod({20, 20, 0}, {20, 20, 15}, 10, K);
             m.rod({20, 20, -1}, {20, 20, 16}, 6, V);
         },
         {50 * 40 * 15 - sector(10) * 15, (sector(10) - sector(6)) * 15}},
        {"ring that stands out by a third of the size",
         3,
         [=](Maker& m) {
             m.box({0, 0, 0}, {50, 40, 15});
             m.rod({20, 20, -1}, {20, 20, 16}, 10, K);
             m.rod({20, 20, -1}, {20, 20, 16}, 6, V);
         },
         {50 * 40 * 15 - sector(10) * 15, 0},
         true},
        {"ribs",
         3,
         [](Maker& m) {
             m.box({0, 0, 0}, {60, 40, 4});
             m.box({10, 0, 4}, {12.5, 40, 20});
             m.box({30, 0, 4}, {32.5, 40, 20});
             m.box({50, 0, 4}, {52.5, 40, 20});
         },
         {60 * 40 * 4}},
        {"cone frustum with bore",
         2,
         [=](Maker& m) {
             m.add("cone", Role::Design, Cone{{0, 0, 0}, {0, 0, 30}, 20, 10});
             m.rod({0, 0, -1}, {0, 0, 31}, 5, V);
         },
         {pi * 30 / 3 * (400 + 200 + 100) - sector(5) * 30}},
        {"prism",
         4,
         [](Maker& m) {
             m.add("prism", Role::Design,
                   Prism{{{0, 0}, {40, 0}, {40, 15}, {15, 15}, {15, 40}, {0, 40}}, {0, 0, 0}, {0, 0, 12}});
         },
         {(40 * 15 + 25 * 15) * 12.0}},
        {"crossed rods",
         3,
         [](Maker& m) {
             m.rod({-25, 0, 0}, {25, 0, 0}, 8);
             m.rod({0, -25, 0}, {0, 25, 0}, 6);
         },
         {0}},
        {"skewed bore",
         4,
         [=](Maker& m) {
             m.box({0, 0, 0}, {40, 40, 30});
             m.rod({-5, 8, 6}, {45, 30, 24}, 5, V);
         },
         {0}},
        {"bracket with fillet and 2 mm holes",
         2,
         [](Maker& m) {
             FileBody body;
             body.slot = std::make_shared<FileSlot>();
             body.slot->file = UPRIGHT_TEST_BODIES "/bracket.step";
             m.add("bracket", Role::Design, body);
         },
         {0}},
    };
}

Study base(double size) {
    Study study;
    Material m;
    m.name = "m";
    m.E = 1;
    m.nu = 0.3;
    m.density = 1;
    study.materials.push_back(m);
    study.mesh.kind = fitted_kind();
    study.mesh.size = size;
    return study;
}

} // namespace

int main(int argc, char** argv) {
    using Clock = std::chrono::steady_clock;
    if (argc > 1) {
        const double wanted = 1000.0 * std::atof(argv[1]);
        Maker m{base(0.0)};
        m.add("ball", Role::Design, Sphere{{0, 0, 0}, 10});
        m.study.mesh.size = std::cbrt(4.0 / 3 * pi * 1000 / wanted * 6.0) * 1.02;
        const auto start = Clock::now();
        const FittedMesh mesh = make_fitted_mesh(make_space(m.study));
        const double seconds = std::chrono::duration<double>(Clock::now() - start).count();
        const MeshQuality q = mesh_quality(mesh.mesh);
        std::printf("%zu tetrahedra in %.1f s: %.0f a second, smallest dihedral angle %.1f deg\n",
                    mesh.mesh.elements(), seconds, static_cast<double>(mesh.mesh.elements()) / seconds,
                    *q.smallest_dihedral);
        return 0;
    }
    std::mt19937 random(1);
    std::normal_distribution<double> normal;
    std::printf("| shape | tetrahedra | smallest dihedral, deg | volume error | region error | seconds "
                "|\n|---|---|---|---|---|---|\n");
    int bad = 0;
    for (const Case& c : cases()) {
        double least = 180;
        double volume_error = 0;
        double region_error = 0;
        double seconds = 0;
        std::size_t count = 0;
        std::string failed;
        for (int turn = 0; turn < 5; ++turn) {
            Maker m{base(c.size)};
            c.make(m);
            const Eigen::Quaterniond q =
                Eigen::Quaterniond(normal(random), normal(random), normal(random), normal(random))
                    .normalized();
            for (RegionCard& r : m.study.regions) {
                const Shape inner = std::get<Shape>(r.extent);
                r.extent = Shape(Placed{std::make_shared<const AnyShape>(AnyShape{inner}),
                                        q.toRotationMatrix(), Vec3(3, -2, 5)});
            }
            const auto start = Clock::now();
            try {
                const FittedMesh mesh = make_fitted_mesh(make_space(m.study));
                seconds += std::chrono::duration<double>(Clock::now() - start).count();
                const MeshQuality quality = mesh_quality(mesh.mesh);
                least = std::min(least, *quality.smallest_dihedral);
                count = mesh.mesh.elements();
                std::vector<double> volume(m.study.regions.size());
                for (std::size_t e = 0; e < mesh.mesh.elements(); ++e)
                    volume[index(mesh.mesh.region[e])] += mesh.mesh.volume(e);
                double whole = 0;
                double exact = 0;
                std::size_t k = 0;
                for (std::size_t r = 0; r < volume.size(); ++r) {
                    if (m.study.regions[r].role == Role::Void) continue;
                    if (k < c.volumes.size() && c.volumes[k] > 0) {
                        region_error = std::max(region_error, std::abs(volume[r] / c.volumes[k] - 1));
                        whole += volume[r];
                        exact += c.volumes[k];
                    }
                    ++k;
                }
                if (exact > 0) volume_error = std::max(volume_error, std::abs(whole / exact - 1));
            } catch (const std::exception& bad_mesh) {
                failed = bad_mesh.what();
            }
        }
        if (!failed.empty() || least < (c.forced ? 10 : 20)) ++bad;
        std::printf("| %s | %zu | %.1f | %.2f %% | %.2f %% | %.2f |%s\n", c.name, count, least,
                    100 * volume_error, 100 * region_error, seconds / 5,
                    failed.empty() ? "" : (" " + failed).c_str());
        std::fflush(stdout);
    }
    return bad;
}
