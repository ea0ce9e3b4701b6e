// A STEP, STL or OBJ file meshed: body-row FILE [DIVISIONS]. All its bodies become regions of one fitted mesh
// whose size is its largest extent by DIVISIONS (15). Prints
// file,bodies,triangles,tetrahedra,seconds to read,seconds to mesh,smallest dihedral angle,share of
// tetrahedra below 10 degrees,volume of the mesh by that of the bodies, and then a line for each remark
// ("# ..."); or file,bodies,triangles,refused: the reason.
#include "base/angles.hpp"
#include "geometry/file_body.hpp"
#include "mesh/fitted_mesh.hpp"
#include "mesh/mesh_kind.hpp"
#include "mesh/quality.hpp"
#include "study/file_slot.hpp"

#include <Eigen/Geometry>
#include <algorithm>
#include <chrono>
#include <cmath>
#include <cstdio>
#include <cstdlib>

using namespace upright;

int main(int argc, char** argv) {
    if (argc < 2) {
        std::fprintf(stderr, "usage: body-row FILE [DIVISIONS]\n");
        return 2;
    }
    const std::filesystem::path file = argv[1];
    const double divisions = argc > 2 ? std::atof(argv[2]) : 15.0;
    using Clock = std::chrono::steady_clock;
    const auto since = [](Clock::time_point from) {
        return std::chrono::duration<double>(Clock::now() - from).count();
    };
    std::size_t bodies = 0;
    std::size_t triangles = 0;
    double reading = 0.0;
    try {
        auto start = Clock::now();
        FileSlot whole;
        whole.file = file;
        const BodyFile all = *shared_bodies(whole);
        reading = since(start);
        bodies = all.bodies.size();
        Study study;
        Bounds box;
        double volume = 0.0;
        for (const auto& body : all.bodies) {
            triangles += body->mesh().triangles.size();
            box.include(body->bounds().low);
            box.include(body->bounds().high);
            volume += body->volume();
            RegionCard card;
            card.name = body->name();
            card.role = Role::Design;
            card.material = "m";
            auto slot = std::make_shared<FileSlot>();
            slot->file = file;
            slot->body = body->name();
            card.extent = FileBody{slot};
            study.regions.push_back(card);
        }
        study.mesh.kind = fitted_kind();
        study.mesh.size = box.size().maxCoeff() / divisions;
        start = Clock::now();
        const FittedMesh fitted = make_fitted_mesh(make_space(study));
        const double meshing = since(start);
        const Mesh& mesh = fitted.mesh;
        double least = 180.0;
        double inside = 0.0;
        std::size_t sharp = 0;
        for (std::size_t e = 0; e < mesh.elements(); ++e) {
            const NodeRange ids = mesh.nodes_of(static_cast<ElementId>(e));
            std::array<Vec3, 4> p;
            for (std::size_t i = 0; i < 4; ++i) p[i] = mesh.nodes[index(ids[i])];
            inside += (p[1] - p[0]).cross(p[2] - p[0]).dot(p[3] - p[0]) / 6.0;
            const double angle = std::asin(std::clamp(least_sine(p), 0.0, 1.0)) * 180.0 / pi;
            least = std::min(least, angle);
            if (angle < 10.0) ++sharp;
        }
        std::printf("%s,%zu,%zu,%zu,%.2f,%.2f,%.2f,%.4f,%.5f\n", file.filename().c_str(), bodies, triangles,
                    mesh.elements(), reading, meshing, least,
                    static_cast<double>(sharp) / static_cast<double>(mesh.elements()), inside / volume);
        for (const std::string& remark : fitted.remarks) std::printf("# %s\n", remark.c_str());
    } catch (const std::exception& bad) {
        std::printf("%s,%zu,%zu,refused: %s\n", file.filename().c_str(), bodies, triangles, bad.what());
        return 1;
    }
    return 0;
}
