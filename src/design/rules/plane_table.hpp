// A plane as a table { point, normal }: of a mirror, of a parting.
#pragma once

#include "study/cards/cards.hpp"
#include "study/study.hpp"

namespace upright {

const Schema<FormCard::AnyPlane>& plane_schema();

// The mirror image of a place.
inline Vec3 reflected(const FormCard::AnyPlane& plane, const Vec3& p) {
    return p - 2.0 * plane.normal.dot(p - plane.point) * plane.normal;
}

} // namespace upright
