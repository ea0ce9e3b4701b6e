// A plane as a table { point, normal }: of a mirror, of a parting.
#pragma once

#include "study/cards/cards.hpp"
#include "study/study.hpp"

namespace upright {

const Schema<FormCard::AnyPlane>& plane_schema();

} // namespace upright
