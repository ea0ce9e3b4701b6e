#include "model/sheet_joints.hpp"

#include "base/groups.hpp"

#include <Eigen/Dense>
#include <algorithm>
#include <fmt/format.h>
#include <optional>
#include <queue>

namespace upright {

namespace {

constexpr double in_plane = 1e-6; // of the mesh's size
// Of the mean of the squares of normals.
constexpr double other_plane = 0.02;

// Groups that links make of things numbered from zero: the number of each one's group.
std::vector<int> groups(std::size_t count, const std::vector<std::pair<std::size_t, std::size_t>>& links) {
    Groups all(count);
    for (const auto& [a, b] : links) all.join(a, b);
    std::vector<int> out(count, -1);
    int next = 0;
    for (std::size_t i = 0; i < count; ++i) out[i] = all.root(i) == i ? next++ : out[all.root(i)];
    return out;
}

} // namespace

void Sheets::refuse(const std::string& what, const Vec3& at, const std::string& instead) const {
    throw Error::input(place, fmt::format("{} at ({:.5g}, {:.5g}, {:.5g})", what, at.x(), at.y(), at.z()),
                       instead);
}

Sheets::Corner Sheets::corner(std::size_t element, NodeId n) const {
    const std::vector<NodeId>& ring = rings[element];
    const auto k = static_cast<std::size_t>(std::find(ring.begin(), ring.end(), n) - ring.begin());
    Corner out;
    out.beside = {ring[(k + 1) % ring.size()], ring[(k + ring.size() - 1) % ring.size()]};
    const Vec3 to = mesh.nodes[index(out.beside[0])] - mesh.nodes[index(n)];
    const Vec3 from = mesh.nodes[index(out.beside[1])] - mesh.nodes[index(n)];
    const Vec3 across = to.cross(from);
    out.normal = across.normalized();
    out.angle = std::atan2(across.norm(), to.dot(from));
    return out;
}

bool Sheets::lies_in(const SymmetryCut& cut, std::size_t node) const {
    return std::abs(mesh.nodes[node][cut.axis] - cut.at) < in_plane * mesh.size;
}

std::vector<double> Sheets::largest_halves() const {
    std::vector<double> out(mesh.nodes.size(), 0.0);
    for (std::size_t e = 0; e < rings.size(); ++e)
        for (const NodeId n : rings[e]) out[index(n)] = std::max(out[index(n)], half(e));
    return out;
}

Eigen::Matrix3d planes_leave(const Eigen::Matrix3d& normals) {
    const Eigen::SelfAdjointEigenSolver<Eigen::Matrix3d> parts(normals);
    Eigen::Matrix3d out = Eigen::Matrix3d::Zero();
    for (Eigen::Index k = 0; k < 3; ++k)
        if (parts.eigenvalues()[k] <= other_plane)
            out += parts.eigenvectors().col(k) * parts.eigenvectors().col(k).transpose();
    return out;
}

SheetEdges edges_of(const Sheets& sheets) {
    SheetEdges out;
    for (std::size_t e = 0; e < sheets.rings.size(); ++e) {
        const std::vector<NodeId>& ring = sheets.rings[e];
        for (std::size_t k = 0; k < ring.size(); ++k) {
            const NodeId a = ring[k];
            const NodeId b = ring[(k + 1) % ring.size()];
            out[std::minmax(a, b)].push_back({e, a < b});
        }
    }
    return out;
}

class SheetJoints::Finder {
  public:
    Finder(const Sheets& sheets, const SheetEdges& edges, SheetJoints& out)
        : sheets_(sheets), edges_(edges), out_(out) {}

    void run() {
        for (const auto& [key, uses] : edges_) {
            if (uses.size() < 3) continue;
            Seam seam{key.first, key.second, {}};
            for (const EdgeUse& use : uses) seam.elements.push_back(use.element);
            out_.seams_.push_back(std::move(seam));
            facings_[key] = facings(key, uses);
            for (const NodeId n : {key.first, key.second}) out_.nodes_[n];
        }
        if (out_.nodes_.empty()) return;
        for (std::size_t e = 0; e < sheets_.rings.size(); ++e)
            for (const NodeId n : sheets_.rings[e])
                if (const auto found = out_.nodes_.find(n); found != out_.nodes_.end())
                    found->second.elements.push_back(e);
        for (auto& [n, about] : out_.nodes_) take(n, about);
    }

  private:
    using Key = std::pair<NodeId, NodeId>;

    // A side of an element faces one of another over an edge where more than two meet.
    struct Facing {
        std::array<std::size_t, 2> element{};
        std::array<bool, 2> above{};
    };

    const Vec3& at(NodeId n) const { return sheets_.mesh.nodes[index(n)]; }

