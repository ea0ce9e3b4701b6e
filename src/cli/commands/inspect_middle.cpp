#include "cli/commands/inspect_middle.hpp"

#include "base/files.hpp"
#include "figures/drawings.hpp"
#include "geometry/file_body.hpp"
#include "mesh/mesh.hpp"
#include "mesh/mid_surface.hpp"
#include "quantity/quantities.hpp"
#include "store/vtu.hpp"
#include "study/document.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <fmt/ranges.h>
#include <map>

namespace upright::cli {

namespace {

namespace fs = std::filesystem;

double size_asked(const std::string& text, bool has_unit) {
    if (!has_unit && text.find_first_not_of("0123456789.eE+-") != std::string::npos)
        throw Error::usage("--mesh-size " + text + ": the file has no unit",
                           "Write a number in the file's own");
    return length_asked("--mesh-size", text);
}

std::string list(const std::vector<int>& numbers) {
    constexpr std::size_t most = 16;
    if (numbers.size() <= most) return fmt::format("{}", fmt::join(numbers, ", "));
    return fmt::format("{} and {} more", fmt::join(numbers.begin(), numbers.begin() + most, ", "),
                       numbers.size() - most);
}

// Walls as thick to a thousandth are one region.
std::vector<double> kinds_of(const std::vector<MidSurface>& all) {
    std::vector<double> out;
    for (const MidSurface& one : all)
        for (const MidSurface::Wall& wall : one.walls) out.push_back(wall.thickness);
    std::sort(out.begin(), out.end());
    out.erase(std::unique(out.begin(), out.end(), [](double a, double b) { return b - a < 1e-3 * a; }),
              out.end());
    return out;
}
std::size_t kind_of(const std::vector<double>& kinds, double thickness) {
    const auto at = std::upper_bound(kinds.begin(), kinds.end(), thickness * (1.0 + 1e-9));
    return static_cast<std::size_t>(at - kinds.begin()) - 1;
}

void write_mesh(const fs::path& file, const std::vector<MidSurface>& all, const std::vector<double>& kinds) {
    Mesh mesh;
    std::array<VtuField, 4> fields{VtuField{"body", 1, {}}, VtuField{"wall", 1, {}},
                                   VtuField{"thickness-group", 1, {}}, VtuField{"thickness", 1, {}}};
    for (std::size_t b = 0; b < all.size(); ++b) {
        const FacetMesh& facets = all[b].mesh;
        const auto first = static_cast<std::int32_t>(mesh.nodes.size());
        mesh.nodes.insert(mesh.nodes.end(), facets.points.begin(), facets.points.end());
        for (std::size_t t = 0; t < facets.triangles.size(); ++t) {
            std::vector<NodeId> ids;
            for (const std::int32_t v : facets.triangles[t]) ids.push_back(static_cast<NodeId>(first + v));
            mesh.add(ElementKind::ShellTri3, ids, RegionId::None);
            const auto f = static_cast<std::size_t>(facets.face_of[t]);
            const double thickness = all[b].walls[f].thickness;
            fields[0].values.push_back(static_cast<double>(b + 1));
            fields[1].values.push_back(facets.faces[f].number);
            fields[2].values.push_back(static_cast<double>(kind_of(kinds, thickness) + 1));
            fields[3].values.push_back(thickness);
        }
    }
    mesh.finish();
    write_vtu(file, mesh, {}, {fields.begin(), fields.end()});
}

std::string cards(const fs::path& mesh, const std::string& of, const std::vector<double>& kinds,
                  const std::string& unit) {
    std::string out =
        fmt::format("# The middle surface of {} as shells. Material, supports, loads and cases are yours to "
                    "set.\n",
                    quoted_text(of));
    out += unit.empty() ? "# The file has no unit: write that of its numbers here.\nunits = [\"mm\", \"N\", "
                          "\"s\"]\n\n"
                        : "units = [\"mm\", \"N\", \"s\"]\n\n";
    out += fmt::format("[mesh]\nkind = \"file\"\nfile = {}\nelement = \"shell\"\nthickness = {:.6g}\n",
                       quoted_text(mesh.filename().string()), kinds.front());
    for (std::size_t k = 0; k < kinds.size(); ++k)
        out += fmt::format("\n[[region]]\nname = \"wall-{}\"\nrole = \"design\"\ncells = {{ array = "
                           "\"thickness-group\", value = {} }}\nthickness = {:.6g}\nmaterial = \"S235\"\n",
                           k + 1, k + 1, kinds[k]);
    return out;
}

// Of a figure: which walls are how thick.
std::string thicknesses(const std::string& body, const MidSurface& made, const std::vector<double>& kinds,
                        const std::string& length) {
    std::map<std::size_t, std::vector<int>> walls;
    for (std::size_t k = 0; k < made.walls.size(); ++k)
        walls[kind_of(kinds, made.walls[k].thickness)].push_back(made.mesh.faces[k].number);
    std::string out = body;
    constexpr std::size_t most = 6; // named of one thickness
    for (const auto& [kind, numbers] : walls)
        out += fmt::format("\n{:.4g}{} thick: {}", kinds[kind], length,
                           numbers.size() <= most ? list(numbers) : fmt::format("{} walls", numbers.size()));
    return out;
}

// The walls of a body, and what there is to doubt.
void tell(const FacetBody& body, const MidSurface& made, const std::string& unit, Console& console) {
    const std::string length = unit.empty() ? "" : " " + unit;
    console.result(
        fmt::format("body \"{}\": {} wall{}, {} triangles of {:.4g}{}, angles of {:.3g} deg and more",
                    body.name(), made.walls.size(), made.walls.size() == 1 ? "" : "s",
                    made.mesh.triangles.size(), made.size, length, made.smallest_angle));
    console.result(fmt::format("  {:>4}  {:>11}  {:>11}  {:<9} {}", "wall",
                               unit.empty() ? "thickness" : "thick, mm", unit.empty() ? "area" : "area, mm2",
                               "shape", "between faces"));
    for (std::size_t k = 0; k < made.walls.size(); ++k) {
        const FacetFace& face = made.mesh.faces[k];
        console.result(fmt::format("  {:>4}  {:>11.5g}  {:>11.5g}  {:<9} {} and {}", face.number,
                                   made.walls[k].thickness, face.area, text(face.kind),
                                   list(made.walls[k].side), list(made.walls[k].other)));
    }
    console.result(fmt::format("  area times thickness {:.6g}, the body {:.6g} ({:+.2g} %)", made.volume,
                               body.volume(), 100.0 * (made.volume / body.volume() - 1.0)));
    if (!made.left.empty()) {
        double area = 0.0;
        std::vector<int> numbers;
        for (const MidSurface::Left& one : made.left) {
            area += one.area;
            numbers.push_back(one.face);
        }
        double whole = 0.0;
        for (const FacetFace& face : body.mesh().faces) whole += face.area;
        console.result(fmt::format("  doubt: nothing stands for face{} {} ({:.2g} % of the surface): no "
                                   "side of a wall and no edge of one",
                                   numbers.size() == 1 ? "" : "s", list(numbers), 100.0 * area / whole));
    }
    for (std::size_t k = 0; k < made.walls.size(); ++k)
        if (made.walls[k].most > 1.02 * made.walls[k].least)
            console.result(fmt::format("  doubt: wall {} stands for thicknesses of {:.4g} to {:.4g}{} by "
                                       "their mean: both of its sides have steps",
                                       made.mesh.faces[k].number, made.walls[k].least, made.walls[k].most,
                                       length));
    std::vector<int> thick;
    for (std::size_t k = 0; k < made.walls.size(); ++k) {
        const FacetFace& face = made.mesh.faces[k];
        if (face.kind == FaceKind::Plane && made.walls[k].thickness > 0.25 * std::sqrt(face.area))
            thick.push_back(face.number);
    }
    if (!thick.empty())
        console.result(fmt::format("  doubt: wall{} {} {} thicker than a quarter of the root of {} area: "
                                   "shells tell little of such",
                                   thick.size() == 1 ? "" : "s", list(thick),
                                   thick.size() == 1 ? "is" : "are", thick.size() == 1 ? "its" : "their"));
    if (made.pieces > 1)
        console.result(fmt::format("  doubt: {} pieces that are not joined; one comes to the largest within "
                                   "{:.3g}{} at ({:.5g}, {:.5g}, {:.5g}). A [[bond]] may join them",
                                   made.pieces, made.gap, length, made.gap_at.x(), made.gap_at.y(),
                                   made.gap_at.z()));
}

} // namespace

double length_asked(const std::string& option, const std::string& text) {
    if (text.empty()) return 0.0;
    double length = 0.0;
    try {
        length = Quantities().number(text, dimension::length, {});
    } catch (const Error& bad) {
        throw Error::usage(option + ": " + bad.what());
    }
    if (!(length > 0.0))
        throw Error::usage(option + " " + text + " is no length above zero",
                           "Write one, as " + option + " \"4 mm\"");
    return length;
}

int inspect_middle(const MiddleWish& in, const BodyFile& file, Console& console,
                   const FigureOptions& options) {
    const fs::path given(in.target);
    const std::string unit = file.format == "STEP" ? "mm" : "";
    const std::string length = unit.empty() ? "" : " " + unit;
    const MidSurfaceOptions wish{size_asked(in.size, !unit.empty())};
    fs::path vtu =
        in.out.empty() ? given.parent_path() / (given.stem().string() + "-midsurface.vtu") : fs::path(in.out);
    if (vtu.extension() != ".vtu") vtu += ".vtu";
    std::vector<MidSurface> all;
    std::vector<std::string> names;
    std::vector<Error> without; // a thin wall
    BodyFile shown;
    shown.format = file.format;
    for (const auto& body : file.bodies) {
        try {
            all.push_back(make_mid_surface(*body, wish, {in.target}));
        } catch (const Error& bad) {
            if (bad.code() != ExitCode::Input) throw;
            without.push_back(bad);
            continue;
        }
        const MidSurface& made = all.back();
        names.push_back(body->name());
        shown.bodies.push_back(std::make_shared<FacetBody>(body->name(), made.mesh));
        tell(*body, made, unit, console);
    }
    if (all.empty()) throw without.front();
    for (const Error& one : without) console.result(std::string("doubt: left out: ") + one.what());
    const std::vector<double> kinds = kinds_of(all);
    write_mesh(vtu, all, kinds);
    fs::path study = vtu;
    study.replace_extension(".toml");
    const std::string text = cards(vtu, given.filename().string(), kinds, unit);
    // What somebody has written on is never written over.
    const bool own = fs::exists(study) && read_text(study) != text;
    if (!own) write_text(study, text);
    console.remark("\nmesh:  " + vtu.string() + "\ncards: " + study.string());
    if (own)
        console.remark(
            "       it is there already and stays as it is; compare its thicknesses with the table");
    if (in.no_figures) return 0;
    std::vector<std::string> words;
    for (std::size_t b = 0; b < all.size(); ++b)
        words.push_back(thicknesses(names[b], all[b], kinds, length));
    fs::path png = vtu;
    png.replace_extension(".png");
    beside_result(console, [&] {
        draw_bodies(shown, given.filename().string(), unit, false, options, png, words);
        fs::path behind = png;
        behind.replace_filename(png.stem().string() + "-behind.png");
        draw_bodies(shown, given.filename().string(), unit, true, options, behind, words);
        console.remark("figures: " + png.string() + "\n         " + behind.string());
    });
    return 0;
}

} // namespace upright::cli
