#include "part/thickness.hpp"

#include "base/angles.hpp"
#include "geometry/distance.hpp"
#include "geometry/facets.hpp"
#include "mesh/into_model.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <numeric>

namespace upright {

namespace {

constexpr double steps_in_a_cell = 2.0;
constexpr double most_places = 3e6;
constexpr double grows = 0.8;        // of a step: a sphere that grows so much towards a neighbour lies in its
constexpr int most_climbs = 12;      // of a middle, each as long or half as long as the one before
constexpr double aside = 0.3;        // of the radius: to find the other place where a sphere touches
constexpr double near_border = 0.95; // of the radius
constexpr double sides_apart = 150.0; // degrees, seen from its middle; edges of 30 degrees are thin places
constexpr double rows_miss = 0.37;    // of a step, so that rows of the lattice run along no face

// Signed distances to a closed surface on a lattice around it: positive inside.
class DistanceLattice {
  public:
    DistanceLattice(const Triangles& surface, double step, double margin)
        : body_("part", facets(surface)), step_(step) {
        Bounds box = body_.bounds();
        const double more = margin + 2.0 * step;
        const Vec3 extent = box.size() + Vec3::Constant(2.0 * more);
        step_ = std::max(step_, std::cbrt(extent.prod() / most_places));
        low_ = box.low - Vec3::Constant(more) + rows_miss * Vec3(step_, 0.9 * step_, 1.1 * step_);
        for (int a = 0; a < 3; ++a) count_[a] = static_cast<int>(extent[a] / step_) + 1;
        values_.resize(static_cast<std::size_t>(count_.prod()));
#pragma omp parallel for schedule(dynamic, 4)
        for (int row = 0; row < count_.y() * count_.z(); ++row)
            fill(row % count_.y(), row / count_.y(), margin > 0.0);
    }

    double step() const {
        return step_;
    }
    std::size_t size() const {
        return values_.size();
    }
    double value(std::size_t i) const {
        return values_[i];
    }
    const FacetTree& tree() const {
        return body_.tree();
    }
    Vec3 place(std::size_t i) const {
        const Eigen::Vector3i c = at(i);
        return low_ + step_ * c.cast<double>();
    }

    InscribedSpheres spheres(bool inside) const {
        const double sense = inside ? 1.0 : -1.0;
        std::vector<std::size_t> ridge;
        for (std::size_t i = 0; i < values_.size(); ++i)
            if (sense * values_[i] > 0.0 && on_ridge(i, sense)) ridge.push_back(i);
        std::vector<Vec3> middle(ridge.size());
        std::vector<double> radius(ridge.size());
#pragma omp parallel for schedule(dynamic, 64)
        for (std::size_t k = 0; k < ridge.size(); ++k) {
            middle[k] = place(ridge[k]);
            radius[k] = climb(middle[k], std::abs(values_[ridge[k]]));
        }
        std::vector<std::size_t> order(ridge.size());
        std::iota(order.begin(), order.end(), std::size_t{0});
        std::stable_sort(order.begin(), order.end(),
                         [&](std::size_t a, std::size_t b) { return radius[a] > radius[b]; });
        InscribedSpheres out;
        for (const std::size_t k : order) {
            out.centers.push_back(middle[k]);
            out.radii.push_back(radius[k]);
        }
        return out;
    }

  private:
    static FacetMesh facets(const Triangles& surface) {
        FacetMesh out;
        out.points = surface.points;
        out.triangles = surface.corners;
        out.face_of.assign(surface.corners.size(), 0);
        out.faces.emplace_back();
        return out;
    }

    Eigen::Vector3i at(std::size_t i) const {
        const auto n = static_cast<int>(i);
        return {n % count_.x(), n / count_.x() % count_.y(), n / count_.x() / count_.y()};
    }
    std::size_t number(const Eigen::Vector3i& c) const {
        return static_cast<std::size_t>((c.z() * count_.y() + c.y()) * count_.x() + c.x());
    }

    // A row along x: inside between odd and even crossings.
    void fill(int y, int z, bool outside_too) {
        const std::size_t first = number({0, y, z});
        const Vec3 from = place(first) - Vec3(step_, 0, 0);
        std::vector<FacetTree::Hit> hits;
        body_.tree().crossings(from, Vec3::UnitX(), hits);
        const bool doubtful = hits.size() % 2 != 0 ||
                              std::any_of(hits.begin(), hits.end(), [](const auto& h) { return h.doubtful; });
        double before = 1e300; // the distance a step ago
        for (int x = 0; x < count_.x(); ++x) {
            const std::size_t i = first + static_cast<std::size_t>(x);
            const Vec3 p = place(i);
            bool in = false;
            if (doubtful)
                in = body_.inside(p);
            else
                in = std::count_if(hits.begin(), hits.end(),
                                   [&](const auto& h) { return h.along < (x + 1) * step_; }) %
                         2 !=
                     0;
            if (!in && !outside_too) {
                values_[i] = -step_; // some number below zero
                before = 1e300;
                continue;
            }
            const double reach = before + 1.001 * step_;
            const double d = body_.tree().nearest(p, reach).distance;
            before = d;
            values_[i] = in ? d : -d;
        }
    }

