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
constexpr double least_climb = 0.02; // of a step of the lattice
constexpr double aside = 0.3;        // of the radius: to find the other place where a sphere touches
constexpr double near_border = 0.95; // of the radius
constexpr double sides_apart = 150.0; // degrees, seen from its middle; edges of 30 degrees are thin places
constexpr double largest_piece = 3.0; // of a triangle, in steps
constexpr int block = 4;              // bins each way
constexpr double rows_miss = 0.37;    // of a step, so that rows of the lattice run along no face

// The nearest place, where that of a place beside it is known: its triangle is near here as well, and little
// of the tree is nearer.
FacetTree::Nearest nearest_beside(const FacetTree& tree, const Vec3& p, const FacetTree::Nearest& known) {
    if (known.triangle < 0) return tree.nearest(p);
    const auto& c = tree.corners()[static_cast<std::size_t>(known.triangle)];
    FacetTree::Nearest out;
    out.triangle = known.triangle;
    out.place = nearest_on_triangle(p, c[0], c[1], c[2]);
    out.distance = (out.place - p).norm();
    const FacetTree::Nearest nearer = tree.nearest(p, out.distance);
    return nearer.triangle < 0 ? out : nearer;
}

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
        // Some number below zero where nothing is asked.
        values_.assign(static_cast<std::size_t>(count_.prod()), -step_);
        near_.assign(values_.size(), -1);
        std::vector<char> inside(values_.size());
