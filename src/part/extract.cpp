#include "part/extract.hpp"

#include "part/open_faces.hpp"

#include "base/reduction.hpp"
#include "design/projection.hpp"
#include "geometry/facets.hpp"
#include "model/thickened.hpp"
#include "part/solid/blend.hpp"
#include "part/solid/symmetry_face.hpp"
#include "part/solid/tet_locator.hpp"
#include "study/mesh_word.hpp"

#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <map>

namespace upright {

namespace {

// The filtered density that the projection makes a physical one of.
double unprojected(double density, double sharpness) {
    if (sharpness <= 0.0) return density;
    double low = 0.0;
    double high = 1.0;
    for (int i = 0; i < 60; ++i) {
        const double middle = 0.5 * (low + high);
        (project(middle, sharpness) < density ? low : high) = middle;
    }
    return 0.5 * (low + high);
}

// All mirror images of a place, given the planes that count.
std::vector<Vec3> images_of(const Vec3& p, const std::vector<SymmetryCut>& planes) {
    std::vector<Vec3> out{p};
    for (const SymmetryCut& cut : planes) {
        const std::size_t count = out.size();
        for (std::size_t i = 0; i < count; ++i) {
            Vec3 image = out[i];
            image[cut.axis] = 2.0 * cut.at - image[cut.axis];
            out.push_back(image);
        }
    }
    return out;
}

// Adds the mirror images of points, but for those on the plane, which are put on it exactly; the number of
// each one's image.
std::vector<std::int32_t> reflected(std::vector<Vec3>& points, const SymmetryCut& cut, double size) {
    std::vector<std::int32_t> image(points.size());
    for (std::size_t n = 0; n < image.size(); ++n) {
        image[n] = static_cast<std::int32_t>(n);
        if (on_plane(points[n], cut, size)) {
            points[n][cut.axis] = cut.at;
            continue;
        }
        Vec3 other = points[n];
        other[cut.axis] = 2.0 * cut.at - other[cut.axis];
        image[n] = static_cast<std::int32_t>(points.size());
        points.push_back(other);
    }
    return image;
}

// The skin with its mirror images, which share the points on the planes.
void take_skin(const Model& model, const SolidPart& solid, Part& part) {
    const double size = model.mesh.size;
    std::vector<std::int32_t> number(solid.points.size(), -1);
    for (const Improved::Face& f : solid.faces) {
        if (f.before >= 0) continue;
        if (on_symmetry(model, solid, f)) continue;
        std::array<std::int32_t, 3> t{};
        for (std::size_t k = 0; k < 3; ++k) {
            std::int32_t& n = number[static_cast<std::size_t>(f.nodes[k])];
            if (n < 0) {
                n = static_cast<std::int32_t>(part.surface.points.size());
                part.surface.points.push_back(solid.points[static_cast<std::size_t>(f.nodes[k])]);
            }
            t[k] = n;
        }
        part.surface.corners.push_back(t);
        part.kept.push_back(model.regions[static_cast<std::size_t>(f.behind)].role == Role::Keep);
        part.free.push_back(solid.free(f.sheet));
    }
    for (const SymmetryCut& cut : model.mesh.symmetry) {
        const std::vector<std::int32_t> image = reflected(part.surface.points, cut, size);
        const std::size_t triangles = part.surface.corners.size();
        for (std::size_t i = 0; i < triangles; ++i) {
            const auto t = part.surface.corners[i];
            part.surface.corners.push_back({image[static_cast<std::size_t>(t[0])],
                                            image[static_cast<std::size_t>(t[2])],
                                            image[static_cast<std::size_t>(t[1])]});
            part.kept.push_back(part.kept[i]);
            part.free.push_back(part.free[i]);
        }
    }
}

// The piece whose skin is nearest to a place.
class PieceOfWall {
  public:
    explicit PieceOfWall(const SolidPart* part) {
        if (part == nullptr) return;
        std::vector<std::int32_t> at(part->points.size(), 0);
        for (std::size_t t = 0; t < part->tets.size(); ++t)
            for (const std::int32_t n : part->tets[t]) at[static_cast<std::size_t>(n)] = part->piece[t];
        std::vector<std::array<std::int32_t, 3>> triangles;
        for (const Improved::Face& f : part->faces) {
            if (f.before >= 0) continue;
            triangles.push_back(f.nodes);
            piece_.push_back(at[static_cast<std::size_t>(f.nodes[0])]);
        }
        tree_ = FacetTree(part->points, triangles);
    }
    std::int32_t nearest(const Vec3& p) const {
        return piece_[static_cast<std::size_t>(tree_.nearest(p).triangle)];
    }