    bool on_ridge(std::size_t i, double sense) const {
        const Eigen::Vector3i c = at(i);
        for (int dz = -1; dz <= 1; ++dz)
            for (int dy = -1; dy <= 1; ++dy)
                for (int dx = -1; dx <= 1; ++dx) {
                    const Eigen::Vector3i n = c + Eigen::Vector3i(dx, dy, dz);
                    if ((n.array() < 0).any() || (n.array() >= count_.array()).any()) continue;
                    const double length = step_ * std::sqrt(dx * dx + dy * dy + dz * dz);
                    if (length > 0.0 && sense * (values_[number(n)] - values_[i]) >= grows * length)
                        return false;
                }
        return true;
    }

    // Moves a middle away from where its sphere touches for as long as the sphere grows.
    double climb(Vec3& middle, double radius) const {
        double step = 0.5 * step_;
        FacetTree::Nearest touched = body_.tree().nearest(middle, 2.0 * radius + step_);
        for (int k = 0; k < most_climbs && step > 0.02 * step_ && touched.distance > 0.0; ++k) {
            const Vec3 to = middle + step * (middle - touched.place) / touched.distance;
            const FacetTree::Nearest there = body_.tree().nearest(to, touched.distance + 2.0 * step);
            if (there.triangle >= 0 && there.distance > touched.distance) {
                middle = to;
                touched = there;
            } else {
                step *= 0.5;
            }
        }
        return touched.distance;
    }

