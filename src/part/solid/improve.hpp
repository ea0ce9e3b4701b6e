// The cut part made better in place: skin points pulled onto their exact faces and onto the level, then
// tetrahedra optimised, the void about the part with it so that no skin passes through another.
#pragma once

#include "part/solid/cut_tets.hpp"
#include "part/solid/sheet_set.hpp"

namespace upright {

struct Improved {
    CutTets tets; // the solid ones alone; labels are regions
    // A face of the skin, or between two regions: its points (counter-clockwise seen from outside, or from
    // the region beyond), the regions behind and before it (-1: outside), and the sheet that it lies on (-1:
    // none).
    struct Face {
        std::array<std::int32_t, 3> nodes{};
        std::int32_t behind = -1, before = -1, sheet = -1;
    };
    std::vector<Face> faces;
    std::vector<std::vector<std::int32_t>> sheets_of; // of each point: those of its faces
};

struct ImproveOptions {
    double target = 25.0; // degrees; 0: points are pulled, nothing is optimised; below zero: as it is
    // Sheets that are no exact faces. Where tetrahedra stay sharper than `fair` because such a sheet grazes a
    // face, its points may leave it by as much as `off` of a size.
    std::vector<std::int32_t> free;
    double fair = 18.0, off = 0.05;
};

Improved improve(const CutTets& tets, const std::vector<bool>& solid, const SheetSet& sheets,
                 const ImproveOptions& options);

} // namespace upright
