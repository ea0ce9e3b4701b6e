// The checked study: every card as a type, in base units, with the place it stands at in the user's file.
#pragma once

#include "base/error.hpp"
#include "base/vectors.hpp"
#include "quantity/dimension.hpp"

#include <array>
#include <filesystem>
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

// Isotropic, linear elastic. Stresses in force/length^2, density in mass/length^3 of the study's units.
struct Material : Card {
    double E = 0.0;
    double nu = 0.0;
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
using Shape = std::variant<Box, Cylinder, Cone, Sphere, Prism, Disk, Polygon>;

// A layer of the given depth on the outside of regions, or under surfaces.
struct Skin {
    std::vector<std::string> of;
    double depth = 0.0;
};

enum class Role { Design, Keep, Void };

struct RegionCard : Card {
    Role role = Role::Design;
    std::string material; // empty for a void
    std::variant<Shape, Skin> extent;
    std::vector<std::string> within; // empty: everywhere
};

struct SurfaceCard : Card {
    struct OnPlane {
        Vec3 point, normal;
    };
    struct OnCylinder {
        Vec3 from, to;
        double radius = 0.0;
    };
    std::vector<std::string> of; // empty: any region
    std::optional<Vec3> facing;
    double tilt = 20.0; // degrees
    std::optional<OnPlane> on_plane;
    std::optional<OnCylinder> on_cylinder;
    std::optional<Shape> inside;
};

struct PointCard : Card {
    std::variant<Vec3, std::string> at; // a place, or the surface whose centroid it is
    Place at_place;
};

struct SupportCard : Card {
    std::vector<std::string> on;
    Place on_place;
    std::array<bool, 3> hold{};
};

struct ForceLoad {
    Vec3 total = Vec3::Zero();
    bool each_face = false; // the force acts on every face anew
};
struct PressureLoad {
    double value = 0.0; // pushes into the body
};
struct GravityLoad {
    Vec3 acceleration = Vec3::Zero();
};
struct LoadCard : Card {
    std::vector<std::string> on;
    Place on_place;
    std::variant<ForceLoad, PressureLoad, GravityLoad> kind;
};

// One static case after the lists were written out: "start-up/1" has the list "start-up".
struct StaticCase : Card {
    std::vector<std::string> supports;
    std::vector<std::pair<std::string, double>> loads; // name and factor
    double weight = 1.0;
};

struct SymmetryPlane {
    int axis = 0; // 0 x, 1 y, 2 z
    double at = 0.0;
    Place place;
};

enum class ElementFamily { Solid, PlaneStress, PlaneStrain };
enum class Formulation { Enhanced, Plain };

struct MeshCard {
    double size = 0.0;
    ElementFamily family = ElementFamily::Solid;
    Formulation formulation = Formulation::Enhanced;
    double thickness = 1.0; // plane models
    Place place;

    bool plane() const { return family != ElementFamily::Solid; }
};

enum class Measure { Compliance, Mass, Volume, MassFraction, VolumeFraction };
const char* text(Measure measure);
Dimension dimension_of(Measure measure);

struct ResponseCard : Card {
    Measure measure = Measure::Compliance;
    std::vector<std::string> of; // mass and volume measures: regions; empty: the design regions
    std::string in_case;         // compliance: a case (or all that bear the name); empty: weighted over all
    std::optional<double> min, max;
};

struct GoalCard {
    std::string response;
    bool maximize = false;
    Place place;
};

struct RunCard {
    int iterations = 100;
    double stop_when = 0.01;
    bool sharpen = true;
    std::optional<double> penalty; // unset: raised from 1 to 3
    std::optional<double> filter;  // radius; unset: 2.5 cells
    std::optional<double> start;   // density; unset: what the bound asks for
    int threads = 0;
    double memory = 12e9; // bytes
    int keep_every = 10;
    Place filter_place;
};

struct Study {
    std::filesystem::path file;
    std::string title;
    std::string notes;
    UnitSystem units;
    std::vector<Material> materials;
    std::vector<RegionCard> regions; // in painting order, copies written out
    std::vector<SurfaceCard> surfaces;
    std::vector<PointCard> points;
    std::vector<SupportCard> supports;
    std::vector<LoadCard> loads;
    std::vector<StaticCase> cases;
    std::vector<SymmetryPlane> symmetry;
    MeshCard mesh;
    std::vector<ResponseCard> responses;
    std::optional<GoalCard> goal;
    RunCard run;

    // What is at hand but was left out: "active = false".
    std::vector<std::string> inactive;
    // The merged study as TOML, to be kept with a run.
    std::string resolved;
};

// "bolt" means "bolt" itself and every copy "bolt/1", "bolt/2", …
bool refers_to(const std::string& reference, const std::string& name);
// Whether any of several references means it.
bool refers_to(const std::vector<std::string>& references, const std::string& name);

// Loads a study: TOML, `extends`, settings ("path=value"), units, arithmetic, every card and every name
// checked. Throws Error (Input, Usage) at the first thing that is wrong.
Study load_study(const std::filesystem::path& file, const std::vector<std::string>& settings = {});

} // namespace upright
