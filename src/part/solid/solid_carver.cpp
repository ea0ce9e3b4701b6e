#include "part/solid/solid_carver.hpp"

#include "base/angles.hpp"
#include "design/columns.hpp"
#include "design/making_rule.hpp"
#include "mesh/into_model.hpp"
#include "mesh/quality.hpp"
#include "part/solid/blend.hpp"
#include "part/solid/built_up.hpp"
#include "part/solid/cut_level.hpp"
#include "part/solid/drafted.hpp"
#include "part/solid/made_elsewhere.hpp"
#include "part/solid/mesh_space.hpp"
#include "part/solid/split.hpp"
#include "part/solid/tet_locator.hpp"
#include "study/mesh_word.hpp"

#include <algorithm>

namespace upright {

namespace {

// Of the field, in units of its change over a cell: where it is flatter no distance is told by it.
constexpr double least_slope = 0.02;
constexpr double overhang_slack = 1.0, most_overhang = 88.0; // degrees
constexpr double layers = 1.0 / 6.0;                         // of a size
// Edges of walls with a draft, and how near to them, in sizes; and by how many degrees more a wall may lean.
constexpr double of_walls = 0.5, wall_near = 0.25, wall_lean = 10.0;
constexpr double fillet_near = 1e-4; // of a size: to so much a rolling ball is known
// Edges are looked at for what they hide so often, in so many parts, unless both ends are so far from the
// level.
constexpr int hidden_rounds = 2, looks = 4;
constexpr double nothing_hidden = 0.5;
constexpr double difference = 1e-3; // of the distance to a body made elsewhere: step, in sizes

std::vector<bool> is_design(const Model& model) {
    std::vector<bool> out;
    for (std::size_t e = 0; e < model.mesh.elements(); ++e)
        out.push_back(model.role(static_cast<ElementId>(e)) == Role::Design);
    return out;
}

// What hangs together through faces.
std::vector<std::int32_t> pieces_of(const CutTets& tets) {
    return connected(
        neighbours_of(tets), [](std::size_t) { return true; },
        [](std::size_t, std::size_t, std::size_t) { return true; });
}

SpaceTets space_of(const Model& model, const Mesh& mesh) {
    return model.made_by.kind->from_file ? space_of_mesh(mesh, model.made_by.place)
                                         : cut_space(mesh, model.shapes);
}

// A surface with fillets: outside of both.
Sheet with_fillets(Sheet surface, std::shared_ptr<const Blend> blend) {
    Sheet out;
    out.kind = Sheet::Kind::Field;
    out.least_slope = 1.0;
    out.near = fillet_near;
    out.with_slope = [surface = std::move(surface), blend = std::move(blend)](const Vec3& p, Vec3& slope) {
        const double of_surface = surface.value(p, slope);
        if (of_surface <= 0.0) return of_surface;
        Vec3 of_blend;
        const std::optional<double> value = blend->value(p, of_blend);
        if (!value || *value >= of_surface) return of_surface;
        slope = of_blend;
        return *value;
    };
    return out;
}

// Where a field, told with its slope, is at a level: outside below it.
std::function<Sheet(double level)> level_sets(std::function<double(const Vec3&, Vec3&)> field, double size) {
    return [field = std::move(field), size](double level) {
        Sheet out;
        out.kind = Sheet::Kind::Field;
        out.with_slope = [field, level](const Vec3& p, Vec3& slope) {
            const double there = field(p, slope);
            slope = -slope;
            return level - there;
        };
        out.least_slope = least_slope / size;
        return out;
    };
}

std::shared_ptr<const Thickened> sheets_of(const Model& model) {
    if (!made_of_sheets(model)) return nullptr;
    return std::make_shared<const Thickened>(thickened(model));
}

} // namespace

SolidCarver::SolidCarver(const Model& model, const std::vector<double>& value, bool smooth)
    : model_(model), sheets_(sheets_of(model)),
      space_(std::make_shared<const SpaceTets>(space_of(model, mesh()))) {
    take_design(value, smooth);
}

SolidCarver::SolidCarver(const SolidCarver& same_space, const std::vector<double>& value, bool smooth)
    : model_(same_space.model_), sheets_(same_space.sheets_), space_(same_space.space_) {
    take_design(value, smooth);
}

void SolidCarver::take_design(const std::vector<double>& value, bool smooth) {
    std::vector<bool> counts = is_design(model_);
    std::vector<double> of_elements = value;
    if (sheets_) {
        counts.clear();
        of_elements.clear();
        const std::vector<bool> design = is_design(model_);
        for (const std::size_t e : sheets_->of) {
            counts.push_back(design[e]);
            of_elements.push_back(value[e]);
        }
    }
    const auto field = std::make_shared<DesignField>(mesh(), of_elements, counts, smooth);
    if (model_.form.overhang || (model_.form.draw && model_.form.draw->draft > 0.0))
        take_off(field);
    else
        take_field(field);
    for (const ModelRegion& r : model_.regions) design_.push_back(r.role == Role::Design);
    measure_space();
}

void SolidCarver::take_field(const std::shared_ptr<const DesignField>& field) {
    matter_ = [field](const Vec3& p) { return field->value(p); };
    surface_ = level_sets([field](const Vec3& p, Vec3& slope) { return field->value(p, slope); },
                          space_->sheets.size());
}

// What layers cannot bear, and what keeps walls from leaning back from the draw. The level is that of the
// same volume.
void SolidCarver::take_off(const std::shared_ptr<const DesignField>& field) {
    const TetLocator where(space_->tets.points, space_->tets.tets, model_.mesh.size);
    const auto place = [&](const Vec3& p) {
        const std::int32_t t = where.find(into_model(mesh(), p));
        if (t < 0) return LayerPlace::Nothing;
        const auto region = static_cast<std::size_t>(space_->tets.label[static_cast<std::size_t>(t)]);
        return model_.regions[region].role == Role::Design ? LayerPlace::Free : LayerPlace::Solid;
    };
    matter_ = [field](const Vec3& p) { return field->value(p); };
    std::vector<std::shared_ptr<const LayeredExcess>> gone;
    const auto take = [&](LayeredExcess excess) {
        gone.push_back(std::make_shared<const LayeredExcess>(std::move(excess)));
        matter_ = [before = matter_, less = gone.back()](const Vec3& p) { return before(p) - less->at(p); };
    };
    const auto give = [&](LayerWish& wish, const Vec3& up) {
        wish.box = mesh().bounds;
        wish.up = up;
        wish.step = layers * space_->sheets.size();
        wish.place = place;
        wish.field = matter_;
    };
    if (const auto& rule = model_.form.overhang) {
        BuiltUpWish wish;
        give(wish, rule->up);
        wish.reach = std::tan(std::min(rule->angle + overhang_slack, most_overhang) * degree);
        wish.plate = rule->plate;
        take(built_up(wish));
        excess_ = [built = gone.back()](const Vec3& p) { return built->at(p); };
    }
    if (const auto& rule = model_.form.draw; rule && rule->draft > 0.0) {
        DraftWish wish;
        give(wish, rule->along);
        wish.lean = std::tan(rule->draft * degree);
        wish.two = rule->dies == 2;
        wish.parting = wish.two ? draw_parting(model_, model_.form) : extent_along(mesh(), rule->along).first;
        take(drafted(wish));
    }
    surface_ = level_sets(
        [field, gone](const Vec3& p, Vec3& slope) {
            double there = field->value(p, slope);
            for (const auto& excess : gone) {
                Vec3 of_excess;
                there -= excess->at(p, of_excess);
                slope -= of_excess;
            }
            return there;
        },
        space_->sheets.size());
}

double SolidCarver::taken_off(double level) const {
    if (!excess_) return 0.0;
    std::vector<double> before = below_at(level);
    for (std::size_t n = 0; n < before.size(); ++n) before[n] -= excess_(space_->tets.points[n]);
    return volume_below(space_->tets, before, 0.0, design_) - share_above(level) * whole_;
}

SolidCarver::SolidCarver(const Model& model, std::vector<std::shared_ptr<const FacetBody>> bodies)
    : model_(model), space_(std::make_shared<const SpaceTets>(space_of(model, model.mesh))) {
    const double size = space_->sheets.size();
    const auto outside = [&](const Vec3& p) {
        const RegionId r = model.shapes.owner(p);
        return r == RegionId::None || model.shapes[r].role == Role::Void;
    };
    const auto made = std::make_shared<MadeElsewhere>(std::move(bodies), space_->sheets, outside);
    const auto distance = [made](const Vec3& p) { return made->signed_distance(p); };
    matter_ = [distance, size](const Vec3& p) { return -distance(p) / size; };
    surface_ = [distance, size](double level) {
        Sheet out;
        out.kind = Sheet::Kind::Field;
        out.field = [distance, size, level](const Vec3& p) { return distance(p) + level * size; };
        out.radius = difference * size;
        return out;
    };
    design_.assign(model.regions.size(), true);
    measure_space();
}

void SolidCarver::measure_space() {
    value_.resize(space_->tets.points.size());
#pragma omp parallel for schedule(dynamic, 256)
    for (std::size_t n = 0; n < value_.size(); ++n) value_[n] = matter_(space_->tets.points[n]);
    beyond_ = neighbours_of(space_->tets);
    region_volume_.assign(design_.size(), 0.0);
    for (std::size_t t = 0; t < space_->tets.tets.size(); ++t) {
        const double volume = space_->tets.volume(t);
        region_volume_[static_cast<std::size_t>(space_->tets.label[t])] += volume;
        if (design_[static_cast<std::size_t>(space_->tets.label[t])]) whole_ += volume;
    }
}

std::vector<double> SolidCarver::below_at(double level) const {
    std::vector<double> out(value_.size());
    for (std::size_t n = 0; n < out.size(); ++n) out[n] = level - value_[n];
    return out;
}

double SolidCarver::share_above(double level) const {
    if (whole_ <= 0.0) return 0.0;
    return volume_below(space_->tets, below_at(level), 0.0, design_) / whole_;
}

double SolidCarver::level_of_share(double share) const {
    double low = 0.0; // all is above
    double high = 1.0;
    // Tetrahedra that are above or below for every level that is left are counted once.
    const CutTets& tets = space_->tets;
    const std::vector<double> turned = below_at(0.0);
    std::vector<std::size_t> open;
    for (std::size_t t = 0; t < tets.tets.size(); ++t)
        if (design_[static_cast<std::size_t>(tets.label[t])]) open.push_back(t);
    double above = 0.0;
    for (int i = 0; i < 50; ++i) {
        const double middle = 0.5 * (low + high);
        double more = 0.0;
        for (const std::size_t t : open) more += volume_below_in(t, tets, turned, -middle);
        ((above + more) > share * whole_ ? low : high) = middle;
        std::size_t left = 0;
        for (const std::size_t t : open) {
            double least = 1e300;
            double most = -1e300;
            for (const std::int32_t n : tets.tets[t]) {
                least = std::min(least, value_[static_cast<std::size_t>(n)]);
                most = std::max(most, value_[static_cast<std::size_t>(n)]);
            }
            if (least >= high)
                above += tets.volume(t);
            else if (most > low)
                open[left++] = t;
        }
        open.resize(left);
    }
    return 0.5 * (low + high);
}

std::vector<double> SolidCarver::volumes(double level) const {
    std::vector<double> out = region_volume_;
    const std::vector<double> turned = below_at(level);
    for (std::size_t r = 0; r < out.size(); ++r) {
        if (!design_[r]) continue;
        std::vector<bool> one(out.size(), false);
        one[r] = true;
        out[r] = volume_below(space_->tets, turned, 0.0, one);
    }
    return out;
}

std::vector<std::int32_t> SolidCarver::pieces_above(double level) const {
    const CutTets& tets = space_->tets;
    const auto above = [&](std::int32_t n) { return value_[static_cast<std::size_t>(n)] > level; };
    const auto kept = [&](std::size_t t) { return !design_[static_cast<std::size_t>(tets.label[t])]; };
    const auto solid = [&](std::size_t t) {
        return kept(t) || std::any_of(tets.tets[t].begin(), tets.tets[t].end(), above);
    };
    // Through what is solid of a face.
    return connected(beyond_, solid, [&](std::size_t t, std::size_t side, std::size_t o) {
        const auto& f = tet_faces[side];
        return (kept(t) && kept(o)) || above(tets.tets[t][f[0]]) || above(tets.tets[t][f[1]]) ||
               above(tets.tets[t][f[2]]);
    });
}

// Where fillets are, in the units of the field.
void SolidCarver::lower_by(const Blend& blend, const Sheet& surface, std::vector<double>& below) const {
#pragma omp parallel for schedule(dynamic, 256)
    for (std::size_t n = 0; n < below.size(); ++n) {
        if (below[n] < 0.0) continue;
        Vec3 slope;
        const std::optional<double> value = blend.exact(space_->tets.points[n], slope);
        if (!value) continue;
        const double there = surface.with_slope(space_->tets.points[n], slope);
        const double steep = std::max(slope.norm(), surface.least_slope);
        if (*value < there / steep) below[n] = *value * steep;
    }
}

// Members and gaps narrower than the lattice lie between edges that begin and end beyond them, and would come
// out with holes: such edges get a point between.
void SolidCarver::uncover(CutTets& tets, const SheetSet& sheets, std::int32_t level,
                          std::vector<double>& below) const {
    for (int round = 0; round < hidden_rounds; ++round) {
        const auto edges = tets.edges_where(
            [&](std::size_t t) { return design_[static_cast<std::size_t>(tets.label[t])]; },
            [&](std::int32_t a, std::int32_t b) {
                const double one = below[static_cast<std::size_t>(a)];
                const double two = below[static_cast<std::size_t>(b)];
                return one * two > 0.0 && std::min(std::abs(one), std::abs(two)) < nothing_hidden;
            });
        std::vector<Crossing> found(edges.size()); // of no length where nothing is
#pragma omp parallel for schedule(dynamic, 256)
        for (std::size_t i = 0; i < edges.size(); ++i) {
            const auto& [a, b] = edges[i];
            const Vec3& p = tets.points[static_cast<std::size_t>(a)];
            const Vec3& q = tets.points[static_cast<std::size_t>(b)];
            const double end = below[static_cast<std::size_t>(a)];
            double farthest = 0.0; // beyond the level, as the ends are not
            for (int k = 1; k < looks; ++k) {
                const Vec3 at = p + static_cast<double>(k) / looks * (q - p);
                const double there = sheets[level].value(at);
                if (there * end >= 0.0 || std::abs(there) <= farthest) continue;
                farthest = std::abs(there);
                found[i] = {a, b, at, (q - p).norm()};
            }
        }
        const auto nothing = [](const Crossing& c) { return c.length == 0.0; };
        found.erase(std::remove_if(found.begin(), found.end(), nothing), found.end());
        if (found.empty()) return;
        longest_first(found);
        for (const Crossing& c : found) split_on(tets, sheets, c, -1);
        for (std::size_t n = below.size(); n < tets.points.size(); ++n)
            below.push_back(sheets[level].value(tets.points[n]));
    }
}

SizeWish SolidCarver::with_walls(const SizeWish& size, const Sheet& surface) const {
    const auto& draw = model_.form.draw;
    if (!draw || draw->draft <= 0.0) return size;
    const double step = space_->sheets.size();
    const double steepest = std::sin(std::min(draw->draft + wall_lean, 90.0) * degree);
    return [size, &surface, along = draw->along, step, steepest](const Vec3& p) {
        const double wished = size ? size(p) : 1e300;
        if (std::abs(surface.value(p)) > wall_near * step ||
            std::abs(surface.normal(p).dot(along)) > steepest)
            return wished;
        return std::min(wished, of_walls * step);
    };
}

SolidPart SolidCarver::cut(double level, bool improved, const Pick& pick, const SizeWish& size,
                           const std::shared_ptr<const Blend>& blend) const {
    const auto sheets = std::make_shared<SheetSet>(space_->sheets);
    Sheet surface = surface_(level);
    std::vector<double> below = below_at(level);
    if (blend) {
        lower_by(*blend, surface, below);
        surface = with_fillets(std::move(surface), blend);
    }
    const std::int32_t number = sheets->add(std::move(surface));
    CutTets tets = space_->tets;
    uncover(tets, *sheets, number, below);
    LevelCut made = cut_at_level(tets, *sheets, std::move(below), number, design_, improved);
    if (pick) {
        SolidPart raw = part_of(improve(tets, made.solid, *sheets, {-1.0, {}}));
        if (raw.tets.empty()) return raw;
        // The raw part has the solid tetrahedra in their order.
        const std::vector<bool> wanted = pick(raw);
        std::size_t next = 0;
        for (std::size_t t = 0; t < made.solid.size(); ++t) {
            if (!made.solid[t]) continue;
            if (!wanted[static_cast<std::size_t>(raw.piece[next])]) made.solid[t] = false;
            ++next;
        }
    }
    const SizeWish edges = improved ? with_walls(size, (*sheets)[number]) : size;
    if (edges) split_long_edges(tets, made.solid, *sheets, edges);
    SolidPart out = part_of(improve(tets, made.solid, *sheets, {improved ? 25.0 : 0.0, {number}}));
    out.sheets = sheets;
    out.level = number;
    out.filled = made.filled;
    out.doubtful = space_->doubtful;
    return out;
}

SolidPart part_of(Improved mesh) {
    SolidPart out;
    out.piece = pieces_of(mesh.tets);
    for (const std::int32_t r : mesh.tets.label) out.region.push_back(static_cast<RegionId>(r));
    out.points = std::move(mesh.tets.points);
    out.tets = std::move(mesh.tets.tets);
    out.faces = std::move(mesh.faces);
    out.sheets_of = std::move(mesh.sheets_of);
    measure_angles(out);
    return out;
}

void measure_angles(SolidPart& part) {
    part.least_angle = 180.0;
    part.most_angle = 0.0;
    for (std::size_t t = 0; t < part.tets.size(); ++t)
        for (const double angle : dihedral_angles(part.corners(t))) {
            part.least_angle = std::min(part.least_angle, angle);
            part.most_angle = std::max(part.most_angle, angle);
        }
}

} // namespace upright
