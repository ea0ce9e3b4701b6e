// Bodies that come from files: STEP through the CAD module, STL and OBJ as triangles.
#pragma once

#include "geometry/facets.hpp"
#include "study/study.hpp"

#include <filesystem>

namespace upright {

// Everything a file holds, in the study's unit of length (or its own, for `inspect`).
struct BodyFile {
    std::string format;   // "STEP", "STL", "OBJ"
    std::string unit;     // as the file says; empty where it does not
    double unit_si = 0.0; // metres; 0 where the file does not say
    std::vector<std::shared_ptr<const FacetBody>> bodies;
    std::vector<std::string> remarks; // what was repaired, and what looks wrong
};

// Reads a file. `scale` is the length of the result for each length of the file, `length_si` the result's
// unit in metres (a STEP file says its own unit; `scale` is then ignored unless `unit_given`). Throws Error
// (Input, at `place`, or at the file where `place` is empty) for files that are broken, open or empty.
// `heal`, in the result's unit: faults of the faces of STEP bodies below it are mended and told in `remarks`.
BodyFile read_bodies(const std::filesystem::path& file, const Place& place, double scale, double length_si,
                     bool unit_given, double heal = 0.0);

// The same, read once for all regions of a study that come from one file; the last file is kept until another
// is asked for, or it changes.
std::shared_ptr<const BodyFile> shared_bodies(const FileSlot& slot);

// The body of a region, read when it is first asked for. Throws as above, and for a body name that the file
// does not have.
const FacetBody& file_body(const FileBody& body);
// A body that is there already, as what a file holds.
FileBody made_body(std::shared_ptr<const FacetBody> facets);

} // namespace upright
