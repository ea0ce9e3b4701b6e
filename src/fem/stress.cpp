#include "fem/stress.hpp"

#include "fem/element.hpp"

#include <Eigen/Dense>
#include <Eigen/Eigenvalues>
#include <algorithm>
#include <array>
#include <cmath>
#include <map>

namespace upright {

namespace {

ElementKind flat_kind(ElementKind kind) {
    if (kind == ElementKind::ShellTri3) return ElementKind::Tri3;
    if (kind == ElementKind::ShellQuad4) return ElementKind::Quad4;
    return kind;
}

// The kind whose rule has the points.
ElementKind rule_kind(ElementKind kind) {
    return first_order(flat_kind(kind));
}

bool constant(ElementKind kind) {
    return kind == ElementKind::Tri3 || kind == ElementKind::Tet4;
}

std::vector<Vec3> make_points(ElementKind kind) {
    if (constant(flat_kind(kind)) && !traits(kind).shell) return {natural_center(kind)};
    std::vector<Vec3> out;
    for (const RulePoint& p : integration_rule(rule_kind(kind))) out.push_back(p.at);
    return out;
}

// The polynomial that as many points determine.
Eigen::RowVectorXd terms(ElementKind kind, const Vec3& x) {
    switch (rule_kind(kind)) {
    case ElementKind::Tri3:
        return Eigen::RowVector3d(1, x.x(), x.y());
    case ElementKind::Quad4:
        return Eigen::RowVector4d(1, x.x(), x.y(), x.x() * x.y());
    case ElementKind::Tet4:
        return Eigen::RowVector4d(1, x.x(), x.y(), x.z());
    case ElementKind::Wedge6: {
        Eigen::RowVectorXd out(6);
        out << 1, x.x(), x.y(), x.z(), x.x() * x.z(), x.y() * x.z();
        return out;
    }
    default: {
        Eigen::RowVectorXd out(8);
        out << 1, x.x(), x.y(), x.z(), x.x() * x.y(), x.y() * x.z(), x.z() * x.x(), x.x() * x.y() * x.z();
        return out;
    }
    }
}

// Natural coordinates of the nodes.
std::vector<Vec3> natural_nodes(ElementKind kind) {
    const int n = traits(kind).nodes;
    std::vector<Vec3> corners;
    std::vector<std::array<int, 2>> edges;
    switch (rule_kind(kind)) {
    case ElementKind::Tri3:
        corners = {{0, 0, 0}, {1, 0, 0}, {0, 1, 0}};
        edges = {{0, 1}, {1, 2}, {2, 0}};
        break;
    case ElementKind::Quad4:
        corners = {{-1, -1, 0}, {1, -1, 0}, {1, 1, 0}, {-1, 1, 0}};
        edges = {{0, 1}, {1, 2}, {2, 3}, {3, 0}};
        break;
    case ElementKind::Tet4:
        corners = {{0, 0, 0}, {1, 0, 0}, {0, 1, 0}, {0, 0, 1}};
        edges = {{0, 1}, {1, 2}, {2, 0}, {0, 3}, {1, 3}, {2, 3}};
        break;
    case ElementKind::Wedge6:
        corners = {{0, 0, -1}, {1, 0, -1}, {0, 1, -1}, {0, 0, 1}, {1, 0, 1}, {0, 1, 1}};
        break;
    default:
        corners = {{-1, -1, -1}, {1, -1, -1}, {1, 1, -1}, {-1, 1, -1},
                   {-1, -1, 1},  {1, -1, 1},  {1, 1, 1},  {-1, 1, 1}};
        edges = {{0, 1}, {1, 2}, {2, 3}, {3, 0}, {4, 5}, {5, 6},
                 {6, 7}, {7, 4}, {0, 4}, {1, 5}, {2, 6}, {3, 7}};
    }
    std::vector<Vec3> out = corners;
    for (const auto& [a, b] : edges) {
        if (static_cast<int>(out.size()) == n) break;
        out.push_back(0.5 * (corners[static_cast<std::size_t>(a)] + corners[static_cast<std::size_t>(b)]));
    }
    return out;
}

Eigen::MatrixXd make_to_nodes(ElementKind kind) {
    const std::vector<Vec3>& points = stress_points(kind);
    const std::vector<Vec3> nodes = natural_nodes(kind);
    if (points.size() == 1) return Eigen::MatrixXd::Ones(static_cast<Eigen::Index>(nodes.size()), 1);
    const auto m = static_cast<Eigen::Index>(points.size());
    Eigen::MatrixXd P(m, m);
    for (Eigen::Index i = 0; i < m; ++i) P.row(i) = terms(kind, points[static_cast<std::size_t>(i)]);
    Eigen::MatrixXd N(static_cast<Eigen::Index>(nodes.size()), m);
    for (Eigen::Index i = 0; i < N.rows(); ++i) N.row(i) = terms(kind, nodes[static_cast<std::size_t>(i)]);
    return N * P.inverse();
}

// The stress tensor in global axes of what an element gives.
Voigt in_space(const Model& model, ElementId e, const Eigen::VectorXd& s, double rise) {
    if (s.size() == 6) return s;
    Voigt out;
    out << s[0], s[1], 0.0, s[2], 0.0, 0.0;
    if (model.family == ElementFamily::PlaneStrain) out[2] = stress_across_plane(model, e, s, rise);
    if (!model.mesh.shell()) return out;
    const Mat3 axes = shell_axes(places_of(model.mesh, e));
    return stress_voigt(axes * stress_tensor(out) * axes.transpose());
}

} // namespace

const std::vector<Vec3>& stress_points(ElementKind kind) {
    static const auto all = [] {
        std::array<std::vector<Vec3>, element_kinds> out;
        for (int k = 0; k < element_kinds; ++k)
            out[static_cast<std::size_t>(k)] = make_points(static_cast<ElementKind>(k));
        return out;
    }();
    return all[static_cast<std::size_t>(kind)];
}

const Eigen::MatrixXd& to_nodes(ElementKind kind) {
    static const auto all = [] {
        std::array<Eigen::MatrixXd, element_kinds> out;
        for (int k = 0; k < element_kinds; ++k)
            out[static_cast<std::size_t>(k)] = make_to_nodes(static_cast<ElementKind>(k));
        return out;
    }();
    return all[static_cast<std::size_t>(kind)];
}

std::vector<Voigt> stress_at(const StaticAnalysis& analysis, const ModelCase& c, const Eigen::VectorXd& u,
                             ElementId e, const std::vector<Vec3>& points) {
    const Model& model = analysis.model();
    const Mesh& mesh = model.mesh;
    const Eigen::MatrixXd places = places_of(mesh, e);
    const Eigen::MatrixXd D = elasticity(model, e);
    const double rise = analysis.rise(c);
    Eigen::VectorXd free;
    if (rise != 0.0) {
        const Eigen::VectorXd strain = free_strain(model, e);
        free = D.topLeftCorner(strain.size(), strain.size()) * strain * rise;
    }
    const Eigen::VectorXd local = analysis.element_displacement(u, e);
    std::vector<Voigt> out;
    for (const Vec3& p : points) {
        Eigen::VectorXd s =
            element_for(mesh.kind(e)).stress_of(places, D, mesh.depth(e), model.formulation, p, local);
        for (Eigen::Index k = 0; k < s.size() && free.size() > 0; ++k) s[k] -= free[k % free.size()];
        if (mesh.shell()) {
            out.push_back(in_space(model, e, s.head(3), rise));
            out.push_back(in_space(model, e, s.tail(3), rise));
        } else {
            out.push_back(in_space(model, e, s, rise));
        }
    }
    return out;
}

StressMatrices::StressMatrices(const Model& model, Points points) : shared_(model.mesh.elements(), nullptr) {
    const Mesh& mesh = model.mesh;
    if (!mesh.on_grid() || mesh.shell()) return;
    for (std::size_t i = 0; i < mesh.elements(); ++i) {
        const auto e = static_cast<ElementId>(i);
        if (!same_everywhere(model.material(e))) continue;
        std::vector<Eigen::MatrixXd>& matrices =
            known_[{model.regions[index(mesh.region[i])].material, mesh.depth(e)}];
        if (matrices.empty())
            for (const Vec3& p : points(mesh.kind(e)))
                matrices.push_back(element_for(mesh.kind(e))
                                       .stress(places_of(mesh, e), elasticity(model, e), mesh.depth(e),
                                               model.formulation, p));
        shared_[i] = &matrices;
    }
}

StressField stress_field(const StaticAnalysis& analysis, const Eigen::VectorXd& u, const ModelCase& c) {
    const Model& model = analysis.model();
    const Mesh& mesh = model.mesh;
    const double rise = analysis.rise(c);
    const bool shell = mesh.shell();
    StressField out;
    const auto layers = static_cast<std::size_t>(shell ? 2 : 1);
    out.layers = static_cast<int>(layers);
    out.starts.push_back(0);
    for (const ElementKind kind : mesh.kinds)
        out.starts.push_back(out.starts.back() + stress_points(kind).size());
    out.places.resize(out.starts.back());
    out.at_points.resize(out.starts.back() * layers);
    out.at_nodes.resize(mesh.connectivity.size() * layers);
    // Heat is taken off point by point.
    std::optional<StressMatrices> matrices;
    if (rise == 0.0) matrices.emplace(model, &stress_points);
    // Interpolation at the points of each kind.
    std::array<std::vector<Eigen::VectorXd>, element_kinds> at_points;
    for (const ElementKind kind : mesh.kinds) {
        auto& list = at_points[static_cast<std::size_t>(kind)];
        if (!list.empty()) continue;
        Eigen::MatrixXd gradient;
        for (const Vec3& p : stress_points(kind)) interpolate(kind, p, list.emplace_back(), gradient);
    }
#pragma omp parallel for schedule(static)
    for (std::size_t i = 0; i < mesh.elements(); ++i) {
        const auto e = static_cast<ElementId>(i);
        const ElementKind kind = mesh.kinds[i];
        const std::vector<Vec3>& points = stress_points(kind);
        std::vector<Voigt> values;
        if (const auto* shared = matrices ? matrices->shared(e) : nullptr) {
            const Eigen::VectorXd local = analysis.element_displacement(u, e);
            for (const Eigen::MatrixXd& m : *shared) values.push_back(in_space(model, e, m * local, 0.0));
        } else {
            values = stress_at(analysis, c, u, e, points);
        }
        const std::size_t first = out.starts[i];
        const NodeRange ids = mesh.nodes_of(e);
        for (std::size_t p = 0; p < points.size(); ++p) {
            const Eigen::VectorXd& N = at_points[static_cast<std::size_t>(kind)][p];
            Vec3 place = Vec3::Zero();
            for (std::size_t n = 0; n < ids.size(); ++n)
                place += N[static_cast<Eigen::Index>(n)] * mesh.nodes[index(ids[n])];
            out.places[first + p] = place;
        }
        std::copy(values.begin(), values.end(),
                  out.at_points.begin() + static_cast<std::ptrdiff_t>(first * layers));
        const Eigen::MatrixXd& E = to_nodes(kind);
        for (Eigen::Index n = 0; n < E.rows(); ++n)
            for (std::size_t layer = 0; layer < layers; ++layer) {
                Voigt v = Voigt::Zero();
                for (std::size_t p = 0; p < points.size(); ++p)
                    v += E(n, static_cast<Eigen::Index>(p)) * values[p * layers + layer];
                out.at_nodes[(mesh.start(i) + static_cast<std::size_t>(n)) * layers + layer] = v;
            }
    }
    for (std::size_t k = 0; k < out.at_points.size(); ++k)
        if (const double size = von_mises(out.at_points[k]); size > out.largest_at_point) {
            out.largest_at_point = size;
            out.largest_point = k / layers;
        }
    return out;
}

RegionNodes region_nodes(const Mesh& mesh) {
    RegionNodes out;
    out.of.resize(mesh.connectivity.size());
    // Most nodes belong to one region: the first is kept by number, others in a map.
    std::vector<std::int32_t> first(mesh.nodes.size(), -1);
    std::map<std::pair<NodeId, RegionId>, std::int32_t> more;
    for (std::size_t e = 0; e < mesh.elements(); ++e)
        for (std::size_t i = mesh.start(e); i < mesh.start(e + 1); ++i) {
            const NodeId n = mesh.connectivity[i];
            const RegionId r = mesh.region[e];
            std::int32_t at = first[index(n)];
            if (at < 0 || out.region[static_cast<std::size_t>(at)] != r) {
                const auto fresh = static_cast<std::int32_t>(out.node.size());
                if (at < 0) {
                    at = first[index(n)] = fresh;
                } else {
                    at = more.emplace(std::pair{n, r}, fresh).first->second;
                }
                if (at == fresh) {
                    out.node.push_back(n);
                    out.region.push_back(r);
                }
            }
            out.of[i] = at;
        }
    return out;
}

std::vector<Voigt> averaged(const Mesh& mesh, const RegionNodes& nodes, const StressField& field) {
    const auto layers = static_cast<std::size_t>(field.layers);
    std::vector<Voigt> out(nodes.node.size() * layers, Voigt::Zero());
    std::vector<double> count(nodes.node.size(), 0.0);
    for (std::size_t i = 0; i < mesh.connectivity.size(); ++i) {
        const auto at = static_cast<std::size_t>(nodes.of[i]);
        count[at] += 1.0;
        for (std::size_t l = 0; l < layers; ++l) out[at * layers + l] += field.at_nodes[i * layers + l];
    }
    for (std::size_t at = 0; at < count.size(); ++at)
        for (std::size_t l = 0; l < layers; ++l) out[at * layers + l] /= count[at];
    return out;
}

double von_mises(const Voigt& s) {
    const double normal =
        (s[0] - s[1]) * (s[0] - s[1]) + (s[1] - s[2]) * (s[1] - s[2]) + (s[2] - s[0]) * (s[2] - s[0]);
    return std::sqrt(0.5 * normal + 3.0 * s.tail<3>().squaredNorm());
}

Vec3 principal(const Voigt& s) {
    const Eigen::SelfAdjointEigenSolver<Mat3> eigen(stress_tensor(s), Eigen::EigenvaluesOnly);
    return eigen.eigenvalues().reverse();
}

} // namespace upright
