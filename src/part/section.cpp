#include "part/section.hpp"

#include <Eigen/Geometry>
#include <algorithm>

namespace upright {

namespace {

class Sectioner {
  public:
    Sectioner(const Vec3& normal, double at) : normal_(normal), at_(at) {}

    // The part of a triangle below the plane: it, or up to two.
    void take_triangle(const std::array<Vec3, 3>& p, bool kept) {
        std::vector<Vec3> corners;
        for (std::size_t k = 0; k < 3; ++k) {
            const Vec3& a = p[k];
            const Vec3& b = p[(k + 1) % 3];
            if (above(a) <= 0.0) corners.push_back(a);
            if (above(a) * above(b) < 0.0) corners.push_back(crossing(a, b));
        }
        add(corners, kept, false);
    }

    // The section through a tetrahedron.
    void take_tet(const std::array<Vec3, 4>& p, bool kept) {
        std::vector<std::size_t> below;
        std::vector<std::size_t> over;
        for (std::size_t i = 0; i < 4; ++i) (above(p[i]) <= 0.0 ? below : over).push_back(i);
        if (below.empty() || over.empty()) return;
        std::vector<Vec3> corners;
        const auto put = [&](std::size_t i, std::size_t j) { corners.push_back(crossing(p[i], p[j])); };
        if (below.size() == 2) {
            put(below[0], over[0]);
            put(below[0], over[1]);
            put(below[1], over[1]);
            put(below[1], over[0]);
        } else {
            const std::vector<std::size_t>& many = below.size() == 3 ? below : over;
            const std::size_t one = (below.size() == 3 ? over : below).front();
            for (const std::size_t i : many) put(i, one);
        }
        if (Vec3(corners[1] - corners[0]).cross(corners[2] - corners[0]).dot(normal_) < 0.0)
            std::reverse(corners.begin(), corners.end());
        add(corners, kept, true);
    }

    PartSection out;

  private:
    double above(const Vec3& p) const { return p.dot(normal_) - at_; }
    Vec3 crossing(const Vec3& a, const Vec3& b) const {
        const double u = above(a);
        const double v = above(b);
        return a + (u / (u - v)) * (b - a);
    }
    void add(const std::vector<Vec3>& corners, bool kept, bool cut) {
        const auto first = static_cast<std::int32_t>(out.surface.points.size());
        if (corners.size() < 3) return;
        out.surface.points.insert(out.surface.points.end(), corners.begin(), corners.end());
        for (std::int32_t k = 1; k + 1 < static_cast<std::int32_t>(corners.size()); ++k) {
            out.surface.corners.push_back({first, first + k, first + k + 1});
            out.kept.push_back(kept);
            out.cut.push_back(cut);
        }
    }

    Vec3 normal_;
    double at_;
};

} // namespace

PartSection section_of(const Model& model, const Part& part, const Vec3& normal, double at) {
    Sectioner sectioner(normal, at);
    for (std::size_t t = 0; t < part.surface.corners.size(); ++t) {
        std::array<Vec3, 3> p;
        for (std::size_t k = 0; k < 3; ++k)
            p[k] = part.surface.points[static_cast<std::size_t>(part.surface.corners[t][k])];
        sectioner.take_triangle(p, part.kept[t]);
    }
    if (part.solid) {
        const WholeTets whole = whole_tets(model, *part.solid);
        for (std::size_t t = 0; t < whole.tets.size(); ++t) {
            std::array<Vec3, 4> p;
            for (std::size_t k = 0; k < 4; ++k)
                p[k] = whole.points[static_cast<std::size_t>(whole.tets[t][k])];
            sectioner.take_tet(p, model.regions[index(whole.region[t])].role == Role::Keep);
        }
    }
    return std::move(sectioner.out);
}

} // namespace upright
