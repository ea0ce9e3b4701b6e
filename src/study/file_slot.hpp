// What a region says about a body in a file, and the body once it was read. Shared by all copies of a study.
#pragma once

#include "base/error.hpp"

#include <filesystem>
#include <memory>
#include <mutex>
#include <string>
#include <vector>

namespace upright {

class FacetBody;

struct FileSlot {
    std::filesystem::path file;
    std::string body; // empty: the only one
    Place place;
    double scale = 1.0;      // length of the study for each length of the file, where the file does not say
    bool unit_given = false; // `scale` was written in the study
    double length_si = 1e-3; // the study's unit of length in metres
    double heal = 0.0;       // STEP: faults of the faces below it are mended, 0: none
    std::once_flag once;
    std::string file_unit; // as the file says, once it was read
    double file_unit_si = 0.0;
    std::vector<std::string> remarks;        // what was repaired
    std::shared_ptr<const FacetBody> facets; // filled by geometry/file_body.hpp
};

} // namespace upright
