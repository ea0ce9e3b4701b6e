#include "fem/shape_classes.hpp"

#include "fem/elasticity.hpp"

#include <Eigen/Geometry>
#include <cmath>
#include <map>

namespace upright {

namespace {

// Whether a material looks the same from every angle about the axis of the mesh.
bool same_around(const Material& material, const PolarGrid& polar) {
    if (!material.orthotropic) return true;
    const Frame& frame = material.orthotropic->frame;
    if (!frame.cylindrical) return false;
    const Vec3 axis = frame.axes.col(2);
    const Vec3 off = frame.origin - polar.origin;
    return axis.cross(polar.axis).norm() < 1e-12 && off.cross(polar.axis).norm() <= 1e-12 * off.norm();
}

bool round(const Model& model) {
    const Mesh& mesh = model.mesh;
    if (!mesh.polar.given() || mesh.dimension() != 3 || mesh.shell() || mesh.polar.count[1] > 65535)
        return false;
    for (std::size_t r = 0; r < model.regions.size(); ++r)
        if (model.regions[r].elements > 0 &&
            !same_around(model.materials[model.regions[r].material], mesh.polar))
            return false;
    return true;
}

} // namespace

void ShapeClasses::to_class(ElementId e, Eigen::VectorXd& local) const {
    const Mat3* R = turn(e);
    if (R == nullptr) return;
    for (Eigen::Index i = 0; i + 2 < local.size(); i += 3)
        local.segment<3>(i) = (R->transpose() * local.segment<3>(i)).eval();
}

void ShapeClasses::from_class(ElementId e, Eigen::Ref<Eigen::VectorXd> local) const {
    const Mat3* R = turn(e);
    if (R == nullptr) return;
    for (Eigen::Index i = 0; i + 2 < local.size(); i += 3)
        local.segment<3>(i) = (*R * local.segment<3>(i)).eval();
}

Eigen::MatrixXd ShapeClasses::turned(ElementId e, const Eigen::MatrixXd& of_class) const {
    Eigen::MatrixXd out = of_class;
    const Mat3* R = turn(e);
    if (R == nullptr) return out;
    for (Eigen::Index i = 0; i < out.rows(); i += 3)
        out.middleRows<3>(i) = (*R * out.middleRows<3>(i)).eval();
    for (Eigen::Index i = 0; i < out.cols(); i += 3)
        out.middleCols<3>(i) = (out.middleCols<3>(i) * R->transpose()).eval();
    return out;
}

ShapeClasses shape_classes(const Model& model) {
    const Mesh& mesh = model.mesh;
    ShapeClasses out;
    out.of.reserve(mesh.elements());
    if (round(model)) {
        const PolarGrid& polar = mesh.polar;
        for (int j = 0; j < polar.count[1]; ++j)
            out.turns.push_back(Eigen::AngleAxisd(j * polar.step(), polar.axis).toRotationMatrix());
        out.turns.front().setIdentity();
        // By ring, height and material: its class and where its example stands.
        std::map<std::array<long, 3>, std::pair<std::uint32_t, int>> known;
        out.turn_of.reserve(mesh.elements());
        for (std::size_t e = 0; e < mesh.elements(); ++e) {
            const auto id = static_cast<ElementId>(e);
            const std::array<int, 3> at = polar.indices(polar.cell_of[e]);
            const auto material = static_cast<long>(model.regions[index(mesh.region[e])].material);
            const NodeRange ids = mesh.nodes_of(id);
            const double height =
                (mesh.nodes[index(ids[ids.size() - 1])] - mesh.nodes[index(ids[0])]).dot(polar.axis);
            const auto [found, fresh] =
                known.emplace(std::array<long, 3>{at[0], std::lround(1e9 * height / mesh.size), material},
                              std::pair{static_cast<std::uint32_t>(out.example.size()), at[1]});
            if (fresh) out.example.push_back(id);
            out.of.push_back(found->second.first);
            const int steps = (at[1] - found->second.second + polar.count[1]) % polar.count[1];
            out.turn_of.push_back(static_cast<std::uint16_t>(steps));
        }
        return out;
    }
    std::map<std::pair<MaterialId, double>, std::uint32_t> known;
    for (std::size_t e = 0; e < mesh.elements(); ++e) {
        const auto id = static_cast<ElementId>(e);
        const auto next = static_cast<std::uint32_t>(out.example.size());
        if (mesh.on_grid() && same_everywhere(model.material(id))) {
            const MaterialId material = model.regions[index(mesh.region[e])].material;
            const auto [found, fresh] = known.emplace(std::pair{material, mesh.depth(id)}, next);
            out.of.push_back(found->second);
            if (fresh) out.example.push_back(id);
        } else {
            out.of.push_back(next);
            out.example.push_back(id);
        }
    }
    return out;
}

} // namespace upright
