// The volume of every region as the study writes it, whatever the mesh makes of it.
#pragma once

#include "model/model.hpp"

#include <optional>
#include <vector>

namespace upright {

// Of the modelled part, in the study's units, beside Model::regions: where regions overlap the later one has
// it, as in painting; zero for voids. Boxes are halved until a region's surface no longer passes through, or
// they are small against it (a fortieth of the body, the depth of a layer), and then sampled: to about one
// per cent of a region. Layers under surfaces are measured from the faces that the mesh has there. Nothing
// where a region is a set of cells of a mesh file.
std::optional<std::vector<double>> written_volumes(const Model& model);

} // namespace upright
