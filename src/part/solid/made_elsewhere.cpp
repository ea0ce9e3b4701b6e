#include "part/solid/made_elsewhere.hpp"

#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>

namespace upright {

namespace {

// In sizes of the sheets.
constexpr double on_face = 0.05, face_beyond = 0.1, off_face = 1e-3;
constexpr double face_along = 0.9; // cosine between a triangle and the sheet that it lies on
constexpr double short_edge = 1.0; // longer triangles are halved, so that each is on a face or is not
constexpr int most_halvings = 12;

using Corner = std::array<Vec3, 3>;

class Sorter {
  public:
    Sorter(const SheetSet& sheets, const std::function<bool(const Vec3&)>& outside)
        : sheets_(sheets), outside_(outside) {}

    void take(const Corner& t, int halvings) {
        std::size_t longest = 0;
        const auto length = [&](std::size_t k) { return (t[(k + 1) % 3] - t[k]).norm(); };
        for (std::size_t k = 1; k < 3; ++k)
            if (length(k) > length(longest)) longest = k;
        if (halvings < most_halvings && length(longest) > short_edge * sheets_.size()) {
            const Vec3 middle = 0.5 * (t[longest] + t[(longest + 1) % 3]);
            Corner first = t;
            Corner second = t;
            first[(longest + 1) % 3] = middle;
            second[longest] = middle;
            take(first, halvings + 1);
            take(second, halvings + 1);
            return;
        }
        const int to = of_space(t) ? 1 : 0;
        const auto n = static_cast<std::int32_t>(points[to].size());
        for (const Vec3& p : t) points[to].push_back(p);
        triangles[to].push_back({n, n + 1, n + 2});
    }

    // Of the body alone, and of the space.
    std::array<std::vector<Vec3>, 2> points;
    std::array<std::vector<std::array<std::int32_t, 3>>, 2> triangles;

  private:
    bool of_space(const Corner& t) const {
        const Vec3 normal = Vec3(t[1] - t[0]).cross(t[2] - t[0]).normalized();
        const Vec3 middle = (t[0] + t[1] + t[2]) / 3.0;
        const double near = on_face * sheets_.size();
        for (std::size_t s = 0; s < sheets_.count(); ++s) {
            const Sheet& sheet = sheets_[static_cast<std::int32_t>(s)];
            if (std::abs(sheet.value(middle)) > near) continue;
            if (std::any_of(t.begin(), t.end(),
                            [&](const Vec3& p) { return std::abs(sheet.value(p)) > near; }))
                continue;
            if (std::abs(sheet.normal(middle).dot(normal)) < face_along) continue;
            if (outside_(middle + face_beyond * sheets_.size() * normal)) return true;
        }
        return false;
    }

    const SheetSet& sheets_;
    const std::function<bool(const Vec3&)>& outside_;
};

} // namespace

MadeElsewhere::MadeElsewhere(std::vector<std::shared_ptr<const FacetBody>> bodies, const SheetSet& sheets,
                             const std::function<bool(const Vec3&)>& outside)
    : bodies_(std::move(bodies)), size_(sheets.size()) {
    Sorter sorter(sheets, outside);
    for (const auto& body : bodies_)
        for (const auto& t : body->mesh().triangles) {
            Corner corner;
            for (std::size_t k = 0; k < 3; ++k)
                corner[k] = body->mesh().points[static_cast<std::size_t>(t[k])];
            if (Vec3(corner[1] - corner[0]).cross(corner[2] - corner[0]).norm() > 0.0) sorter.take(corner, 0);
        }
    free_ = FacetTree(sorter.points[0], sorter.triangles[0]);
    bound_ = FacetTree(sorter.points[1], sorter.triangles[1]);
}

// A place at the end of the space is judged a little way into it.
bool MadeElsewhere::inside(Vec3 p) const {
    for (int face = 0; face < 3; ++face) { // at a corner three meet
        const FacetTree::Nearest near = bound_.nearest(p, 2.0 * on_face * size_);
        if (near.triangle < 0 || near.distance > 2.0 * on_face * size_) break;
        const auto& t = bound_.corners()[static_cast<std::size_t>(near.triangle)];
        const Vec3 normal = Vec3(t[1] - t[0]).cross(t[2] - t[0]).normalized();
        const double out = (p - near.place).dot(normal);
        if (out < -0.5 * off_face * size_) break;
        p -= (std::max(out, 0.0) + off_face * size_) * normal;
    }
    return std::any_of(bodies_.begin(), bodies_.end(), [&](const auto& body) { return body->inside(p); });
}

double MadeElsewhere::signed_distance(const Vec3& p) const {
    const double reach = 4.0 * size_;
    const FacetTree::Nearest near = free_.nearest(p, reach);
    const double distance = near.triangle < 0 ? reach : std::min(near.distance, reach);
    return inside(p) ? -distance : distance;
}

} // namespace upright
