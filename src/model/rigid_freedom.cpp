#include "model/rigid_freedom.hpp"

#include <Eigen/Dense>
#include <algorithm>
#include <fmt/format.h>

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
    const Eigen::SelfAdjointEigenSolver<Eigen::MatrixXd> eigen(gram);
    const double largest = std::max(eigen.eigenvalues().maxCoeff(), 1e-300);
    Eigen::Index free = 0;
    while (free < gram.rows() && eigen.eigenvalues()[free] <= rank_tolerance * largest) ++free;
    return eigen.eigenvectors().leftCols(free);
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

std::vector<FreePart> free_motions(const Model& model, const std::vector<HeldDirection>& held) {
    const Mesh& mesh = model.mesh;
    const bool plane = mesh.dimension() == 2;
    const std::vector<int> part_of = face_connected_parts(mesh);
    const int parts = 1 + *std::max_element(part_of.begin(), part_of.end());
    std::vector<FreePart> out(static_cast<std::size_t>(parts));
    std::vector<std::vector<int>> parts_of_node(mesh.nodes.size());
    for (std::size_t e = 0; e < mesh.elements(); ++e) {
        FreePart& part = out[static_cast<std::size_t>(part_of[e])];
        part.part = part_of[e];
        ++part.elements;
        part.center += mesh.center(static_cast<ElementId>(e));
        for (int a = 0; a < mesh.nodes_per_element(); ++a) {
            std::vector<int>& list = parts_of_node[index(mesh.node(static_cast<ElementId>(e), a))];
            if (std::find(list.begin(), list.end(), part_of[e]) == list.end()) list.push_back(part_of[e]);
        }
    }
    for (FreePart& part : out) part.center /= static_cast<double>(part.elements);
    const double length = mesh.grid.box().diagonal();
    const Eigen::Index columns = plane ? 3 : 6;
    // Every piece is a rigid body. Held components and the nodes that pieces share constrain their motions;
    // what is left are the motions of the linkage, hinges included. Dust of very many pieces is taken piece
    // by piece.
    const bool linked = parts <= most_linked_parts;
    Eigen::MatrixXd gram = Eigen::MatrixXd::Zero(columns * parts, columns * parts);
    const auto row_of = [&](int p, NodeId node, int axis) {
        return motion_row((mesh.nodes[index(node)] - out[static_cast<std::size_t>(p)].center) / length, axis,
                          plane);
    };
    for (const HeldDirection& h : held)
        for (const int p : parts_of_node[index(h.node)]) {
            const Eigen::RowVectorXd row = row_of(p, h.node, h.axis);
            gram.block(columns * p, columns * p, columns, columns) += row.transpose() * row;
        }
    for (std::size_t n = 0; linked && n < mesh.nodes.size(); ++n) {
        const std::vector<int>& list = parts_of_node[n];
        for (std::size_t k = 1; k < list.size(); ++k)
            for (int axis = 0; axis < mesh.dimension(); ++axis) {
                Eigen::RowVectorXd row = Eigen::RowVectorXd::Zero(columns * parts);
                row.segment(columns * list[0], columns) = row_of(list[0], static_cast<NodeId>(n), axis);
                row.segment(columns * list[k], columns) = -row_of(list[k], static_cast<NodeId>(n), axis);
                gram += row.transpose() * row;
            }
    }
    const Eigen::MatrixXd all = linked ? null_space(gram) : Eigen::MatrixXd();
    for (FreePart& part : out) {
        Eigen::MatrixXd basis =
            linked ? column_space(all.middleRows(columns * part.part, columns))
                   : null_space(gram.block(columns * part.part, columns * part.part, columns, columns));
        reduce(basis);
        for (Eigen::Index c = 0; c < basis.cols(); ++c)
            part.motions.push_back(to_motion(basis.col(c), part.center, length));
    }
    return out;
}

} // namespace upright
