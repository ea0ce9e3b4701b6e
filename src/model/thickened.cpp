#include "model/thickened.hpp"

#include "base/error.hpp"
#include "model/sheet_slides.hpp"
#include "study/mesh_word.hpp"

#include <algorithm>
#include <array>
#include <fmt/format.h>
#include <map>
#include <optional>
#include <queue>

namespace upright {

namespace {

constexpr double same_thickness = 1e-6; // of the thickest
constexpr double least_room = 1e-3;     // of an element's edge, left of it inside a bend

class Thickener {
  public:
    Thickener(const Mesh& mesh, double middle, const Place& place)
        : mesh_(mesh), middle_(middle), sheets_{mesh, place, {}, {}, {}, {}} {}

    Thickened run() {
        take_rings();
        sheets_.patch.assign(rings().size(), 0);
        SheetEdges edges;
        if (mesh_.shell()) {
            edges = edges_of(sheets_);
            if (turn_alike(edges)) edges = edges_of(sheets_);
        }
        take_levels();
        if (mesh_.shell()) {
            joints_.emplace(sheets_, edges);
            take_offsets();
            bool room = true;
            for (std::size_t e = 0; room && e < rings().size(); ++e) room = !without_room(e);
            if (!room) {
                slides_ = SheetSlides(sheets_, edges, *joints_, offset_);
                most_half_ = sheets_.largest_halves();
                for (std::size_t e = 0; e < rings().size(); ++e) require_room(e);
            }
        }
        out_.mesh.size = mesh_.size;
        out_.mesh.symmetry = mesh_.symmetry;
        if (joined()) number_parted();
        for (std::size_t e = 0; e < rings().size(); ++e) thicken(e);
        if (joined()) fill_joints();
        take_faces();
        finish();
        return std::move(out_);
    }

  private:
    using Ring = std::vector<NodeId>;

    const std::vector<Ring>& rings() const { return sheets_.rings; }
    bool joined() const { return joints_ && !joints_->empty(); }
    bool joined(NodeId n) const { return joints_ && joints_->at(n); }

    // Half thicknesses that occur in each patch, ascending, and that of each element.
    void take_levels() {
        const std::vector<double>& t = mesh_.thickness;
        const double same = 0.5 * same_thickness * *std::max_element(t.begin(), t.end());
        sheets_.halves.resize(1 + *std::max_element(sheets_.patch.begin(), sheets_.patch.end()));
        for (std::size_t e = 0; e < t.size(); ++e) sheets_.halves[sheets_.patch[e]].push_back(0.5 * t[e]);
        for (std::vector<double>& levels : sheets_.halves) {
            std::sort(levels.begin(), levels.end());
            levels.erase(
                std::unique(levels.begin(), levels.end(), [&](double a, double b) { return b - a <= same; }),
                levels.end());
            if (levels.size() > most_thicknesses)
                throw Error::input(sheets_.place,
                                   fmt::format("the elements of one sheet of the file have {} different "
                                               "thicknesses; parts are cut where there are at most {}",
                                               levels.size(), most_thicknesses),
                                   "Round the thicknesses");
        }
        for (std::size_t e = 0; e < t.size(); ++e) {
            const std::vector<double>& levels = sheets_.halves[sheets_.patch[e]];
            const auto above = std::upper_bound(levels.begin(), levels.end(), 0.5 * t[e] + same);
            sheets_.level.push_back(static_cast<int>(above - levels.begin()) - 1);
        }
    }

    void take_rings() {
        for (std::size_t e = 0; e < mesh_.elements(); ++e) {
            const auto id = static_cast<ElementId>(e);
            const NodeRange ids = mesh_.nodes_of(id);
            const auto corners = static_cast<std::size_t>(traits(first_order(mesh_.kind(id))).corners);
            sheets_.rings.emplace_back(ids.begin(), ids.begin() + static_cast<std::ptrdiff_t>(corners));
        }
    }

