#include "model/rigid_freedom.hpp"

#include "base/dense.hpp"

#include <Eigen/Dense>
#include <algorithm>
#include <fmt/format.h>
#include <map>

namespace upright {

namespace {

constexpr double rank_tolerance = 1e-9;
constexpr int most_linked_parts = 60;

std::string axis_word(const Vec3& v) {
    for (int a = 0; a < 3; ++a)
        if (std::abs(std::abs(v[a]) - 1.0) < 1e-6) return std::string(1, "xyz"[a]);
    return fmt::format("({:.3g}, {:.3g}, {:.3g})", v.x(), v.y(), v.z());
}

// The displacement of the six (three in the plane) unit motions about `center` at a node, along one axis.
Eigen::RowVectorXd motion_row(const Vec3& r, int axis, bool plane) {
    if (plane) {
        Eigen::RowVectorXd row = Eigen::RowVectorXd::Zero(3);
        row[axis] = 1.0;
        row[2] = axis == 0 ? -r.y() : r.x();
        return row;
    }
    Eigen::RowVectorXd row = Eigen::RowVectorXd::Zero(6);
    row[axis] = 1.0;
    for (int a = 0; a < 3; ++a) row[3 + a] = Vec3(Vec3::Unit(a).cross(r))[axis];
    return row;
}

// The null space of a positive semidefinite matrix.
Eigen::MatrixXd null_space(const Eigen::MatrixXd& gram) {
    const SymmetricEigen eigen = symmetric_eigen(gram);
    const double largest = std::max(eigen.values.maxCoeff(), 1e-300);
    Eigen::Index free = 0;
    while (free < gram.rows() && eigen.values[free] <= rank_tolerance * largest) ++free;
    return eigen.vectors.leftCols(free);
}

// A basis of the columns of a matrix, without those that add nothing.
Eigen::MatrixXd column_space(const Eigen::MatrixXd& columns) {
    if (columns.cols() == 0) return columns;
    const Eigen::JacobiSVD<Eigen::MatrixXd> svd(columns, Eigen::ComputeThinU);
    Eigen::Index rank = 0;
    while (rank < svd.singularValues().size() && svd.singularValues()[rank] > 1e-6) ++rank;
    return svd.matrixU().leftCols(rank);
}

// Bring a basis to reduced echelon form, so that it names pure motions where there are some.
void reduce(Eigen::MatrixXd& basis) {
    Eigen::MatrixXd m = basis.transpose(); // each row one motion
    Eigen::Index row = 0;
    // Rotations first: whatever remains afterwards is a pure translation.
    std::vector<Eigen::Index> order;
    for (Eigen::Index c = m.cols() == 6 ? 3 : 2; c < m.cols(); ++c) order.push_back(c);
    for (Eigen::Index c = 0; c < (m.cols() == 6 ? 3 : 2); ++c) order.push_back(c);
    for (const Eigen::Index c : order) {
        if (row >= m.rows()) break;
        Eigen::Index best = 0;
        const double size = m.col(c).tail(m.rows() - row).cwiseAbs().maxCoeff(&best);
        if (size < 1e-6) continue;
        m.row(row).swap(m.row(row + best));
        m.row(row) /= m(row, c);
        for (Eigen::Index r = 0; r < m.rows(); ++r)
            if (r != row) m.row(r) -= m(r, c) * m.row(row);
        ++row;
    }
    basis = m.transpose();
}

FreeMotion to_motion(const Eigen::VectorXd& v, const Vec3& center, double length) {
    Vec3 t = Vec3::Zero();
    Vec3 w = Vec3::Zero();
    if (v.size() == 3) {
        t.head<2>() = v.head<2>();
        w.z() = v[2];
    } else {
        t = v.head<3>();
        w = v.tail<3>();
    }
    t *= length; // columns were scaled to the model's length
    FreeMotion out;
    if (w.norm() * length < 1e-6 * std::max(t.norm(), 1e-300)) {
        out.direction = t.normalized();
        return out;
    }
    out.rotation = true;
    out.direction = w.normalized();
    out.through = center + w.cross(t) / w.squaredNorm();
    out.pitch = t.dot(w) / w.squaredNorm();
    for (int a = 0; a < 3; ++a)
        if (std::abs(out.through[a]) < 1e-9 * length) out.through[a] = 0.0;
    return out;
}

} // namespace

std::string FreeMotion::text(const UnitSystem& units) const {
    if (!rotation) return "translation along " + axis_word(direction);
    std::string out = fmt::format("rotation about the {} axis through ({:.4g}, {:.4g}, {:.4g}) {}",
                                  axis_word(direction), through.x(), through.y(), through.z(), units.length);
    if (std::abs(pitch) > 1e-6) out += " with a translation along it";
    return out;
}

namespace {

// The parts of the mesh and the reference points of couplings as rigid bodies, and what each node is part of.
class Linkage {
  public:
    explicit Linkage(const Model& model)
        : model_(model), mesh_(model.mesh), plane_(mesh_.dimension() == 2), columns_(plane_ ? 3 : 6) {
        part_of_ = face_connected_parts(mesh_);
        parts_ = 1 + *std::max_element(part_of_.begin(), part_of_.end());
        centers_.assign(static_cast<std::size_t>(parts_), Vec3::Zero());
        elements_.assign(static_cast<std::size_t>(parts_), 0);
        parts_of_node_.resize(mesh_.nodes.size());
        for (std::size_t e = 0; e < mesh_.elements(); ++e) {
            const auto p = static_cast<std::size_t>(part_of_[e]);
            ++elements_[p];
            centers_[p] += mesh_.center(static_cast<ElementId>(e));
            for (const NodeId n : mesh_.nodes_of(static_cast<ElementId>(e))) {
                std::vector<int>& list = parts_of_node_[index(n)];
                if (std::find(list.begin(), list.end(), part_of_[e]) == list.end())
                    list.push_back(part_of_[e]);
            }
        }
        for (std::size_t p = 0; p < centers_.size(); ++p) centers_[p] /= static_cast<double>(elements_[p]);
        for (const ModelCoupling& c : model.couplings) centers_.push_back(c.at);
        length_ = mesh_.bounds.diagonal();
    }

