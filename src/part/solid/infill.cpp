#include "part/solid/infill.hpp"

#include "base/angles.hpp"
#include "base/reduction.hpp"
#include "geometry/distance.hpp"
#include "geometry/facets.hpp"
#include "mesh/quality.hpp"
#include "part/solid/cut_level.hpp"
#include "part/solid/lattice_cell.hpp"
#include "part/solid/refine.hpp"
#include "part/solid/symmetry_face.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <optional>

namespace upright {

namespace {

constexpr double edge_of_thickness = 0.7;  // length of edges at walls
constexpr double border_edge = 1.0;        // of the skin: of edges at the border of zones that stay solid
constexpr double edge_growth = 0.5;        // of edges away from walls, by their distance
constexpr double tets_a_cube = 9.0;        // in a cube of an edge's length, once edges were halved
constexpr double infill_angle = 18.0;      // degrees, dihedral: what the tetrahedra are made better to
constexpr double on_wall = 1e-3;           // of the thickness: a point as near lies on the wall
constexpr double most_thicker = 0.1;       // of the thickness
constexpr double well_matched = 1.5e-2;    // of the solid volume in the zone: what it may be off by
constexpr double least_infill_angle = 1.5; // degrees, dihedral: what is flatter is cut another way
constexpr std::array<double, 3> wall_snaps{0.15, 0.25, 0.2}; // of an edge, the first unless it fails
constexpr int matching_rounds = 4;                           // of matching
constexpr std::size_t samples = 32; // of a tetrahedron: where it is asked how much of it is solid
constexpr std::array<double, 3> sequence{0.8191725133961645, 0.6710436067037893, 0.5497004779019703};

// The skin as what depth is measured from; planes of symmetry are none.
FacetTree skin_tree(const Model& model, const SolidPart& part) {
    std::vector<std::array<std::int32_t, 3>> triangles;
    for (const Improved::Face& f : part.faces)
        if (f.before < 0 && !on_symmetry(model, part, f)) triangles.push_back(f.nodes);
    return {part.points, triangles};
}

// How far a place is from the skin. Depths at the points of a lattice tell at once of most places that the
// skin is not as near as it has to be to matter: no two depths differ by more than the places do.
class SkinDepth {
  public:
    SkinDepth(FacetTree tree, double step) : tree_(std::move(tree)) {
        Bounds box;
        for (const auto& t : tree_.corners())
            for (const Vec3& p : t) box.include(p);
        constexpr double most_points = 1e6;
        const Vec3 size = box.size();
        step_ = std::max(step, std::cbrt(size.prod() / most_points));
        low_ = box.low;
        for (Eigen::Index a = 0; a < 3; ++a)
            count_[static_cast<std::size_t>(a)] = static_cast<std::int64_t>(std::ceil(size[a] / step_)) + 1;
        known_.resize(static_cast<std::size_t>(count_[0] * count_[1] * count_[2]));
#pragma omp parallel for schedule(dynamic, 256)
        for (std::int64_t n = 0; n < static_cast<std::int64_t>(known_.size()); ++n) {
            const Vec3 p = low_ + step_ * Vec3(static_cast<double>(n % count_[0]),
                                               static_cast<double>(n / count_[0] % count_[1]),
                                               static_cast<double>(n / count_[0] / count_[1]));
            known_[static_cast<std::size_t>(n)] = tree_.nearest(p).distance;
        }
    }

    // Triangle -1, and as far as can be, where it is farther than `reach`.
    FacetTree::Nearest nearest(const Vec3& p, double reach) const {
        std::int64_t n = 0;
        Vec3 off;
        for (std::size_t a = 3; a-- > 0;) {
            const auto e = static_cast<Eigen::Index>(a);
            const double at = (p[e] - low_[e]) / step_;
            const auto i =
                std::clamp<std::int64_t>(static_cast<std::int64_t>(std::lround(at)), 0, count_[a] - 1);
            off[e] = step_ * (at - static_cast<double>(i));
            n = n * count_[a] + i;
        }
        if (known_[static_cast<std::size_t>(n)] - off.norm() > reach) return {};
        return tree_.nearest(p, reach);
    }

  private:
    FacetTree tree_;
    Vec3 low_ = Vec3::Zero();
    double step_ = 1.0;
    std::array<std::int64_t, 3> count_{};
    std::vector<double> known_;
};

// Where one card leaves material: negative in skin and struts and beyond its shape.
class Filling {
  public:
    Filling(const InfillCard& card, std::shared_ptr<const SkinDepth> skin)
        : card_(card), cell_(card), skin_(std::move(skin)) {
        shape_.kind = Sheet::Kind::Field;
        shape_.field = [inside = card.inside](const Vec3& p) {
            return inside ? -signed_distance(*inside, p) : 1e300;
        };
        shape_.radius = 1e-4 * card.thickness;
    }