    // Neighbours run through the edge between them in opposite directions. Whether any had to be turned.
    bool turn_alike(const SheetEdges& edges) {
        std::vector<int> turned(rings().size(), -1);
        std::size_t patches = 0;
        for (std::size_t first = 0; first < rings().size(); ++first) {
            if (turned[first] >= 0) continue;
            std::queue<std::size_t> next;
            turned[first] = 0;
            next.push(first);
            while (!next.empty()) {
                const std::size_t e = next.front();
                next.pop();
                sheets_.patch[e] = patches;
                const Ring& ring = rings()[e];
                for (std::size_t k = 0; k < ring.size(); ++k) {
                    const NodeId a = ring[k];
                    const NodeId b = ring[(k + 1) % ring.size()];
                    const auto& [key, uses] = *edges.find(std::minmax(a, b));
                    if (uses.size() != 2) continue; // where more meet each is on its own
                    const EdgeUse& use = uses[uses[0].element == e ? 1 : 0];
                    const int wanted = use.forward == (a < b) ? 1 - turned[e] : turned[e];
                    int& now = turned[use.element];
                    if (now < 0) {
                        now = wanted;
                        next.push(use.element);
                    } else if (now != wanted) {
                        sheets_.refuse("the shell has one side only, so that no outside can be told,",
                                       0.5 * (mesh_.nodes[index(a)] + mesh_.nodes[index(b)]),
                                       "Bring solid elements for it");
                    }
                }
            }
            ++patches;
        }
        turned_.assign(rings().size(), false);
        for (std::size_t e = 0; e < rings().size(); ++e) {
            turned_[e] = turned[e] == 1;
            if (turned_[e]) std::reverse(sheets_.rings[e].begin(), sheets_.rings[e].end());
        }
        return std::find(turned_.begin(), turned_.end(), true) != turned_.end();
    }

    // Where a node goes for each unit of half thickness; of joints the sheets' corners say it.
    void take_offsets() {
        offset_.assign(mesh_.nodes.size(), Vec3::Zero());
        // Of each corner: the normal there, weighed by its angle.
        std::vector<Vec3> sum(mesh_.nodes.size(), Vec3::Zero());
        std::vector<std::pair<NodeId, Vec3>> normals;
        for (std::size_t e = 0; e < rings().size(); ++e)
            for (const NodeId n : rings()[e]) {
                if (joined(n)) continue;
                const Sheets::Corner c = sheets_.corner(e, n);
                sum[index(n)] += c.angle * c.normal;
                normals.emplace_back(n, c.normal);
            }
        std::vector<double> facing(sum.size(), 0.0);
        std::vector<double> count(sum.size(), 0.0);
        for (std::size_t n = 0; n < sum.size(); ++n) {
            for (const SymmetryCut& cut : mesh_.symmetry)
                if (sheets_.lies_in(cut, n)) sum[n][cut.axis] = 0.0;
            sum[n].normalize();
        }
        for (const auto& [n, normal] : normals) {
            const double f = sum[index(n)].dot(normal);
            if (!(f > least_facing))
                sheets_.refuse("the shell folds back on itself", mesh_.nodes[index(n)],
                               "Bring solid elements for it, or round the fold");
            facing[index(n)] += f;
            count[index(n)] += 1.0;
        }
        for (std::size_t n = 0; n < sum.size(); ++n)
            if (count[n] > 0.0) offset_[n] = sum[n] * (count[n] / facing[n]);
    }

    // What a node of the solid is made from: a node of the sheets; of a joint -1 for its middle, a corner
    // for its point, or the two corners between which an end of a sheet lies; and a level.
    using Key = std::array<int, 5>;
    static constexpr int plain = -2, middle_itself = -1;

    NodeId node(const Key& key, const Vec3& at) {
        const auto [found, is_new] = number_.emplace(key, static_cast<NodeId>(out_.mesh.nodes.size()));
        if (is_new) out_.mesh.nodes.push_back(at);
        return found->second;
    }

    // Levels are numbered outwards from 1, below the middle from -1.
    double height(std::size_t element, int level) const {
        const double half =
            sheets_.halves[sheets_.patch[element]][static_cast<std::size_t>(std::abs(level) - 1)];
        return level < 0 ? -half : half;
    }

