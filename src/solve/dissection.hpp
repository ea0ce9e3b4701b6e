// An order of elimination for nodes that stand on a lattice: nested dissection (George 1973) by the planes of
// the lattice that hold the fewest of them. Where few nodes are in use, as in trusses, such planes cut single
// struts.
#pragma once

#include <array>
#include <cstdint>
#include <vector>

namespace upright {

// `places`: of each node, its indices along the axes; nodes are coupled only where no index differs by more
// than one.
struct DissectionOrder {
    std::vector<std::int32_t> nodes; // in the order to eliminate them in
    // About the operations of a Cholesky factorisation with one unknown a node: those of its separators, each
    // with as many neighbours above it as it has nodes.
    double flops = 0.0;
};

DissectionOrder dissection_order(const std::vector<std::array<std::int32_t, 3>>& places);

} // namespace upright
