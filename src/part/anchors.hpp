// Where supports, loads, joints and masses hold on to a part.
#pragma once

#include "model/model.hpp"

#include <string>
#include <vector>

namespace upright {

struct Anchor {
    std::string label;        // "support bolted on feet"
    std::string card;         // "support bolted"
    std::vector<Vec3> places; // a little inside the body, of the modelled part
};

// Of the supports and loads that cases use, every joint and mass.
std::vector<Anchor> anchors_of(const Model& model);

} // namespace upright
