#include "model/sheet_slides.hpp"

#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <queue>

namespace upright {

namespace {

constexpr double reach_of = 4.0;    // of how far a point beside a bend is moved
constexpr double straight = -0.985; // of the two edges of a rim at a node: 10 degrees
constexpr int most_sweeps = 300;
constexpr double settled = 1e-3; // of the largest slide

} // namespace

class SheetSlides::Slider {
  public:
    Slider(const Sheets& sheets, const SheetEdges& edges, const SheetJoints& joints,
           const std::vector<Vec3>& offset, SheetSlides& out)
        : sheets_(sheets), joints_(joints), offset_(offset), out_(out) {
        take_points();
        take_edges(edges);
    }

    void run() {
        std::vector<Vec3>& slide = out_.slide_;
        const std::vector<std::size_t> free = within_reach();
        for (int sweep = 0; sweep < most_sweeps; ++sweep) {
            double most = 0.0;
            double change = 0.0;
            for (const std::size_t p : free) {
                Vec3 sum = Vec3::Zero();
                double weights = 0.0;
                for (const auto& [o, weight] : about_[p]) {
                    sum += weight * (moved_[o] + slide[o]);
                    weights += weight;
                }
                const Vec3 now = ways_[p] * sum / weights;
                change = std::max(change, (now - slide[p]).norm());
                most = std::max(most, now.norm());
                slide[p] = now;
            }
            if (change <= settled * most) break;
        }
    }

  private:
    const Vec3& at(std::size_t n) const { return sheets_.mesh.nodes[n]; }

    std::size_t point(NodeId n, std::size_t element, bool above) const {
        const std::size_t side =
            joints_.at(n) ? static_cast<std::size_t>(joints_.corner(n, element, above)) : (above ? 1 : 0);
        return out_.first_[index(n)] + side;
    }

    // Where each goes, and in what directions it may slide on all the faces that it belongs to.
    void take_points() {
        std::vector<std::size_t>& first = out_.first_;
        std::vector<Eigen::Matrix3d> normals(offset_.size(), Eigen::Matrix3d::Zero());
        std::vector<double> weights(offset_.size(), 0.0);
        const std::vector<double> half = sheets_.largest_halves();
        for (std::size_t e = 0; e < sheets_.rings.size(); ++e)
            for (const NodeId id : sheets_.rings[e]) {
                const std::size_t n = index(id);
                const Sheets::Corner c = sheets_.corner(e, id);
                normals[n] += c.angle * c.normal * c.normal.transpose();
                weights[n] += c.angle;
            }
        for (std::size_t n = 0; n < offset_.size(); ++n) {
            const auto id = static_cast<NodeId>(n);
            first.push_back(moved_.size());
            if (joints_.at(id)) {
                for (int c = 0; c < joints_.corners(id); ++c) {
                    moved_.push_back(joints_.offset(id, c));
                    ways_.push_back(joints_.freedom(id, c));
                }
                continue;
            }
            for (const double h : {-half[n], half[n]}) {
                moved_.push_back(h * offset_[n]);
                ways_.push_back(weights[n] > 0.0 ? planes_leave(normals[n] / weights[n])
                                                 : Eigen::Matrix3d(Eigen::Matrix3d::Zero()));
            }
        }
        out_.slide_.assign(moved_.size(), Vec3::Zero());
        about_.resize(moved_.size());
    }

    std::size_t end_of(std::size_t n) const {
        return n + 1 < out_.first_.size() ? out_.first_[n + 1] : moved_.size();
    }

    void take_edges(const SheetEdges& edges) {
        const Mesh& mesh = sheets_.mesh;
        std::vector<std::vector<std::size_t>> rims(offset_.size()); // other ends of edges of rims and steps
        for (const auto& [key, uses] : edges) {
            const double weight = 1.0 / (at(index(key.first)) - at(index(key.second))).norm();
            for (const EdgeUse& use : uses)
                for (const bool above : {false, true}) {
                    const std::size_t a = point(key.first, use.element, above);
                    const std::size_t b = point(key.second, use.element, above);
                    about_[a].emplace_back(b, weight);
                    about_[b].emplace_back(a, weight);
                }
            const std::size_t e = uses.front().element;
            if (uses.size() == 2 && sheets_.level[e] == sheets_.level[uses[1].element]) continue;
            rims[index(key.first)].push_back(index(key.second));
            rims[index(key.second)].push_back(index(key.first));
        }
        for (std::size_t n = 0; n < offset_.size(); ++n) {
            Eigen::Matrix3d stay = Eigen::Matrix3d::Identity();
            for (const SymmetryCut& cut : mesh.symmetry)
                if (sheets_.lies_in(cut, n)) stay(cut.axis, cut.axis) = 0.0;
            if (!rims[n].empty()) {
                Vec3 along = Vec3::Zero();
                if (rims[n].size() == 2) {
                    const Vec3 one = (at(rims[n][0]) - at(n)).normalized();
                    const Vec3 other = (at(rims[n][1]) - at(n)).normalized();
                    if (one.dot(other) < straight) along = (one - other).normalized();
                }
                stay = along * along.transpose() * stay;
            }
            for (std::size_t p = out_.first_[n]; p < end_of(n); ++p) ways_[p] = stay * ways_[p];
        }
    }

    // Points that bends reach to, along edges: of those, where their neighbours' way is not straight out.
    std::vector<std::size_t> within_reach() const {
        std::vector<double> left(moved_.size(), 0.0);
        std::priority_queue<std::pair<double, std::size_t>> next;
        for (std::size_t p = 0; p < left.size(); ++p)
            for (const auto& [o, weight] : about_[p]) {
                const double pull = (ways_[p] * moved_[o]).norm();
                if (pull <= least_pull * moved_[o].norm()) continue;
                left[p] = std::max(left[p], reach_of * moved_[o].norm());
            }
        for (std::size_t p = 0; p < left.size(); ++p)
            if (left[p] > 0.0) next.emplace(left[p], p);
        std::vector<std::size_t> out;
        while (!next.empty()) {
            const auto [there, p] = next.top();
            next.pop();
            if (there < left[p]) continue;
            for (const auto& [o, weight] : about_[p]) {
                const double beyond = there - 1.0 / weight;
                if (beyond <= left[o]) continue;
                left[o] = beyond;
                next.emplace(beyond, o);
            }
        }
        for (std::size_t p = 0; p < left.size(); ++p)
            if (left[p] > 0.0) out.push_back(p);
        return out;
    }

    static constexpr double least_pull = 0.2; // of where a neighbour goes: a bend of 12 degrees

    const Sheets& sheets_;
    const SheetJoints& joints_;
    const std::vector<Vec3>& offset_;
    SheetSlides& out_;
    std::vector<Vec3> moved_; // of each point, from its node
    std::vector<Eigen::Matrix3d> ways_;
    std::vector<std::vector<std::pair<std::size_t, double>>> about_; // neighbours and their weights
};

SheetSlides::SheetSlides(const Sheets& sheets, const SheetEdges& edges, const SheetJoints& joints,
                         const std::vector<Vec3>& offset) {
    Slider(sheets, edges, joints, offset, *this).run();
}

} // namespace upright