    // How far the walls of struts and sheets lie outside of where they are written.
    double thicker = 0.0;

    // How deep within the zone; of what is deeper than `most` that.
    double core(const Vec3& p, double most = 1e300) const {
        const double out = std::min(most, shape_.field(p));
        return std::min(out, skin_->nearest(p, out + card_.skin).distance - card_.skin);
    }

    // From struts and sheets.
    double wall(const Vec3& p) const { return cell_.distance(p) - thicker; }
    // Whether it is a wall of these that is nearest.
    bool at_wall(const Vec3& p) const { return wall(p) <= core(p, std::abs(wall(p)) + card_.thickness); }

    // About the distance; its slope, of unit length, where it is wanted.
    double value(const Vec3& p, Vec3* slope = nullptr) const {
        const double wall = this->wall(p);
        const double within = shape_.field(p);
        double out = std::min(wall, within);
        bool skinned = false;
        if (out + card_.skin > 0.0) {
            const FacetTree::Nearest near = skin_->nearest(p, out + card_.skin);
            if (near.triangle >= 0 && near.distance - card_.skin < out) {
                out = near.distance - card_.skin;
                skinned = true;
                if (slope != nullptr)
                    *slope = near.distance > 0.0 ? Vec3((p - near.place) / near.distance) : Vec3::UnitZ();
            }
        }
        if (slope != nullptr && !skinned) {
            if (wall < within)
                cell_.distance(p, slope);
            else
                *slope = shape_.normal(p);
        }
        return out;
    }

    // Where the zone begins.
    Sheet border() const {
        Sheet out;
        out.kind = Sheet::Kind::Field;
        out.field = [filling = *this, reach = 2.0 * card_.period](const Vec3& p) {
            return filling.core(p, reach);
        };
        out.radius = 1e-4 * card_.thickness;
        return out;
    }

    Sheet sheet() const {
        Sheet out;
        out.kind = Sheet::Kind::Field;
        out.with_slope = [filling = *this](const Vec3& p, Vec3& slope) { return filling.value(p, &slope); };
        out.least_slope = 0.5;
        return out;
    }

  private:
    InfillCard card_; // the sheet outlives the model
    LatticeCell cell_;
    Sheet shape_; // how far within the card's shape
    std::shared_ptr<const SkinDepth> skin_;
};

class Filler {
  public:
    Filler(const Model& model, const SolidPart& part, const InfillCard& card,
           std::shared_ptr<const SkinDepth> skin)
        : card_(card), filling_(card, std::move(skin)), sheets_(std::make_shared<SheetSet>(*part.sheets)) {
        for (const ModelRegion& region : model.regions)
            zone_.push_back(card.of.empty() ? region.role == Role::Design : refers_to(card.of, region.name));
        for (const Vec3& p : part.points) tets_.add_point(p);
        for (std::size_t n = 0; n < part.points.size(); ++n)
            for (const std::int32_t s : part.sheets_of[n]) tets_.put_on(static_cast<std::int32_t>(n), s);
        for (std::size_t t = 0; t < part.tets.size(); ++t)
            tets_.add_tet(part.tets[t], static_cast<std::int32_t>(part.region[t]));
    }

    Improved run(InfillMade& made) {
        refine();
        measure(made);
        sheet_ = sheets_->add(filling_.sheet());
        Improved best;
        double best_off = 1e300;
        bool best_flat = true;
        std::size_t snaps = 0;
        double best_thicker = 0.0;
        struct Tried {
            double thicker, off;
        };
        std::optional<Tried> thin, thick;
        for (int round = 0; round < matching_rounds; ++round) {
            sheets_->replace(sheet_, filling_.sheet());
            CutTets cut = tets_;
            InfillMade now = made;
            const std::vector<bool> solid = cut_now(cut, now);
            Improved mesh = improve(cut, solid, *sheets_, {infill_angle, {sheet_}});
            now.solid = solid_volume(mesh.tets) - (zone_volume_ - now.zone);
            const double off = now.written - now.solid;
            const bool flat = least_sine_of(mesh.tets) < std::sin(least_infill_angle * degree);
            if (round == 0 || flat < best_flat || (flat == best_flat && std::abs(off) < best_off)) {
                best = std::move(mesh);
                best_off = std::abs(off);
                best_flat = flat;
                best_thicker = filling_.thicker;
                made = now;
            }
            if (flat) { // cut another way
                snap_ = wall_snaps[++snaps % wall_snaps.size()];
                continue;
            }
            if (std::abs(off) <= well_matched * now.written || made.solid <= 0.0) break;
            (off > 0.0 ? thin : thick) = Tried{filling_.thicker, off};
            // By the area of the walls; once there is one that is too thin and one too thick, between them.
            double next = 0.0;
            if (thin && thick)
                next =
                    thin->thicker + (thick->thicker - thin->thicker) * thin->off / (thin->off - thick->off);
            else if (const double area = wall_area(cut, solid); area > 0.0)
                next = filling_.thicker + off / area;
            const double most = most_thicker * card_.thickness;
            filling_.thicker = std::clamp(next, -most, most);
        }
        filling_.thicker = best_thicker;
        sheets_->replace(sheet_, filling_.sheet());
        return best;
    }

