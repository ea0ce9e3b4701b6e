// The checked study: every card as a type, in base units, with the place it stands at in the user's file.
#pragma once

#include "base/error.hpp"
#include "base/vectors.hpp"
#include "quantity/dimension.hpp"

#include <any>
#include <array>
#include <filesystem>
#include <map>
#include <memory>
#include <optional>
#include <string>
#include <variant>
#include <vector>

namespace upright {

// What every named card has.
struct Card {
    std::string name;
    Place place;
};

// A local coordinate system. `axes` has the directions x', y', z' (of a cylindrical one: where the angle is
// zero, a quarter turn on, and the axis) as columns.
struct Frame : Card {
    bool cylindrical = false;
    Vec3 origin = Vec3::Zero();
    Mat3 axes = Mat3::Identity();

    // The directions of the frame's components (x y z, or r t z) at a place, as columns.
    Mat3 at(const Vec3& p) const;
};

// Elastic data along three axes at right angles: E = (x, y, z), nu and G = (xy, yz, zx), where nu xy is the
// contraction along y under a stress along x. The axes are those of the frame at each place (r t z where it
// is cylindrical).
struct Orthotropic {
    Vec3 E, nu, G;
    std::optional<Vec3> expansion; // along the three axes
    Frame frame;
};

// Linear elastic. Stresses in force/length^2, density in mass/length^3 of the study's units.
struct Material : Card {
    double E = 0.0; // of an orthotropic material the largest
    double nu = 0.0;
    std::optional<Orthotropic> orthotropic;
    double density = 0.0;
    std::optional<double> yield;
    std::optional<double> ultimate;
    std::optional<double> expansion; // 1/K
    std::string source;              // "own", or the library's
};

// Shapes. In a plane model z is zero and only Box, Disk and Polygon occur.
struct Box {
    Vec3 low, high;
};
struct Cylinder {
    Vec3 from, to;
    double radius = 0.0;
};
struct Cone {
    Vec3 from, to;
    double radius_from = 0.0, radius_to = 0.0;
};
struct Sphere {
    Vec3 center;
    double radius = 0.0;
};
// A polygon swept from `from` to `to`. Its corners are two numbers each, measured from `from` along the two
// axes across the sweep: the remaining coordinate axes in the order x, y, z when the sweep is along one of
// them.
struct Prism {
    std::vector<Vec2> polygon;
    Vec3 from, to;
};
struct Disk {
    Vec3 center;
    double radius = 0.0, inner = 0.0;
};
struct Polygon {
    std::vector<Vec2> corners;
};
// Everything on the side of a plane to which its normal points.
struct HalfSpace {
    Vec3 point, normal;
};
// A body of a STEP, STL or OBJ file. It is read when it is first needed; copies share it.
class FacetBody;
struct FileSlot; // geometry/file_body.hpp
struct FileBody {
    std::shared_ptr<FileSlot> slot;
};
// A set of cells that comes with a mesh file: cells whose value in a cell array is the given one, or not
// zero.
struct CellSet {
    std::string array;
    std::optional<double> value;
};
// A shape written in a frame of its own, or a copy that was turned.
struct AnyShape;
struct Placed {
    std::shared_ptr<const AnyShape> shape;
    Mat3 axes = Mat3::Identity(); // columns: the frame's axes
    Vec3 origin = Vec3::Zero();
};
// Everything on the outer side of a shape's surface.
struct Outside {
    std::shared_ptr<const AnyShape> shape;
};
using Shape = std::variant<Box, Cylinder, Cone, Sphere, Prism, Disk, Polygon, HalfSpace, FileBody, CellSet,
                           Placed, Outside>;
struct AnyShape {
    Shape shape;
};

// A layer of the given depth on the outside of regions, or under surfaces.
struct Skin {
    std::vector<std::string> of;
    double depth = 0.0;
    bool into_body = false; // of regions with material: the layer lies inside of them
};

// Rings around the ends of holes: of void cylinders by name, or of every hole of a radius in CAD bodies.
struct HoleRing {
    std::vector<std::string> around;
    std::optional<double> hole_radius;
    double width = 0.0;
    double depth = 0.0;
};

enum class Role { Design, Keep, Void };

struct RegionCard : Card {
    Role role = Role::Design;
    std::string material; // empty for a void
    std::variant<Shape, Skin, HoleRing> extent;
    std::vector<std::string> within; // empty: everywhere
    std::optional<double> thickness; // of a plane or shell region, where it is not the mesh's
};

// A lattice of struts or sheets instead of solid material, inside the carved part.
struct InfillCard : Card {
    enum class Cell { Cubic, Octet, Gyroid };
    std::vector<std::string> of; // regions; empty: all that is design
    std::optional<Shape> inside; // and there alone
    Cell cell = Cell::Cubic;
    double period = 0.0;          // side of the cube that repeats
    double thickness = 0.0;       // diameter of struts, thickness of sheets
    double skin = 0.0;            // depth below the part's surface that stays solid
    Vec3 origin = Vec3::Zero();   // of the lattice: a node of struts
    Mat3 axes = Mat3::Identity(); // as columns
};
// "gyroid": the word of the study language.
const char* text(InfillCard::Cell cell);

struct SurfaceCard : Card {
    struct OnPlane {
        Vec3 point, normal;
    };
    struct OnCylinder {
        Vec3 from, to;
        double radius = 0.0;
    };
    std::vector<std::string> of; // empty: any region
    std::vector<Vec3> facing;    // any of these; empty: whatever way
    double tilt = 20.0;          // degrees
    std::optional<OnPlane> on_plane;
    std::optional<OnCylinder> on_cylinder;
    std::optional<Shape> inside;
    std::vector<int> cad;              // numbered faces of a CAD body
    std::optional<double> hole_radius; // walls of holes of that radius
    std::string set;                   // a set of points that comes with a mesh file
};

struct PointCard : Card {
    std::variant<Vec3, std::string> at; // a place, or the surface whose centroid it is
    Place at_place;
};

// A surface that moves with one point.
struct CouplingCard : Card {
    std::vector<std::string> surfaces;
    Place surface_place;
    std::string at;    // a point; empty: the centroid of the surfaces
    bool rigid = true; // else averaging
};

// Six springs between two couplings, or a coupling and the ground.
struct JointCard : Card {
    std::array<std::string, 2> between; // empty: the ground
    Vec3 axis = Vec3::UnitZ();
    double axial = 0.0, shear = 0.0;     // force / length
    double torsion = 0.0, bending = 0.0; // moment / angle
    Place between_place;
};

// What rides on the part but is not part of it.
struct MassCard : Card {
    std::vector<std::string> on;
    Place on_place;
    double value = 0.0;
    Vec3 inertia = Vec3::Zero(); // about x, y, z through the place it sits at
};

// Surfaces of bodies that were meshed separately and hang together.
struct BondCard : Card {
    std::array<std::string, 2> between;
    Place between_place;
    double gap = 0.0; // how far apart they may lie
};

struct SupportCard : Card {
    std::vector<std::string> on;
    Place on_place;
    std::array<bool, 6> hold{}; // x y z rx ry rz of the frame (r t z in a cylindrical one)
    std::array<double, 6> move{};
    std::string frame;
};

struct ForceLoad {
    Vec3 total = Vec3::Zero(); // in the load's frame
    bool each_face = false;    // the force acts on every face anew
};
struct MomentLoad {
    Vec3 total = Vec3::Zero(); // in the load's frame
};
struct PressureLoad {
    double value = 0.0; // pushes into the body
};
struct GravityLoad {
    Vec3 acceleration = Vec3::Zero();
};
// A force along the line from one place to another: a rope, a rod.
struct TowardLoad {
    std::variant<Vec3, std::string> from, to; // places, or points by name
    double size = 0.0;
};
struct SpinLoad {
    std::string frame;     // about its axis
    double speed = 0.0;    // rad / time
    double speed_up = 0.0; // rad / time^2, by the right hand
};
struct HeatLoad {
    double rise = 0.0; // K, of the whole body
};
enum class LoadKind { Force, Moment, Pressure, Toward, Gravity, Spin, Heat };
// "force": the word of the study language.
const char* text(LoadKind kind);
// The kind of a word; nothing for others.
std::optional<LoadKind> load_kind(const std::string& word);

// What a total on a surface that a symmetry plane cuts is the total of.
enum class Covers { Unsaid, Modelled, Whole };
struct LoadCard : Card {
    std::vector<std::string> on;
    Place on_place;
    std::string frame;
    Covers covers = Covers::Unsaid; // of forces and moments
    std::variant<ForceLoad, PressureLoad, GravityLoad, MomentLoad, TowardLoad, SpinLoad, HeatLoad> kind;
};

// One static case after the lists were written out: "start-up/1" has the list "start-up".
struct StaticCase : Card {
    std::vector<std::string> supports;
    std::vector<std::pair<std::string, double>> loads; // name and factor
    double weight = 1.0;
};

// One modal case. No supports: the body floats free.
struct ModalCase : Card {
    std::vector<std::string> supports;
    int modes = 6;               // counted after the rigid-body modes
    std::optional<double> up_to; // a frequency: all modes below it, whatever their number
    bool lumped = false;         // lumped instead of consistent mass
};

struct SymmetryPlane {
    int axis = 0; // 0 x, 1 y, 2 z
    double at = 0.0;
    Place place;
};

enum class ElementFamily { Solid, PlaneStress, PlaneStrain, Shell };
enum class Formulation { Enhanced, Plain };
struct MeshWord; // mesh_word.hpp

// Finer elements somewhere.
struct RefineCard {
    std::vector<std::string> on; // near surfaces or regions; empty: inside the shape
    std::optional<Shape> inside;
    double size = 0.0;
    Place place;
};

struct MeshCard {
    std::shared_ptr<const MeshWord> kind;
    double size = 0.0;
    int order = 1;
    std::string frame; // polar: the axis
    Place frame_place;
    std::optional<std::filesystem::path> file; // kind = "file"
    double file_scale = 1.0;                   // length of the study for each length of the file
    struct Sweep {
        Vec3 along = Vec3::UnitZ(); // the whole way
        int layers = 1;
    };
    std::optional<Sweep> sweep; // a plane mesh swept to solids
    std::vector<RefineCard> refine;
    std::optional<double> curvature; // fitted: degrees of a round face or border that an element may span
    std::optional<double> smallest;  // fitted: where curvature asks for less
    ElementFamily family = ElementFamily::Solid;
    Formulation formulation = Formulation::Enhanced;
    double thickness = 1.0; // plane models
    Place place;

