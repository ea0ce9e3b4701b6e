// The table of file formats of a carved part. A new one is a file and a line in format.cpp.
#pragma once

#include "geometry/cad_skin.hpp"
#include "part/triangles.hpp"

#include <filesystem>
#include <functional>
#include <string>
#include <utility>
#include <vector>

namespace upright {

struct Model;
struct Part;

// What is written of a part.
struct PartToWrite {
    const Triangles& surface;
    std::string length_unit; // of its coordinates
    std::string title;
    // The part itself, for formats that hold more than its surface.
    const Part* part = nullptr;
    const Model* model = nullptr;
    // Surfaces of the study: which points of the part's mesh are on each.
    std::vector<std::pair<std::string, std::vector<bool>>> surfaces = {};
    bool facets = false; // STEP: free faces as flat triangles, not as smooth patches
    // Hears what there is to say of the file; may be empty.
    std::function<void(const std::string&)> tell = {};
    cad::StepResult* read_back = nullptr; // takes what a STEP file came to
};

struct PartFormat {
    std::string ending; // ".stl"
    std::string says;   // "binary STL"
    // Throws Error (Files). Written to a temporary name, then renamed.
    void (*write)(const PartToWrite& part, const std::filesystem::path& file);
};

// Those that the program ships, and `more` behind them.
std::vector<PartFormat> part_formats(const std::vector<PartFormat>& more = {});

// The format of a file's ending, whatever its case; throws Error (Usage) where there is none.
const PartFormat& format_of(const std::vector<PartFormat>& formats, const std::filesystem::path& file);

} // namespace upright
