// Which elements share their matrices: cells of a grid with one material and one thickness do.
#pragma once

#include "model/model.hpp"

#include <cstdint>
#include <vector>

namespace upright {

struct ShapeClasses {
    std::vector<std::uint32_t> of;  // for each element
    std::vector<ElementId> example; // an element of each class
};

ShapeClasses shape_classes(const Model& model);

} // namespace upright