  private:
    FacetTree tree_;
    std::vector<std::int32_t> piece_; // of each triangle
};

} // namespace

bool carved_flat(const Model& model) {
    return model.made_by.flat() && !made_of_sheets(model);
}

std::optional<Error> why_not_carved(const Model& model) {
    if (model.mesh.kinds.empty() || !model.made_by.kind->from_file) return {};
    for (const FieldRegion& region : model.shapes.regions())
        if (region.finish)
            return Error::input(region.place,
                                "the part of a mesh from a file is cut from its elements, and \"" +
                                    region.name + "\" is a shape",
                                "Leave the finish out, or let the mesh be made");
    if (!model.bonds.empty())
        return Error::input(model.made_by.place,
                            "the part of a mesh from a file is one mesh, and this one has bonded bodies",
                            "Let them share nodes");
    if (made_of_sheets(model)) {
        try {
            thickened(model);
        } catch (const Error& why) {
            return why;
        }
    }
    return {};
}

bool Part::one_piece() const {
    const auto left =
        std::count_if(pieces.begin(), pieces.end(), [](const PartPiece& p) { return !p.dropped; });
    return left == 1 && missed.empty();
}

WholeTets whole_tets(const Model& model, const SolidPart& part) {
    WholeTets out{part.points, part.tets, part.region, {}};
    for (std::size_t n = 0; n < part.points.size(); ++n) out.image_of.push_back(n);
    for (const SymmetryCut& cut : model.mesh.symmetry) {
        const std::size_t points = out.points.size();
        const std::vector<std::int32_t> image = reflected(out.points, cut, model.mesh.size);
        for (std::size_t n = 0; n < points; ++n)
            if (static_cast<std::size_t>(image[n]) != n) out.image_of.push_back(out.image_of[n]);
        const std::size_t tets = out.tets.size();
        for (std::size_t t = 0; t < tets; ++t) {
            std::array<std::int32_t, 4> turned{};
            for (std::size_t k = 0; k < 4; ++k) turned[k] = image[static_cast<std::size_t>(out.tets[t][k])];
            std::swap(turned[0], turned[1]); // a mirror image is inside out
            out.tets.push_back(turned);
            out.region.push_back(out.region[t]);
        }
    }
    return out;
}

Triangles border_of(const WholeTets& whole, RegionId region) {
    const OpenFaces open = open_faces(whole, [&](std::size_t t) { return whole.region[t] == region; });
    Triangles out;
    std::map<std::int32_t, std::int32_t> number;
    for (const auto& [key, one] : open) {
        const auto& corners = one.corners;
        std::array<std::int32_t, 3> face{};
        for (std::size_t k = 0; k < 3; ++k) {
            const auto [at, is_new] =
                number.emplace(corners[k], static_cast<std::int32_t>(out.points.size()));
            if (is_new) out.points.push_back(whole.points[static_cast<std::size_t>(corners[k])]);
            face[k] = at->second;
        }
        out.corners.push_back(face);
    }
    return out;
}

PartField::PartField(const Model& model, DesignValues design)
    : model_(model), design_(std::move(design)), anchors_(anchors_of(model)) {
    // Into the middle of the thickness.
    if (made_of_sheets(model) && !model.mesh.shell())
        for (Anchor& anchor : anchors_)
            for (Vec3& place : anchor.places) place.z() = middle_of_thickness(model);
    take_design(nullptr);
}

PartField::PartField(const PartField& same_space, DesignValues design)
    : model_(same_space.model_), design_(std::move(design)), anchors_(same_space.anchors_) {
    take_design(&same_space);
}

void PartField::take_design(const PartField* same_space) {
    const Model& model = model_;
    if (const std::optional<Error> why = why_not_carved(model)) throw *why;
    if (carved_flat(model)) {
        flat_ = std::make_unique<FlatCarver>(model, design_.density);
        return;
    }
    const bool projected = design_.filtered.size() == design_.density.size();
    if (!projected) design_.sharpness = 0.0;
    const std::vector<double>& value = projected ? design_.filtered : design_.density;
    if (same_space != nullptr) {
        solid_ = std::make_unique<SolidCarver>(*same_space->solid_, value, projected);
        anchor_tets_ = same_space->anchor_tets_;
    } else {
        solid_ = std::make_unique<SolidCarver>(model, value, projected);
        find_anchor_tets();
    }
    // Of a sharpened design cells denser than its threshold, as a share of all: the level that has the same
    // share. The spline smooths, and members of few cells would lose by it.
    double whole = 0.0;
    double dense = 0.0;
    for (std::size_t e = 0; e < design_.density.size(); ++e) {
        if (model.role(static_cast<ElementId>(e)) != Role::Design) continue;
        const double volume = model.mesh.volume(e);
        const double density = design_.density[e];
        whole += volume;
        dense += density > design_.threshold ? volume : 0.0;
    }
    if (design_.sharpness > 0.0 && dense > 0.0 && dense < whole)
        shift_ = solid_->level_of_share(dense / whole) - unprojected(design_.threshold, design_.sharpness);
}

PartField::PartField(const Model& model, std::vector<std::shared_ptr<const FacetBody>> bodies)
    : model_(model), anchors_(anchors_of(model)) {
    if (const std::optional<Error> why = why_not_carved(model)) throw *why;
    if (model.made_by.flat() || model.mesh.shell())
        throw Error::input(model.made_by.place, "bodies made elsewhere are taken for solid models alone",
                           "Write a study of solids");
    design_.sharpness = 0.0;
    made_elsewhere_ = true;
    for (const auto& body : bodies) body_volume_ += body->volume();
    solid_ = std::make_unique<SolidCarver>(model, std::move(bodies));
}

double PartField::level_of(double threshold) const {
    return unprojected(threshold, design_.sharpness) + shift_;
}

double PartField::mass_of(const std::vector<double>& volumes, bool design_alone) const {
    double out = 0.0;
    for (std::size_t r = 0; r < volumes.size(); ++r) {
        const ModelRegion& region = model_.regions[r];
        if (region.material == MaterialId::None || (design_alone && region.role != Role::Design)) continue;
        out += volumes[r] * model_.materials[region.material].density;
    }
    return out * model_.mesh.copies();
}

double PartField::mass_at(double threshold, bool design_alone) const {
    if (solid_) return mass_of(solid_->volumes(level_of(threshold)), design_alone);
    PartOptions options;
    options.threshold = threshold;
    options.improve = false;
    return flat_->extract(options).mass;
}

void PartField::find_anchor_tets() {
    const CutTets& space = solid_->space();
    const TetLocator locator(space.points, space.tets, model_.mesh.size);
    for (const Anchor& anchor : anchors_) {
        std::vector<std::int32_t> tets;
        for (const Vec3& place : anchor.places) tets.push_back(locator.find(place));
        anchor_tets_.push_back(std::move(tets));
    }
}

PartField::Glance PartField::glance(const PartOptions& options) const {
    Glance out;
    if (flat_) {
        PartOptions raw = options;
        raw.improve = false;
        const Part part = flat_->extract(raw);
        out.mass = part.mass;
        out.missed = part.missed;
        for (const PartPiece& p : part.pieces) out.pieces += p.dropped ? 0 : 1;
        return out;
    }
    const double level = level_of(options.threshold);
    const CutTets& space = solid_->space();
    const std::vector<std::int32_t> piece = solid_->pieces_above(level);
    const std::int32_t count = piece.empty() ? 0 : *std::max_element(piece.begin(), piece.end()) + 1;
    std::vector<bool> wanted(static_cast<std::size_t>(count), !options.drop_islands);
    std::vector<std::vector<bool>> reaches(wanted.size(),
                                           std::vector<bool>(model_.mesh.symmetry.size(), false));
    std::vector<std::size_t> size(wanted.size(), 0);
    for (std::size_t t = 0; t < piece.size(); ++t) {
        if (piece[t] < 0) continue;
        const auto p = static_cast<std::size_t>(piece[t]);
        ++size[p];
        const bool kept = model_.regions[static_cast<std::size_t>(space.label[t])].role == Role::Keep;
        if (kept) wanted[p] = true;
        for (std::size_t c = 0; c < model_.mesh.symmetry.size(); ++c)
            for (const std::int32_t n : space.tets[t]) {
                const Vec3& place = space.points[static_cast<std::size_t>(n)];
                if (on_plane(place, model_.mesh.symmetry[c], model_.mesh.size) &&
                    (kept || solid_->value_at(place) > level))
                    reaches[p][c] = true;
            }
    }
    if (count > 0)
        wanted[static_cast<std::size_t>(std::max_element(size.begin(), size.end()) - size.begin())] = true;
    for (std::size_t a = 0; a < anchors_.size(); ++a) {
        bool any = false;
        for (std::size_t k = 0; k < anchors_[a].places.size(); ++k) {
            const std::int32_t t = anchor_tets_[a][k];
            if (t < 0 || piece[static_cast<std::size_t>(t)] < 0) continue;
            const bool kept =
                model_.regions[static_cast<std::size_t>(space.label[static_cast<std::size_t>(t)])].role ==
                Role::Keep;
            if (!kept && solid_->value_at(anchors_[a].places[k]) <= level) continue;
            wanted[static_cast<std::size_t>(piece[static_cast<std::size_t>(t)])] = true;
            any = true;
        }
        if (!any) out.missed.push_back(anchors_[a].label);
    }
    for (std::size_t p = 0; p < wanted.size(); ++p) {
        if (!wanted[p]) continue;
        std::size_t images = 1;
        for (const bool touches : reaches[p]) images *= touches ? 1 : 2;
        out.pieces += images;
    }
    out.mass = mass_of(solid_->volumes(level));
    return out;
}

double PartField::threshold_where(bool design_alone, double mass,
                                  const std::function<std::string(double)>& told) const {
    double low = 1e-4;
    double high = 1.0 - 1e-4;
    const double most = mass_at(low, design_alone);
    const double least = mass_at(high, design_alone);
    if (mass > most || mass < least)
        throw Error::input({}, "no threshold gives a part of " + told(mass),
                           "Write between " + told(least) + " and " + told(most));
    for (int i = 0; i < 40; ++i) {
        const double middle = 0.5 * (low + high);
        (mass_at(middle, design_alone) > mass ? low : high) = middle;
    }
    return 0.5 * (low + high);
}

double PartField::threshold_of_mass(double mass) const {
    return threshold_where(false, mass, [&](double m) { return model_.units.mass_text(m, 5); });
}

double PartField::threshold_of_fraction(double fraction) const {
    if (flat_) throw Error::usage("--fraction goes with solid models", "Write --mass or --at");
    const double whole = mass_of(solid_->volumes(-1.0), true);
    return threshold_where(true, fraction * whole,
                           [&](double m) { return fmt::format("{:.4g} of the design", m / whole); });
}

double PartField::largest_connected() const {
    const auto at = [&](int thousandth) {
        PartOptions options;
        options.threshold = 0.001 * thousandth;
        return glance(options).one_piece();
    };
    // What is connected at one is nearly always so below it: halving, then a look at the steps beneath.
    int low = 1;
    int high = 999;
    const auto nowhere = [] {
        return Error::input({}, "at no threshold is the part one piece that reaches every support and load",
                            "upright carve tells what is missed; the design needs a way for those loads");
    };
    if (!at(low)) throw nowhere();
    if (at(high)) low = high;
    while (high - low > 1) {
        const int middle = (low + high) / 2;
        (at(middle) ? low : high) = middle;
    }
    // What the tetrahedra show as connected may be pinched off by the cut.
    for (int step = 1; low > 0; low -= step, step *= 2) {
        PartOptions options;
        options.threshold = 0.001 * low;
        if (extract(options).one_piece()) return options.threshold;
    }
    throw nowhere();
}

// Names the pieces of the modelled part and counts those of the whole body; `wanted`: which of the former
// stay.
// `unfilled`: the part before infill, in which places of supports and loads are looked for; of those in a
// void the nearest wall counts.
void PartField::find_pieces(const SolidPart& solid, Part& part, bool drop, std::vector<bool>& wanted,
                            const SolidPart* unfilled) const {
    const std::int32_t count =
        solid.piece.empty() ? 0 : *std::max_element(solid.piece.begin(), solid.piece.end()) + 1;
    std::vector<PartPiece> pieces(static_cast<std::size_t>(count));
    std::vector<std::vector<bool>> reaches(pieces.size(),
                                           std::vector<bool>(model_.mesh.symmetry.size(), false));
    for (std::size_t t = 0; t < solid.tets.size(); ++t) {
        const auto i = static_cast<std::size_t>(solid.piece[t]);
        PartPiece& piece = pieces[i];
        std::array<Vec3, 4> p;
        Vec3 middle = Vec3::Zero();
        for (std::size_t k = 0; k < 4; ++k) {
            p[k] = solid.points[static_cast<std::size_t>(solid.tets[t][k])];
            middle += 0.25 * p[k];
            for (std::size_t c = 0; c < reaches[i].size(); ++c)
                if (on_plane(p[k], model_.mesh.symmetry[c], model_.mesh.size)) reaches[i][c] = true;
        }
        const double volume = tet_volume(p);
        piece.volume += volume;
        piece.center += volume * middle;
        const ModelRegion& region = model_.regions[index(solid.region[t])];
        if (region.role == Role::Keep &&
            std::find(piece.regions.begin(), piece.regions.end(), region.name) == piece.regions.end())
            piece.regions.push_back(region.name);
    }
    const SolidPart& looked_in = unfilled != nullptr ? *unfilled : solid;
    const TetLocator locator(looked_in.points, looked_in.tets, model_.mesh.size);
    const PieceOfWall walls(unfilled != nullptr ? &solid : nullptr);
    part.missed.clear();
    for (const Anchor& anchor : anchors_) {
        bool any = false;
        for (const Vec3& place : anchor.places) {
            const std::int32_t t = locator.find(place);
            if (t < 0) continue;
            any = true;
            const std::int32_t in =
                unfilled != nullptr ? walls.nearest(place) : solid.piece[static_cast<std::size_t>(t)];
            auto& touches = pieces[static_cast<std::size_t>(in)].touches;
            if (std::find(touches.begin(), touches.end(), anchor.card) == touches.end())
                touches.push_back(anchor.card);
        }
        if (!any) part.missed.push_back(anchor.label);
    }
    std::size_t largest = 0;
    for (std::size_t i = 0; i < pieces.size(); ++i)
        if (pieces[i].volume > pieces[largest].volume) largest = i;
    wanted.assign(pieces.size(), true);
    part.pieces.clear();
    for (std::size_t i = 0; i < pieces.size(); ++i) {
        PartPiece& piece = pieces[i];
        piece.center /= piece.volume;
        // What is kept stays, and so does the largest, or a part without any case would vanish.
        piece.dropped = drop && piece.touches.empty() && piece.regions.empty() && i != largest;
        wanted[i] = !piece.dropped;
        std::vector<SymmetryCut> apart;
        for (std::size_t c = 0; c < reaches[i].size(); ++c) {
            const SymmetryCut& cut = model_.mesh.symmetry[c];
            if (!reaches[i][c]) {
                apart.push_back(cut);
                continue;
            }
            piece.volume *= 2.0; // one with its image
            piece.center[cut.axis] = cut.at;
        }
        for (const Vec3& center : images_of(piece.center, apart)) {
            part.pieces.push_back(piece);
            part.pieces.back().center = center;
        }
    }
    std::stable_sort(part.pieces.begin(), part.pieces.end(),
                     [](const PartPiece& a, const PartPiece& b) { return a.volume > b.volume; });
}

Part PartField::solid_part(const PartOptions& options, double level,
                           const std::shared_ptr<const Blend>& blend) const {
    Part part;
    part.level = level;
    const auto solid = std::make_shared<SolidPart>(solid_->cut(
        level, options.improve,
        [&](const SolidPart& raw) {
            std::vector<bool> wanted;
            find_pieces(raw, part, options.drop_islands, wanted);
            return wanted;
        },
        options.size, blend));
    tell_of(solid, part);
    return part;
}

// What there is to know of the mesh, its pieces apart.
void PartField::tell_of(const std::shared_ptr<const SolidPart>& solid, Part& part) const {
    part.solid = solid;
    if (solid->tets.empty()) return;
    take_skin(model_, *solid, part);
    part.volume = volume(part.surface);
    part.closed = closed(part.surface);
    std::vector<double> volumes(model_.regions.size(), 0.0);
    for (std::size_t t = 0; t < solid->tets.size(); ++t) {
        std::array<Vec3, 4> p;
        for (std::size_t k = 0; k < 4; ++k) p[k] = solid->points[static_cast<std::size_t>(solid->tets[t][k])];
        volumes[index(solid->region[t])] += tet_volume(p);
    }
    for (std::size_t r = 0; r < volumes.size(); ++r) {
        const ModelRegion& region = model_.regions[r];
        if (volumes[r] <= 0.0 || region.material == MaterialId::None) continue;
        const Material& material = model_.materials[region.material];
        const double whole = volumes[r] * model_.mesh.copies();
        part.regions.push_back({region.name, material.name, whole, whole * material.density});
    }
    part.mass = mass_of(volumes);
}

Part PartField::with_stock(Part part, const StockWish& wish) const {
    const double before = part.mass;
    const auto solid = std::make_shared<const SolidPart>(upright::with_stock(model_, *part.solid, wish));
    part.surface = {};
    part.regions.clear();
    tell_of(solid, part);
    part.stock += part.mass - before;
    return part;
}

Part PartField::filled_part(Part solid) const {
    Part out;
    out.level = solid.level;
    out.unfilled = std::make_shared<const Part>(std::move(solid));
    const auto mesh =
        std::make_shared<const SolidPart>(with_infill(model_, *out.unfilled->solid, out.infills));
    std::vector<bool> wanted;
    find_pieces(*mesh, out, false, wanted, out.unfilled->solid.get());
    // What was left out before stays in the list.
    for (const PartPiece& p : out.unfilled->pieces)
        if (p.dropped) out.pieces.push_back(p);
    tell_of(mesh, out);
    return out;
}

// Chords and pulled points change the volume a little: the level follows until it is that of the glance, or
// of a body made elsewhere, whose surface is moved by little for it.
Part PartField::matched_part(const PartOptions& options) const {
    constexpr double allowed = 0.002;
    constexpr int most_rounds = 3;
    constexpr double most_moved = 0.05;
    constexpr double matchable = 0.04; // of a body: where more is missing it lies beyond the space
    const double asked = made_elsewhere_ ? 0.0 : level_of(options.threshold);
    const auto volume_at = [&](double level) {
        const std::vector<double> volumes = solid_->volumes(level);
        return sum_of(volumes) * model_.mesh.copies();
    };
    const double wanted = made_elsewhere_ ? body_volume_ : volume_at(asked);
    double level = asked;
    Part out = solid_part(options, level);
    for (int round = 0; options.improve && round < most_rounds; ++round) {
        double volume = out.volume;
        for (const PartPiece& p : out.pieces) volume += p.dropped ? p.volume : 0.0;
        if (out.pieces.empty() || std::abs(volume - wanted) <= allowed * wanted) break;
        if (made_elsewhere_ && std::abs(volume - wanted) > matchable * wanted) break;
        const double step = 1e-3;
        const double slope = (volume_at(level + step) - volume_at(level - step)) / (2.0 * step);
        if (!(slope < 0.0)) break;
        const double to = level + std::clamp((wanted - volume) / slope, -most_moved, most_moved);
        if (made_elsewhere_ && std::abs(to) > most_moved) break;
        level = to;
        out = solid_part(options, level);
    }
    return out;
}

Part PartField::extract(const PartOptions& options) const {
    Part out = flat_ ? flat_->extract(options) : matched_part(options);
    if (made_elsewhere_ && out.pieces.empty())
        throw Error::input({}, "nothing of the body lies in the space of the study",
                           "Check its unit of length and its place");
    if (out.pieces.empty() || out.surface.corners.empty())
        throw Error::input({},
                           fmt::format("no material is denser than the threshold {:g}", options.threshold),
                           "Write a lower one with --at");
    if (options.blend > 0.0 && options.improve && out.solid && !made_elsewhere_) {
        const CutTets& space = solid_->space();
        const auto locator = std::make_shared<const TetLocator>(space.points, space.tets, model_.mesh.size);
        const auto blend = std::make_shared<const Blend>(
            model_, *out.solid, options.blend, [locator](const Vec3& p) { return locator->find(p) >= 0; });
        if (!blend->empty()) {
            const double before = out.mass;
            out = solid_part(options, out.level, blend);
            out.fillets = out.mass - before;
        }
    }
    if (solid_) out.taken_off = solid_->taken_off(out.level) * model_.mesh.copies();
    if (options.infill && options.improve && out.solid && !model_.infills.empty())
        return filled_part(std::move(out));
    return out;
}

} // namespace upright
