// The model that a part is carved from: what [[finish]] adds to the space or takes from it stands behind the
// regions, without an element of its own.
#pragma once

#include "model/model.hpp"

namespace upright {

Model finished(const Model& model);
// The same of the study that the part's model is built from.
Study finished(const Study& study);

} // namespace upright
