// The model that a part is carved from: what [[finish]] adds to the space or takes from it stands behind the
// regions, without an element of its own. Regions that are cells of a mesh file have the faces of those for a
// shape.
#pragma once

#include "model/model.hpp"

namespace upright {

// Of a mesh from a file: edges that are sharper part its faces, in degrees.
inline constexpr double sharp_in_file = 35.0;

Model finished(const Model& model); // stock that is left for machining as regions without a place, the last
// The same of the study that the part's model is built from; stock is machined away.
Study finished(const Study& study);

} // namespace upright