    // Of an element's corner on one of its levels.
    Vec3 point(NodeId of, std::size_t element, int level) const {
        const Vec3& at = mesh_.nodes[index(of)];
        if (!mesh_.shell()) return at + Vec3(0.0, 0.0, middle_ + height(element, level));
        const double share = height(element, level) / sheets_.half(element);
        if (joined(of)) {
            const auto corner = [&](bool above) {
                const int c = joints_->corner(of, element, above);
                return slides_.empty() ? joints_->offset(of, c)
                                       : Vec3(joints_->offset(of, c) + slides_.of_corner(of, c));
            };
            const Vec3 below = corner(false);
            return at + below + (0.5 + 0.5 * share) * (corner(true) - below);
        }
        const Vec3 out = at + height(element, level) * offset_[index(of)];
        if (slides_.empty()) return out;
        const double high = 0.5 + 0.5 * height(element, level) / most_half_[index(of)];
        return out + high * slides_.of_side(of, true) + (1.0 - high) * slides_.of_side(of, false);
    }

    NodeId node(NodeId of, std::size_t element, int level) {
        const int n = static_cast<int>(index(of));
        const Vec3 at = point(of, element, level);
        if (!joined(of)) return node(Key{n, plain, static_cast<int>(sheets_.patch[element]), level, 0}, at);
        const int most = sheets_.level[element] + 1;
        const int low = joints_->corner(of, element, false);
        const int high = joints_->corner(of, element, true);
        if (std::abs(level) == most) return node(Key{n, level < 0 ? low : high, plain, 0, 0}, at);
        return node(Key{n, low, high, level, most}, at);
    }

    NodeId middle_of_joint(NodeId of) {
        return node(Key{static_cast<int>(index(of)), middle_itself, middle_itself, 0, 0},
                    mesh_.nodes[index(of)]);
    }

    Vec3 made(NodeId n) const { return out_.mesh.nodes[index(n)]; }

    // Edges of the layers should run as those of the mid-surface do, and their corners turn as those do: the
    // middle of an edge where they do not.
    std::optional<Vec3> without_room(std::size_t e) const {
        const Ring& ring = rings()[e];
        const int most = sheets_.level[e] + 1;
        for (const int level : {-most, most}) {
            const auto moved = [&](std::size_t k) { return point(ring[k % ring.size()], e, level); };
            const auto mid = [&](std::size_t k) { return mesh_.nodes[index(ring[k % ring.size()])]; };
            for (std::size_t k = 0; k < ring.size(); ++k) {
                const Vec3 along = mid(k + 1) - mid(k);
                const Vec3 next = mid(k + 2) - mid(k + 1);
                const Vec3 now = moved(k + 1) - moved(k);
                const Vec3 then = moved(k + 2) - moved(k + 1);
                const Vec3 turn = along.cross(next);
                if (along.dot(now) <= least_room * along.squaredNorm() ||
                    turn.dot(now.cross(then)) <= least_room * turn.squaredNorm())
                    return mid(k) + 0.5 * along;
            }
        }
        return {};
    }

    void require_room(std::size_t e) const {
        const std::optional<Vec3> where = without_room(e);
        if (!where) return;
        const Ring& ring = rings()[e];
        sheets_.refuse(std::any_of(ring.begin(), ring.end(), [&](NodeId n) { return joined(n); })
                           ? "no room is left beside an edge that several shells meet in"
                           : "the shell is bent more sharply than it is thick",
                       *where, "Make it thinner, or its elements larger there");
    }

    void add(ElementKind kind, const Ring& nodes, std::size_t of) {
        out_.mesh.add(kind, nodes, mesh_.region[of]);
        out_.of.push_back(of);
    }

    // From the lowest outwards; there is none in the middle.
    static std::vector<int> levels_up_to(int most) {
        std::vector<int> out;
        for (int level = -most; level <= most; ++level)
            if (level != 0) out.push_back(level);
        return out;
    }

    void thicken(std::size_t e) {
        const Ring& ring = rings()[e];
        const std::vector<int> levels = levels_up_to(sheets_.level[e] + 1);
        for (std::size_t k = 0; k + 1 < levels.size(); ++k) {
            Ring nodes;
            for (const int level : {levels[k], levels[k + 1]})
                for (const NodeId n : ring) nodes.push_back(node(n, e, level));
            add(ring.size() == 3 ? ElementKind::Wedge6 : ElementKind::Hex8, nodes, e);
        }
    }

