// A part format of the tests' own: the corners of the surface as lines of text.
#include "own/own.hpp"

#include "base/files.hpp"

#include <fmt/format.h>

namespace upright::test {

PartFormat corners_format() {
    return {".corners", "corners as text", [](const PartToWrite& part, const std::filesystem::path& file) {
                std::string text = part.title + ", in " + part.length_unit + "\n";
                for (const Vec3& p : part.surface.points)
                    text += fmt::format("{} {} {}\n", p.x(), p.y(), p.z());
                write_text(file, text);
            }};
}

} // namespace upright::test
