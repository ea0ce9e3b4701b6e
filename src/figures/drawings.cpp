#include "figures/drawings.hpp"

#include "part/section.hpp"

#include "design/form.hpp"
#include "design/making_rule.hpp"
#include "figures/scene.hpp"
#include "study/mesh_word.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <set>

namespace upright {

void draw_regions(const Model& model, const FigureOptions& options, const std::filesystem::path& png) {
    Figure figure(with_unit(options, model), model.mesh.dimension() == 2, model.title + ": regions",
                  fmt::format("{}, {} cells of {:.3g} {}{}", dimensions(model), model.mesh.elements(),
                              model.made_by.size, model.units.length, part_note(model)));
    figure.add(painted_skin(model, true).patch);
    Segments voids = outlines(model, true);
    if (!voids.empty()) figure.add_lines(voids, color::empty, 2.0);
    std::vector<std::string> named;
    for (std::size_t r = 0; r < model.regions.size(); ++r) {
        const ModelRegion& region = model.regions[r];
        const std::string base = region.name.substr(0, region.name.find('/'));
        if (std::find(named.begin(), named.end(), base) != named.end()) continue;
        named.push_back(base);
        if (region.role == Role::Void)
            figure.add_legend('-', color::empty, base + " (void)");
        else
            figure.add_legend(
                '#', region_color(model, r),
                base + (region.role == Role::Keep ? " (keep)" : " (design)") +
                    (model.mesh.thickness.empty()
                         ? std::string()
                         : fmt::format(",\n{:g} {} thick", model.shapes[r].deep, model.units.length)));
    }
    add_all_loads(figure, model, Extent::Modelled);
    add_supports(figure, model, used_supports(model), Extent::Modelled);
    add_planes(figure, model);
    figure.write(png);
}

bool draw_pattern(const Model& model, const FigureOptions& options, const std::filesystem::path& png) {
    const FormRules rules = form_rules(model.form);
    if (pattern_images(model, rules).empty()) return false;
    constexpr Color source{0.00, 0.45, 0.70};
    static const std::array<Color, 3> copies{Color{0.86, 0.91, 0.95}, Color{0.62, 0.77, 0.88},
                                             Color{0.75, 0.80, 0.72}};
    std::string words;
    for (const auto& rule : rules.asked)
        if (rule->ties) words += (words.empty() ? "" : "; ") + rule->words(model.form, model.units);
    Figure figure(with_unit(options, model), model.mesh.dimension() == 2,
                  model.title + ": pattern of the design", words + part_note(model));
    Skinned skin = skin_of_elements(model, std::vector<bool>(model.mesh.elements(), true));
    std::set<int> seen;
    for (const ElementId e : skin.element) {
        if (model.role(e) != Role::Design) {
            skin.patch.colors.push_back({0.86, 0.80, 0.66});
            continue;
        }
        const int copy = pattern_copy(model, rules, model.mesh.center(e), model.mesh.region[index(e)]);
        seen.insert(copy);
        skin.patch.colors.push_back(copy == 0 ? source
                                              : copies[static_cast<std::size_t>(copy - 1) % copies.size()]);
    }
    skin.patch.edges = true;
    figure.add(skin.patch);
    figure.add_legend('#', source, "source of the pattern");
    figure.add_legend('#', copies[0], seen.size() > 2 ? "its images, in three shades by turns" : "its image");
    figure.add_legend('#', {0.86, 0.80, 0.66}, "kept");
    for (const FormCard::AnyPlane& plane : rules.oblique)
        figure.add_arrow(plane.point, plane.point + 0.15 * reach(model) * plane.normal, color::plane);
    if (!rules.oblique.empty())
        figure.add_legend('>', color::plane, "normal of the mirror plane:\nthe source lies before it");
    if (rules.sectors) {
        const Frame& frame = rules.sectors->frame;
        const Vec3 axis = frame.axes.col(2);
        const Vec3 middle = frame.origin + axis * axis.dot(model.mesh.bounds.center() - frame.origin);
        const double half = 0.5 * axis.cwiseAbs().dot(model.mesh.bounds.size()) + 0.06 * reach(model);
        figure.add_lines({{Vec3(middle - half * axis), Vec3(middle + half * axis)}}, color::plane, 1.6);
        figure.add_legend('-', color::plane, "axis of the sectors");
    }
    add_planes(figure, model);
    figure.write(png);
    return true;
}

void draw_case(const Model& model, const ModelCase& c, const FigureOptions& options,
               const std::filesystem::path& png) {
    const bool plane = model.mesh.dimension() == 2;
    const Resultant sum = resultant(model, c);
    Figure figure(with_unit(options, model), plane, model.title + ": case " + c.name,
                  fmt::format("total force {} {}, arrows to scale from half length{}",
                              vector_text(sum.force, plane), model.units.force, part_note(model)));
    Skinned skin = painted_skin(model, false);
    figure.add(skin.patch);
    add_loads(figure, model, c, Extent::Modelled);
    add_supports(figure, model, c.supports, Extent::Modelled);
    add_planes(figure, model);
    figure.write(png);
}

void draw_modal_case(const Model& model, const ModelModalCase& c, const FigureOptions& options,
                     const std::filesystem::path& png) {
    Figure figure(with_unit(options, model), model.mesh.dimension() == 2,
                  model.title + ": modal case " + c.name,
                  (c.supports.empty() ? "floats free" : "what holds it and rides on it") + part_note(model));
    figure.add(painted_skin(model, false).patch);
    add_supports(figure, model, c.supports, Extent::Modelled);
    if (c.supports.empty()) figure.add_legend(' ', color::text, "no supports");
    add_planes(figure, model);
    figure.write(png);
}

namespace {

// A surface in two colours: kept regions and what the optimiser left.
constexpr Color design_of_part{0.42, 0.58, 0.72}; // of parts

Patch part_patch(const Part& part) {
    Patch patch;
    patch.points = part.surface.points;
    for (const auto& t : part.surface.corners) {
        patch.polygons.push_back({t[0], t[1], t[2]});
        const bool kept = part.kept[patch.polygons.size() - 1];
        patch.colors.push_back(kept ? color::keep : design_of_part);
    }
    patch.smooth = true;
    return patch;
}

std::unique_ptr<Figure> solid_figure(const Model& model, const Part& part, const std::string& title,
                                     const std::string& subtitle, const FigureOptions& options) {
    // A carved plane part has a height, and is looked at as a body.
    auto out = std::make_unique<Figure>(with_unit(options, model), false, title, subtitle);
    Figure& figure = *out;
    figure.add(part_patch(part));
    add_block_outline(figure, model, color::faint);
    figure.add_legend('#', design_of_part, "design");
    if (std::find(part.kept.begin(), part.kept.end(), true) != part.kept.end())
        figure.add_legend('#', color::keep, "kept");
    figure.add_legend('-', color::faint, "original space");
    add_all_loads(figure, model, Extent::Whole);
    add_supports(figure, model, used_supports(model), Extent::Whole);
    return out;
}

} // namespace

std::unique_ptr<Figure> density_figure(const Model& model, const DesignValues& design, double threshold,
                                       const std::string& state, const FigureOptions& options) {
    const std::vector<double>& density = design.density;
    if (model.mesh.dimension() == 3 && why_not_carved(model)) {
        // No surface can be cut: the cells themselves.
        auto out = std::make_unique<Figure>(
            with_unit(options, model), false, model.title + ": design",
            fmt::format("cells denser than {:.3g}; {}; {}", threshold, state, dimensions(model)));
        Figure& figure = *out;
        std::vector<bool> shown = denser_than(density, threshold);
        Skinned skin = skin_of_elements(model, shown);
        if (skin.element.empty())
            throw Error::input({}, "nothing is dense enough to be shown",
                               "Write a lower threshold with --at");
        bool kept = false;
        for (const ElementId e : skin.element) {
            const bool keep = model.role(e) == Role::Keep;
            kept = kept || keep;
            skin.patch.colors.push_back(keep ? color::keep : design_of_part);
        }
        skin.patch.edges = true;
        for (const Affine& image : images(model.mesh)) figure.add(transformed(skin.patch, image));
        figure.add_legend('#', design_of_part, "design");
        if (kept) figure.add_legend('#', color::keep, "kept");
        add_all_loads(figure, model, Extent::Whole);
        add_supports(figure, model, used_supports(model), Extent::Whole);
        return out;
    }
    if (model.mesh.dimension() == 3) {
        PartOptions part_options;
        part_options.threshold = threshold;
        part_options.drop_islands = false;
        part_options.improve = carved_flat(model); // of solids the surface is enough
        const Part part = PartField(model, design).extract(part_options);
        return solid_figure(
            model, part, model.title + ": design",
            fmt::format("surface where the density is {:.3g}; {}; {}", threshold, state, dimensions(model)),
            options);
    }
    auto out = std::make_unique<Figure>(with_unit(options, model), true, model.title + ": density",
                                        fmt::format("{}; {}", state, dimensions(model)));
    Figure& figure = *out;
    Skinned skin = skin_of_elements(model, std::vector<bool>(model.mesh.elements(), true));
    for (const ElementId e : skin.element) skin.patch.cell_values.push_back(density[index(e)]);
    add_mirrored(figure, model, skin.patch, Scale{0.0, 1.0, "density", true});
    add_block_outline(figure, model, color::empty);
    add_all_loads(figure, model, Extent::Whole);
    add_supports(figure, model, used_supports(model), Extent::Whole);
    return out;
}

void draw_density(const Model& model, const DesignValues& design, double threshold, const std::string& state,
                  const FigureOptions& options, const std::filesystem::path& png) {
    density_figure(model, design, threshold, state, options)->write(png);
}

void draw_part(const Model& model, const Part& part, const std::string& state, const FigureOptions& options,
               const std::filesystem::path& png) {
    solid_figure(model, part, model.title + ": carved part", state, options)->write(png);
}

void draw_inside(const Model& model, const Part& part, const FigureOptions& options,
                 const std::filesystem::path& png) {
    constexpr Color section{0.80, 0.27, 0.20};
    const auto largest =
        std::max_element(part.infills.begin(), part.infills.end(),
                         [](const InfillMade& a, const InfillMade& b) { return a.zone < b.zone; });
    // Across the axis that one looks along most, and what is nearer is taken away.
    const Vec3 view = view_direction(options.from, false);
    Eigen::Index axis = 0;
    view.cwiseAbs().maxCoeff(&axis);
    const double sign = view[axis] < 0.0 ? -1.0 : 1.0;
    const Vec3 normal = sign * Vec3::Unit(axis);
    const double at = largest->box.center()[axis];
    const PartSection open = section_of(model, part, normal, sign * at);
    Figure figure(with_unit(options, model), false, model.title + ": inside the carved part",
                  fmt::format("cut at {} = {:.4g} {}; mass {}, {} before infill", "xyz"[axis], at,
                              model.units.length, model.units.mass_text(part.mass, 5),
                              model.units.mass_text(part.unfilled->mass, 5)));
    Patch patch;
    patch.points = open.surface.points;
    for (std::size_t t = 0; t < open.surface.corners.size(); ++t) {
        const auto& c = open.surface.corners[t];
        patch.polygons.push_back({c[0], c[1], c[2]});
        patch.colors.push_back(open.cut[t] ? section : open.kept[t] ? color::keep : design_of_part);
    }
    figure.add(patch);
    add_block_outline(figure, model, color::faint);
    figure.add_legend('#', section, "section");
    figure.add_legend('#', design_of_part, "design and infill");
    if (std::find(part.kept.begin(), part.kept.end(), true) != part.kept.end())
        figure.add_legend('#', color::keep, "kept");
    figure.write(png);
}

void draw_bodies(const BodyFile& file, const std::string& title, const std::string& unit, bool behind,
                 const FigureOptions& options, const std::filesystem::path& png,
                 const std::vector<std::string>& words_of) {
    const bool sheets = !words_of.empty();
    const std::string what = sheets ? "middle surface" : "faces";
    // Neighbouring numbers in unlike shades, all pale enough for dark words.
    static const std::array<Color, 6> shades{Color{0.66, 0.75, 0.83}, Color{0.93, 0.80, 0.55},
                                             Color{0.70, 0.82, 0.70}, Color{0.86, 0.72, 0.78},
                                             Color{0.82, 0.82, 0.78}, Color{0.72, 0.80, 0.90}};
    FigureOptions from = options;
    from.length_unit = unit;
    Vec3 view = view_direction(options.from, false);
    if (behind) {
        view = options.from == "corner" ? Vec3(Vec3(-0.75, 1.0, -0.62).normalized()) : Vec3(-view);
        from.from = fmt::format("{},{},{}", view.x(), view.y(), view.z());
    }
    Bounds box;
    std::size_t faces = 0;
    for (const auto& body : file.bodies) {
        box.include(body->bounds());
        faces += body->mesh().faces.size();
    }
    const Vec3 s = box.size();
    Figure figure(from, false, title + ": " + what + (behind ? ", from behind" : ""),
                  fmt::format("{}; {} bod{}, {} {}; {:.5g} x {:.5g} x {:.5g} {}", file.format,
                              file.bodies.size(), file.bodies.size() == 1 ? "y" : "ies", faces,
                              sheets ? "walls" : "faces", s.x(), s.y(), s.z(), unit));
    const double words = faces <= 30 ? 15.0 : faces <= 120 ? 11.0 : 8.0;
    // Of very many faces the largest alone bear numbers; free forms are one surface to the eye then.
    constexpr std::size_t most_numbers = 150;
    const bool many = faces > most_numbers;
    double least_area = 0.0;
    if (many) {
        std::vector<double> areas;
        for (const auto& body : file.bodies)
            for (const FacetFace& face : body->mesh().faces) areas.push_back(face.area);
        std::nth_element(areas.begin(), areas.begin() + (most_numbers - 1), areas.end(), std::greater<>());
        least_area = areas[most_numbers - 1];
    }
    for (const auto& body : file.bodies) {
        const FacetMesh& mesh = body->mesh();
        Patch patch;
        patch.points = mesh.points;
        patch.edges = sheets;
        for (std::size_t t = 0; t < mesh.triangles.size(); ++t) {
            const auto& c = mesh.triangles[t];
            patch.polygons.push_back({c[0], c[1], c[2]});
            const auto f = static_cast<std::size_t>(mesh.face_of[t]);
            patch.colors.push_back(
                many && mesh.faces[f].kind == FaceKind::FreeForm ? shades[4] : shades[f % shades.size()]);
        }
        figure.add(patch);
        figure.add_lines(body->edges(), color::empty, 1.2);
        // A number stands on the part of its face that looks at the reader, as near its middle as that is.
        std::vector<double> best(mesh.faces.size(), -1e300);
        std::vector<Vec3> at(mesh.faces.size());
        std::vector<FacetTree::Hit> hits;
        for (std::size_t t = 0; t < mesh.triangles.size(); ++t) {
            const auto& c = body->tree().corners()[t];
            const Vec3 normal = (c[1] - c[0]).cross(c[2] - c[0]).normalized();
            const double facing = sheets ? std::abs(normal.dot(view)) : normal.dot(view);
            if (facing < 0.12) continue;
            const auto f = static_cast<std::size_t>(mesh.face_of[t]);
            const Vec3 middle = (c[0] + c[1] + c[2]) / 3.0;
            // The nearest place to the face's middle, and places near the corners: deep in a hole only those
            // are seen.
            std::array<Vec3, 4> places{
                Vec3(0.9 * nearest_on_triangle(mesh.faces[f].centroid, c[0], c[1], c[2]) + 0.1 * middle)};
            for (std::size_t i = 0; i < 3; ++i) places[i + 1] = 0.94 * c[i] + 0.06 * middle;
            for (std::size_t i = 0; i < 4; ++i) {
                const double value = facing - (i == 0 ? 0.0 : 1.0) -
                                     4.0 * (places[i] - mesh.faces[f].centroid).norm() / box.diagonal();
                if (value <= best[f]) continue;
                // Hidden behind another face it would not be seen.
                body->tree().crossings(places[i] + 1e-4 * box.diagonal() * view, view, hits);
                if (!hits.empty()) continue;
                best[f] = value;
                at[f] = places[i];
            }
        }
        for (std::size_t f = 0; f < mesh.faces.size(); ++f)
            if (best[f] > -1e299 && mesh.faces[f].area >= least_area)
                figure.add_label(at[f] + 0.02 * box.diagonal() * view, std::to_string(mesh.faces[f].number),
                                 words);
        if (!sheets)
            figure.add_legend('#', shades[0], body->name() + fmt::format("\n{} faces", mesh.faces.size()));
    }
    for (const std::string& one : words_of) figure.add_legend(' ', color::text, one);
    if (many)
        figure.add_legend(' ', color::text, fmt::format("the {} largest faces\nare numbered", most_numbers));
    figure.add_legend(' ', color::text,
                      behind ? "the other figure shows\nthe front"
                             : "the other figure shows\nwhat is behind");
    figure.write(png);
}

void draw_quality(const Model& model, const MeshQuality& quality, const FigureOptions& options,
                  const std::filesystem::path& png) {
    constexpr Color mark{0.80, 0.10, 0.10};
    const Mesh& mesh = model.mesh;
    std::string angles;
    if (quality.smallest_dihedral)
        angles = fmt::format("; dihedral angles {:.1f} to {:.1f} deg", *quality.smallest_dihedral,
                             *quality.largest_dihedral);
    Figure figure(with_unit(options, model), mesh.dimension() == 2, model.title + ": the worst elements",
                  fmt::format("{} elements; scaled Jacobian at least {:.3g}, mean {:.3g}{}", mesh.elements(),
                              quality.scaled_jacobian, quality.mean_scaled_jacobian, angles));
    Skinned skin = skin_of_elements(model, std::vector<bool>(mesh.elements(), true));
    skin.patch.color = Color{0.82, 0.86, 0.90};
    skin.patch.edges = true;
    skin.patch.opacity = mesh.dimension() == 2 ? 1.0 : 0.25;
    figure.add(skin.patch);
    std::vector<bool> shown(mesh.elements(), false);
    for (std::size_t i = 0; i < quality.worst.size(); ++i) {
        const WorstElement& w = quality.worst[i];
        shown[index(w.element)] = true;
        figure.add_legend('#', mark,
                          fmt::format("{}: {:.3f} at\n{}", i + 1, w.scaled_jacobian,
                                      vector_text(mesh.center(w.element), mesh.dimension() == 2)));
    }
    Skinned bad = skin_of_elements(model, shown);
    bad.patch.color = mark;
    bad.patch.edges = true;
    figure.add(bad.patch);
    const Vec3 view = view_direction(options.from, mesh.dimension() == 2);
    for (std::size_t i = 0; i < quality.worst.size(); ++i)
        figure.add_label(mesh.center(quality.worst[i].element) + 0.03 * mesh.bounds.diagonal() * view,
                         std::to_string(i + 1), 13);
    figure.write(png);
}

} // namespace upright
