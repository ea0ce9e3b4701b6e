// What the CAD module offers: a plug-in around Open CASCADE that is loaded when a STEP file or a fitted mesh
// first asks for it. Plain data on both sides; lengths in the caller's unit.
#pragma once

#include "geometry/cad_skin.hpp"
#include "geometry/facets.hpp"

#include <filesystem>
#include <string>
#include <vector>

namespace upright::cad {

struct Body {
    std::string name;
    FacetMesh mesh;
    double volume = 0.0; // of the exact body
};

struct File {
    std::string unit;
    double unit_si = 0.0;
    std::vector<Body> bodies;
    std::vector<std::string> remarks; // what was healed
};

// A solid to be put into an arrangement, in axes of its own.
struct Solid {
    enum class Kind { Box, Cylinder, Cone, Sphere, Prism, File } kind = Kind::Box;
    Vec3 a = Vec3::Zero(), b = Vec3::Zero(); // box corners; ends of an axis; center
    double radius_a = 0.0, radius_b = 0.0;
    std::vector<Vec3> loop; // prism: its corners at `a`
    std::filesystem::path file;
    int body = 0;       // index in the file
    double scale = 1.0; // from millimetres
    double heal = 0.0;  // file: faults below it are mended, 0: none
    double grow = 0.0;  // prism, file: all faces moved outward (inward where below zero), corners kept sharp
    Mat3 axes = Mat3::Identity();
    Vec3 origin = Vec3::Zero();
};

// The cells into which solids cut space, bounded by faces that neighbours share.
struct Arrangement {
    std::vector<Vec3> points;
    std::vector<std::array<std::int32_t, 3>> triangles;
    std::vector<std::int32_t> face_of; // exact face, for each triangle
    std::vector<std::array<std::int32_t, 2>>
        cells_of;               // for each triangle: behind it (against its normal) and before it, or -1
    std::vector<double> radius; // least radius of curvature of each exact face; 0 where flat
    int cells = 0;
    int faces = 0;
};

struct Module {
    // `deflection`: how far triangles may lie off the exact faces, as a share of the body's size; lengths
    // come out in multiples of `unit_si` metres. `heal`, in these: faults of the faces below it are mended
    // (0: none). Throws std::runtime_error with a sentence.
    File (*read_step)(const std::filesystem::path& file, double unit_si, double deflection, double heal);
    // Writes a closed skin as a solid in AP242, and reads it again. Throws std::runtime_error with a
    // sentence.
    StepResult (*write_step)(const Skin& skin, const std::filesystem::path& file);
    // `deflection` in length; `angle` in radians.
    Arrangement (*arrange)(const std::vector<Solid>& solids, double unit_si, double deflection, double angle);
};
using GetModule = const Module* (*)();
inline constexpr const char* get_module_symbol = "upright_cad_module";

// Loads the module. Throws Error (Files) where it is missing.
const Module& module();

} // namespace upright::cad
