// The skin of a whole part as STEP takes it: triangles with the surfaces that they lie on.
#pragma once

#include "geometry/cad_skin.hpp"
#include "model/model.hpp"
#include "part/solid/solid_carver.hpp"

namespace upright {

struct StepSkin {
    cad::Skin skin;
    std::vector<std::int32_t> sheet; // of each triangle, among the part's; -1: none
    std::vector<std::size_t> image;  // of each: by the mirror planes that it is behind
};

// Divided: triangles of free faces are divided where these bend too much for a smooth face through three
// corners, their points put onto the surface. Else they are those of the part.
enum class StepFaces { Divided, Smooth, Flat };
StepSkin step_skin(const Model& model, const SolidPart& part, StepFaces faces);

// How far the solid's free faces lie off the surfaces that they stand for: fills `off` and its like.
void measure_off(const Model& model, const SolidPart& part, const StepSkin& skin, cad::StepResult& result);

} // namespace upright
