// Vectors and the identifiers that refer into a mesh.
#pragma once

#include <Eigen/Core>
#include <cstddef>
#include <cstdint>

namespace upright {

using Vec2 = Eigen::Vector2d;
using Vec3 = Eigen::Vector3d;
using Mat3 = Eigen::Matrix3d;

// Identifiers are distinct types, so that a node never stands where an element belongs.
enum class NodeId : std::int32_t {};
enum class ElementId : std::int32_t {};
enum class RegionId : std::int16_t { None = -1 };

constexpr std::size_t index(NodeId id) {
    return static_cast<std::size_t>(id);
}
constexpr std::size_t index(ElementId id) {
    return static_cast<std::size_t>(id);
}
constexpr std::size_t index(RegionId id) {
    return static_cast<std::size_t>(id);
}

} // namespace upright