    int parts() const { return parts_; }
    int bodies() const { return static_cast<int>(centers_.size()); }
    Eigen::Index columns() const { return columns_; }
    double length() const { return length_; }
    const Vec3& center(int body) const { return centers_[static_cast<std::size_t>(body)]; }
    std::size_t elements(int part) const { return elements_[static_cast<std::size_t>(part)]; }
    const std::vector<int>& parts_of_node(std::size_t n) const { return parts_of_node_[n]; }

    // The body that carries a freedom; a node on several parts counts for the first, the others are linked.
    int body_of(std::size_t freedom) const {
        if (freedom >= model_.node_freedoms())
            return parts_ + static_cast<int>((freedom - model_.node_freedoms()) /
                                             static_cast<std::size_t>(model_.reference_freedoms()));
        return parts_of_node_[freedom / static_cast<std::size_t>(mesh_.freedoms())].front();
    }

    // The value of a freedom under the unit motions of a body: translations in lengths of the model.
    Eigen::RowVectorXd row_of(int body, std::size_t freedom) const {
        const Model::Spot spot = model_.spot(freedom);
        if (spot.component < 3) return motion_row((spot.at - center(body)) / length_, spot.component, plane_);
        Eigen::RowVectorXd row = Eigen::RowVectorXd::Zero(columns_);
        row[plane_ ? 2 : spot.component] = 1.0 / length_;
        return row;
    }

    // One row over all bodies for an equation, scaled to size one.
    Eigen::RowVectorXd row_of(const Equation& equation) const {
        Eigen::RowVectorXd row = Eigen::RowVectorXd::Zero(columns_ * bodies());
        double largest = 0.0;
        for (const Term& t : equation.terms) {
            const int body = body_of(t.freedom);
            const Eigen::RowVectorXd part = t.factor * row_of(body, t.freedom);
            row.segment(columns_ * body, columns_) += part;
            largest = std::max(largest, part.norm());
        }
        return largest > 0.0 ? Eigen::RowVectorXd(row / largest) : row;
    }