    // Elements in the order of their angles about the edge: each faces the next.
    std::vector<Facing> facings(const Key& key, const std::vector<EdgeUse>& uses) const {
        const Vec3 along = (at(key.second) - at(key.first)).normalized();
        const Vec3 middle = 0.5 * (at(key.first) + at(key.second));
        const auto away = [&](std::size_t e) {
            Vec3 d = Vec3::Zero();
            for (const NodeId n : sheets_.rings[e])
                d += (at(n) - middle) / static_cast<double>(sheets_.rings[e].size());
            return Vec3(d - along * along.dot(d));
        };
        const Vec3 first = away(uses.front().element);
        const Vec3 second = along.cross(first);
        std::vector<std::pair<double, EdgeUse>> order;
        for (const EdgeUse& use : uses) {
            const Vec3 d = away(use.element);
            order.emplace_back(std::atan2(d.dot(second), d.dot(first)), use);
        }
        std::sort(order.begin(), order.end(), [](const auto& x, const auto& y) { return x.first < y.first; });
        std::vector<Facing> out;
        for (std::size_t k = 0; k < order.size(); ++k) {
            const EdgeUse& one = order[k].second;
            const EdgeUse& next = order[(k + 1) % order.size()].second;
            out.push_back({{one.element, next.element}, {one.forward, !next.forward}});
        }
        return out;
    }

    // A side of an element about a node, joined to another over the edge to a node.
    struct Link {
        std::size_t a = 0, b = 0;
        NodeId over{};
        bool seam = false;
    };

    void take(NodeId n, About& about) const {
        const std::size_t count = about.elements.size();
        const auto local = [&](std::size_t e) { return out_.place_of(about, e); };
        std::vector<Link> links;
        std::vector<std::pair<std::size_t, std::size_t>> neighbours;
        std::vector<std::vector<NodeId>> seams(count), rims(count); // of each element at the node
        for (std::size_t i = 0; i < count; ++i)
            for (const NodeId other : sheets_.corner(about.elements[i], n).beside) {
                const Key key = std::minmax(n, other);
                const std::vector<EdgeUse>& uses = edges_.at(key);
                if (uses.size() == 1) rims[i].push_back(other);
                if (uses.size() > 2) seams[i].push_back(other);
                if (uses.front().element != about.elements[i]) continue; // each edge once
                if (uses.size() == 2) {
                    const std::size_t j = local(uses[1].element);
                    neighbours.emplace_back(i, j);
                    for (const std::size_t s : {0U, 1U})
                        links.push_back({2 * i + s, 2 * j + s, other, false});
                }
                if (uses.size() > 2)
                    for (const Facing& f : facings_.at(key))
                        links.push_back({side(local(f.element[0]), f.above[0]),
                                         side(local(f.element[1]), f.above[1]), other, true});
            }
        about.run = groups(count, neighbours);
        for (const auto& [i, j] : neighbours)
            if (sheets_.level[about.elements[i]] != sheets_.level[about.elements[j]])
                sheets_.refuse("the thickness of a shell changes where several meet in one edge", at(n),
                               "Let it change an element away from the edge");
        part_beyond_ribs(n, about, seams, rims, links);
        about.corner = corners(count, links);
        for (std::size_t i = 0; i < count; ++i)
            if (about.corner[2 * i] == about.corner[2 * i + 1])
                sheets_.refuse("shells meet in edges in a way that leaves no two sides of one of them", at(n),
                               "Bring solid elements for it");
        find_points(n, about);
    }

    static std::size_t side(std::size_t local, bool above) { return 2 * local + (above ? 1 : 0); }

    static std::vector<int> corners(std::size_t elements, const std::vector<Link>& links) {
        std::vector<std::pair<std::size_t, std::size_t>> pairs;
        for (const Link& link : links) pairs.emplace_back(link.a, link.b);
        return groups(2 * elements, pairs);
    }

    // Elements in a run from a seam to a rim whose two sides hang together round its end.
    void part_beyond_ribs(NodeId n, const About& about, const std::vector<std::vector<NodeId>>& seams,
                          const std::vector<std::vector<NodeId>>& rims, std::vector<Link>& links) const {
        const std::size_t count = about.elements.size();
        for (std::size_t i = 0; i < count; ++i) {
            if (seams[i].size() != 1) continue;
            bool ends = false;
            for (std::size_t j = 0; j < count; ++j)
                ends = ends || (about.run[j] == about.run[i] && !rims[j].empty());
            if (!ends) continue;
            const std::vector<int> corner = corners(count, links);
            if (corner[2 * i] != corner[2 * i + 1]) continue;
            part(n, about, i, seams[i].front(), links);
        }
    }

