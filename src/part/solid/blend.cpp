#include "part/solid/blend.hpp"

#include "base/edge_key.hpp"
#include "part/solid/symmetry_face.hpp"

#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>

namespace upright {

namespace {

// Of the radius.
constexpr double grid_step = 1.0 / 6.0;
constexpr double at_surface = 0.05; // nearer than that the direction is the triangle's
constexpr double slight = 0.02;     // thinner fillets are none
// The same at kept faces: there a fillet begins with an angle of some eighteen degrees, since its own
// tetrahedra end there.
constexpr double blunt = 0.05;
constexpr double fits = 0.999; // a ball that is so far from all faces

constexpr double on_a_face = 0.97;  // cosine: a ball on a face
constexpr double before_it = 0.05;  // of a size: there one asks whether a face lies in the space
constexpr double most_pull = 0.3;   // of a size: between triangles and the sheet that they stand for
constexpr std::int64_t block = 4;   // steps of the grid that are looked at together
constexpr int most_moves = 6;       // into a corner
constexpr double least_turn = 0.05; // of the determinant of two directions: those of a corner

std::uint64_t key_of(const std::array<std::int64_t, 3>& point) {
    std::uint64_t key = 0;
    for (const std::int64_t i : point) key = (key << 21U) | (static_cast<std::uint64_t>(i) & 0x1fffffU);
    return key;
}

using Triangle = std::array<std::int32_t, 3>;

} // namespace

Blend::Blend(const Model& model, const SolidPart& part, double radius,
             std::function<bool(const Vec3&)> in_space)
    : symmetry_(model.mesh.symmetry), sheets_(part.sheets), in_space_(std::move(in_space)), radius_(radius),
      size_(model.mesh.size), step_(grid_step * radius), origin_(model.mesh.bounds.center()) {
    std::array<std::vector<Triangle>, 3> triangles;    // kept, free, other
    std::unordered_map<std::uint64_t, unsigned> sides; // of an edge: 1 kept, 2 free
    const std::array<Skin*, 3> skins{&kept_, &free_, &other_};
    for (const Improved::Face& f : part.faces) {
        if (f.before >= 0 || on_symmetry(model, part, f)) continue;
        const bool kept = model.regions[static_cast<std::size_t>(f.behind)].role != Role::Design;
        const std::size_t which = part.free(f.sheet) ? 1 : kept ? 0 : 2;
        triangles[which].push_back(f.nodes);
        skins[which]->sheet.push_back(f.sheet);
        for (std::size_t k = 0; k < 3; ++k) sides[edge_key(f.nodes[k], f.nodes[(k + 1) % 3])] |= 1U << which;
    }
    std::vector<std::uint64_t> both;
    for (const auto& [key, which] : sides)
        if ((which & 3U) == 3U) both.push_back(key);
    std::sort(both.begin(), both.end()); // in order, so that the same comes out every time
    std::vector<Triangle> rim;
    for (const std::uint64_t key : both) {
        const auto a = static_cast<std::int32_t>(key >> 32U);
        const auto b = static_cast<std::int32_t>(key & 0xffffffffU);
        rim.push_back({a, b, b});
    }
    for (std::size_t i = 0; i < 3; ++i) skins[i]->tree = FacetTree(part.points, triangles[i]);
    rim_ = FacetTree(part.points, rim);
    const std::vector<Point> blocks = blocks_near_rim();
    std::vector<std::vector<Vec3>> places(blocks.size());
#pragma omp parallel for schedule(dynamic, 16)
    for (std::size_t i = 0; i < blocks.size(); ++i) places_in(blocks[i], places[i]);
    std::vector<Vec3> all;
    std::vector<Triangle> points;
    for (const std::vector<Vec3>& some : places)
        for (const Vec3& p : some) {
            const auto n = static_cast<std::int32_t>(all.size());
            all.push_back(p);
            points.push_back({n, n, n});
        }
    balls_ = FacetTree(all, points);
}

Vec3 Blend::at(const Point& point) const {
    return origin_ + step_ * Vec3(static_cast<double>(point[0]), static_cast<double>(point[1]),
                                  static_cast<double>(point[2]));
}

// The whole body is its own image: what is nearest lies on the side that p lies on.
Vec3 Blend::modelled(const Vec3& p, std::vector<SymmetryCut>& turned) const {
    Vec3 here = p;
    for (const SymmetryCut& cut : symmetry_) {
        if (cut.high ? here[cut.axis] <= cut.at : here[cut.axis] >= cut.at) continue;
        here[cut.axis] = 2.0 * cut.at - here[cut.axis];
        turned.push_back(cut);
    }
    return here;
}

Blend::Touch Blend::touch(const Skin& skin, const Vec3& p) const {
    Touch out;
    std::vector<SymmetryCut> turned;
    const Vec3 here = modelled(p, turned);
    const FacetTree::Nearest near = skin.tree.nearest(here);
    if (near.triangle < 0) return out;
    const auto t = static_cast<std::size_t>(near.triangle);
    const auto& corners = skin.tree.corners()[t];
    out.place = near.place;
    out.out = Vec3(corners[1] - corners[0]).cross(corners[2] - corners[0]).normalized();
    // Triangles are chords: what they stand for is a sheet.
    if (skin.sheet[t] >= 0 && (*sheets_)[skin.sheet[t]].curved()) {
        Vec3 along;
        const double off = (*sheets_)[skin.sheet[t]].value(near.place, along);
        if (std::abs(off) < most_pull * size_) out.place -= off * along;
    }
    const Vec3 way = here - out.place;
    out.distance = way.norm();
    out.within = way.dot(out.out) < 0.0;
    out.square = out.distance > 0.0 ? way.dot(out.out) / out.distance : 1.0;
    if (out.distance > at_surface * radius_) out.out = way / out.distance;
    for (const SymmetryCut& cut : turned) {
        out.place[cut.axis] = 2.0 * cut.at - out.place[cut.axis];
        out.out[cut.axis] = -out.out[cut.axis];
    }
    return out;
}

Blend::Touch Blend::nearest(const Vec3& p) const {
    Touch out = touch(kept_, p);
    for (const Skin* skin : {&free_, &other_}) {
        const Touch one = touch(*skin, p);
        if (one.distance < out.distance) out = one;
    }
    return out;
}

double Blend::distance(const Vec3& p) const {
    const Touch there = nearest(p);
    return there.within ? -there.distance : there.distance;
}

// Whether a ball that touches the part lies in the space, or beyond its end upright on a face within it:
// neither on the end itself nor against an edge, where it would come round the end.
bool Blend::stands(const Vec3& ball) const {
    std::vector<SymmetryCut> turned;
    if (in_space_(modelled(ball, turned))) return true;
    const Touch on = nearest(ball);
    turned.clear();
    return on.square >= on_a_face && in_space_(modelled(on.place + before_it * size_ * on.out, turned));
}

// Every ball that touches a place where fillets are made has its middle in one of these.
std::vector<Blend::Point> Blend::blocks_near_rim() const {
    const double far = (reach + 1.0) * radius_;
    const double width = static_cast<double>(block) * step_;
    const auto layers = static_cast<std::int64_t>(std::ceil(far / width));
    std::unordered_map<std::uint64_t, Point> found;
    for (const auto& edge : rim_.corners()) {
        const auto pieces = static_cast<int>(std::ceil((edge[1] - edge[0]).norm() / width)) + 1;
        for (int piece = 0; piece < pieces; ++piece) {
            const double share = (static_cast<double>(piece) + 0.5) / pieces;
            const Vec3 middle = (edge[0] + share * (edge[1] - edge[0]) - origin_) / width;
            Point here{};
            for (std::size_t a = 0; a < 3; ++a)
                here[a] = static_cast<std::int64_t>(std::floor(middle[static_cast<Eigen::Index>(a)]));
            if (!found.emplace(key_of(here), here).second && piece > 0) continue;
            for (std::int64_t k = -layers; k <= layers; ++k)
                for (std::int64_t j = -layers; j <= layers; ++j)
                    for (std::int64_t i = -layers; i <= layers; ++i) {
                        const Point one{here[0] + i, here[1] + j, here[2] + k};
                        found.emplace(key_of(one), one);
                    }
        }
    }
    std::vector<Point> out;
    for (const auto& [key, one] : found) out.push_back({one[0] * block, one[1] * block, one[2] * block});
    std::sort(out.begin(), out.end());
    return out;
}

// Where the distance from the part is the radius: on the grid's lines, and in the corners that they cut off.
void Blend::places_in(const Point& first, std::vector<Vec3>& out) const {
    const Vec3 middle = at(first) + Vec3::Constant(0.5 * static_cast<double>(block) * step_);
    const double half = 0.5 * std::sqrt(3.0) * static_cast<double>(block) * step_ + most_pull * size_;
    if (rim_.nearest(middle, (reach + 1.0) * radius_ + half).triangle < 0) return;
    if (std::abs(distance(middle) - radius_) > half) return;
    constexpr std::size_t side = block + 1;
    std::array<double, side * side * side> beyond{};
    const auto number = [](std::size_t i, std::size_t j, std::size_t k) { return (k * side + j) * side + i; };
    const auto point = [&](std::size_t i, std::size_t j, std::size_t k) {
        return at({first[0] + static_cast<std::int64_t>(i), first[1] + static_cast<std::int64_t>(j),
                   first[2] + static_cast<std::int64_t>(k)});
    };
    for (std::size_t k = 0; k < side; ++k)
        for (std::size_t j = 0; j < side; ++j)
            for (std::size_t i = 0; i < side; ++i)
                beyond[number(i, j, k)] = distance(point(i, j, k)) - radius_;
    for (std::size_t k = 0; k < side; ++k)
        for (std::size_t j = 0; j < side; ++j)
            for (std::size_t i = 0; i < side; ++i)
                for (std::size_t axis = 0; axis < 3; ++axis) {
                    const std::array<std::size_t, 3> to{i + (axis == 0 ? 1U : 0U), j + (axis == 1 ? 1U : 0U),
                                                        k + (axis == 2 ? 1U : 0U)};
                    if (to[axis] == side) continue;
                    const double here = beyond[number(i, j, k)];
                    const double there = beyond[number(to[0], to[1], to[2])];
                    if ((here < 0.0) == (there < 0.0)) continue;
                    const Vec3 from = point(i, j, k);
                    const Vec3 place = from + here / (here - there) * (point(to[0], to[1], to[2]) - from);
                    if (stands(place)) out.push_back(place);
                    if (const std::optional<Vec3> corner = in_the_corner(place)) out.push_back(*corner);
                }
}

// The middle of a ball near by that touches both surfaces at once.
std::optional<Vec3> Blend::in_the_corner(const Vec3& p) const {
    Vec3 ball = p;
    for (int move = 0; move < most_moves; ++move) {
        const Touch kept = touch(kept_, ball);
        const Touch free = touch(free_, ball);
        const double lack = radius_ - kept.distance;
        const double lack_free = radius_ - free.distance;
        const double along = kept.out.dot(free.out);
        const double determinant = 1.0 - along * along;
        if (determinant < least_turn) return std::nullopt;
        const Vec3 to = ball + (lack - along * lack_free) / determinant * kept.out +
                        (lack_free - along * lack) / determinant * free.out;
        if ((to - p).norm() > 2.0 * step_) return std::nullopt;
        ball = to;
    }
    return distance(ball) >= fits * radius_ && stands(ball) ? std::optional<Vec3>(ball) : std::nullopt;
}

std::optional<double> Blend::exact(const Vec3& p, Vec3& slope) const {
    slope = Vec3::Zero();
    const FacetTree::Nearest rim = rim_.nearest(p, reach * radius_);
    if (rim.triangle < 0 || rim.distance >= reach * radius_) return std::nullopt;
    const Touch kept = touch(kept_, p);
    if (std::min({kept.distance, touch(free_, p).distance, touch(other_, p).distance}) >= radius_)
        return std::nullopt; // a ball's middle is there
    const FacetTree::Nearest ball = balls_.nearest(p);
    double out = -radius_; // a place that no ball comes near
    if (ball.triangle >= 0 && ball.distance > 0.0) {
        out = std::max(out, radius_ - ball.distance);
        slope = (ball.place - p) / ball.distance;
    }
    const double fading = std::max(0.0, rim.distance - full * radius_);
    if (fading > 0.0) slope += (p - rim.place) / rim.distance;
    const double beside = std::max(0.0, 1.0 - kept.distance / radius_);
    slope -= (blunt - slight) * kept.out;
    return std::min(radius_, out + (slight + (blunt - slight) * beside) * radius_ + fading);
}

Blend::Known Blend::known(const Point& point) const {
    const std::uint64_t key = key_of(point);
    {
        const std::lock_guard<std::mutex> one(asking_);
        const auto found = known_.find(key);
        if (found != known_.end()) return found->second;
    }
    Known out;
    out.value = exact(at(point), out.slope);
    const std::lock_guard<std::mutex> one(asking_);
    known_.emplace(key, out);
    return out;
}

std::optional<double> Blend::value(const Vec3& p, Vec3& slope) const {
    slope = Vec3::Zero();
    const Vec3 place = (p - origin_) / step_;
    const Vec3 low = place.array().floor();
    if (!(low.cwiseAbs().maxCoeff() < 1e6)) return std::nullopt; // nothing of the part is there
    double out = 0.0;
    bool any = false;
    for (unsigned corner = 0; corner < 8; ++corner) {
        Point point{};
        double share = 1.0;
        for (Eigen::Index a = 0; a < 3; ++a) {
            const bool upper = ((corner >> static_cast<unsigned>(a)) & 1U) != 0;
            point[static_cast<std::size_t>(a)] = static_cast<std::int64_t>(low[a]) + (upper ? 1 : 0);
            share *= upper ? place[a] - low[a] : 1.0 - (place[a] - low[a]);
        }
        const Known there = known(point);
        any = any || there.value;
        out += share * there.value.value_or(radius_);
        slope += share * there.slope;
    }
    return any ? std::optional<double>(out) : std::nullopt;
}

} // namespace upright
