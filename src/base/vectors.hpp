// Vectors and the identifiers that refer into a mesh.
#pragma once

#include <Eigen/Core>
#include <cstddef>
#include <cstdint>
#include <type_traits>

namespace upright {

using Vec2 = Eigen::Vector2d;
using Vec3 = Eigen::Vector3d;
using Mat3 = Eigen::Matrix3d;

// Identifiers are distinct types, so that a node never stands where an element belongs.
enum class NodeId : std::int32_t {};
enum class ElementId : std::int32_t {};
enum class RegionId : std::int16_t { None = -1 };

// Of what a model lists (base/id_vector.hpp). None: no such, or what the place says.
enum class MaterialId : std::int32_t { None = -1 };
enum class CouplingId : std::int32_t { None = -1 };
enum class SupportId : std::int32_t { None = -1 };
enum class LoadId : std::int32_t { None = -1 };
enum class CaseId : std::int32_t { None = -1 };
enum class ModalCaseId : std::int32_t { None = -1 };

template <class Id, class = std::enable_if_t<std::is_enum_v<Id>>> constexpr std::size_t index(Id id) {
    return static_cast<std::size_t>(id);
}

} // namespace upright
