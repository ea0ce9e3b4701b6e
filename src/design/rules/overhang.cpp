// Built up in layers: an element is at most as dense as the densest of those that support it from below
// (Langelaar 2017), behind the projection, where it is sharp.
#include "design/columns.hpp"
#include "design/making_rule.hpp"

#include "base/angles.hpp"

#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <numeric>

namespace upright {

namespace {

using OverhangCard = FormCard::Overhang;

// Langelaar's constants: the power of the smooth maximum, and what rounds the smooth minimum.
constexpr double power = 40.0, rounding = 1e-4;
constexpr double tiny = 1e-280;
constexpr double scale = 1.0 / (1.0 + 0.5 * 1e-2);
constexpr double to_angle = 1e-6;    // of the cone
constexpr double least_borne = 0.95; // of the design: less is told

class OverhangLink final : public Link {
  public:
    OverhangLink(const Model& model, const std::vector<std::size_t>& elements, const OverhangCard& card)
        : free_(elements.size(), false) {
        const Mesh& mesh = model.mesh;
        std::vector<std::int32_t> variable(mesh.elements(), -1);
        for (std::size_t v = 0; v < elements.size(); ++v)
            variable[elements[v]] = static_cast<std::int32_t>(v);
        std::vector<std::vector<std::int32_t>> at(mesh.nodes.size());
        for (std::size_t e = 0; e < mesh.elements(); ++e)
            for (const NodeId n : mesh.nodes_of(static_cast<ElementId>(e)))
                at[index(n)].push_back(static_cast<std::int32_t>(e));
        const double base = extent_along(mesh, card.up).first;
        const double reach = std::tan(card.angle * degree) * (1.0 + to_angle);
        starts_.push_back(0);
        std::vector<double> height;
        for (std::size_t v = 0; v < elements.size(); ++v) {
            const std::size_t e = elements[v];
            double lowest = 1e300;
            std::vector<std::int32_t> near;
            for (const NodeId n : mesh.nodes_of(static_cast<ElementId>(e))) {
                lowest = std::min(lowest, mesh.nodes[index(n)].dot(card.up));
                near.insert(near.end(), at[index(n)].begin(), at[index(n)].end());
            }
            std::sort(near.begin(), near.end());
            near.erase(std::unique(near.begin(), near.end()), near.end());
            height.push_back(mesh.center(e).dot(card.up));
            free_[v] = card.plate && lowest - base < 1e-6 * mesh.size;
            int kept = 0;
            for (const std::int32_t o : near) {
                const Vec3 way = mesh.center(e) - mesh.center(static_cast<std::size_t>(o));
                const double up = way.dot(card.up);
                if (up <= 1e-6 * mesh.size || Vec3(way - up * card.up).norm() > reach * up + 1e-9 * mesh.size)
                    continue;
                if (variable[static_cast<std::size_t>(o)] < 0) {
                    ++kept;
                    continue;
                }
                below_.push_back(variable[static_cast<std::size_t>(o)]);
            }
            kept_.push_back(kept);
            starts_.push_back(below_.size());
        }
        order_.resize(elements.size());
        std::iota(order_.begin(), order_.end(), std::size_t{0});
        std::stable_sort(order_.begin(), order_.end(),
                         [&](std::size_t a, std::size_t b) { return height[a] < height[b]; });
    }

    bool after_projection() const override { return true; }

