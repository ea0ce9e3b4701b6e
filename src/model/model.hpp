// The solver-ready model: mesh, named sets, materials, supports, loads and cases. It needs no study any more.
#pragma once

#include "mesh/mesh.hpp"

#include <Eigen/Core>

#include <optional>
#include <string>
#include <vector>

namespace upright {

struct ModelRegion {
    std::string name;
    Role role = Role::Design;
    int material = -1; // index into Model::materials; -1 for a void
    std::size_t elements = 0;
    double volume = 0.0;
    double mass = 0.0; // all solid
};

// A named piece of the boundary.
struct ModelSurface {
    std::string name;
    std::vector<MeshFace> faces;
    std::vector<NodeId> nodes; // sorted
    double area = 0.0;
    Vec3 centroid = Vec3::Zero();
    Vec3 normal = Vec3::Zero(); // mean outward normal; its length is 1 only where the surface is flat
};

// A named place and the node that stands for it.
struct ModelPoint {
    std::string name;
    Vec3 at = Vec3::Zero();
    NodeId node{};
    double off = 0.0; // distance between the two
};

// One displacement component of one node, held at zero.
struct HeldDirection {
    NodeId node{};
    int axis = 0;
    friend bool operator<(const HeldDirection& a, const HeldDirection& b) {
        return a.node != b.node ? a.node < b.node : a.axis < b.axis;
    }
    friend bool operator==(const HeldDirection& a, const HeldDirection& b) {
        return a.node == b.node && a.axis == b.axis;
    }
};

struct ModelSupport {
    std::string name;
    std::vector<std::string> on; // surfaces and points it acts on
    std::array<bool, 3> hold{};
    std::vector<HeldDirection> held; // sorted
};

struct NodalForce {
    NodeId node{};
    Vec3 force = Vec3::Zero();
};

struct ModelLoad {
    std::string name;
    std::vector<std::string> on; // surfaces and points it acts on
    std::string kind;            // "force", "pressure" or "gravity"
    std::vector<NodalForce> forces;
    std::optional<Vec3> gravity; // acceleration; its forces depend on density
    double pressure = 0.0;
};

struct ModelCase {
    std::string name;
    std::vector<std::size_t> supports;
    std::vector<std::pair<std::size_t, double>> loads; // index and factor
    double weight = 1.0;
};

struct Model {
    UnitSystem units;
    Mesh mesh;
    Painting painting; // how the elements came to their regions
    ElementFamily family = ElementFamily::Solid;
    Formulation formulation = Formulation::Enhanced;
    std::vector<Material> materials;
    std::vector<ModelRegion> regions; // as in the study
    std::vector<ModelSurface> surfaces;
    std::vector<ModelPoint> points;
    std::vector<ModelSupport> supports;
    std::vector<HeldDirection> symmetry; // held in every case
    std::vector<ModelLoad> loads;
    std::vector<ModelCase> cases;

    const Material& material(ElementId e) const {
        return materials[static_cast<std::size_t>(regions[index(mesh.region[index(e)])].material)];
    }
    Role role(ElementId e) const { return regions[index(mesh.region[index(e)])].role; }
    // All directions held in a case, symmetry planes included; sorted, each once.
    std::vector<HeldDirection> held(const ModelCase& c) const;
    // The nodal forces of a case (dimension() per node, node by node) for the element densities given.
    Eigen::VectorXd forces(const ModelCase& c, const std::vector<double>& density) const;
    // Displacement components: dimension() for each node.
    std::size_t freedoms() const { return mesh.nodes.size() * static_cast<std::size_t>(mesh.dimension()); }
};

// Builds the model of a checked study. Throws Error (Input) for what only the mesh can show.
Model build_model(const Study& study);

// The force and the moment about the origin of a load (full material for gravity).
struct Resultant {
    Vec3 force = Vec3::Zero();
    Vec3 moment = Vec3::Zero();
};
Resultant resultant(const Model& model, const ModelLoad& load);
Resultant resultant(const Model& model, const ModelCase& c);

} // namespace upright