    // Nothing is taken out: tetrahedra of the zone get regions behind those of the model, one for each
    // material.
    Improved run_zone(const Model& model, std::size_t card, InfillMade& made,
                      std::vector<InfillZone>& zones) {
        sheet_ = sheets_->add(filling_.border());
        const double edge = border_edge * card_.skin;
        divide([&](const Vec3& p) {
            return std::max(edge, edge_growth * std::abs(filling_.core(p, card_.period)));
        });
        CutTets cut = tets_;
        std::vector<double> value(cut.points.size());
#pragma omp parallel for schedule(dynamic, 1024)
        for (std::size_t n = 0; n < value.size(); ++n) value[n] = (*sheets_)[sheet_].value(cut.points[n]);
        const std::vector<bool> skin = cut_at_level(cut, *sheets_, std::move(value), sheet_, zone_).solid;
        // What is void of it, by many points of each tetrahedron: they are larger than struts.
        constexpr std::size_t many = 500;
        std::vector<double> zone(skin.size(), 0.0);
        std::vector<double> voids(skin.size(), 0.0);
        const std::vector<double> deep(cut.points.size(), 1e300); // the border is cut
#pragma omp parallel for schedule(dynamic, 64)
        for (std::size_t t = 0; t < skin.size(); ++t)
            if (!skin[t]) sample(cut, t, deep, many, zone[t], voids[t]);
        made.voids.assign(model.regions.size(), 0.0);
        const auto first = static_cast<std::int32_t>(model.regions.size());
        for (std::size_t t = 0; t < skin.size(); ++t) {
            if (skin[t]) continue;
            const MaterialId material = model.regions[static_cast<std::size_t>(cut.label[t])].material;
            std::size_t z = 0;
            while (z < zones.size() && (zones[z].card != card || zones[z].of != material)) ++z;
            if (z == zones.size()) zones.push_back({card, material});
            const double volume = cut.volume(t);
            made.zone += volume;
            made.voids[static_cast<std::size_t>(cut.label[t])] += voids[t];
            for (const Vec3& p : cut.corners(t)) made.box.include(p);
            cut.label[t] = first + static_cast<std::int32_t>(z);
        }
        if (!(made.zone > 0.0)) no_room();
        made.solid = made.written = made.zone - sum_of(voids);
        return improve(cut, std::vector<bool>(cut.tets.size(), true), *sheets_, {infill_angle, {sheet_}});
    }

    const std::shared_ptr<SheetSet>& sheets() const {
        return sheets_;
    }
    std::int32_t sheet() const {
        return sheet_;
    }

  private:
    bool in_zone(const CutTets& tets, std::size_t t) const {
        const auto label = static_cast<std::size_t>(tets.label[t]);
        return label < zone_.size() && zone_[label];
    }

    void refine() {
        const double edge = edge_of_thickness * card_.thickness;
        double core = 0.0;
        for (std::size_t t = 0; t < tets_.tets.size(); ++t)
            if (in_zone(tets_, t) && filling_.core(tets_.center(t)) > 0.0) core += tets_.volume(t);
        // As if it were divided everywhere; what lies between walls stays coarser.
        const double most = tets_a_cube * core / (edge * edge * edge);
        if (most > 4.0 * static_cast<double>(most_infill_tets)) too_many(most);
        divide([&](const Vec3& p) { return std::max(edge, edge_growth * std::abs(filling_.value(p))); });
    }

    // Of the zone's tetrahedra alone.
    void divide(const SizeWish& size) {
        std::vector<bool> wanted(tets_.tets.size());
        for (std::size_t t = 0; t < wanted.size(); ++t) wanted[t] = in_zone(tets_, t);
        split_long_edges(tets_, wanted, *sheets_, size, [&](std::size_t count) {
            if (count > most_infill_tets) too_many(static_cast<double>(count));
        });
    }

