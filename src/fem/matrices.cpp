#include "fem/matrices.hpp"

#include "fem/elasticity.hpp"
#include "fem/element.hpp"

namespace upright {

namespace {

template <class Matrix>
SparseMatrix assembled(const Model& model, const Matrix& matrix_of, const std::vector<SparseEntry>& extra) {
    std::vector<SparseEntry> entries = extra;
    const int per = model.mesh.freedoms();
    for (std::size_t e = 0; e < model.mesh.elements(); ++e) {
        const auto id = static_cast<ElementId>(e);
        const Eigen::MatrixXd K = matrix_of(id);
        const NodeRange ids = model.mesh.nodes_of(id);
        const auto at = [&](Eigen::Index i) {
            return static_cast<std::int64_t>(
                model.freedom(ids[static_cast<std::size_t>(i / per)], static_cast<int>(i % per)));
        };
        for (Eigen::Index r = 0; r < K.rows(); ++r)
            for (Eigen::Index c = 0; c < K.cols(); ++c)
                if (K(r, c) != 0.0) entries.emplace_back(at(r), at(c), K(r, c));
    }
    const auto n = static_cast<Eigen::Index>(model.freedoms());
    SparseMatrix out(n, n);
    out.setFromTriplets(entries.begin(), entries.end());
    return out;
}

} // namespace

SparseMatrix stiffness_matrix(const Model& model) {
    std::vector<SparseEntry> joints;
    for (const ModelJoint& j : model.joints)
        for (std::size_t r = 0; r < j.freedoms.size(); ++r)
            for (std::size_t c = 0; c < j.freedoms.size(); ++c)
                joints.emplace_back(static_cast<std::int64_t>(j.freedoms[r]),
                                    static_cast<std::int64_t>(j.freedoms[c]),
                                    j.matrix(static_cast<Eigen::Index>(r), static_cast<Eigen::Index>(c)));
    return assembled(
        model,
        [&](ElementId e) {
            return element_for(model.mesh.kind(e))
                .stiffness(places_of(model.mesh, e), elasticity(model, e), model.mesh.depth(e),
                           model.formulation);
        },
        joints);
}

SparseMatrix mass_matrix(const Model& model) {
    std::vector<SparseEntry> masses;
    for (const ModelMass& m : model.masses)
        for (const Term& t : m.diagonal)
            masses.emplace_back(static_cast<std::int64_t>(t.freedom), static_cast<std::int64_t>(t.freedom),
                                t.factor);
    return assembled(
        model,
        [&](ElementId e) {
            return Eigen::MatrixXd(
                model.material(e).density *
                element_for(model.mesh.kind(e)).mass(places_of(model.mesh, e), model.mesh.depth(e)));
        },
        masses);
}

SparseMatrix transform_matrix(const Transform& transform) {
    std::vector<SparseEntry> entries;
    for (std::size_t f = 0; f < transform.freedoms(); ++f)
        if (!transform.dependent(f))
            entries.emplace_back(static_cast<std::int64_t>(f), transform.unknown_of(f), 1.0);
        else
            for (const Term& t : transform.terms(f))
                entries.emplace_back(static_cast<std::int64_t>(f), static_cast<std::int64_t>(t.freedom),
                                     t.factor);
    SparseMatrix out(static_cast<Eigen::Index>(transform.freedoms()),
                     static_cast<Eigen::Index>(transform.unknowns()));
    out.setFromTriplets(entries.begin(), entries.end());
    return out;
}

Eigen::VectorXd transform_offset(const Transform& transform) {
    return transform.expand(Eigen::VectorXd::Zero(static_cast<Eigen::Index>(transform.unknowns())), true);
}

} // namespace upright
