// The solver-ready model: mesh, named sets, materials, couplings, supports, loads and cases, and what is
// asked of it: responses, goal, making rules and run, names resolved. Nothing behind it needs the study.
//
// Displacement components ("freedoms") are numbered node by node, mesh.freedoms() each; the reference points
// of couplings follow, three translations and three rotations each (two and one in the plane).
#pragma once

#include "base/id_vector.hpp"
#include "geometry/region_field.hpp"
#include "mesh/mesh.hpp"
#include "model/constraints.hpp"

#include <Eigen/Core>

#include <algorithm>
#include <cmath>
#include <filesystem>
#include <optional>
#include <string>
#include <vector>

namespace upright {

struct ModelRegion {
    std::string name;
    Role role = Role::Design;
    MaterialId material = MaterialId::None; // None for a void
    std::size_t elements = 0;
    double volume = 0.0;
    double mass = 0.0;  // all solid
    PaintedCells cells; // how it fared while painting
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
    std::string of;   // the surface whose centroid it is, or empty; not kept in model.h5
};

struct ModelCoupling {
    std::string name;
    Place place; // of its card; not kept in model.h5
    bool rigid = true;
    std::vector<std::string> surfaces;
    Vec3 at = Vec3::Zero();
    std::vector<NodeId> nodes; // sorted
    std::vector<Equation> equations;
};

// Six springs between two reference points, or one and the ground.
struct ModelJoint {
    std::string name;
    std::array<CouplingId, 2> ends{CouplingId::None, CouplingId::None}; // None: the ground
    Vec3 axis = Vec3::UnitZ();
    std::array<double, 4> stiffness{}; // axial, shear, torsion, bending
    std::vector<std::size_t> freedoms; // of the ends that are couplings
    Eigen::MatrixXd matrix;            // beside `freedoms`

    bool grounded() const { return ends[0] == CouplingId::None || ends[1] == CouplingId::None; }
};

struct ModelMass {
    std::string name;
    std::vector<std::string> on;
    double value = 0.0;
    Vec3 inertia = Vec3::Zero();
    // Mass (or inertia) on single freedoms: diagonal.
    std::vector<Term> diagonal;
    // The same mass as shares at places, for loads that act on mass.
    struct Share {
        std::size_t freedom = 0; // of x; y and z follow
        Vec3 at = Vec3::Zero();
        double mass = 0.0;
    };
    std::vector<Share> shares;
};

struct ModelBond {
    std::string name;
    std::array<std::string, 2> between;
    std::size_t tied = 0; // nodes of the first surface that found a place on the second
    std::size_t loose = 0;
    double widest = 0.0; // the largest gap bridged
    std::vector<Equation> equations;
};

struct ModelSupport {
    std::string name;
    Place place;                 // of its card; not kept in model.h5
    std::vector<std::string> on; // surfaces, points and couplings it acts on
    std::array<bool, 6> hold{};
    std::string frame; // its name; empty: global
    bool cylindrical = false;
    std::array<double, 6> move{};
    std::size_t nodes = 0; // nodes and reference points held
    std::vector<Equation> equations;
    std::vector<std::size_t> held; // freedoms held along an axis, sorted
    // One direction each for figures: where, along what, of what sense.
    std::vector<std::string> words; // "x", "r", "rz", …

    bool moves() const;
};

struct Spin {
    Vec3 origin = Vec3::Zero(), axis = Vec3::UnitZ();
    double speed = 0.0;    // rad / time
    double speed_up = 0.0; // rad / time^2
};

struct ModelLoad {
    std::string name;
    std::vector<std::string> on; // surfaces, points and couplings it acts on
    LoadKind kind = LoadKind::Force;
    std::vector<Term> forces;    // on freedoms
    std::optional<Vec3> gravity; // acceleration; its forces depend on density
    std::optional<Spin> spin;    // the same
    double heat = 0.0;           // K; its forces depend on stiffness and are made in fem/
    double pressure = 0.0;
    Covers covers = Covers::Unsaid; // of its card; not kept in model.h5

    bool of_body() const { return gravity || spin; }
    // Acceleration that the material resists at a place.
    Vec3 acceleration(const Vec3& at) const;
};

struct ModelCase {
    std::string name;
    Place place; // of its card; not kept in model.h5
    std::vector<SupportId> supports;
    std::vector<std::pair<LoadId, double>> loads; // and factor
    double weight = 1.0;
};

struct ModelModalCase {
    std::string name;
    std::vector<SupportId> supports;
    int modes = 6;
    double up_to = 0.0; // 0: count modes
    bool lumped = false;
};

// A response, and what its names mean.
struct ModelResponse : ResponseCard {
    std::vector<RegionId> regions; // that `of` names
    std::vector<CaseId> cases;     // that it names, or all
    std::vector<ModalCaseId> modal_cases;
    std::vector<std::size_t> points, surfaces; // that `at` names
    std::vector<CouplingId> couplings;
    std::vector<SupportId> supports;
    std::optional<Frame> axes;         // of its frame
    bool goal = false, raised = false; // the goal; to be made large