    FacetBody body_;
    double step_;
    Vec3 low_ = Vec3::Zero();
    Eigen::Vector3i count_ = Eigen::Vector3i::Zero();
    std::vector<double> values_;
};

// Whether a sphere lies in design regions: its middle and places near its border in 26 directions.
bool of_design_alone(const Model& model, const Vec3& middle, double radius) {
    for (int k = 0; k < 27; ++k) {
        const Vec3 way(k % 3 - 1, k / 3 % 3 - 1, k / 9 - 1);
        const Vec3 p = k == 13 ? middle : Vec3(middle + near_border * radius * way.normalized());
        const RegionId r = model.shapes.owner(into_model(model.mesh, p));
        if (r == RegionId::None || model.shapes[r].role != Role::Design) return false;
    }
    return true;
}

template <class Is> double share(const std::vector<double>& all, const Is& is) {
    if (all.empty()) return 0.0;
    return static_cast<double>(std::count_if(all.begin(), all.end(), is)) / static_cast<double>(all.size());
}

// Whether a sphere lies between two sides, not in an edge, and the design made one of them. Sides are where
// it is nearest to the surface, and where it is nearest from a little further away.
bool of_a_member(const FacetTree& tree, const std::vector<bool>& free, const Vec3& middle, double radius) {
    const FacetTree::Nearest one = tree.nearest(middle, 1.1 * radius + 1e-300);
    if (one.triangle < 0) return false;
    const FacetTree::Nearest other = tree.nearest(middle + aside * (middle - one.place), 3.0 * radius);
    if (other.triangle < 0) return false;
    const double between = Vec3(one.place - middle).normalized().dot(Vec3(other.place - middle).normalized());
    return between < std::cos(sides_apart * degree) &&
           (free[static_cast<std::size_t>(one.triangle)] || free[static_cast<std::size_t>(other.triangle)]);
}

} // namespace

std::vector<std::int32_t> InscribedSpheres::largest_near(const std::vector<Vec3>& places,
                                                         double slack) const {
    std::vector<std::int32_t> out(places.size(), -1);
    if (places.empty() || centers.empty()) return out;
    Bounds box;
    for (const Vec3& p : places) box.include(p);
    // Bins of a few places each; who has found his sphere leaves.
    const double width = std::max(std::cbrt((box.size() + Vec3::Constant(1e-9 + slack)).prod() /
                                            (0.125 * static_cast<double>(places.size()) + 1.0)),
                                  1e-3 * box.diagonal() + 1e-300);
    Eigen::Vector3i count;
    for (int a = 0; a < 3; ++a) count[a] = static_cast<int>(box.size()[a] / width) + 1;
    const auto bin = [&](const Vec3& p) {
        const Eigen::Vector3i c = ((p - box.low) / width).cast<int>();
        return c.cwiseMax(0).cwiseMin(count - Eigen::Vector3i::Ones()).eval();
    };
    std::vector<std::vector<std::int32_t>> bins(static_cast<std::size_t>(count.prod()));
    const auto number = [&](int x, int y, int z) {
        return static_cast<std::size_t>((z * count.y() + y) * count.x() + x);
    };
    for (std::size_t i = 0; i < places.size(); ++i) {
        const Eigen::Vector3i c = bin(places[i]);
        bins[number(c.x(), c.y(), c.z())].push_back(static_cast<std::int32_t>(i));
    }
    for (std::size_t s = 0; s < centers.size(); ++s) {
        const double reach = radii[s] + slack;
        const Eigen::Vector3i low = bin(centers[s] - Vec3::Constant(reach));
        const Eigen::Vector3i high = bin(centers[s] + Vec3::Constant(reach));
        for (int z = low.z(); z <= high.z(); ++z)
            for (int y = low.y(); y <= high.y(); ++y)
                for (int x = low.x(); x <= high.x(); ++x) {
                    auto& here = bins[number(x, y, z)];
                    for (std::size_t k = 0; k < here.size();) {
                        const auto i = static_cast<std::size_t>(here[k]);
                        if ((places[i] - centers[s]).squaredNorm() > reach * reach) {
                            ++k;
                            continue;
                        }
                        out[i] = static_cast<std::int32_t>(s);
                        here[k] = here.back();
                        here.pop_back();
                    }
                }
    }
    return out;
}

double Thickness::thinner_than(double across) const {
    return share(material, [&](double a) { return a >= 0.0 && a < across; });
}

double Thickness::thicker_than(double across) const {
    return share(material, [&](double a) { return std::abs(a) > across; });
}

Thickness measure_thickness(const Model& model, const Part& part, double widest) {
    const double size = model.mesh.size;
    const DistanceLattice lattice(part.surface, size / steps_in_a_cell, widest > 0.0 ? widest + size : 0.0);
    const double slack = std::max(size, lattice.step());
    Thickness out;
    out.step = lattice.step();
    std::vector<Vec3> solid;
    std::vector<Vec3> open;
    {
        std::vector<char> in_design(lattice.size(), 0);
#pragma omp parallel for schedule(dynamic, 256)
        for (std::size_t i = 0; i < lattice.size(); ++i) {
            if (lattice.value(i) < 0.0 && widest <= 0.0) continue;
            const RegionId r = model.shapes.owner(into_model(model.mesh, lattice.place(i)));
            in_design[i] = r != RegionId::None && model.shapes[r].role == Role::Design ? 1 : 0;
        }
        for (std::size_t i = 0; i < lattice.size(); ++i)
            if (in_design[i] != 0) (lattice.value(i) > 0.0 ? solid : open).push_back(lattice.place(i));
    }
    const auto measure = [&](const InscribedSpheres& spheres, const std::vector<Vec3>& places,
                             std::vector<double>& all) {
        const std::vector<std::int32_t> held = spheres.largest_near(places, slack);
        std::vector<int> seen(spheres.radii.size(), 0); // places that it holds
        for (const std::int32_t s : held)
            if (s >= 0) ++seen[static_cast<std::size_t>(s)];
        std::vector<char> counts(seen.size(), 0);
#pragma omp parallel for schedule(dynamic, 64)
        for (std::size_t s = 0; s < seen.size(); ++s)
            if (seen[s] != 0 && of_a_member(lattice.tree(), part.free, spheres.centers[s], spheres.radii[s]))
                counts[s] = 1;
        // The thinnest place is one that with all thinner ones has as much in it as a cell.
        const double cell = std::pow(size / lattice.step(), 3.0);
        std::optional<Thickness::Place> least;
        double so_far = 0.0;
        for (std::size_t s = seen.size(); s-- > 0 && !least;) {
            if (counts[s] == 0) continue;
            so_far += seen[s];
            if (so_far >= cell) least = Thickness::Place{2.0 * spheres.radii[s], spheres.centers[s]};
        }
        for (const std::int32_t s : held)
            if (s >= 0)
                all.push_back((counts[static_cast<std::size_t>(s)] != 0 ? 2.0 : -2.0) *
                              spheres.radii[static_cast<std::size_t>(s)]);
        return least;
    };
    const InscribedSpheres inside = lattice.spheres(true);
    for (std::size_t s = 0; s < inside.radii.size() && !out.thickest; ++s)
        if (of_design_alone(model, inside.centers[s], inside.radii[s]))
            out.thickest = Thickness::Place{2.0 * inside.radii[s], inside.centers[s]};
    out.thinnest = measure(inside, solid, out.material);
    for (const std::int32_t s : inside.largest_near(part.surface.points, slack))
        out.at_points.push_back(s < 0 ? -1.0 : 2.0 * inside.radii[static_cast<std::size_t>(s)]);
    std::vector<double> gaps;
    if (widest > 0.0) out.narrowest = measure(lattice.spheres(false), open, gaps);
    return out;
}

} // namespace upright
