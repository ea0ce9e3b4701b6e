#include "part/formats/step_skin.hpp"

#include "part/formats/bent_edges.hpp"
#include "part/open_faces.hpp"
#include "part/part.hpp"

#include <algorithm>
#include <cmath>
#include <map>
#include <optional>
#include <set>

namespace upright {

namespace {

constexpr double same_surface = 1e-7; // of the body's size
// Free faces are divided at: sag of an edge and turn of the surface along it, down to what length. In sizes
// of the mesh and radians.
constexpr double most_sag = 0.1, most_turn = 0.5, shortest_edge = 0.1;
constexpr double most_settling = 0.3; // of a point of a free face onto it
constexpr double on_exact = 1e-7;     // of the mesh's size: places on exact faces

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

// A place of an image in the modelled part.
Vec3 unmirrored(const Model& model, Vec3 p, std::size_t image) {
    for (std::size_t k = 0; k < model.mesh.symmetry.size(); ++k) {
        const SymmetryCut& cut = model.mesh.symmetry[k];
        if ((image >> k & 1U) != 0) p[cut.axis] = 2.0 * cut.at - p[cut.axis];
    }
    return p;
}

StepSkin part_skin(const Model& model, const SolidPart& part) {
    const WholeTets whole = whole_tets(model, part);
    const std::size_t own = part.tets.size();
    std::map<std::array<std::int32_t, 3>, std::int32_t> sheet_of;
    for (const Improved::Face& face : part.faces) {
        std::array<std::int32_t, 3> key = face.nodes;
        std::sort(key.begin(), key.end());
        sheet_of[key] = face.sheet;
    }
    StepSkin all;
    cad::Skin& out = all.skin;
    const double reach = same_surface * model.mesh.bounds.diagonal();
    std::map<std::pair<std::int32_t, std::size_t>, std::int32_t> known; // by sheet and image
    const auto surface_of = [&](std::int32_t sheet, std::size_t image) -> std::int32_t {
        if (sheet < 0 || part.free(sheet)) return -1;
        const auto [at, fresh] = known.emplace(std::pair{sheet, image}, -1);
        if (!fresh) return at->second;
        std::optional<Surface> s = exact_surface((*part.sheets)[sheet]);
        if (!s) return -1;
        s->at = unmirrored(model, s->at, image);
        for (std::size_t k = 0; k < model.mesh.symmetry.size(); ++k)
            if ((image >> k & 1U) != 0)
                s->axis[model.mesh.symmetry[k].axis] = -s->axis[model.mesh.symmetry[k].axis];
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
        all.sheet.push_back(sheet == sheet_of.end() ? -1 : sheet->second);
        all.image.push_back(face.tet / own);
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
    return all;
}

class SmoothSkin {
  public:
    SmoothSkin(const Model& model, const SolidPart& part, StepSkin& skin)
        : model_(model), part_(part), skin_(skin), size_(model.mesh.size), inner_(part.sheets->count()) {
        for (const Improved::Face& face : part.faces)
            if (face.sheet >= 0) inner_[static_cast<std::size_t>(face.sheet)] = true;
        for (const std::int32_t sheet : skin.sheet)
            if (sheet >= 0) inner_[static_cast<std::size_t>(sheet)] = part.free(sheet);
    }

    void settle_points() {
        const auto& triangles = skin_.skin.triangles;
        std::vector<std::vector<std::size_t>> at(skin_.skin.points.size());
        for (std::size_t t = 0; t < triangles.size(); ++t)
            for (const std::int32_t p : triangles[t]) at[static_cast<std::size_t>(p)].push_back(t);
        for (std::size_t p = 0; p < at.size(); ++p) {
            if (at[p].empty()) continue;
            const Vec3 old = skin_.skin.points[p];
            const std::optional<Vec3> there = onto(at[p], old);
            if (!there || (*there - old).norm() < on_exact * size_ ||
                (*there - old).norm() > most_settling * size_)
                continue;
            std::vector<Vec3> before;
            for (const std::size_t t : at[p]) before.push_back(facet(t));
            skin_.skin.points[p] = *there;
            for (std::size_t i = 0; i < at[p].size(); ++i)
                if (before[i].normalized().dot(facet(at[p][i]).normalized()) < 0.5) {
                    skin_.skin.points[p] = old;
                    break;
                }
        }
    }

    void divide() {
        BentSkin bent{skin_.skin.points, skin_.skin.triangles, {}};
        BentSurface surface;
        surface.place = [&](std::size_t first, std::size_t second, const Vec3& middle) {
            return onto({first, second}, middle);
        };
        surface.normal = [&](std::size_t first, std::size_t second, const Vec3& end) -> std::optional<Vec3> {
            if (skin_.sheet[first] != skin_.sheet[second]) return {};
            return sheet(first).normal(unmirrored(model_, end, skin_.image[first]));
        };
        split_bent_edges(bent, {most_sag * size_, most_turn, shortest_edge * size_}, surface);
        StepSkin out;
        out.skin = std::move(skin_.skin);
        out.skin.points = std::move(bent.points);
        out.skin.triangles = std::move(bent.triangles);
        const std::vector<std::int32_t> surfaces = std::move(out.skin.surface_of);
        out.skin.surface_of.clear();
        for (const std::size_t t : bent.from) {
            out.skin.surface_of.push_back(surfaces[t]);
            out.sheet.push_back(skin_.sheet[t]);
            out.image.push_back(skin_.image[t]);
        }
        skin_ = std::move(out);
    }

  private:
    Vec3 facet(std::size_t t) const {
        const auto& c = skin_.skin.triangles[t];
        const Vec3& p = skin_.skin.points[static_cast<std::size_t>(c[0])];
        return Vec3(skin_.skin.points[static_cast<std::size_t>(c[1])] - p)
            .cross(Vec3(skin_.skin.points[static_cast<std::size_t>(c[2])] - p));
    }
    const Sheet& sheet(std::size_t t) const { return (*part_.sheets)[skin_.sheet[t]]; }

    // Whether the way leads off an exact face, or through one: out of the space, where its edge is thin.
    bool leaves(const Vec3& from, const Vec3& to) const {
        const double near = on_exact * size_;
        for (std::size_t s = 0; s < part_.sheets->count(); ++s) {
            const auto number = static_cast<std::int32_t>(s);
            if (inner_[s]) continue;
            const double before = (*part_.sheets)[number].value(from);
            const double after = (*part_.sheets)[number].value(to);
            if (std::abs(after) > near && (std::abs(before) <= near || before * after < 0.0)) return true;
        }
        return false;
    }

    // The place near p on the faces that these triangles lie on, in their mirror planes where they are
    // images of each other; nothing where none of them is free, or there is none.
    std::optional<Vec3> onto(const std::vector<std::size_t>& triangles, const Vec3& p) const {
        std::set<std::int32_t> sheets;
        std::size_t behind = 0;
        bool free = false;
        const std::size_t image = skin_.image[triangles.front()];
        for (const std::size_t t : triangles) {
            if (skin_.sheet[t] < 0) return {};
            sheets.insert(skin_.sheet[t]);
            behind |= image ^ skin_.image[t];
            free = free || skin_.skin.surface_of[t] < 0;
        }
        if (!free || sheets.size() > 3) return {};
        auto there = part_.sheets->onto({sheets.begin(), sheets.end()}, unmirrored(model_, p, image));
        if (!there || leaves(unmirrored(model_, p, image), *there)) return {};
        for (const std::size_t t : triangles)
            if (skin_.skin.surface_of[t] >= 0 && std::abs(sheet(t).value(*there)) > on_exact * size_)
                return {};
        for (std::size_t k = 0; k < model_.mesh.symmetry.size(); ++k)
            if ((behind >> k & 1U) != 0) (*there)[model_.mesh.symmetry[k].axis] = model_.mesh.symmetry[k].at;
        return unmirrored(model_, *there, image);
    }

    const Model& model_;
    const SolidPart& part_;
    StepSkin& skin_;
    double size_;
    std::vector<bool> inner_; // of each sheet: free, or a face between regions alone
};

} // namespace

StepSkin step_skin(const Model& model, const SolidPart& part, StepFaces faces) {
    StepSkin out = part_skin(model, part);
    out.skin.facets = faces == StepFaces::Flat;
    if (faces != StepFaces::Divided) return out;
    SmoothSkin skin(model, part, out);
    skin.settle_points();
    skin.divide();
    return out;
}

void measure_off(const Model& model, const SolidPart& part, const StepSkin& skin, cad::StepResult& result) {
    constexpr double tenth = 0.1;
    double sum = 0.0;
    std::size_t count = 0;
    std::size_t close = 0;
    for (const cad::StepResult::Place& place : result.places) {
        const auto t = static_cast<std::size_t>(place.triangle);
        if (skin.sheet[t] < 0) continue;
        const Vec3 p = unmirrored(model, place.at, skin.image[t]);
        const auto foot = part.sheets->onto({skin.sheet[t]}, p);
        const double off =
            (foot ? (*foot - p).norm() : std::abs((*part.sheets)[skin.sheet[t]].value(p))) / model.mesh.size;
        result.off = std::max(result.off, off);
        sum += off;
        close += off <= tenth ? 1 : 0;
        ++count;
    }
    if (count == 0) return;
    result.mean_off = sum / static_cast<double>(count);
    result.within_a_tenth = static_cast<double>(close) / static_cast<double>(count);
}

} // namespace upright
