// What a VTU file holds, read in a process of its own (base/apart.hpp) and checked before anything takes it.
#pragma once

#include "base/vectors.hpp"

#include <cstdint>
#include <filesystem>
#include <functional>
#include <map>
#include <string>
#include <vector>

namespace upright {

struct VtuArray {
    int components = 1;
    std::vector<double> values; // row by row; none where it was not wanted
};

struct VtuFile {
    std::vector<Vec3> points;
    std::vector<std::int64_t> starts;       // of each cell in the connectivity, and its end: one more than cells
    std::vector<std::int64_t> connectivity; // numbers of points, all there
    std::vector<std::uint8_t> types;        // as the format numbers them, one a cell
    std::map<std::string, VtuArray> at_points, at_cells; // as many rows as points, cells
    std::size_t cells() const { return types.size(); }
};

// Values of the arrays that are `wanted` by name and components. Throws std::runtime_error with a sentence
// where the file is no unstructured grid or damaged.
VtuFile read_vtu_file(const std::filesystem::path& file,
                      const std::function<bool(const std::string&, int)>& wanted);

} // namespace upright
