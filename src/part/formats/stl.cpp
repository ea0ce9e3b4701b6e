// Binary STL: triangles without a unit.
#include "part/formats/formats.hpp"

namespace upright {

PartFormat stl_format() {
    return {".stl", "binary STL", [](const PartToWrite& part, const std::filesystem::path& file) {
                write_stl(file, part.surface, "carved by upright, length unit " + part.length_unit);
            }};
}

} // namespace upright
