// The exact faces of a space as unbounded sheets: signed functions that are zero on a face and on what goes
// on beyond it. Where a sheet matters is asked of the regions (cut_space.hpp).
#pragma once

#include "geometry/region_field.hpp"

#include <functional>
#include <string_view>
#include <vector>

namespace upright {

struct Sheet {
    // Field: any function whose slope is about one; a layer under surfaces, a free form of CAD.
    enum class Kind { Plane, Cylinder, Cone, Sphere, Field };
    Kind kind = Kind::Plane;
    Vec3 at = Vec3::Zero(), axis = Vec3::UnitZ(); // axis of unit length: of a plane its normal
    double radius = 0.0;                          // of a cone at `at`
    double growth = 0.0;                          // of the radius of a cone, along the axis
    std::function<double(const Vec3&)> field;
    // Of a field whose slope is known and not about one: value and slope at once, and what is taken for the
    // size of the slope at least. `radius`: step of differences where it is not known.
    std::function<double(const Vec3&, Vec3& slope)> with_slope;
    double least_slope = 0.0;
    double near = 1e-11; // of a size: a place so near lies on it
    // The regions that have it for a face; -1 among them: a plane of symmetry.
    std::vector<std::int32_t> regions;

    // About the distance; of all but fields and cones exactly.
    double value(const Vec3& p) const;
    Vec3 normal(const Vec3& p) const; // the slope, of unit length
    double value(const Vec3& p, Vec3& normal) const;
    bool curved() const { return kind != Kind::Plane; }
};

// "plane", "cylinder", ...; of a field "bent face".
std::string_view word_of(Sheet::Kind kind);

// Those of all regions, planes first, none twice; planes of symmetry among them. Plane shapes have none.
std::vector<Sheet> sheets_of(const RegionField& regions, const std::vector<std::pair<int, double>>& symmetry,
                             double size);

// Adds the sheets of a mesh's faces (patches numbered, number_patches): planes and cylinders where all points
// of a patch are within `near` of one, and as near no known one is; else the triangles themselves, each going
// on beyond the patch in its plane. Returns the sheet of each face.
std::vector<std::int32_t> add_sheets_of(const FacetMesh& mesh, double size, double near,
                                        std::vector<Sheet>& sheets);

} // namespace upright