  private:
    const Model& model_;
    const Mesh& mesh_;
    bool plane_;
    Eigen::Index columns_;
    std::vector<int> part_of_;
    int parts_ = 0;
    std::vector<Vec3> centers_;
    std::vector<std::size_t> elements_;
    std::vector<std::vector<int>> parts_of_node_;
    double length_ = 1.0;
};

// Adds row' row, which has few entries that are not zero.
void add_outer(Eigen::MatrixXd& gram, const Eigen::RowVectorXd& row) {
    std::vector<Eigen::Index> at;
    for (Eigen::Index i = 0; i < row.size(); ++i)
        if (row[i] != 0.0) at.push_back(i);
    for (const Eigen::Index i : at)
        for (const Eigen::Index j : at) gram(i, j) += row[i] * row[j];
}

// Joints as rows: the directions of their springs on the two ends.
void add_joint(const Linkage& linkage, const ModelJoint& joint, Eigen::MatrixXd& gram) {
    const SymmetricEigen eigen = symmetric_eigen(joint.matrix);
    for (Eigen::Index k = 0; k < joint.matrix.rows(); ++k) {
        if (eigen.values[k] <= 1e-12 * eigen.values.maxCoeff()) continue;
        Equation e;
        for (std::size_t i = 0; i < joint.freedoms.size(); ++i)
            if (const double f = eigen.vectors(static_cast<Eigen::Index>(i), k); std::abs(f) > 1e-12)
                e.terms.push_back({joint.freedoms[i], f});
        add_outer(gram, linkage.row_of(e));
    }
}

} // namespace

std::vector<FreePart> free_motions(const Model& model, const ModelCase* c) {
    const Linkage linkage(model);
    const Mesh& mesh = model.mesh;
    const Eigen::Index columns = linkage.columns();
    const int bodies = linkage.bodies();
    std::vector<FreePart> out(static_cast<std::size_t>(linkage.parts()));
    for (int p = 0; p < linkage.parts(); ++p) {
        FreePart& part = out[static_cast<std::size_t>(p)];
        part.part = p;
        part.elements = linkage.elements(p);
        part.center = linkage.center(p);
    }
    // Dust of very many pieces is taken piece by piece.
    const bool linked = bodies <= most_linked_parts;
    Eigen::MatrixXd gram = Eigen::MatrixXd::Zero(columns * bodies, linked ? columns * bodies : columns);
    const auto hold = [&](const Equation& e) {
        if (linked) return add_outer(gram, linkage.row_of(e));
        const int body = linkage.body_of(e.terms.front().freedom);
        Eigen::RowVectorXd row = Eigen::RowVectorXd::Zero(columns);
        for (const Term& t : e.terms)
            if (linkage.body_of(t.freedom) == body) row += t.factor * linkage.row_of(body, t.freedom);
        gram.middleRows(columns * body, columns) += row.transpose() * row;
    };
    for (const Equation& e : model.symmetry) hold(e);
    if (c != nullptr)
        for (const SupportId s : c->supports)
            for (const Equation& e : model.supports[s].equations) hold(e);
    if (linked) {
        for (const ModelBond& b : model.bonds)
            for (const Equation& e : b.equations) hold(e);
        for (const ModelCoupling& coupling : model.couplings)
            for (const Equation& e : coupling.equations) hold(e);
        for (const ModelJoint& joint : model.joints) add_joint(linkage, joint, gram);
        for (std::size_t n = 0; n < mesh.nodes.size(); ++n) {
            const std::vector<int>& list = linkage.parts_of_node(n);
            for (std::size_t k = 1; k < list.size(); ++k)
                for (int a = 0; a < mesh.freedoms(); ++a) {
                    const std::size_t f = model.freedom(static_cast<NodeId>(n), a);
                    Eigen::RowVectorXd row = Eigen::RowVectorXd::Zero(columns * bodies);
                    row.segment(columns * list[0], columns) = linkage.row_of(list[0], f);
                    row.segment(columns * list[k], columns) = -linkage.row_of(list[k], f);
                    add_outer(gram, row);
                }
        }
    }
    const Eigen::MatrixXd all = linked ? null_space(gram) : Eigen::MatrixXd();
    for (FreePart& part : out) {
        Eigen::MatrixXd basis = linked ? column_space(all.middleRows(columns * part.part, columns))
                                       : null_space(gram.middleRows(columns * part.part, columns));
        reduce(basis);
        for (Eigen::Index i = 0; i < basis.cols(); ++i)
            part.motions.push_back(to_motion(basis.col(i), part.center, linkage.length()));
    }
    return out;
}

std::vector<LooseBody> loose_bodies(const Model& model) {
    const Linkage linkage(model);
    const int bodies = linkage.bodies();
    std::vector<int> root(static_cast<std::size_t>(bodies));
    for (int i = 0; i < bodies; ++i) root[static_cast<std::size_t>(i)] = i;
    const auto find = [&](int i) {
        while (root[static_cast<std::size_t>(i)] != i)
            i = root[static_cast<std::size_t>(i)] =
                root[static_cast<std::size_t>(root[static_cast<std::size_t>(i)])];
        return i;
    };
    const auto join = [&](int a, int b) { root[static_cast<std::size_t>(find(a))] = find(b); };
    const auto tie = [&](const Equation& e) {
        for (const Term& t : e.terms)
            join(linkage.body_of(e.terms.front().freedom), linkage.body_of(t.freedom));
    };
    for (std::size_t n = 0; n < model.mesh.nodes.size(); ++n)
        for (const int p : linkage.parts_of_node(n)) join(linkage.parts_of_node(n).front(), p);
    for (const ModelBond& b : model.bonds)
        for (const Equation& e : b.equations) tie(e);
    for (const ModelCoupling& coupling : model.couplings)
        for (const Equation& e : coupling.equations) tie(e);
    for (const ModelJoint& joint : model.joints)
        if (!joint.grounded())
            join(linkage.parts() + static_cast<int>(joint.ends[0]),
                 linkage.parts() + static_cast<int>(joint.ends[1]));
    std::map<int, std::size_t> sizes;
    for (int p = 0; p < linkage.parts(); ++p) sizes[find(p)] += linkage.elements(p);
    std::vector<LooseBody> out;
    if (sizes.size() < 2) return out;
    const int main = std::max_element(sizes.begin(), sizes.end(), [](const auto& a, const auto& b) {
                         return a.second < b.second;
                     })->first;
    for (const auto& [name, elements] : sizes) {
        if (name == main) continue;
        LooseBody body;
        body.elements = elements;
        double weight = 0.0;
        for (int p = 0; p < linkage.parts(); ++p)
            if (find(p) == name) {
                body.center += static_cast<double>(linkage.elements(p)) * linkage.center(p);
                weight += static_cast<double>(linkage.elements(p));
            }
        body.center /= weight;
        // The nearest pair of nodes, by cells of the size of an element around the others' nodes.
        std::vector<Vec3> own;
        std::vector<Vec3> others;
        for (std::size_t n = 0; n < model.mesh.nodes.size(); ++n)
            (find(linkage.parts_of_node(n).front()) == name ? own : others).push_back(model.mesh.nodes[n]);
        std::vector<std::array<std::int32_t, 3>> single;
        for (std::size_t i = 0; i < others.size(); ++i) {
            const auto k = static_cast<std::int32_t>(i);
            single.push_back({k, k, k});
        }
        const FacetTree tree(others, single);
        body.gap = 1e300;
        for (const Vec3& p : own) {
            const FacetTree::Nearest near = tree.nearest(p, body.gap);
            if (near.triangle >= 0 && near.distance < body.gap) {
                body.gap = near.distance;
                body.nearest = p;
            }
        }
        out.push_back(body);
        if (out.size() >= 20) break; // dust
    }
    return out;
}

} // namespace upright
