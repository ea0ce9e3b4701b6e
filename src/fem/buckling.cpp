#include "fem/buckling.hpp"

#include "fem/element.hpp"
#include "solve/lanczos.hpp"

#include <Eigen/Dense>
#include <algorithm>
#include <array>
#include <chrono>
#include <cmath>

namespace upright {

namespace {

// An eigenvalue is right to about the square of it.
constexpr double buckling_tolerance = 1e-7;

const std::vector<Vec3>& rule_places(ElementKind kind) {
    static const auto all = [] {
        std::array<std::vector<Vec3>, element_kinds> out;
        for (int k = 0; k < element_kinds; ++k)
            for (const RulePoint& p : integration_rule(static_cast<ElementKind>(k)))
                out[static_cast<std::size_t>(k)].push_back(p.at);
        return out;
    }();
    return all[static_cast<std::size_t>(kind)];
}

// The tensor of three or six stresses in Voigt order.
Eigen::MatrixXd tensor_of(const Eigen::VectorXd& s) {
    if (s.size() == 6) return stress_tensor(s);
    Eigen::MatrixXd out(2, 2);
    out << s[0], s[2], s[2], s[1];
    return out;
}

} // namespace

GeometricStiffness::GeometricStiffness(const StaticAnalysis& analysis, const ModelCase& c,
                                       const Eigen::VectorXd& u, const std::vector<double>& share)
    : analysis_(analysis), model_(analysis.model()), case_(c), u_(u), share_(share),
      shared_(analysis.model(), &rule_places) {
    const Mesh& mesh = model_.mesh;
    std::vector<Eigen::MatrixXd> matrices(mesh.elements());
#pragma omp parallel for schedule(static)
    for (std::size_t e = 0; e < matrices.size(); ++e)
        if (share_[e] != 0.0) matrices[e] = matrix_of(static_cast<ElementId>(e));
    ElementSystem system;
    system.unknowns = mesh.nodes.size();
    std::vector<double> scale;
    for (std::size_t e = 0; e < matrices.size(); ++e) {
        if (matrices[e].size() == 0) continue;
        for (const NodeId n : mesh.nodes_of(static_cast<ElementId>(e)))
            system.dofs.push_back(static_cast<std::int32_t>(index(n)));
        system.starts.push_back(system.dofs.size());
        system.matrix_of.push_back(&matrices[e]);
        scale.push_back(share_[e]);
    }
    matrix_ = assembled(system, scale);
}

template <class Visit> void GeometricStiffness::each_point(ElementId e, const Visit& visit) const {
    const Mesh& mesh = model_.mesh;
    const ElementKind kind = mesh.kind(e);
    const Element& element = element_for(kind);
    const std::vector<Eigen::MatrixXd>* shared = shared_.shared(e);
    const Eigen::MatrixXd places = places_of(mesh, e);
    Eigen::MatrixXd D;
    if (shared == nullptr) D = elasticity(model_, e);
    Eigen::MatrixXd flat = places; // of a shell: in its plane
    if (mesh.shell()) flat = shell_axes(places).leftCols(2).transpose() * places;
    const double depth = mesh.dimension() == 2 || mesh.shell() ? mesh.depth(e) : 1.0;
    Eigen::VectorXd N;
    Eigen::MatrixXd natural;
    std::size_t number = 0;
    for (const RulePoint& p : integration_rule(kind)) {
        interpolate(kind, p.at, N, natural);
        const Eigen::MatrixXd J = flat * natural.transpose();
        Point point;
        point.gradient = J.inverse().transpose() * natural;
        point.weight = p.weight * J.determinant() * depth;
        if (shared != nullptr)
            point.stress = (*shared)[number];
        else
            point.stress = element.stress(places, D, mesh.depth(e), model_.formulation, p.at);
        if (mesh.shell())
            point.stress = (0.5 * (point.stress.topRows(3) + point.stress.bottomRows(3))).eval();
        visit(point);
        ++number;
    }
}

Eigen::MatrixXd GeometricStiffness::matrix_of(ElementId e) const {
    const Eigen::VectorXd local = analysis_.element_displacement(u_, e);
    const auto nodes = static_cast<Eigen::Index>(model_.mesh.nodes_of(e).size());
    const double rise = analysis_.rise(case_);
    Eigen::VectorXd free;
    if (rise != 0.0) {
        const Eigen::VectorXd strain = free_strain(model_, e);
        free = elasticity(model_, e).topLeftCorner(strain.size(), strain.size()) * strain * rise;
    }
    Eigen::MatrixXd out = Eigen::MatrixXd::Zero(nodes, nodes);
    each_point(e, [&](const Point& p) {
        Eigen::VectorXd s = p.stress * local;
        if (free.size() > 0) s -= free.head(s.size());
        out.noalias() += p.weight * p.gradient.transpose() * (tensor_of(s) * p.gradient);
    });
    return 0.5 * (out + out.transpose());
}

// Nodes x directions.
Eigen::MatrixXd GeometricStiffness::translations(ElementId e, const Eigen::VectorXd& v) const {
    const NodeRange ids = model_.mesh.nodes_of(e);
    const int directions = std::min(model_.mesh.freedoms(), 3);
    Eigen::MatrixXd out(static_cast<Eigen::Index>(ids.size()), directions);
    for (std::size_t i = 0; i < ids.size(); ++i)
        for (int a = 0; a < directions; ++a)
            out(static_cast<Eigen::Index>(i), a) = v[static_cast<Eigen::Index>(model_.freedom(ids[i], a))];
    return out;
}

Eigen::MatrixXd GeometricStiffness::times(const Eigen::MatrixXd& v) const {
    const Mesh& mesh = model_.mesh;
    const int directions = std::min(mesh.freedoms(), 3);
    Eigen::MatrixXd out = Eigen::MatrixXd::Zero(v.rows(), v.cols());
    const std::size_t nodes = mesh.nodes.size();
#pragma omp parallel for schedule(static)
    for (std::size_t n = 0; n < nodes; ++n) {
        const auto to = static_cast<Eigen::Index>(model_.freedom(static_cast<NodeId>(n), 0));
        for (SparseMatrix::InnerIterator it(matrix_, static_cast<Eigen::Index>(n)); it; ++it) {
            const auto from = static_cast<Eigen::Index>(model_.freedom(static_cast<NodeId>(it.row()), 0));
            for (Eigen::Index c = 0; c < v.cols(); ++c)
                for (int a = 0; a < directions; ++a) out(to + a, c) += it.value() * v(from + a, c);
        }
    }
    return out;
}

std::vector<double> GeometricStiffness::unit_work(const Eigen::VectorXd& v) const {
    std::vector<double> out(model_.mesh.elements(), 0.0);
#pragma omp parallel for schedule(static)
    for (std::size_t i = 0; i < out.size(); ++i) {
        const auto e = static_cast<ElementId>(i);
        const Eigen::MatrixXd shape = translations(e, v);
        out[i] = (shape.transpose() * (matrix_of(e) * shape)).trace();
    }
    return out;
}

Eigen::VectorXd GeometricStiffness::by_displacement(const Eigen::VectorXd& v) const {
    const Mesh& mesh = model_.mesh;
    const int per = mesh.freedoms();
    std::vector<Eigen::VectorXd> own(mesh.elements());
#pragma omp parallel for schedule(static)
    for (std::size_t i = 0; i < own.size(); ++i) {
        if (share_[i] == 0.0) continue;
        const auto e = static_cast<ElementId>(i);
        const Eigen::MatrixXd shape = translations(e, v);
        each_point(e, [&](const Point& p) {
            const Eigen::MatrixXd slopes = p.gradient * shape;
            const Eigen::MatrixXd squares = slopes * slopes.transpose();
            Eigen::VectorXd q(p.stress.rows());
            if (q.size() == 3)
                q << squares(0, 0), squares(1, 1), 2.0 * squares(0, 1);
            else
                q << squares(0, 0), squares(1, 1), squares(2, 2), 2.0 * squares(0, 1), 2.0 * squares(1, 2),
                    2.0 * squares(2, 0);
            const Eigen::VectorXd part = share_[i] * p.weight * (p.stress.transpose() * q);
            if (own[i].size() == 0)
                own[i] = part;
            else
                own[i] += part;
        });
    }
    Eigen::VectorXd out = Eigen::VectorXd::Zero(v.size());
    for (std::size_t i = 0; i < own.size(); ++i) {
        if (own[i].size() == 0) continue;
        const NodeRange ids = mesh.nodes_of(static_cast<ElementId>(i));
        for (std::size_t n = 0; n < ids.size(); ++n)
            out.segment(static_cast<Eigen::Index>(model_.freedom(ids[n], 0)), per) +=
                own[i].segment(static_cast<Eigen::Index>(n) * per, per);
    }
    return out;
}

BucklingResult buckling_modes(StaticAnalysis& analysis, CaseId c, const GeometricStiffness& G, int count,
                              double energy) {
    const auto begin = std::chrono::steady_clock::now();
    // The largest eigenvalues of -K^-1 G, which is symmetric in K; K times an answer is its load.
    Accuracy accuracy;
    accuracy.energy = energy;
    SymmetricOperator op;
    op.length = static_cast<Eigen::Index>(analysis.model().freedoms());
    op.apply = [&](const Eigen::MatrixXd& v, const Eigen::MatrixXd& /*image*/) {
        SymmetricOperator::Block out;
        out.image = -G.times(v);
        out.value = analysis.answers(c, out.image, accuracy);
        return out;
    };
    EigenWish wish;
    wish.count = count;
    wish.tolerance = std::max(buckling_tolerance, 10.0 * std::sqrt(energy));
    const EigenPairs found = largest_eigenvalues(op, wish, 1.0 / most_buckling_factor);
    BucklingResult out;
    out.steps = found.steps;
    for (Eigen::Index i = 0; i < found.values.size(); ++i)
        out.modes.push_back({1.0 / found.values[i], found.vectors.col(i)});
    out.seconds = std::chrono::duration<double>(std::chrono::steady_clock::now() - begin).count();
    return out;
}

} // namespace upright