    // Takes out the link that is straight ahead of the seam, of those on the way from one side of an element
    // to its other that does not lead through its own run.
    void part(NodeId n, const About& about, std::size_t rib, NodeId seam, std::vector<Link>& links) const {
        const std::size_t count = 2 * about.elements.size();
        std::vector<std::optional<std::size_t>> by(count);
        std::vector<char> seen(count, 0);
        std::queue<std::size_t> next;
        next.push(2 * rib);
        seen[2 * rib] = 1;
        const std::size_t goal = 2 * rib + 1;
        while (!next.empty() && seen[goal] == 0) {
            const std::size_t at_side = next.front();
            next.pop();
            for (std::size_t l = 0; l < links.size(); ++l) {
                const Link& link = links[l];
                if (link.a != at_side && link.b != at_side) continue;
                const std::size_t to = link.a == at_side ? link.b : link.a;
                // Not round the rib's own rim: no link leads there. Not through its other elements either.
                if (seen[to] != 0 || (to / 2 != rib && about.run[to / 2] == about.run[rib])) continue;
                seen[to] = 1;
                by[to] = l;
                next.push(to);
            }
        }
        std::optional<std::size_t> best;
        double straightest = 2.0;
        const Vec3 along = (at(seam) - at(n)).normalized();
        for (std::size_t s = goal; by[s];) {
            const Link& link = links[*by[s]];
            if (!link.seam) {
                const double turn = along.dot((at(link.over) - at(n)).normalized());
                if (turn < straightest) {
                    straightest = turn;
                    best = *by[s];
                }
            }
            s = link.a == s ? link.b : link.a;
        }
        if (!best)
            sheets_.refuse("a shell that meets others in an edge ends there, and no edge goes on from it,",
                           at(n), "Let it end an element earlier, or at the rim");
        const Link gone = links[*best];
        out_.partings_.push_back({n,
                                  gone.over,
                                  about.elements[rib],
                                  {about.elements[gone.a / 2], about.elements[gone.b / 2]},
                                  {gone.a % 2 == 1, gone.b % 2 == 1}});
        links.erase(links.begin() + static_cast<std::ptrdiff_t>(*best));
    }

    // Of each corner the point on the outer planes of all its sheets; nearest to the node where they leave it
    // free, as of one plane.
    void find_points(NodeId n, About& about) const {
        const int count = 1 + *std::max_element(about.corner.begin(), about.corner.end());
        std::vector<Eigen::Matrix3d> sums(static_cast<std::size_t>(count), Eigen::Matrix3d::Zero());
        std::vector<Vec3> ways = std::vector<Vec3>(sums.size(), Vec3::Zero());
        std::vector<Vec3> evens = ways; // were all as thick as each other
        std::vector<double> weights(sums.size(), 0.0);
        std::vector<std::pair<std::size_t, Vec3>> normals;
        for (std::size_t i = 0; i < about.elements.size(); ++i) {
            auto [normal, weight, beside] = sheets_.corner(about.elements[i], n);
            for (const SymmetryCut& cut : sheets_.mesh.symmetry)
                if (sheets_.lies_in(cut, index(n))) normal[cut.axis] = 0.0;
            for (const bool above : {false, true}) {
                const auto c = static_cast<std::size_t>(about.corner[side(i, above)]);
                const Vec3 out = above ? normal : Vec3(-normal);
                sums[c] += weight * out * out.transpose();
                ways[c] += weight * sheets_.half(about.elements[i]) * out;
                evens[c] += weight * out;
                weights[c] += weight;
                normals.emplace_back(c, out);
            }
        }
        std::vector<Vec3> even;
        for (std::size_t c = 0; c < sums.size(); ++c) {
            const Eigen::SelfAdjointEigenSolver<Eigen::Matrix3d> parts(sums[c] / weights[c]);
            const auto solved = [&](const Vec3& right) {
                Vec3 x = Vec3::Zero();
                for (Eigen::Index k = 0; k < 3; ++k)
                    if (parts.eigenvalues()[k] > other_plane)
                        x += parts.eigenvectors().col(k) * parts.eigenvectors().col(k).dot(right) /
                             (parts.eigenvalues()[k] * weights[c]);
                return x;
            };
            about.offset.push_back(solved(ways[c]));
            about.freedom.push_back(planes_leave(sums[c] / weights[c]));
            even.push_back(solved(evens[c]));
        }
        for (const auto& [c, normal] : normals)
            if (!(normal.dot(even[c]) > least_facing * even[c].norm()))
                sheets_.refuse("shells meet at a sharp angle in one edge", at(n),
                               "Bring solid elements for it, or leave 30 degrees between them");
    }

    const Sheets& sheets_;
    const SheetEdges& edges_;
    SheetJoints& out_;
    std::map<Key, std::vector<Facing>> facings_;
};

SheetJoints::SheetJoints(const Sheets& sheets, const SheetEdges& edges) {
    Finder(sheets, edges, *this).run();
}

int SheetJoints::corners(NodeId n) const {
    return static_cast<int>(nodes_.at(n).offset.size());
}

const Eigen::Matrix3d& SheetJoints::freedom(NodeId n, int corner) const {
    return nodes_.at(n).freedom[static_cast<std::size_t>(corner)];
}

std::size_t SheetJoints::place_of(const About& about, std::size_t element) const {
    return static_cast<std::size_t>(std::lower_bound(about.elements.begin(), about.elements.end(), element) -
                                    about.elements.begin());
}

int SheetJoints::corner(NodeId n, std::size_t element, bool above) const {
    const About& about = nodes_.at(n);
    return about.corner[2 * place_of(about, element) + (above ? 1 : 0)];
}

const Vec3& SheetJoints::offset(NodeId n, int corner) const {
    return nodes_.at(n).offset[static_cast<std::size_t>(corner)];
}

} // namespace upright
