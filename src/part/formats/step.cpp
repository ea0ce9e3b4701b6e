// STEP: a solid whose exact faces are planes, cylinders, cones and spheres, its free surface smooth patches.
#include "base/error.hpp"
#include "base/files.hpp"
#include "geometry/cad_module.hpp"
#include "model/model.hpp"
#include "part/formats/formats.hpp"
#include "part/formats/step_skin.hpp"
#include "part/part.hpp"
#include "quantity/units.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <map>
#include <optional>
#include <stdexcept>

namespace upright {

namespace {

constexpr double step_unit = 1e-3; // metres: the file is in millimetres
// What the solid may differ from the part by: bent faces of the part are chords, those of the solid are
// round.
constexpr double part_allowed = 0.03;
// More are refused: a CAD library takes minutes and gigabytes for them.
constexpr std::size_t most_step_triangles = 200000;

std::string words_of(const cad::StepResult& r, double part_volume) {
    std::string faces;
    const auto add = [&](int count, const char* what) {
        if (count > 0)
            faces += fmt::format("{}{} {}{}", faces.empty() ? "" : ", ", count, what, count == 1 ? "" : "s");
    };
    add(r.planes, "plane");
    add(r.cylinders, "cylinder");
    add(r.cones, "cone");
    add(r.spheres, "sphere");
    add(r.patches, "smooth face");
    add(r.others, "other face");
    return fmt::format("{}; volume {:+.3f} % against the part's, whose bent faces are chords", faces,
                       100.0 * (r.volume / part_volume - 1.0));
}

// Rounded down: not all is never a hundred.
double percent(double share) {
    return std::floor(1e4 * share) / 100.0;
}

void write_step_part(const PartToWrite& part, const std::filesystem::path& file) {
    if (part.part == nullptr || part.model == nullptr || !part.part->solid)
        throw Error::usage("STEP takes the part of a solid model, which this is not",
                           "Write a surface: .stl, .obj or .ply");
    StepSkin made;
    cad::StepResult result;
    const auto say = [&](const std::string& text) {
        if (part.tell) part.tell(text);
    };
    const auto write = [&](StepFaces faces) {
        made = step_skin(*part.model, *part.part->solid, faces);
        if (made.skin.triangles.size() > most_step_triangles)
            throw Error::usage(fmt::format("the part has {} triangles, and STEP is written of up to {}",
                                           made.skin.triangles.size(), most_step_triangles),
                               "Carve without --fine, or write .stl or .3mf");
        made.skin.title = first_line(part.title);
        made.skin.scale = parse_unit(part.length_unit, {}).si / step_unit;
        write_then_rename(file, [&](const std::filesystem::path& to) {
            try {
                result = cad::module().write_step(made.skin, to);
            } catch (const std::runtime_error& bad) {
                throw Error::numerics(bad.what(), "Write the part as .stl, .3mf or .obj");
            }
        });
        result.valid = result.valid && std::abs(result.volume / part.part->volume - 1.0) <= part_allowed;
        return result.valid;
    };
    const auto doubt = [&](const char* instead) {
        say(fmt::format("doubt: the smooth solid is not sound ({}; {}): {} instead",
                        result.trouble.empty() ? "its volume is off" : result.trouble,
                        words_of(result, part.part->volume), instead));
    };
    if (part.facets) {
        write(StepFaces::Flat);
    } else if (!write(StepFaces::Divided)) {
        doubt("triangles of the part are taken as they are");
        if (!write(StepFaces::Smooth)) {
            doubt("flat facets are written");
            write(StepFaces::Flat);
        }
    }
    say(fmt::format("STEP: {}{}; edges to {:.2g} {}", result.valid ? "" : "NOT SOUND: ",
                    words_of(result, part.part->volume), result.tolerance, part.length_unit));
    if (result.patches > 0 && !made.skin.facets)
        say(fmt::format(
            "      smooth faces meet within a degree at {:.5g} % of the places looked at, within {:.2g} "
            "at all",
            percent(result.within_a_degree), result.bend));
    measure_off(*part.model, *part.part->solid, made, result);
    if (result.off >= 0.0)
        say(fmt::format(
            "      free faces lie within a tenth of the mesh's size of the design's surface at {:.5g} "
            "% of the places, {:.2g} on the mean, {:.2g} at most",
            percent(result.within_a_tenth), result.mean_off, result.off));
    if (part.read_back != nullptr) *part.read_back = result;
}

} // namespace

PartFormat step_format() {
    return {".step", "STEP, a solid with exact faces", write_step_part};
}

} // namespace upright
