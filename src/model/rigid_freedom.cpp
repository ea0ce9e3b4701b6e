#include "model/rigid_freedom.hpp"

#include <Eigen/Dense>
#include <algorithm>
#include <fmt/format.h>

namespace upright {

namespace {

constexpr double rank_tolerance = 1e-9;

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

Eigen::MatrixXd null_space(const Eigen::MatrixXd& rows, Eigen::Index columns) {
    if (rows.rows() == 0) return Eigen::MatrixXd::Identity(columns, columns);
    const Eigen::MatrixXd gram = rows.transpose() * rows;
    const Eigen::SelfAdjointEigenSolver<Eigen::MatrixXd> eigen(gram);
    const double largest = eigen.eigenvalues().maxCoeff();
    Eigen::Index free = 0;
    while (free < columns && eigen.eigenvalues()[free] <= rank_tolerance * std::max(largest, 1e-300)) ++free;
    return eigen.eigenvectors().leftCols(free);
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
    const double length = mesh.grid.box().diagonal();
    const Eigen::Index columns = plane ? 3 : 6;
    for (FreePart& part : out) {
        part.center /= static_cast<double>(part.elements);
        std::vector<Eigen::RowVectorXd> rows;
        for (const HeldDirection& h : held) {
            const std::vector<int>& list = parts_of_node[index(h.node)];
            if (std::find(list.begin(), list.end(), part.part) == list.end()) continue;
            rows.push_back(motion_row((mesh.nodes[index(h.node)] - part.center) / length, h.axis, plane));
        }
        Eigen::MatrixXd matrix(static_cast<Eigen::Index>(rows.size()), columns);
        for (std::size_t r = 0; r < rows.size(); ++r) matrix.row(static_cast<Eigen::Index>(r)) = rows[r];
        Eigen::MatrixXd basis = null_space(matrix, columns);
        reduce(basis);
        for (Eigen::Index c = 0; c < basis.cols(); ++c)
            part.motions.push_back(to_motion(basis.col(c), part.center, length));
    }
    return out;
}

} // namespace upright