    bool names(RegionId r) const { return std::find(regions.begin(), regions.end(), r) != regions.end(); }
};

struct ModelGoal {
    std::size_t response = 0;
    bool maximize = false;
    Place place;
};

struct ModelForm : FormCard {
    std::optional<Frame> sectors_about;
};

struct Model {
    std::filesystem::path file; // of the study
    std::string title, notes;
    UnitSystem units;
    Mesh mesh;
    MeshCard made_by;                 // how the mesh was made
    RegionField shapes;               // the regions as written
    std::vector<RegionCard> finishes; // of the part alone
    std::vector<InfillCard> infills;  // of the part alone, one after the other
    ElementFamily family = ElementFamily::Solid;
    Formulation formulation = Formulation::Enhanced;
    IdVector<MaterialId, Material> materials;
    std::vector<ModelRegion> regions; // as in the study
    std::vector<ModelSurface> surfaces;
    std::vector<ModelPoint> points;
    IdVector<CouplingId, ModelCoupling> couplings;
    std::vector<ModelJoint> joints;
    std::vector<ModelMass> masses;
    std::vector<ModelBond> bonds;
    IdVector<SupportId, ModelSupport> supports;
    std::vector<Equation> symmetry; // held in every case
    IdVector<LoadId, ModelLoad> loads;
    IdVector<CaseId, ModelCase> cases;
    IdVector<ModalCaseId, ModelModalCase> modal_cases;
    std::vector<std::string> remarks; // what the mesher has to say
    // What is asked. In model.h5 as the text of the study; take_asked reads it again.
    std::vector<ModelResponse> responses;
    std::optional<ModelGoal> goal;
    std::vector<std::string> inactive; // cards that were left out: "active = false"
    ModelForm form;
    RunCard run;

    const Material& material(ElementId e) const {
        return materials[regions[index(mesh.region[index(e)])].material];
    }
    Role role(ElementId e) const { return regions[index(mesh.region[index(e)])].role; }

    // Displacement components of nodes alone, and of nodes and reference points.
    std::size_t node_freedoms() const {
        return mesh.nodes.size() * static_cast<std::size_t>(mesh.freedoms());
    }
    int reference_freedoms() const { return mesh.dimension() == 2 ? 3 : 6; }
    std::size_t freedoms() const {
        return node_freedoms() + couplings.size() * static_cast<std::size_t>(reference_freedoms());
    }
    std::size_t freedom(NodeId n, int component) const {
        return index(n) * static_cast<std::size_t>(mesh.freedoms()) + static_cast<std::size_t>(component);
    }
    // Those of an element, node by node.
    std::vector<std::size_t> freedoms_of(ElementId e) const {
        std::vector<std::size_t> out;
        for (const NodeId n : mesh.nodes_of(e))
            for (int a = 0; a < mesh.freedoms(); ++a) out.push_back(freedom(n, a));
        return out;
    }
    std::size_t freedom_of_coupling(CouplingId coupling, int component) const {
        return node_freedoms() + index(coupling) * static_cast<std::size_t>(reference_freedoms()) +
               static_cast<std::size_t>(component);
    }
    // Where a freedom sits, and what it is: 0..2 translations, 3..5 rotations.
    struct Spot {
        Vec3 at = Vec3::Zero();
        int component = 0;
    };
    Spot spot(std::size_t freedom) const;

    // The constraints of a case.
    Transform transform(const ModelCase& c) const;
    // Those of couplings and bonds alone, that every case has.
    Transform links() const;
    // The coupling whose reference point stands at a named point; None where there is none.
    CouplingId coupling_at(const ModelPoint& point) const;
    // How far off the body a point may lie and still be stood for by a node: a cell's diagonal.
    double node_reach() const { return mesh.size * std::sqrt(static_cast<double>(mesh.dimension())); }
    // The forces of a case on all freedoms, for the element densities given; heat is not among them.
    Eigen::VectorXd forces(const ModelCase& c, const std::vector<double>& density) const;
    // Mass times acceleration of one load at a node of an element of full density, one for each node of it.
    void body_force(const ModelLoad& load, ElementId e, std::vector<Vec3>& out) const;
};

// Builds the model of a checked study. Throws Error (Input) for what only the mesh can show.
Model build_model(const Study& study);

// Gives a model that was read from its file what is asked of it: title, how it was meshed, shapes, responses,
// goal, form and run. `study` is that of the model.
void take_asked(Model& model, const Study& study);

// The symmetry planes that cut the surfaces, points and couplings of these names.
std::vector<SymmetryCut> cutting_planes(const Model& model, const std::vector<std::string>& on);

// The force and the moment about the origin of a load (full material for body loads; none for heat).
struct Resultant {
    Vec3 force = Vec3::Zero();
    Vec3 moment = Vec3::Zero();
};
Resultant resultant(const Model& model, const ModelLoad& load);
Resultant resultant(const Model& model, const ModelCase& c);

} // namespace upright