    void apply(const std::vector<double>& in, std::vector<double>& out) const override {
        out = in;
        for (const std::size_t v : order_)
            if (!free_[v]) out[v] = least(in[v], support(v, out));
    }
    void apply_sharply(const std::vector<double>& in, std::vector<double>& out) const override {
        out = in;
        for (const std::size_t v : order_) {
            if (free_[v]) continue;
            double most = kept_[v] > 0 ? 1.0 : 0.0;
            for (std::size_t k = starts_[v]; k < starts_[v + 1]; ++k)
                most = std::max(most, out[static_cast<std::size_t>(below_[k])]);
            out[v] = std::min(in[v], most);
        }
    }
    void pull_back(const std::vector<double>& in, const std::vector<double>& gradient,
                   std::vector<double>& out) const override {
        std::vector<double> made;
        apply(in, made);
        std::vector<double> by_made = gradient;
        out.assign(in.size(), 0.0);
        for (std::size_t i = order_.size(); i-- > 0;) {
            const std::size_t v = order_[i];
            if (free_[v]) {
                out[v] += by_made[v];
                continue;
            }
            const double sum = sum_below(v, made);
            const double most = sum > tiny ? std::pow(sum, 1.0 / root(v)) : 0.0;
            const double off = in[v] - most;
            const double half = 0.5 * off / std::sqrt(off * off + rounding);
            out[v] += scale * by_made[v] * (0.5 - half);
            if (sum <= tiny) continue;
            const double by_most = scale * by_made[v] * (0.5 + half) * power / root(v) * most / sum;
            for (std::size_t k = starts_[v]; k < starts_[v + 1]; ++k) {
                const auto o = static_cast<std::size_t>(below_[k]);
                by_made[o] += by_most * std::pow(made[o], power - 1.0);
            }
        }
    }

  private:
    // At most one, also where many dense ones below make more than one of the maximum.
    static double least(double a, double b) {
        return scale * 0.5 * (a + b - std::sqrt((a - b) * (a - b) + rounding) + std::sqrt(rounding));
    }
    double count(std::size_t v) const { return static_cast<double>(starts_[v + 1] - starts_[v]) + kept_[v]; }
    // So that as many of 0.5 make 0.5.
    double root(std::size_t v) const { return power + std::log(count(v)) / std::log(0.5); }
    double sum_below(std::size_t v, const std::vector<double>& made) const {
        double out = kept_[v];
        for (std::size_t k = starts_[v]; k < starts_[v + 1]; ++k)
            out += std::pow(std::max(made[static_cast<std::size_t>(below_[k])], 0.0), power);
        return out;
    }
    double support(std::size_t v, const std::vector<double>& made) const {
        const double sum = sum_below(v, made);
        return sum > tiny ? std::pow(sum, 1.0 / root(v)) : 0.0;
    }

    std::vector<bool> free_;          // stands on the plate
    std::vector<std::size_t> starts_; // of the elements of the design that support each
    std::vector<std::int32_t> below_;
    std::vector<int> kept_;          // kept elements that support each
    std::vector<std::size_t> order_; // from below
};

const Schema<OverhangCard>& overhang_schema() {
    static const Schema<OverhangCard> out = schema<OverhangCard>(
        "overhang", "built up in layers",
        {key<OverhangCard>("up", {value::direction()},
                           [](OverhangCard& o, const Given& g) { o.up = g.direction().normalized(); })
             .must("up = [0, 0, 1], the way that layers grow")
             .says("the way that layers grow"),
         key("angle", value::quantity(dimension::angle).inside(0, 80), &OverhangCard::angle)
             .fallback("45 degrees")
             .says("from `up`: within it there has to be material below"),
         key("plate", value::flag(), &OverhangCard::plate)
             .fallback("true")
             .says("whether material may stand on the lowest place of the space; without it everything hangs "
                   "on kept regions")});
    return out;
}

class OverhangRule final : public RuleKind {
  public:
    OverhangRule() {
        word = "overhang";
        links = true;
        keys = {table_key("overhang", overhang_schema, &FormCard::overhang,
                          facts_of<OverhangCard, overhang_schema>)
                    .example("overhang = { up = [0, 0, 1], angle = \"45 deg\", plate = true }")
                    .says("no material without material below it")};
    }
    bool asked(const FormCard& form) const override { return form.overhang.has_value(); }

