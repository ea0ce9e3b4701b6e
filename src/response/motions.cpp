#include "response/motions.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <map>

namespace upright {

Vec3 Motion::of(const Eigen::VectorXd& u) const {
    Vec3 out = Vec3::Zero();
    for (int a = 0; a < 3; ++a)
        for (const Term& t : along[static_cast<std::size_t>(a)])
            out[a] += t.factor * u[static_cast<Eigen::Index>(t.freedom)];
    return out;
}

std::vector<Motion> motions(const Model& model, const ResponseCard& response) {
    const Mesh& mesh = model.mesh;
    const int translations = mesh.dimension() == 2 ? 2 : 3;
    std::vector<Motion> out;
    const auto add_node = [&](NodeId n) {
        Motion one;
        one.at = mesh.nodes[index(n)];
        for (int a = 0; a < translations; ++a)
            one.along[static_cast<std::size_t>(a)].push_back({model.freedom(n, a), 1.0});
        out.push_back(std::move(one));
    };
    for (const ModelPoint& p : model.points)
        if (refers_to(response.at, p.name)) add_node(p.node);
    for (std::size_t c = 0; c < model.couplings.size(); ++c) {
        if (!refers_to(response.at, model.couplings[c].name)) continue;
        Motion one;
        one.at = model.couplings[c].at;
        for (int a = 0; a < translations; ++a)
            one.along[static_cast<std::size_t>(a)].push_back({model.freedom_of_coupling(c, a), 1.0});
        out.push_back(std::move(one));
    }
    for (const ModelSurface& surface : model.surfaces) {
        if (!refers_to(response.at, surface.name)) continue;
        if (!response.mean) {
            for (const NodeId n : surface.nodes) add_node(n);
            continue;
        }
        // The mean over the area.
        std::map<NodeId, double> share;
        double area = 0.0;
        for (const MeshFace& f : surface.faces) {
            const std::vector<NodeId> corners = mesh.face_corners(f);
            const double a = mesh.face_area(f);
            for (const NodeId n : corners) share[n] += a / static_cast<double>(corners.size());
            area += a;
        }
        Motion one;
        one.at = surface.centroid;
        for (const auto& [n, weight] : share)
            for (int a = 0; a < translations; ++a)
                one.along[static_cast<std::size_t>(a)].push_back({model.freedom(n, a), weight / area});
        out.push_back(std::move(one));
    }
    return out;
}

std::optional<Vec3> direction(const Study& study, const ResponseCard& response, const Vec3& at) {
    if (response.component == "size") return {};
    const Mat3 axes = response.frame.empty() ? Mat3::Identity() : study.frame(response.frame).at(at);
    const char c = response.component.front();
    return Vec3(axes.col(c == 'x' || c == 'r' ? 0 : c == 'y' || c == 't' ? 1 : 2));
}

double component_of(const Study& study, const ResponseCard& response, const Vec3& v, const Vec3& at) {
    const std::optional<Vec3> along = direction(study, response, at);
    return along ? along->dot(v) : v.norm();
}

bool reads_lowest(const ResponseCard& response, double lowest, double largest) {
    if (response.min && response.max) {
        const auto share = [](double over, double bound) { return over / std::max(std::abs(bound), 1e-300); };
        return share(*response.min - lowest, *response.min) > share(largest - *response.max, *response.max);
    }
    if (response.min || response.max) return response.min.has_value();
    return std::abs(lowest) > std::abs(largest);
}

std::array<Eigen::VectorXd, 3> reaction_fields(const Model& model, const ModelCase& c,
                                               const ResponseCard& response) {
    const Transform linked = model.transform(c, false);
    std::array<Eigen::VectorXd, 3> on_unknowns;
    for (Eigen::VectorXd& d : on_unknowns)
        d = Eigen::VectorXd::Zero(static_cast<Eigen::Index>(linked.unknowns()));
    std::vector<bool> taken(model.freedoms(), false);
    for (const std::size_t s : c.supports) {
        const bool named = refers_to(response.at, model.supports[s].name);
        for (const Equation& e : model.supports[s].equations)
            for (const Term& t : e.terms) {
                if (taken[t.freedom]) continue;
                taken[t.freedom] = true;
                const Model::Spot spot = model.spot(t.freedom);
                if (named && spot.component < 3 && !linked.dependent(t.freedom))
                    on_unknowns[static_cast<std::size_t>(spot.component)][linked.unknown_of(t.freedom)] = 1.0;
            }
    }
    std::array<Eigen::VectorXd, 3> out;
    for (std::size_t a = 0; a < 3; ++a) out[a] = linked.expand(on_unknowns[a], false);
    return out;
}

std::string place_text(const Vec3& p, bool plane) {
    return plane ? fmt::format("({:.5g}, {:.5g})", p.x(), p.y())
                 : fmt::format("({:.5g}, {:.5g}, {:.5g})", p.x(), p.y(), p.z());
}

std::vector<bool> left_out(const Model& model, const std::vector<std::string>& except) {
    std::vector<bool> out(model.mesh.elements(), false);
    if (except.empty()) return out;
    std::vector<bool> touched(model.mesh.nodes.size(), false);
    for (const ModelSurface& s : model.surfaces)
        if (refers_to(except, s.name))
            for (const NodeId n : s.nodes) touched[index(n)] = true;
    for (std::size_t e = 0; e < out.size(); ++e) {
        out[e] = refers_to(except, model.regions[index(model.mesh.region[e])].name);
        for (const NodeId n : model.mesh.nodes_of(static_cast<ElementId>(e)))
            out[e] = out[e] || touched[index(n)];
    }
    return out;
}

} // namespace upright
