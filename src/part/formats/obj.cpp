// OBJ: points and triangles as text, kept and design faces as groups.
#include "base/files.hpp"
#include "part/formats/formats.hpp"
#include "part/part.hpp"

#include <fmt/format.h>

namespace upright {

PartFormat obj_format() {
    return {".obj", "OBJ", [](const PartToWrite& part, const std::filesystem::path& file) {
                std::string out = fmt::format("# {}; carved by upright, length unit {}\n",
                                              first_line(part.title), part.length_unit);
                for (const Vec3& p : part.surface.points)
                    out += fmt::format("v {:.12g} {:.12g} {:.12g}\n", p.x(), p.y(), p.z());
                for (const bool kept : {false, true}) {
                    std::string faces;
                    for (std::size_t t = 0; t < part.surface.corners.size(); ++t) {
                        if (part.part != nullptr && part.part->kept[t] != kept) continue;
                        if (part.part == nullptr && kept) continue;
                        const auto& n = part.surface.corners[t];
                        faces += fmt::format("f {} {} {}\n", n[0] + 1, n[1] + 1, n[2] + 1);
                    }
                    if (!faces.empty()) out += fmt::format("g {}\n", kept ? "kept" : "design") + faces;
                }
                write_text(file, out);
            }};
}

} // namespace upright
