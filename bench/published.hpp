// Published benchmark problems and closed forms, solved on mapped meshes through the whole chain: mesh file,
// study, model, analysis. The tests and the verification page share them.
#pragma once

#include "mesh/mesh.hpp"
#include "response/case_report.hpp"
#include "study/study.hpp"

#include <array>
#include <functional>
#include <string>
#include <utility>
#include <vector>

namespace upright::published {

// A mesh that is a lattice of the unit square or cube (corners at 0 and 1), bent into shape. A quadrilateral
// becomes two triangles where the kind asks for it, a hexahedron six tetrahedra or two wedges.
struct Mapped {
    ElementKind kind = ElementKind::Quad4;
    std::array<int, 3> n{1, 1, 1};
    std::function<Vec3(const Vec3&)> map;
    // Named sets of nodes, told by their place in the unit square or cube.
    std::vector<std::pair<std::string, std::function<bool(const Vec3&)>>> sets;
    std::string mesh; // keys of [mesh] besides kind and file
};

// The lattice itself, not bent; nodes at 0 to 1.
Mesh unit_mesh(ElementKind kind, const std::array<int, 3>& n);

struct Solved {
    Study study;
    Model model;
    AnalysisReport report;
};

// `cards` is the study without region and mesh: the region is called "body", of the material "m"; every set
// is a surface of its name.
Solved solve(const Mapped& mesh, const std::string& cards);

struct Reading {
    std::string what;
    double expected = 0.0, found = 0.0;
    double error() const { return found / expected - 1.0; }
};

// `n` is the number of elements along the shorter side of each.
std::vector<Reading> elliptic_membrane(ElementKind kind, int n); // LE1
std::vector<Reading> elliptic_plate(ElementKind kind, int n);    // LE10
std::vector<Reading> tapered_membrane(ElementKind kind, int n);  // FV32
std::vector<Reading> free_plate(ElementKind kind, int n);        // FV12, shells
std::vector<Reading> thick_cylinder(ElementKind kind, int n);    // Lamé, plane strain: stress, displacement
double thick_cylinder_energy_error(ElementKind kind, int n);     // relative error of the strain energy
// The same: the estimate of the energy norm's error over the true one.
double thick_cylinder_effectivity(ElementKind kind, int n);
std::vector<Reading> spinning_disk(ElementKind kind, int n);
std::vector<Reading> hole_in_plate(ElementKind kind, int n);     // Kirsch
std::vector<Reading> curved_cantilever(ElementKind kind, int n); // MacNeal & Harder 1985
std::vector<Reading> beam_frequencies(ElementKind kind, int n, bool clamped);
// The start of a frequency optimisation (Du & Olhoff 2007): half the material everywhere, stiffness cubed.
std::vector<Reading> uniform_start(ElementKind kind, int n);
std::vector<Reading> barrel_vault(ElementKind kind, int n); // shells: Scordelis & Lo
std::vector<Reading> pinched_hemisphere(ElementKind kind, int n);
std::vector<Reading> twisted_beam(ElementKind kind, int n);

} // namespace upright::published
