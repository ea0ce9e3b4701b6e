#include "model/thickened.hpp"

#include "base/error.hpp"
#include "study/mesh_word.hpp"

#include <algorithm>
#include <array>
#include <fmt/format.h>
#include <map>
#include <queue>

namespace upright {

namespace {

constexpr double same_thickness = 1e-6; // of the thickest
constexpr double least_room = 1e-3;     // of an element's edge, left of it inside a bend
constexpr double least_facing = 0.25;   // of a node's normal and that of an element at it: 75 degrees

class Thickener {
  public:
    Thickener(const Mesh& mesh, double middle, const Place& place)
        : mesh_(mesh), middle_(middle), place_(place) {}

    Thickened run() {
        take_levels();
        take_rings();
        if (mesh_.shell()) turn_alike();
        take_offsets();
        out_.mesh.size = mesh_.size;
        out_.mesh.symmetry = mesh_.symmetry;
        for (std::size_t e = 0; e < rings_.size(); ++e) thicken(e);
        out_.mesh.finish();
        return std::move(out_);
    }

  private:
    using Ring = std::vector<NodeId>;

    [[noreturn]] void refuse(const std::string& what, const Vec3& at, const std::string& instead) const {
        throw Error::input(
            place_, fmt::format("{} at ({:.5g}, {:.5g}, {:.5g})", what, at.x(), at.y(), at.z()), instead);
    }

    // Half thicknesses that occur, ascending, and that of each element.
    void take_levels() {
        std::vector<double> half;
        for (const double t : mesh_.thickness) half.push_back(0.5 * t);
        levels_ = half;
        std::sort(levels_.begin(), levels_.end());
        const double same = same_thickness * levels_.back();
        levels_.erase(
            std::unique(levels_.begin(), levels_.end(), [&](double a, double b) { return b - a <= same; }),
            levels_.end());
        if (levels_.size() > most_thicknesses)
            throw Error::input(
                place_,
                fmt::format("the elements of the file have {} different thicknesses; parts are "
                            "cut where there are at most {}",
                            levels_.size(), most_thicknesses),
                "Round the thicknesses");
        for (const double h : half)
            level_.push_back(static_cast<int>(std::upper_bound(levels_.begin(), levels_.end(), h + same) -
                                              levels_.begin()) -
                             1);
    }

    void take_rings() {
        for (std::size_t e = 0; e < mesh_.elements(); ++e) {
            const auto id = static_cast<ElementId>(e);
            const NodeRange ids = mesh_.nodes_of(id);
            const auto corners = static_cast<std::size_t>(traits(first_order(mesh_.kind(id))).corners);
            rings_.emplace_back(ids.begin(), ids.begin() + static_cast<std::ptrdiff_t>(corners));
        }
    }

    // Neighbours run through the edge between them in opposite directions.
    void turn_alike() {
        struct Use {
            std::size_t element;
            bool forward;
        };
        std::map<std::pair<NodeId, NodeId>, std::vector<Use>> edges;
        const auto each_edge = [&](std::size_t e, const auto& visit) {
            const Ring& ring = rings_[e];
            for (std::size_t k = 0; k < ring.size(); ++k) {
                const NodeId a = ring[k];
                const NodeId b = ring[(k + 1) % ring.size()];
                visit(std::minmax(a, b), a < b);
            }
        };
        for (std::size_t e = 0; e < rings_.size(); ++e)
            each_edge(e, [&](std::pair<NodeId, NodeId> key, bool forward) {
                edges[key].push_back({e, forward});
            });
        for (const auto& [key, uses] : edges)
            if (uses.size() > 2)
                refuse(fmt::format("{} shells meet in one edge", uses.size()), middle_of(key),
                       "Parts are cut of sheets that meet in twos; bring solid elements for this one");
        std::vector<int> turned(rings_.size(), -1);
        for (std::size_t first = 0; first < rings_.size(); ++first) {
            if (turned[first] >= 0) continue;
            std::queue<std::size_t> next;
            turned[first] = 0;
            next.push(first);
            while (!next.empty()) {
                const std::size_t e = next.front();
                next.pop();
                each_edge(e, [&](std::pair<NodeId, NodeId> key, bool forward) {
                    for (const Use& use : edges[key]) {
                        if (use.element == e) continue;
                        const int wanted = use.forward == forward ? 1 - turned[e] : turned[e];
                        int& now = turned[use.element];
                        if (now < 0) {
                            now = wanted;
                            next.push(use.element);
                        } else if (now != wanted) {
                            refuse("the shell has one side only, so that no outside can be told,",
                                   middle_of(key), "Bring solid elements for it");
                        }
                    }
                });
            }
        }
        for (std::size_t e = 0; e < rings_.size(); ++e)
            if (turned[e] == 1) std::reverse(rings_[e].begin(), rings_[e].end());
    }

