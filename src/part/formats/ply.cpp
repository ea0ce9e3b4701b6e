// PLY, binary, with the lower byte first.
#include "base/files.hpp"
#include "part/formats/formats.hpp"
#include "part/part.hpp"

#include <cstring>
#include <fmt/format.h>

namespace upright {

namespace {

template <class T> void put(std::string& out, T value) {
    std::array<char, sizeof(T)> bytes{};
    std::memcpy(bytes.data(), &value, sizeof(T));
    out.append(bytes.data(), bytes.size());
}

} // namespace

PartFormat ply_format() {
    return {".ply", "binary PLY", [](const PartToWrite& part, const std::filesystem::path& file) {
                std::string out = fmt::format(
                    "ply\nformat binary_little_endian 1.0\ncomment {}\ncomment carved by upright, "
                    "length unit {}\nelement vertex {}\nproperty double x\nproperty double y\n"
                    "property double z\nelement face {}\nproperty list uchar int vertex_indices\n"
                    "property uchar kept\nend_header\n",
                    first_line(part.title), part.length_unit, part.surface.points.size(),
                    part.surface.corners.size());
                for (const Vec3& p : part.surface.points)
                    for (int a = 0; a < 3; ++a) put(out, p[a]);
                for (std::size_t t = 0; t < part.surface.corners.size(); ++t) {
                    put(out, static_cast<unsigned char>(3));
                    for (const std::int32_t n : part.surface.corners[t]) put(out, n);
                    const bool kept = part.part != nullptr && part.part->kept[t];
                    put(out, static_cast<unsigned char>(kept ? 1 : 0));
                }
                write_text(file, out);
            }};
}

} // namespace upright