#pragma omp parallel for schedule(dynamic, 4)
        for (int row = 0; row < count_.y() * count_.z(); ++row)
            find_sides(row % count_.y(), row / count_.y(), inside);
        const bool outside_too = margin > 0.0;
        std::vector<double> distance(values_.size(), 1e300);
        for (std::size_t t = 0; t < tree().corners().size(); ++t)
            seed(static_cast<std::int32_t>(t), tree().corners()[t], distance);
        for (int octant = 0; octant < 8; ++octant) sweep(octant, outside_too, inside, distance);
        for (std::size_t i = 0; i < values_.size(); ++i) {
            if (inside[i] == 0 && !outside_too) continue;
            const double d = near_[i] >= 0 ? std::sqrt(distance[i]) : tree().nearest(place(i)).distance;
            values_[i] = inside[i] != 0 ? d : -d;
        }
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

    // About: their middles are where the lattice tells, and no radius is too small.
    InscribedSpheres spheres(bool inside) const {
        const double sense = inside ? 1.0 : -1.0;
        std::vector<std::size_t> ridge;
        for (std::size_t i = 0; i < values_.size(); ++i)
            if (sense * values_[i] > 0.0 && on_ridge(i, sense)) ridge.push_back(i);
        InscribedSpheres out;
        out.centers.resize(ridge.size());
        out.radii.resize(ridge.size());
#pragma omp parallel for schedule(dynamic, 64)
        for (std::size_t k = 0; k < ridge.size(); ++k) {
            out.centers[k] = place(ridge[k]);
            out.radii[k] = climb(out.centers[k]);
        }
        return largest_first(out);
    }

    // With the middles and radii that the surface allows, in the same order, of those that are wanted.
    InscribedSpheres settled(InscribedSpheres spheres, const std::vector<char>& wanted) const {
#pragma omp parallel for schedule(dynamic, 64)
        for (std::size_t s = 0; s < wanted.size(); ++s)
            if (wanted[s] != 0) spheres.radii[s] = settle(spheres.centers[s]);
        return spheres;
    }
    double settle(Vec3& middle) const {
        const auto by_tree = [&](const Vec3& p, const FacetTree::Nearest& known) {
            return nearest_beside(body_.tree(), p, known);
        };
        return climb_by(by_tree, by_tree(middle, nearest_about(middle)), middle).distance;
    }

  private:
    static InscribedSpheres largest_first(const InscribedSpheres& spheres) {
        std::vector<std::size_t> order(spheres.radii.size());
        std::iota(order.begin(), order.end(), std::size_t{0});
        std::stable_sort(order.begin(), order.end(),
                         [&](std::size_t a, std::size_t b) { return spheres.radii[a] > spheres.radii[b]; });
        InscribedSpheres out;
        for (const std::size_t k : order) {
            out.centers.push_back(spheres.centers[k]);
            out.radii.push_back(spheres.radii[k]);
        }
        return out;
    }
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
    void find_sides(int y, int z, std::vector<char>& inside) const {
        const std::size_t first = number({0, y, z});
        const Vec3 from = place(first) - Vec3(step_, 0, 0);
        std::vector<FacetTree::Hit> hits;
        body_.tree().crossings(from, Vec3::UnitX(), hits);
        const bool doubtful = hits.size() % 2 != 0 ||
                              std::any_of(hits.begin(), hits.end(), [](const auto& h) { return h.doubtful; });
        for (int x = 0; x < count_.x(); ++x) {
            const std::size_t i = first + static_cast<std::size_t>(x);
            if (doubtful)
                inside[i] = body_.inside(place(i)) ? 1 : 0;
            else
                inside[i] = std::count_if(hits.begin(), hits.end(),
                                          [&](const auto& h) { return h.along < (x + 1) * step_; }) %
                                        2 !=
                                    0
                                ? 1
                                : 0;
        }
    }

    void ask(std::size_t i, std::int32_t triangle, std::vector<double>& distance) {
        const auto& c = tree().corners()[static_cast<std::size_t>(triangle)];
        const Vec3 p = place(i);
        const double d = (nearest_on_triangle(p, c[0], c[1], c[2]) - p).squaredNorm();
        if (d >= distance[i]) return;
        distance[i] = d;
        near_[i] = triangle;
    }

    // Places within a step of a triangle, of large ones piece by piece.
    void seed(std::int32_t triangle, const std::array<Vec3, 3>& piece, std::vector<double>& distance) {
        const Vec3 lowest = piece[0].cwiseMin(piece[1]).cwiseMin(piece[2]);
        const Vec3 highest = piece[0].cwiseMax(piece[1]).cwiseMax(piece[2]);
        if ((highest - lowest).maxCoeff() > largest_piece * step_) {
            std::size_t longest = 0;
            const auto length = [&](std::size_t k) { return (piece[(k + 1) % 3] - piece[k]).squaredNorm(); };
            for (std::size_t k = 1; k < 3; ++k)
                if (length(k) > length(longest)) longest = k;
            const Vec3 middle = 0.5 * (piece[longest] + piece[(longest + 1) % 3]);
            for (const std::size_t end : {longest, (longest + 1) % 3}) {
                std::array<Vec3, 3> half = piece;
                half[end] = middle;
                seed(triangle, half, distance);
            }
            return;
        }
        const Eigen::Vector3i from = ((lowest - low_) / step_).array().floor().cast<int>().max(0);
        const Eigen::Vector3i to =
            ((highest - low_) / step_).array().ceil().cast<int>().min(count_.array() - 1);
        for (int z = from.z(); z <= to.z(); ++z)
            for (int y = from.y(); y <= to.y(); ++y)
                for (int x = from.x(); x <= to.x(); ++x) ask(number({x, y, z}), triangle, distance);
    }

    // From place to place in one of eight orders: the triangle that is nearest to a place is near to those
    // beside it (Danielsson 1980, with triangles for points). Not always the nearest: spheres are found by
    // the tree.
    void sweep(int octant, bool outside_too, const std::vector<char>& inside, std::vector<double>& distance) {
        const Eigen::Vector3i way(octant % 2 == 0 ? 1 : -1, octant / 2 % 2 == 0 ? 1 : -1,
                                  octant / 4 == 0 ? 1 : -1);
        const auto along = [&](int axis, int k) { return way[axis] > 0 ? k : count_[axis] - 1 - k; };
        for (int k = 0; k < count_.z(); ++k)
            for (int j = 0; j < count_.y(); ++j)
                for (int i = 0; i < count_.x(); ++i) {
                    const Eigen::Vector3i c(along(0, i), along(1, j), along(2, k));
                    const std::size_t here = number(c);
                    if (inside[here] == 0 && !outside_too) continue;
                    for (int side = 1; side < 8; ++side) {
                        const int dx = side % 2;
                        const int dy = side / 2 % 2;
                        const int dz = side / 4;
                        if (dx > i || dy > j || dz > k) continue;
                        const std::size_t there = number(c - way.cwiseProduct(Eigen::Vector3i(dx, dy, dz)));
                        const std::int32_t triangle = near_[there];
                        if (triangle >= 0 && triangle != near_[here]) ask(here, triangle, distance);
                    }
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

    // Moves a middle away from where its sphere touches for as long as the sphere grows, by the triangles
    // that are near to the places around.
    double climb(Vec3& middle) const {
        const auto about = [&](const Vec3& p, const FacetTree::Nearest& /*known*/) {
            return nearest_about(p);
        };
        return climb_by(about, nearest_about(middle), middle).distance;
    }

    template <class Nearest>
    FacetTree::Nearest climb_by(const Nearest& nearest, FacetTree::Nearest touched, Vec3& middle) const {
        double step = 0.5 * step_;
        for (int k = 0; k < most_climbs && step > least_climb * step_; ++k) {
            if (touched.triangle < 0 || touched.distance <= 0.0) break;
            const Vec3 to = middle + step * (middle - touched.place) / touched.distance;
            const FacetTree::Nearest there = nearest(to, touched);
            if (there.triangle >= 0 && there.distance > touched.distance) {
                middle = to;
                touched = there;
            } else {
                step *= 0.5;
            }
        }
        return touched;
    }

    // The nearest place on the triangles that are nearest to the eight places about.
    FacetTree::Nearest nearest_about(const Vec3& p) const {
        const Eigen::Vector3i low =
            ((p - low_) / step_).array().floor().cast<int>().max(0).min(count_.array() - 2).max(0);
        FacetTree::Nearest out;
        std::array<std::int32_t, 8> asked{};
        for (std::size_t k = 0; k < 8; ++k) {
            const auto one = static_cast<int>(k);
            const Eigen::Vector3i c = (low + Eigen::Vector3i(one % 2, one / 2 % 2, one / 4))
                                          .cwiseMin(count_ - Eigen::Vector3i::Ones());
            const std::int32_t triangle = near_[number(c)];
            asked[k] = triangle;
            if (triangle < 0 || std::find(asked.begin(), asked.begin() + k, triangle) != asked.begin() + k)
                continue;
            const auto& corners = tree().corners()[static_cast<std::size_t>(triangle)];
            const Vec3 there = nearest_on_triangle(p, corners[0], corners[1], corners[2]);
            const double d = (there - p).norm();
            if (d < out.distance) out = {d, triangle, there};
        }
        return out;
    }

    FacetBody body_;
    double step_;
    Vec3 low_ = Vec3::Zero();
    Eigen::Vector3i count_ = Eigen::Vector3i::Zero();
    std::vector<double> values_;
    std::vector<std::int32_t> near_; // of each place: a triangle that is as near, about
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
    const auto number = [](const Eigen::Vector3i& c, const Eigen::Vector3i& of) {
        return static_cast<std::size_t>((c.z() * of.y() + c.y()) * of.x() + c.x());
    };
    // Of blocks of bins: how many places are left. Most spheres are small ones within what larger ones took.
    const Eigen::Vector3i blocks = (count.array() + (block - 1)) / block;
    std::vector<std::int32_t> left(static_cast<std::size_t>(blocks.prod()), 0);
    for (std::size_t i = 0; i < places.size(); ++i) {
        const Eigen::Vector3i c = bin(places[i]);
        bins[number(c, count)].push_back(static_cast<std::int32_t>(i));
        ++left[number(c / block, blocks)];
    }
    // Whether no place of so many bins from one on can be within reach.
    const auto beyond = [&](const Vec3& center, double reach, const Eigen::Vector3i& first, int many) {
        const Vec3 low = box.low + width * first.cast<double>();
        const Vec3 high = low + Vec3::Constant(width * many);
        return (center.cwiseMax(low).cwiseMin(high) - center).norm() > reach + 1e-6 * width;
    };
    const auto take = [&](std::size_t s, double reach, const Eigen::Vector3i& low,
                          const Eigen::Vector3i& high, std::int32_t& there) {
        for (int z = low.z(); z <= high.z(); ++z)
            for (int y = low.y(); y <= high.y(); ++y)
                for (int x = low.x(); x <= high.x(); ++x) {
                    auto& here = bins[number({x, y, z}, count)];
                    if (here.empty() || beyond(centers[s], reach, {x, y, z}, 1)) continue;
                    for (std::size_t k = 0; k < here.size();) {
                        const auto i = static_cast<std::size_t>(here[k]);
                        if ((places[i] - centers[s]).squaredNorm() > reach * reach) {
                            ++k;
                            continue;
                        }
                        out[i] = static_cast<std::int32_t>(s);
                        here[k] = here.back();
                        here.pop_back();
                        --there;
                    }
                }
    };
    for (std::size_t s = 0; s < centers.size(); ++s) {
        const double reach = radii[s] + slack;
        const Eigen::Vector3i low = bin(centers[s] - Vec3::Constant(reach));
        const Eigen::Vector3i high = bin(centers[s] + Vec3::Constant(reach));
        for (int z = low.z() / block; z <= high.z() / block; ++z)
            for (int y = low.y() / block; y <= high.y() / block; ++y)
                for (int x = low.x() / block; x <= high.x() / block; ++x) {
                    std::int32_t& there = left[number({x, y, z}, blocks)];
                    const Eigen::Vector3i first(block * x, block * y, block * z);
                    const Eigen::Vector3i last = first + Eigen::Vector3i::Constant(block - 1);
                    if (there != 0 && !beyond(centers[s], reach, first, block))
                        take(s, reach, low.cwiseMax(first), high.cwiseMin(last), there);
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
    // Which sphere is the largest at a place is told well enough by what the lattice knows of them; only
    // those need be known better.
    const auto settled = [&](const InscribedSpheres& about,
                             std::initializer_list<const std::vector<std::int32_t>*> helds) {
        std::vector<char> wanted(about.radii.size(), 0);
        for (const auto* held : helds)
            for (const std::int32_t s : *held)
                if (s >= 0) wanted[static_cast<std::size_t>(s)] = 1;
        return lattice.settled(about, wanted);
    };
    // `held`: of each place its sphere. Gives the thinnest place.
    const auto measure = [&](const InscribedSpheres& spheres, const std::vector<std::int32_t>& held,
                             std::vector<double>& all) {
        std::vector<int> seen(spheres.radii.size(), 0); // places that it holds
        for (const std::int32_t s : held)
            if (s >= 0) ++seen[static_cast<std::size_t>(s)];
        std::vector<char> counts(seen.size(), 0);
#pragma omp parallel for schedule(dynamic, 64)
        for (std::size_t s = 0; s < seen.size(); ++s)
            if (seen[s] != 0 && of_a_member(lattice.tree(), part.free, spheres.centers[s], spheres.radii[s]))
                counts[s] = 1;
        std::vector<std::size_t> members;
        for (std::size_t s = 0; s < counts.size(); ++s)
            if (counts[s] != 0) members.push_back(s);
        std::stable_sort(members.begin(), members.end(),
                         [&](std::size_t a, std::size_t b) { return spheres.radii[a] < spheres.radii[b]; });
        // It is one that with all thinner ones has as much in it as a cell.
        const double cell = std::pow(size / lattice.step(), 3.0);
        std::optional<Thickness::Place> least;
        double so_far = 0.0;
        for (const std::size_t s : members) {
            so_far += seen[s];
            if (so_far < cell) continue;
            least = Thickness::Place{2.0 * spheres.radii[s], spheres.centers[s]};
            break;
        }
        for (const std::int32_t s : held)
            if (s >= 0)
                all.push_back((counts[static_cast<std::size_t>(s)] != 0 ? 2.0 : -2.0) *
                              spheres.radii[static_cast<std::size_t>(s)]);
        return least;
    };
    const InscribedSpheres about = lattice.spheres(true);
    for (std::size_t s = 0; s < about.radii.size() && !out.thickest; ++s)
        if (of_design_alone(model, about.centers[s], about.radii[s])) {
            Vec3 middle = about.centers[s];
            const double radius = lattice.settle(middle);
            out.thickest = Thickness::Place{2.0 * radius, middle};
        }
    const std::vector<std::int32_t> in_solid = about.largest_near(solid, slack);
    const std::vector<std::int32_t> at_surface = about.largest_near(part.surface.points, slack);
    const InscribedSpheres inside = settled(about, {&in_solid, &at_surface});
    out.thinnest = measure(inside, in_solid, out.material);
    for (const std::int32_t s : at_surface)
        out.at_points.push_back(s < 0 ? -1.0 : 2.0 * inside.radii[static_cast<std::size_t>(s)]);
    if (widest > 0.0) {
        const InscribedSpheres outside = lattice.spheres(false);
        const std::vector<std::int32_t> in_open = outside.largest_near(open, slack);
        std::vector<double> gaps;
        out.narrowest = measure(settled(outside, {&in_open}), in_open, gaps);
    }
    return out;
}

} // namespace upright