    Vec3 middle_of(const std::pair<NodeId, NodeId>& edge) const {
        return 0.5 * (mesh_.nodes[index(edge.first)] + mesh_.nodes[index(edge.second)]);
    }

    // Where a node goes for each unit of half thickness.
    void take_offsets() {
        offset_.assign(mesh_.nodes.size(), Vec3::UnitZ());
        if (!mesh_.shell()) return;
        // Of each corner: the normal there, weighed by its angle.
        std::vector<Vec3> sum(mesh_.nodes.size(), Vec3::Zero());
        std::vector<std::pair<NodeId, Vec3>> normals;
        for (const Ring& ring : rings_)
            for (std::size_t k = 0; k < ring.size(); ++k) {
                const Vec3& at = mesh_.nodes[index(ring[k])];
                const Vec3 to = mesh_.nodes[index(ring[(k + 1) % ring.size()])] - at;
                const Vec3 from = mesh_.nodes[index(ring[(k + ring.size() - 1) % ring.size()])] - at;
                const Vec3 across = to.cross(from);
                const Vec3 normal = across.normalized();
                sum[index(ring[k])] += std::atan2(across.norm(), to.dot(from)) * normal;
                normals.emplace_back(ring[k], normal);
            }
        std::vector<double> facing(sum.size(), 0.0);
        std::vector<double> count(sum.size(), 0.0);
        for (std::size_t n = 0; n < sum.size(); ++n) {
            for (const SymmetryCut& cut : mesh_.symmetry)
                if (std::abs(mesh_.nodes[n][cut.axis] - cut.at) < same_thickness * mesh_.size)
                    sum[n][cut.axis] = 0.0;
            sum[n].normalize();
        }
        for (const auto& [n, normal] : normals) {
            const double f = sum[index(n)].dot(normal);
            if (!(f > least_facing))
                refuse("the shell folds back on itself", mesh_.nodes[index(n)],
                       "Bring solid elements for it, or round the fold");
            facing[index(n)] += f;
            count[index(n)] += 1.0;
        }
        for (std::size_t n = 0; n < sum.size(); ++n)
            if (count[n] > 0.0) offset_[n] = sum[n] * (count[n] / facing[n]);
    }

    NodeId node(NodeId of, int level) {
        const auto [at, is_new] =
            number_.emplace(std::pair(of, level), static_cast<NodeId>(out_.mesh.nodes.size()));
        if (is_new) {
            const double half = levels_[static_cast<std::size_t>(std::abs(level) - 1)];
            Vec3 p = mesh_.nodes[index(of)] + (level < 0 ? -half : half) * offset_[index(of)];
            if (!mesh_.shell()) p.z() += middle_;
            out_.mesh.nodes.push_back(p);
        }
        return at->second;
    }

    // Edges of the layers run as those of the mid-surface do.
    void require_room(std::size_t e) const {
        const Ring& ring = rings_[e];
        const double half = levels_[static_cast<std::size_t>(level_[e])];
        for (std::size_t k = 0; k < ring.size(); ++k) {
            const std::size_t a = index(ring[k]);
            const std::size_t b = index(ring[(k + 1) % ring.size()]);
            const Vec3 along = mesh_.nodes[b] - mesh_.nodes[a];
            const Vec3 more = half * (offset_[b] - offset_[a]);
            if (std::abs(along.dot(more)) >= (1.0 - least_room) * along.squaredNorm())
                refuse("the shell is bent more sharply than it is thick", mesh_.nodes[a] + 0.5 * along,
                       "Make its elements larger there, or it thinner");
        }
    }

    // Levels are numbered outwards from 1, below the middle from -1.
    void thicken(std::size_t e) {
        require_room(e);
        const Ring& ring = rings_[e];
        const int most = level_[e] + 1;
        const auto layer = [&](int low, int high) {
            Ring nodes;
            for (const int level : {low, high})
                for (const NodeId n : ring) nodes.push_back(node(n, level));
            out_.mesh.add(ring.size() == 3 ? ElementKind::Wedge6 : ElementKind::Hex8, nodes, mesh_.region[e]);
            out_.of.push_back(e);
        };
        for (int level = most; level > 1; --level) layer(-level, -level + 1);
        layer(-1, 1);
        for (int level = 1; level < most; ++level) layer(level, level + 1);
    }

    const Mesh& mesh_;
    double middle_;
    Place place_;
    std::vector<double> levels_;
    std::vector<int> level_; // of each element: its place among them
    std::vector<Ring> rings_;
    std::vector<Vec3> offset_;
    std::map<std::pair<NodeId, int>, NodeId> number_;
    Thickened out_;
};

} // namespace

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