    // Written in two numbers: plane models, and flat shells that are meshed here.
    bool flat() const { return family != ElementFamily::Solid && !(family == ElementFamily::Shell && file); }
    bool plane() const {
        return family == ElementFamily::PlaneStress || family == ElementFamily::PlaneStrain;
    }
    bool shell() const { return family == ElementFamily::Shell; }
};

struct MeasureWord; // measure_word.hpp
struct RuleWord;    // rule_word.hpp

// A bound as a share of a material's strength.
struct StrengthShare {
    double share = 1.0;
    bool ultimate = false; // else of yield
};

// Of a vector: along an axis of a frame, or its size.
enum class Component { Size, X, Y, Z, R, T };
const char* text(Component component); // "size", "x", …
// 0, 1, 2: the frame's first, second, third axis. Not of a size.
int axis_of(Component component);

struct ResponseCard : Card {
    std::shared_ptr<const MeasureWord> measure;
    // Mass and volume measures: regions; empty: the design regions. Stress and safety: regions; empty: all.
    std::vector<std::string> of;
    std::string in_case; // a case (or all that bear the name); empty: compliance weighted over all, else all
    std::string at;      // displacement: a point, coupling or surface; reaction: a support
    Place at_place;
    Component component = Component::Size; // X Y Z (R T Z in a cylindrical frame) or the size
    std::string frame;
    bool mean = false;               // displacement of a surface: its mean; else the largest
    bool worst = false;              // compliance: of the case where it is largest, not the weighted sum
    int mode = 1;                    // frequency
    bool track = false;              // frequency: the mode is followed by its shape, not by its number
    std::vector<std::string> except; // stress, safety: regions and surfaces whose elements are left out
    std::optional<double> min, max;
    std::optional<StrengthShare> max_share;
    std::any own; // what keys of its measure alone say
};

struct GoalCard {
    std::string response;
    bool maximize = false;
    Place place;
};

// How the part will be made: each rule ties densities together or sets their scale.
struct FormCard {
    std::vector<SymmetryPlane> mirror; // the design is the same on both sides
    struct AnyPlane {
        Vec3 point = Vec3::Zero(), normal = Vec3::UnitZ(); // of unit length
    };
    std::vector<AnyPlane> oblique; // the same, of planes that are not across an axis
    struct Sectors {
        std::string frame; // about its axis
        int count = 2;
        bool mirrored = false; // within each sector, about the plane of the frame's first axis
    };
    std::optional<Sectors> sectors;
    std::optional<int> extrude; // axis: the same along it
    std::optional<double> min_feature;
    bool strict = false; // it holds made a little too thin or too thick as well
    std::optional<double> min_slot;
    // Dies leave the part along a direction.
    struct Draw {
        enum class Parting { Middle, Found, Plane };
        Vec3 along = Vec3::UnitZ(); // of unit length: the way of the die, or of the upper one of two
        int dies = 1;
        Parting parting = Parting::Middle;                 // of two dies
        Vec3 point = Vec3::Zero(), normal = Vec3::UnitZ(); // of a plane
        bool through = true;                               // whether holes may go through
        std::optional<double> wall; // where they may not: material over the base or the parting
        double draft = 0.0;         // degrees that walls lean, given to the part
        Place place;
    };
    std::optional<Draw> draw;
    // Built up in layers: no material without material below it.
    struct Overhang {
        Vec3 up = Vec3::UnitZ(); // of unit length
        double angle = 45.0;     // degrees from `up`: within which there has to be material below
        bool plate = true;       // below the space
        Place place;
    };
    std::optional<Overhang> overhang;
    // The same pattern in several regions, whose boxes are as large.
    struct Repeat {
        std::vector<std::string> regions;
        bool mirrored = false; // every other one, across the way between them
        Place place;
    };
    std::optional<Repeat> repeat;
    Place place;
    std::vector<std::shared_ptr<const RuleWord>> rules; // that the language has, in the order of its table
    std::map<std::string, std::any> own;                // what further rules read, by their words
};

struct RunCard {
    int iterations = 100;
    double stop_when = 0.01;
    bool sharpen = true;
    std::optional<double> penalty;                  // unset: raised from 1 to 3
    std::optional<double> filter;                   // radius; unset: 2.5 cells
    std::optional<double> start;                    // density; unset: what the bound asks for
    std::optional<std::filesystem::path> start_run; // the folder of a run to start from
    std::optional<int> start_random;                // the number of a random start
    std::optional<bool> coarse_first;               // first on cells twice as large; unset: where it pays
    int threads = 0;
    double memory = 12e9;        // bytes
    std::string solver = "auto"; // a word of the solvers' table
    int keep_every = 10;
    Place filter_place;
    Place start_place;
};

struct Study {
    std::filesystem::path file;
    std::string title;
    std::string notes;
    UnitSystem units;
    std::vector<Material> materials;
    std::vector<Frame> frames;
    std::vector<RegionCard> regions; // in painting order, copies written out
    // What carving adds to the part (role keep) or takes from it (void), painted behind the regions.
    std::vector<RegionCard> finishes;
    std::vector<InfillCard> infills; // one after the other
    std::vector<SurfaceCard> surfaces;
    std::vector<PointCard> points;
    std::vector<CouplingCard> couplings;
    std::vector<JointCard> joints;
    std::vector<MassCard> masses;
    std::vector<BondCard> bonds;
    std::vector<SupportCard> supports;
    std::vector<LoadCard> loads;
    std::vector<StaticCase> cases;
    std::vector<ModalCase> modal_cases;
    std::vector<SymmetryPlane> symmetry;
    MeshCard mesh;
    std::vector<ResponseCard> responses;
    std::optional<GoalCard> goal;
    FormCard form;
    RunCard run;

    // What is at hand but was left out: "active = false".
    std::vector<std::string> inactive;
    // The merged study as TOML, to be kept with a run.
    std::string resolved;

    const Frame& frame(const std::string& name) const;
    // The thickness of the elements of a region.
    double thickness(RegionId region) const;
};

// "bolt" means "bolt" itself and every copy "bolt/1", "bolt/2", …
bool refers_to(const std::string& reference, const std::string& name);
// Whether any of several references means it.
bool refers_to(const std::vector<std::string>& references, const std::string& name);

// The same study on cells of another size: mesh and refinements times that.
Study on_cells(Study study, double times);

// Whether a case has a support that the name means: a reaction is measured in those cases alone.
bool holds_in(const Study& study, const StaticCase& c, const std::string& support);

} // namespace upright
