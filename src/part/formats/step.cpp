// STEP: a solid whose exact faces are planes, cylinders, cones and spheres, its free surface smooth patches.
#include "base/error.hpp"
#include "base/files.hpp"
#include "geometry/cad_module.hpp"
#include "model/model.hpp"
#include "part/formats/formats.hpp"
#include "part/open_faces.hpp"
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

constexpr double step_unit = 1e-3;    // metres: the file is in millimetres
constexpr double same_surface = 1e-7; // of the body's size
// What the solid may differ from the part by: bent faces of the part are chords, those of the solid are
// round.
constexpr double part_allowed = 0.03;
// More are refused: a CAD library takes minutes and gigabytes for them.
constexpr std::size_t most_step_triangles = 200000;

using Surface = cad::Skin::Surface;

std::optional<Surface> exact_surface(const Sheet& sheet) {
    Surface out;
    switch (sheet.kind) {
    case Sheet::Kind::Plane:
        out.kind = Surface::Kind::Plane;
        break;
    case Sheet::Kind::Cylinder:
        out.kind = Surface::Kind::Cylinder;
        break;
    case Sheet::Kind::Cone:
        out.kind = Surface::Kind::Cone;
        break;
    case Sheet::Kind::Sphere:
        out.kind = Surface::Kind::Sphere;
        break;
    case Sheet::Kind::Field:
        return {};
    }
    out.at = sheet.at;
    out.axis = sheet.axis;
    out.radius = sheet.radius;
    out.growth = sheet.growth;
    return out;
}

bool same(const Surface& a, const Surface& b, double reach) {
    if (a.kind != b.kind) return false;
    if (a.kind == Surface::Kind::Sphere)
        return (a.at - b.at).norm() < reach && std::abs(a.radius - b.radius) < reach;
    if (a.axis.cross(b.axis).norm() > same_surface) return false;
    const Vec3 off = b.at - a.at;
    if (a.kind == Surface::Kind::Plane) return std::abs(off.dot(a.axis)) < reach;
    if (off.cross(a.axis).norm() > reach) return false;
    const double way = a.axis.dot(b.axis) > 0.0 ? 1.0 : -1.0;
    return std::abs(a.growth - way * b.growth) < same_surface &&
           std::abs(a.radius + a.growth * off.dot(a.axis) - b.radius) < reach;
}

// The skin of the whole part, each triangle with the surface that it lies on.
cad::Skin skin_of(const Model& model, const SolidPart& part) {
    const WholeTets whole = whole_tets(model, part);
    const std::size_t own = part.tets.size();
    std::map<std::array<std::int32_t, 3>, std::int32_t> sheet_of;
    for (const Improved::Face& face : part.faces) {
        std::array<std::int32_t, 3> key = face.nodes;
        std::sort(key.begin(), key.end());
        sheet_of[key] = face.sheet;
    }
    cad::Skin out;
    const double reach = same_surface * model.mesh.bounds.diagonal();
    std::map<std::pair<std::int32_t, std::size_t>, std::int32_t> known; // by sheet and image
    const auto surface_of = [&](std::int32_t sheet, std::size_t image) -> std::int32_t {
        if (sheet < 0 || part.free(sheet)) return -1;
        const auto [at, fresh] = known.emplace(std::pair{sheet, image}, -1);
        if (!fresh) return at->second;
        std::optional<Surface> s = exact_surface((*part.sheets)[sheet]);
        if (!s) return -1;
        for (std::size_t k = 0; k < model.mesh.symmetry.size(); ++k) {
            if ((image >> k & 1U) == 0) continue;
            const SymmetryCut& cut = model.mesh.symmetry[k];
            s->at[cut.axis] = 2.0 * cut.at - s->at[cut.axis];
            s->axis[cut.axis] = -s->axis[cut.axis];
        }
        const auto found = std::find_if(out.surfaces.begin(), out.surfaces.end(),
                                        [&](const Surface& one) { return same(one, *s, reach); });
        at->second = static_cast<std::int32_t>(found - out.surfaces.begin());
        if (found == out.surfaces.end()) out.surfaces.push_back(*s);
        return at->second;
    };
    std::vector<std::int32_t> number(whole.points.size(), -1);
    for (const auto& [key, face] : open_faces(whole, [](std::size_t) { return true; })) {
        std::array<std::int32_t, 3> original{};
        for (std::size_t k = 0; k < 3; ++k)
            original[k] = static_cast<std::int32_t>(whole.image_of[static_cast<std::size_t>(key[k])]);
        std::sort(original.begin(), original.end());
        const auto sheet = sheet_of.find(original);
        out.surface_of.push_back(sheet == sheet_of.end() ? -1 : surface_of(sheet->second, face.tet / own));
        std::array<std::int32_t, 3> triangle{};
        for (std::size_t k = 0; k < 3; ++k) {
            std::int32_t& n = number[static_cast<std::size_t>(face.corners[k])];
            if (n < 0) {
                n = static_cast<std::int32_t>(out.points.size());
                out.points.push_back(whole.points[static_cast<std::size_t>(face.corners[k])]);
            }
            triangle[k] = n;
        }
        out.triangles.push_back(triangle);
    }
    return out;
}

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

void write_step_part(const PartToWrite& part, const std::filesystem::path& file) {
    if (part.part == nullptr || part.model == nullptr || !part.part->solid)
        throw Error::usage("STEP takes the part of a solid model, which this is not",
                           "Write a surface: .stl, .obj or .ply");
    cad::Skin skin = skin_of(*part.model, *part.part->solid);
    if (skin.triangles.size() > most_step_triangles)
        throw Error::usage(fmt::format("the part has {} triangles, and STEP is written of up to {}",
                                       skin.triangles.size(), most_step_triangles),
                           "Carve without --fine, or write .stl or .3mf");
    skin.title = first_line(part.title);
    skin.scale = parse_unit(part.length_unit, {}).si / step_unit;
    skin.facets = part.facets;
    cad::StepResult result;
    const auto write = [&] {
        write_then_rename(file, [&](const std::filesystem::path& to) {
            try {
                result = cad::module().write_step(skin, to);
            } catch (const std::runtime_error& bad) {
                throw Error::numerics(bad.what(), "Write the part as .stl, .3mf or .obj");
            }
        });
        result.valid = result.valid && std::abs(result.volume / part.part->volume - 1.0) <= part_allowed;
    };
    const auto say = [&](const std::string& text) {
        if (part.tell) part.tell(text);
    };
    write();
    if (!result.valid && !skin.facets) {
        say(fmt::format("doubt: the smooth solid is not sound ({}; {}): flat facets are written instead",
                        result.trouble.empty() ? "its volume is off" : result.trouble,
                        words_of(result, part.part->volume)));
        skin.facets = true;
        write();
    }
    say(fmt::format("STEP: {}{}; edges to {:.2g} {}", result.valid ? "" : "NOT SOUND: ",
                    words_of(result, part.part->volume), result.tolerance, part.length_unit));
    if (result.patches > 0 && !skin.facets)
        say(fmt::format(
            "      smooth faces meet within a degree at {:.3g} % of the places looked at, within {:.2g} "
            "at all",
            100.0 * result.within_a_degree, result.bend));
    if (part.read_back != nullptr) *part.read_back = result;
}

} // namespace

PartFormat step_format() {
    return {".step", "STEP, a solid with exact faces", write_step_part};
}

} // namespace upright
