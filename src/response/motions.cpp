#include "response/motions.hpp"

#include "fem/modal_analysis.hpp"
#include "fem/support_forces.hpp"
#include "response/measure.hpp"

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

std::vector<Motion> motions(const Model& model, const ModelResponse& response) {
    const Mesh& mesh = model.mesh;
    const int translations = mesh.dimension() == 2 ? 2 : 3;
    std::vector<Motion> out;
    const auto add = [&](const Vec3& at, const auto& freedom) {
        Motion one;
        one.at = at;
        for (int a = 0; a < translations; ++a)
            one.along[static_cast<std::size_t>(a)].push_back({freedom(a), 1.0});
        out.push_back(std::move(one));
    };
    const auto add_node = [&](NodeId n) {
        add(mesh.nodes[index(n)], [&](int a) { return model.freedom(n, a); });
    };
    const auto add_coupling = [&](CouplingId c) {
        add(model.couplings[c].at, [&](int a) { return model.freedom_of_coupling(c, a); });
    };
    for (const std::size_t i : response.points) {
        // A point that no node stands at moves with the coupling that has its reference there.
        const ModelPoint& p = model.points[i];
        const CouplingId coupling =
            p.off > 1e-9 * mesh.bounds.diagonal() ? model.coupling_at(p) : CouplingId::None;
        if (coupling != CouplingId::None)
            add_coupling(coupling);
        else
            add_node(p.node);
    }
    for (const CouplingId c : response.couplings) add_coupling(c);
    for (const std::size_t i : response.surfaces) {
        const ModelSurface& surface = model.surfaces[i];
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

std::optional<Vec3> direction(const ModelResponse& response, const Vec3& at) {
    if (response.component == Component::Size) return {};
    const Mat3 axes = response.axes ? response.axes->at(at) : Mat3::Identity();
    return Vec3(axes.col(axis_of(response.component)));
}

double component_of(const ModelResponse& response, const Vec3& v, const Vec3& at) {
    const std::optional<Vec3> along = direction(response, at);
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
                                               const ModelResponse& response) {
    const SupportForces holding(model, c);
    std::array<Eigen::VectorXd, 3> out;
    for (int a = 0; a < 3; ++a) {
        Eigen::VectorXd weights = Eigen::VectorXd::Zero(static_cast<Eigen::Index>(holding.held().size()));
        for (std::size_t e = 0; e < holding.held().size(); ++e) {
            const SupportForces::Held& h = holding.held()[e];
            const std::vector<SupportId>& named = response.supports;
            if (std::find(named.begin(), named.end(), h.support) == named.end()) continue;
            for (const Term& t : h.equation->terms)
                if (model.spot(t.freedom).component == a) weights[static_cast<Eigen::Index>(e)] += t.factor;
        }
        out[static_cast<std::size_t>(a)] = holding.field(weights);
    }
    return out;
}

std::string component_words(const ResponseCard& r) {
    return " of " + r.at +
           (r.component == Component::Size ? "" : std::string(" along ") + text(r.component)) +
           (r.frame.empty() ? "" : " of " + r.frame) + in_cases(r);
}

std::string local_words(const Mode& mode) {
    return fmt::format("local: moves {:.2g} % of the mass", 100.0 * mode.moved_share);
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

std::vector<bool> counted_nodes(const Model& model, const RegionNodes& nodes,
                                const std::vector<bool>& out_of) {
    std::vector<bool> out(nodes.node.size(), false);
    for (std::size_t e = 0; e < out_of.size(); ++e)
        for (std::size_t i = model.mesh.start(e); i < model.mesh.start(e + 1); ++i)
            if (!out_of[e]) out[static_cast<std::size_t>(nodes.of[i])] = true;
    // A node of a left-out surface does not count, whatever else touches it.
    for (std::size_t e = 0; e < out_of.size(); ++e)
        for (std::size_t i = model.mesh.start(e); i < model.mesh.start(e + 1); ++i)
            if (out_of[e]) out[static_cast<std::size_t>(nodes.of[i])] = false;
    return out;
}

} // namespace upright