    // Sides are divided from their least node: those beside a parting from the end of the rib, or what lies
    // between that and a sheet would have flat pieces.
    void number_parted() {
        for (const SheetJoints::Parting& p : joints_->partings())
            for (std::size_t i = 0; i < 2; ++i) {
                std::vector<int> levels = levels_up_to(sheets_.level[p.elements[i]] + 1);
                if (p.above[i]) std::reverse(levels.begin(), levels.end());
                levels.pop_back();
                for (const int level : levels) node(p.from, p.elements[i], level);
            }
    }

    void take_faces() {
        for (std::size_t e = 0; e < rings().size(); ++e) {
            const int most = sheets_.level[e] + 1;
            Ring below;
            Ring above;
            for (const NodeId n : rings()[e]) {
                below.push_back(node(n, e, -most));
                above.push_back(node(n, e, most));
            }
            if (!turned_.empty() && turned_[e]) {
                std::reverse(below.begin(), below.end());
                std::reverse(above.begin(), above.end());
                std::swap(below, above);
            }
            out_.below.push_back(std::move(below));
            out_.above.push_back(std::move(above));
        }
    }

    void finish() {
        try {
            out_.mesh.finish();
        } catch (const Error&) {
            if (!joined()) throw;
            for (std::size_t e = 0; e < out_.of.size(); ++e) {
                Mesh one;
                for (const NodeId n : out_.mesh.nodes_of(static_cast<ElementId>(e)))
                    one.nodes.push_back(made(n));
                Ring all(one.nodes.size());
                for (std::size_t k = 0; k < all.size(); ++k) all[k] = static_cast<NodeId>(k);
                one.add(out_.mesh.kinds[e], all, RegionId::None);
                try {
                    one.finish();
                } catch (const Error&) {
                    sheets_.refuse("shells meet in edges in a way that has no solid between them",
                                   mesh_.center(out_.of[e]), "Bring solid elements for it");
                }
            }
            throw;
        }
    }

    // The cores of joints, from their middles to the ends of the sheets' layers.
    void fill_joints() {
        for (const SheetJoints::Seam& seam : joints_->seams())
            for (const std::size_t e : seam.elements) {
                const std::vector<int> levels = levels_up_to(sheets_.level[e] + 1);
                for (std::size_t k = 0; k + 1 < levels.size(); ++k)
                    fill({middle_of_joint(seam.a), node(seam.a, e, levels[k]), node(seam.a, e, levels[k + 1]),
                          middle_of_joint(seam.b), node(seam.b, e, levels[k]),
                          node(seam.b, e, levels[k + 1])},
                         e);
            }
        for (const SheetJoints::Parting& p : joints_->partings()) {
            const NodeId from = middle_of_joint(p.from);
            for (const std::size_t e : p.elements) {
                const std::vector<int> levels = levels_up_to(sheets_.level[e] + 1);
                for (std::size_t k = 0; k + 1 < levels.size(); ++k)
                    fill({from, node(p.from, e, levels[k]), node(p.from, e, levels[k + 1]), from,
                          node(p.to, e, levels[k]), node(p.to, e, levels[k + 1])},
                         p.elements[0]);
            }
            const std::size_t beyond = p.elements[0];
            const int top = sheets_.level[beyond] + 1;
            const NodeId to = node(p.to, beyond, p.above[0] ? top : -top);
            const std::vector<int> levels = levels_up_to(sheets_.level[p.rib] + 1);
            for (std::size_t k = 0; k + 1 < levels.size(); ++k)
                fill({from, node(p.from, p.rib, levels[k]), node(p.from, p.rib, levels[k + 1]), to, to, to},
                     beyond);
        }
    }

