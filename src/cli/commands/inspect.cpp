// upright inspect: what is in a file of bodies or in a mesh file.
#include "cli/commands/commands.hpp"
#include "cli/commands/inspect_middle.hpp"
#include "figures/drawings.hpp"
#include "geometry/file_body.hpp"
#include "mesh/generators.hpp"
#include "mesh/quality.hpp"

#include <algorithm>
#include <fmt/format.h>
#include <map>
#include <memory>

namespace upright::cli {

namespace {

struct InspectWish : FigureWish {
    std::string target, out, size, heal;
    bool no_figures = false, midsurface = false;
};

namespace fs = std::filesystem;

std::string numbers(const Vec3& v, double scale) {
    const auto clean = [&](double x) { return std::abs(x) < 1e-7 * scale ? 0.0 : x; };
    return fmt::format("({:.5g}, {:.5g}, {:.5g})", clean(v.x()), clean(v.y()), clean(v.z()));
}

std::string box_text(const Bounds& box, double scale) {
    const Vec3 s = box.size();
    return fmt::format("{:.6g} x {:.6g} x {:.6g}, from {} to {}", s.x(), s.y(), s.z(),
                       numbers(box.low, scale), numbers(box.high, scale));
}

std::string shape_text(const FacetFace& f, double scale) {
    std::string out = text(f.kind);
    const bool cylinder = f.kind == FaceKind::Cylinder;
    if (f.kind != FaceKind::Plane && f.kind != FaceKind::FreeForm) {
        out +=
            fmt::format(" {}, radius {:.5g}",
                        f.hole ? (cylinder ? "hole" : "hollow") : (cylinder ? "boss" : "outside"), f.radius);
        if (cylinder || f.kind == FaceKind::Cone)
            out += fmt::format(", axis {} to {}", numbers(f.axis_from, scale), numbers(f.axis_to, scale));
    } else if (f.normal.norm() > 1e-9) {
        out += ", normal " + numbers(f.normal.normalized(), 1.0);
    }
    return out;
}

int inspect_mesh(const InspectWish& in, Console& console) {
    FileMesh file;
    const char* family = "solid";
    try {
        file = read_mesh_file(in.target, {}, 1.0, ElementFamily::Solid);
    } catch (const Error& bad) {
        if (std::string(bad.what()).find("holds no solid cells") == std::string::npos) throw;
        file = read_mesh_file(in.target, {}, 1.0, ElementFamily::Shell);
        family = "plane or shell";
    }
    const Mesh& mesh = file.mesh;
    const double scale = mesh.bounds.diagonal();
    std::map<std::string, std::size_t> kinds;
    for (const ElementKind k : mesh.kinds) ++kinds[traits(k).name];
    std::string list;
    for (const auto& [name, count] : kinds)
        list += fmt::format("{}{} {}", list.empty() ? "" : ", ", count, name);
    console.result(fmt::format("VTU mesh, {}: {} elements ({}), {} nodes", family, mesh.elements(), list,
                               mesh.nodes.size()));
    console.result("bounding box " + box_text(mesh.bounds, scale) + " (a VTU file has no unit)");
    const MeshQuality q = mesh_quality(mesh);
    console.result(fmt::format("scaled Jacobian at least {:.3g}, mean {:.3g}; largest aspect {:.3g}",
                               q.scaled_jacobian, q.mean_scaled_jacobian, q.aspect));
    const auto show = [&](const char* what, const std::map<std::string, std::vector<double>>& arrays,
                          const char* use) {
        if (arrays.empty()) return;
        console.result(std::string("\n") + what);
        for (const auto& [name, values] : arrays) {
            const auto [low, high] = std::minmax_element(values.begin(), values.end());
            const auto used = std::count_if(values.begin(), values.end(), [](double v) { return v != 0.0; });
            std::vector<double> distinct = values;
            std::sort(distinct.begin(), distinct.end());
            distinct.erase(std::unique(distinct.begin(), distinct.end()), distinct.end());
            std::string text = fmt::format("  {:<24} {:g} to {:g}, {} not zero", name, *low, *high, used);
            if (distinct.size() <= 12) {
                text += "; values";
                for (const double v : distinct) text += fmt::format(" {:g}", v);
            }
            console.result(text);
        }
        console.remark(use);
    };
    const auto list_vectors = [&](const char* what, const std::map<std::string, int>& arrays) {
        if (arrays.empty()) return;
        console.result(std::string("\n") + what);
        for (const auto& [name, count] : arrays)
            console.result(fmt::format("  {:<24} {} numbers each", name, count));
    };
    list_vectors("vector arrays of cells (no sets of a study)", file.sets.cell_vectors);
    list_vectors("vector arrays of points (no sets of a study)", file.sets.point_vectors);
    show("cell arrays", file.sets.cells,
         "in a study: [[region]] with cells = { array = \"name\", value = 1 }");
    show("point arrays", file.sets.points, "in a study: [[surface]] with set = \"name\"");
    return 0;
}

void tell_remarks(const InspectWish& in, const BodyFile& file, Console& console) {
    for (const std::string& remark : file.remarks)
        console.result((in.heal.empty() ? "repaired: " : "healed: ") + remark);
}

int inspect_bodies(const InspectWish& in, const BodyFile& file, Console& console,
                   const FigureOptions& options) {
    const bool step = file.format == "STEP";
    const std::string unit = step ? "mm" : "";
    const std::string shown = step ? "mm" : "units of the file";
    Bounds all;
    for (const auto& body : file.bodies) all.include(body->bounds());
    const double scale = all.diagonal();
    console.result(fmt::format(
        "{}: {} bod{}; {}", file.format, file.bodies.size(), file.bodies.size() == 1 ? "y" : "ies",
        step ? fmt::format("written in {}, shown in mm", file.unit.empty() ? "an unknown unit" : file.unit)
             : "no unit in the file: a study takes its own, or file_unit"));
    console.result(fmt::format("bounding box {} {}", box_text(all, scale), shown));
    tell_remarks(in, file, console);
    if (step && file.unit != "mm" && file.unit_si > 0.0)
        console.result(fmt::format("note: the file's own numbers are in {}; {:.6g} x {:.6g} x {:.6g} {} "
                                   "there. If that is wrong, write file_unit in the study",
                                   file.unit, all.size().x() * 1e-3 / file.unit_si,
                                   all.size().y() * 1e-3 / file.unit_si, all.size().z() * 1e-3 / file.unit_si,
                                   file.unit));
    if (step && (scale > 2e4 || scale < 0.5))
        console.result(
            fmt::format("doubt: the body is {:.3g} mm across; was it drawn in another unit?", scale));
    for (const auto& body : file.bodies) {
        console.result(fmt::format("\nbody \"{}\": volume {:.6g} {}, {} faces, {} triangles", body->name(),
                                   body->volume(), step ? "mm3" : "", body->mesh().faces.size(),
                                   body->mesh().triangles.size()));
        if (body->open_edges() > 0)
            console.result(fmt::format("  doubt: {} edges of its triangles are open", body->open_edges()));
        console.result(fmt::format("  {:>4}  {:>11}  {:<34} shape", "face",
                                   unit.empty() ? "area" : "area, mm2",
                                   unit.empty() ? "centroid" : "centroid, mm"));
        for (const FacetFace& f : body->mesh().faces)
            console.result(fmt::format("  {:>4}  {:>11.5g}  {:<34} {}", f.number, f.area,
                                       numbers(f.centroid, scale), shape_text(f, scale)));
    }
    if (in.no_figures) return 0;
    const fs::path given(in.target);
    fs::path png =
        in.out.empty() ? given.parent_path() / (given.stem().string() + "-faces.png") : fs::path(in.out);
    if (png.extension() != ".png") png += ".png";
    beside_result(console, [&] {
        draw_bodies(file, given.filename().string(), unit.empty() ? "" : unit, false, options, png);
        fs::path behind = png;
        behind.replace_filename(png.stem().string() + "-behind.png");
        draw_bodies(file, given.filename().string(), unit.empty() ? "" : unit, true, options, behind);
        console.remark("\nfigures: " + png.string() + "\n         " + behind.string());
    });
    return 0;
}

int run_inspect(const InspectWish& in, Session& session) {
    Console& console = session.console;
    const FigureOptions options = figure_options(in);
    std::error_code ignored;
    if (!fs::is_regular_file(in.target, ignored))
        throw Error::input({in.target}, "there is no such file", "Name a .step, .stl, .obj or .vtu file");
    std::string kind = fs::path(in.target).extension().string();
    std::transform(kind.begin(), kind.end(), kind.begin(),
                   [](unsigned char c) { return static_cast<char>(std::tolower(c)); });
    if (in.midsurface && kind == ".vtu")
        throw Error::usage("--midsurface goes with bodies; " + in.target + " is a mesh", "Leave it out");
    if (!in.midsurface && !in.size.empty())
        throw Error::usage("--mesh-size goes with --midsurface", "Leave it out");
    if (kind == ".vtu" && !in.heal.empty())
        throw Error::usage("--heal goes with STEP files; " + in.target + " is a mesh", "Leave it out");
    if (kind == ".vtu") return inspect_mesh(in, console);
    const BodyFile file = read_bodies(in.target, {}, 1.0, 1e-3, false, length_asked("--heal", in.heal));
    if (!in.midsurface) return inspect_bodies(in, file, console, options);
    tell_remarks(in, file, console);
    return inspect_middle({in.target, in.out, in.size, in.no_figures}, file, console, options);
}

} // namespace

Command inspect_command() {
    return {"inspect",
            "Bodies and numbered faces of a STEP, STL or OBJ file, or the arrays of a VTU mesh; figures",
            [](Options& options) {
                auto in = std::make_shared<InspectWish>();
                options.word("FILE", in->target, "The file (.step, .stl, .obj, .vtu)", true);
                options.value("--out", "FILE", in->out,
                              "The picture (default: <file>-faces.png beside the file), or the mesh of "
                              "--midsurface (<file>-midsurface.vtu)");
                options.flag(
                    "--midsurface", in->midsurface,
                    "Write the middle surface of thin bodies as a mesh of shells, and the cards that "
                    "use it");
                options.value("--mesh-size", "LENGTH", in->size,
                              "Of an element of --midsurface (default: twice the thickness, or a fiftieth of "
                              "the body, the larger one)");
                options.value("--heal", "LENGTH", in->heal,
                              "Mend faults of STEP faces below this length, as heal in a study does");
                options.flag("--no-figures", in->no_figures, "Draw no figures");
                add_figure_options(options, *in);
                return [in](Session& session) { return run_inspect(*in, session); };
            }};
}

} // namespace upright::cli
