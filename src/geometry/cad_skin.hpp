// The skin of a part as it is handed to the CAD module to be written as a solid. Plain data.
#pragma once

#include "base/vectors.hpp"

#include <array>
#include <cstdint>
#include <string>
#include <vector>

namespace upright::cad {

// Triangles of a closed skin, counter-clockwise from outside, each on an exact surface or free.
struct Skin {
    struct Surface {
        enum class Kind { Plane, Cylinder, Cone, Sphere } kind = Kind::Plane;
        Vec3 at = Vec3::Zero(), axis = Vec3::UnitZ(); // axis of unit length: of a plane its normal
        double radius = 0.0;                          // of a cone at `at`
        double growth = 0.0;                          // of the radius of a cone, along the axis
    };
    std::vector<Vec3> points;
    std::vector<std::array<std::int32_t, 3>> triangles;
    std::vector<std::int32_t> surface_of; // of each triangle; -1: free
    std::vector<Surface> surfaces;
    std::string title;
    bool facets = false; // free triangles stay flat; else smooth patches through their corners
    double scale = 1.0;  // to millimetres, which the file has
};

// What the file came to, read back.
struct StepResult {
    bool valid = false;
    double volume = 0.0; // in the skin's unit of length
    int solids = 0, planes = 0, cylinders = 0, cones = 0, spheres = 0, patches = 0, others = 0;
    double tolerance = 0.0; // the largest of its edges
    // Where patches meet and the skin has no crease, at 23 places of each side: the largest angle between
    // them in degrees,
    double bend = 0.0;
    // and the share of places where it is at most one.
    double within_a_degree = 1.0;
    // Places on the free faces, in the skin's unit, with the triangle that each face was made of.
    struct Place {
        std::int32_t triangle = 0;
        Vec3 at = Vec3::Zero();
    };
    std::vector<Place> places;
    // How far they lie off the free surface itself (its facets are chords), in sizes of the mesh: the
    // largest, the mean, and the share within a tenth. Found by who knows that surface; below zero elsewhere.
    double off = -1.0, mean_off = -1.0, within_a_tenth = -1.0;
    std::string trouble; // the first thing that is not right
};

} // namespace upright::cad