    std::pair<std::string, std::string> unfit(const Model& model, const FormCard& form) const override {
        const OverhangCard& o = *form.overhang;
        if (model.mesh.shell())
            return {"a shell is not built up in layers of its own", "Write a model of solids"};
        if (model.mesh.dimension() == 2 && std::abs(o.up.z()) > 1e-9)
            return {"layers of a plane model grow in its plane", "Write up = [0, 1, 0]"};
        for (const SymmetryPlane& plane : form.mirror)
            if (std::abs(o.up[plane.axis]) > 1e-6)
                return {"a mirror plane lies across `up`", "Mirror at planes along `up` alone"};
        for (const FormCard::AnyPlane& plane : form.oblique)
            if (std::abs(o.up.dot(plane.normal)) > 1e-6)
                return {"a mirror plane lies across `up`", "Mirror at planes along `up` alone"};
        for (const SymmetryCut& cut : model.mesh.symmetry)
            if (std::abs(o.up[cut.axis]) > 1e-6)
                return {"a symmetry plane lies across `up`, so that one half hangs from the other",
                        "Model the whole, or cut it along `up`"};
        if (form.sectors && model.form.sectors_about) {
            const Vec3 axis = model.form.sectors_about->axes.col(2);
            if (1.0 - std::abs(axis.dot(o.up)) > 1e-6)
                return {"the sectors' axis is not along `up`",
                        "Grow along the axis, or remove one of the two"};
        }
        if (!model.mesh.on_grid()) return {};
        // On a lattice an element sees the nine below it: the angle has to reach the next one.
        const Vec3 cell = model.mesh.grid.cell;
        for (int axis = 0; axis < 3; ++axis) {
            if (std::abs(std::abs(o.up[axis]) - 1.0) > 1e-9) continue;
            for (int side = 0; side < model.mesh.dimension(); ++side) {
                if (side == axis) continue;
                const double seen = std::atan2(cell[side], cell[axis]) / degree;
                if (seen <= o.angle * (1.0 + 1e-6)) continue;
                return {fmt::format("cells of {:.4g} by {:.4g} {} see an angle of {:.4g} degrees at least, "
                                    "{:.4g} are asked for",
                                    cell[side], cell[axis], model.units.text(dimension::length), seen,
                                    o.angle),
                        fmt::format("Write cells of at most {:.4g} across `up`, or 45 degrees on cubes",
                                    cell[axis] * std::tan(o.angle * degree))};
            }
        }
        return {};
    }
    std::unique_ptr<Link> link(const Model& model, const std::vector<std::size_t>& elements,
                               const FormCard& form) const override {
        return std::make_unique<OverhangLink>(model, elements, *form.overhang);
    }
    // What nothing could bear in a design that is solid everywhere cannot be there in any.
    std::string doubt(const Model& model, const FormCard& form) const override {
        const Mesh& mesh = model.mesh;
        std::vector<std::size_t> elements;
        for (std::size_t e = 0; e < mesh.elements(); ++e)
            if (model.role(static_cast<ElementId>(e)) == Role::Design) elements.push_back(e);
        const std::vector<double> solid(elements.size(), 1.0);
        std::vector<double> made;
        OverhangLink(model, elements, *form.overhang).apply_sharply(solid, made);
        double all = 0.0;
        double borne = 0.0;
        for (std::size_t v = 0; v < elements.size(); ++v) {
            all += mesh.volume(elements[v]);
            borne += mesh.volume(elements[v]) * made[v];
        }
        if (borne > least_borne * all) return {};
        return fmt::format("of the design {:.3g} % hang over nothing that could bear them, and stay empty: "
                           "{:.3g} % at most can be there",
                           100.0 * (1.0 - borne / all), 100.0 * borne / all);
    }
    std::string words(const FormCard& form, const UnitSystem& /*units*/) const override {
        const OverhangCard& o = *form.overhang;
        return fmt::format("grown along ({:.4g}, {:.4g}, {:.4g}), supported within {:.4g} degrees{}",
                           o.up.x(), o.up.y(), o.up.z(), o.angle,
                           o.plate ? ", on a plate" : ", on kept regions alone");
    }
};

} // namespace

RuleList overhang_rules() {
    return {std::make_shared<OverhangRule>()};
}

} // namespace upright