    [[noreturn]] void too_many(double count) const {
        throw Error::input(card_.place,
                           fmt::format("the infill \"{}\" takes about {:.2g} tetrahedra; {:.2g} are served",
                                       card_.name, count, static_cast<double>(most_infill_tets)),
                           "Write a larger thickness and period, or a smaller zone with of and inside");
    }

    // Volumes of the zone below the skin, and of what is written as solid in it.
    void measure(InfillMade& made) {
        const std::size_t points = tets_.points.size();
        std::vector<double> core(points, 0.0);
#pragma omp parallel for schedule(dynamic, 1024)
        for (std::size_t n = 0; n < points; ++n) core[n] = filling_.core(tets_.points[n], card_.period);
        const std::size_t count = tets_.tets.size();
        std::vector<double> zone(count, 0.0);
        std::vector<double> voids(count, 0.0);
#pragma omp parallel for schedule(dynamic, 1024)
        for (std::size_t t = 0; t < count; ++t)
            if (in_zone(tets_, t)) sample(tets_, t, core, samples, zone[t], voids[t]);
        for (std::size_t t = 0; t < count; ++t)
            if (zone[t] > 0.0)
                for (const Vec3& p : tets_.corners(t)) made.box.include(p);
        zone_volume_ = solid_volume(tets_);
        made.zone = sum_of(zone);
        if (!(made.zone > 0.0)) no_room();
        made.written = made.zone - sum_of(voids);
    }

    [[noreturn]] void no_room() const {
        throw Error::input(card_.place,
                           "the infill \"" + card_.name +
                               "\" has no room: nowhere in its regions is the part so thick",
                           "Write a smaller skin, or another zone with of and inside");
    }

    // How much of a tetrahedron is within the zone, and how much of that is void, by points in it.
    // `core`: at each point.
    void sample(const CutTets& tets, std::size_t t, const std::vector<double>& core, std::size_t count,
                double& zone, double& voids) const {
        const std::array<Vec3, 4> p = tets.corners(t);
        double low = 1e300;
        double high = -1e300;
        double longest = 0.0;
        for (std::size_t i = 0; i < 4; ++i) {
            const double v = core[static_cast<std::size_t>(tets.tets[t][i])];
            low = std::min(low, v);
            high = std::max(high, v);
            for (std::size_t j = 0; j < i; ++j) longest = std::max(longest, (p[i] - p[j]).norm());
        }
        if (high < -longest) return;
        // Evenly over the tetrahedron: a sequence of little discrepancy in the cube (Roberts 2018), another
        // part of it for each tetrahedron, folded (Rocchini & Cignoni 2000).
        const double width = longest / std::cbrt(6.0 * static_cast<double>(count));
        for (std::size_t i = 0; i < count; ++i) {
            const auto n = static_cast<double>(t % 100000 * count + i);
            std::array<double, 3> u{};
            for (std::size_t a = 0; a < 3; ++a) u[a] = std::fmod(0.5 + sequence[a] * n, 1.0);
            if (u[0] + u[1] > 1.0) {
                u[0] = 1.0 - u[0];
                u[1] = 1.0 - u[1];
            }
            if (u[1] + u[2] > 1.0) {
                const double third = u[2];
                u[2] = 1.0 - u[0] - u[1];
                u[1] = 1.0 - third;
            } else if (u[0] + u[1] + u[2] > 1.0) {
                const double third = u[2];
                u[2] = u[0] + u[1] + third - 1.0;
                u[0] = 1.0 - u[1] - third;
            }
            const Vec3 q = p[0] + u[0] * (p[1] - p[0]) + u[1] * (p[2] - p[0]) + u[2] * (p[3] - p[0]);
            const double deep = low > longest ? width : filling_.core(q, width);
            zone += std::clamp(0.5 + deep / width, 0.0, 1.0);
            voids += std::clamp(0.5 + std::min(deep, filling_.wall(q)) / width, 0.0, 1.0);
        }
        const double volume = tets.volume(t) / static_cast<double>(count);
        zone *= volume;
        voids *= volume;
    }

