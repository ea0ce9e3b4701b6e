// Two dies that part along a surface of its own: column by column, where the material has its middle.
#pragma once

#include "design/chain.hpp"
#include "study/study.hpp"

#include <memory>
#include <vector>

namespace upright {

struct FoundParting {
    std::unique_ptr<Link> link;
    double hidden = 0.0; // share of the design between kept elements of a column, where no die comes
};

// Along the draw every column gets one interval of material. Without kept elements it is as long as the
// column's filtered values say (their mean, times the column's length) and lies about their centroid: what is
// one interval already stays where it is. With kept elements it is what lies between them, and one height to
// each side of that, as over a parting plane (heights after Gersborg & Andreasen 2011). `elements`: those of
// the variables.
FoundParting found_parting(const Model& model, const std::vector<std::size_t>& elements,
                           const FormCard::Draw& card, double wall);

} // namespace upright