    // A wedge of which nodes may be the same: without these as it is, else in tetrahedra about its middle.
    void fill(std::array<NodeId, 6> n, std::size_t of) {
        Vec3 middle = Vec3::Zero();
        for (const NodeId i : n) middle += made(i) / 6.0;
        // Triangles of its sides as those of all other elements are divided, from the least number.
        const auto sides = [&] {
            std::vector<std::array<NodeId, 3>> out;
            for (const std::vector<int>& side : traits(ElementKind::Wedge6).sides) {
                Ring ring;
                for (const int i : side) {
                    const NodeId at = n[static_cast<std::size_t>(i)];
                    if (std::find(ring.begin(), ring.end(), at) == ring.end()) ring.push_back(at);
                }
                if (ring.empty()) continue;
                std::rotate(ring.begin(), std::min_element(ring.begin(), ring.end()), ring.end());
                for (std::size_t i = 2; i < ring.size(); ++i) out.push_back({ring[0], ring[i], ring[i - 1]});
            }
            return out;
        };
        double volume = 0.0;
        for (const auto& t : sides())
            volume += (made(t[1]) - made(t[0])).cross(made(t[2]) - made(t[0])).dot(middle - made(t[0]));
        if (volume < 0.0) {
            std::swap(n[1], n[2]);
            std::swap(n[4], n[5]);
        }
        Ring all(n.begin(), n.end());
        std::sort(all.begin(), all.end());
        all.erase(std::unique(all.begin(), all.end()), all.end());
        if (all.size() == n.size()) {
            add(ElementKind::Wedge6, Ring(n.begin(), n.end()), of);
            return;
        }
        if (all.size() < 4) return;
        // From a node that sees all sides, or the middle.
        const std::vector<std::array<NodeId, 3>> triangles = sides();
        const auto least = [&](const std::optional<NodeId>& top, const Vec3& at) {
            double out = 1e300;
            for (const auto& t : triangles)
                if (!top || std::find(t.begin(), t.end(), *top) == t.end())
                    out = std::min(
                        out, (made(t[1]) - made(t[0])).cross(made(t[2]) - made(t[0])).dot(at - made(t[0])));
            return out;
        };
        std::optional<NodeId> top;
        double best = least({}, middle);
        for (const NodeId i : all)
            if (const double seen = least(i, made(i)); seen > best) {
                best = seen;
                top = i;
            }
        if (!top) out_.mesh.nodes.push_back(middle);
        const NodeId from = top.value_or(static_cast<NodeId>(out_.mesh.nodes.size() - 1));
        for (const auto& t : triangles)
            if (std::find(t.begin(), t.end(), from) == t.end())
                add(ElementKind::Tet4, {t[0], t[1], t[2], from}, of);
    }

    const Mesh& mesh_;
    double middle_;
    Sheets sheets_;
    std::vector<bool> turned_;          // of shells: whether a ring runs the other way than the element's
    std::optional<SheetJoints> joints_; // of shells
    std::vector<Vec3> offset_;
    SheetSlides slides_;            // where bends need room
    std::vector<double> most_half_; // of each node's elements, where they slide
    std::map<Key, NodeId> number_;
    Thickened out_;
};

} // namespace

std::vector<Vec3> Thickened::side(const Mesh& sheets, const MeshFace& face) const {
    const std::vector<NodeId>& low = below[index(face.element)];
    const std::vector<NodeId>& high = above[index(face.element)];
    std::vector<NodeId> ring;
    if (sheets.is_edge(face)) {
        const std::vector<NodeId> ends = sheets.face_corners(face);
        const NodeRange nodes = sheets.nodes_of(face.element);
        std::array<std::size_t, 2> at{};
        for (std::size_t k = 0; k < 2; ++k)
            at[k] = static_cast<std::size_t>(std::find(nodes.begin(), nodes.end(), ends[k]) - nodes.begin());
        if ((at[0] + 1) % low.size() != at[1]) std::swap(at[0], at[1]);
        ring = {low[at[0]], low[at[1]], high[at[1]], high[at[0]]};
    } else if (sheets.face_normal(face).dot(sheets.element_normal(face.element)) > 0.0) {
        ring = high;
    } else {
        ring.assign(low.rbegin(), low.rend());
    }
    std::vector<Vec3> out;
    for (const NodeId n : ring) out.push_back(mesh.nodes[index(n)]);
    return out;
}

Thickened thickened(const Mesh& mesh, double middle, const Place& place) {
    return Thickener(mesh, middle, place).run();
}

bool made_of_sheets(const Model& model) {
    return !model.mesh.kinds.empty() && model.made_by.kind->from_file &&
           (model.mesh.dimension() != 3 || model.mesh.shell());
}

double middle_of_thickness(const Model& model) {
    return model.mesh.shell() ? 0.0 : 0.5 * model.made_by.thickness;
}

Thickened thickened(const Model& model) {
    return thickened(model.mesh, middle_of_thickness(model), model.made_by.place);
}

} // namespace upright