    std::vector<bool> cut_now(CutTets& cut, InfillMade& made) const {
        std::vector<double> value(cut.points.size());
#pragma omp parallel for schedule(dynamic, 1024)
        for (std::size_t n = 0; n < value.size(); ++n) {
            value[n] = filling_.value(cut.points[n]);
            if (std::abs(value[n]) < on_wall * card_.thickness) value[n] = 0.0;
        }
        std::vector<bool> solid =
            cut_at_level(cut, *sheets_, std::move(value), sheet_, zone_, true, snap_).solid;
        // What hangs together with neither skin nor solid regions floats.
        const auto beyond = neighbours_of(cut);
        const std::vector<std::int32_t> piece = connected(
            beyond, [&](std::size_t t) { return static_cast<bool>(solid[t]); },
            [](std::size_t, std::size_t, std::size_t) { return true; });
        const std::int32_t count = piece.empty() ? 0 : *std::max_element(piece.begin(), piece.end()) + 1;
        std::vector<bool> held(static_cast<std::size_t>(count), false);
        for (std::size_t t = 0; t < piece.size(); ++t) {
            if (piece[t] < 0 || held[static_cast<std::size_t>(piece[t])]) continue;
            if (!in_zone(cut, t) || filling_.core(cut.center(t)) < 0.0)
                held[static_cast<std::size_t>(piece[t])] = true;
        }
        made.loose = static_cast<std::size_t>(std::count(held.begin(), held.end(), false));
        for (std::size_t t = 0; t < piece.size(); ++t)
            if (piece[t] >= 0 && !held[static_cast<std::size_t>(piece[t])]) solid[t] = false;
        return solid;
    }

    double solid_volume(const CutTets& tets) const {
        return sum_over(tets.tets.size(),
                        [&](std::size_t t) { return in_zone(tets, t) ? tets.volume(t) : 0.0; });
    }

    static double least_sine_of(const CutTets& tets) {
        double out = 1.0;
        for (std::size_t t = 0; t < tets.tets.size(); ++t) out = std::min(out, least_sine(tets.corners(t)));
        return out;
    }

    // Of the walls of struts and sheets.
    double wall_area(const CutTets& cut, const std::vector<bool>& solid) const {
        const auto beyond = neighbours_of(cut);
        return sum_over(cut.tets.size(), [&](std::size_t t) {
            double out = 0.0;
            if (!solid[t]) return out;
            for (std::size_t side = 0; side < 4; ++side) {
                const std::int32_t o = beyond[t][side];
                if (o < 0 || solid[static_cast<std::size_t>(o)]) continue;
                const auto& f = tet_faces[side];
                const std::array<Vec3, 4> p = cut.corners(t);
                if (!filling_.at_wall((p[f[0]] + p[f[1]] + p[f[2]]) / 3.0)) continue;
                out += 0.5 * Vec3(p[f[1]] - p[f[0]]).cross(p[f[2]] - p[f[0]]).norm();
            }
            return out;
        });
    }

    const InfillCard& card_;
    Filling filling_;
    std::shared_ptr<SheetSet> sheets_;
    std::vector<bool> zone_;   // of each region
    CutTets tets_;             // divided, not yet cut
    double zone_volume_ = 0.0; // with its skin
    std::int32_t sheet_ = -1;
    double snap_ = wall_snaps[0];
};

// The step of the lattice of depths.
double finest(const std::vector<InfillCard>& cards) {
    double out = 1e300;
    for (const InfillCard& card : cards) out = std::min(out, 0.5 * card.thickness);
    return out;
}

template <class Fill>
SolidPart one_by_one(const Model& model, SolidPart part, std::vector<InfillMade>& made, const Fill& fill) {
    const auto skin = std::make_shared<const SkinDepth>(skin_tree(model, part), finest(model.infills));
    for (std::size_t card = 0; card < model.infills.size(); ++card) {
        Filler filler(model, part, model.infills[card], skin);
        InfillMade one;
        one.name = model.infills[card].name;
        SolidPart next = part_of(fill(filler, card, one));
        next.sheets = filler.sheets();
        next.level = part.level;
        next.cavities = part.cavities;
        next.cavities.push_back(filler.sheet());
        next.filled = part.filled;
        next.doubtful = part.doubtful;
        part = std::move(next);
        made.push_back(std::move(one));
    }
    return part;
}

} // namespace

SolidPart with_infill(const Model& model, SolidPart part, std::vector<InfillMade>& made) {
    return one_by_one(model, std::move(part), made,
                      [](Filler& filler, std::size_t, InfillMade& one) { return filler.run(one); });
}

SolidPart with_infill_zones(const Model& model, SolidPart part, std::vector<InfillMade>& made,
                            std::vector<InfillZone>& zones) {
    return one_by_one(model, std::move(part), made, [&](Filler& filler, std::size_t card, InfillMade& one) {
        return filler.run_zone(model, card, one, zones);
    });
}

} // namespace upright
