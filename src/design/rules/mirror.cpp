// The design is the same on both sides of planes.
#include "design/form.hpp"
#include "design/making_rule.hpp"
#include "design/middles.hpp"
#include "design/rules/plane_table.hpp"

#include "study/cards/cards.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>

namespace upright {

const Schema<FormCard::AnyPlane>& plane_schema() {
    using Plane = FormCard::AnyPlane;
    static const Schema<Plane> out = schema<Plane>(
        "plane", "a plane",
        {key("point", value::place(), &Plane::point).must("point = [0, 0, 40]").says("a place on it"),
         key<Plane>("normal", {value::direction()},
                    [](Plane& p, const Given& g) { p.normal = g.direction().normalized(); })
             .must("normal = [0, 0, 1]")
             .says("across it")});
    return out;
}

namespace {

using AnyPlane = FormCard::AnyPlane;

// What lies behind a plane follows what lies before it: each element behind has the value found at its image,
// between the middles of the elements about it. For meshes that the plane does not map onto themselves.
class Reflection final : public Link {
  public:
    Reflection(const Model& model, const std::vector<std::size_t>& elements, const AnyPlane& plane) {
        const Mesh& mesh = model.mesh;
        const Middles middles(mesh, elements);
        starts_.push_back(0);
        for (std::size_t v = 0; v < elements.size(); ++v) {
            const Vec3& own = mesh.center(elements[v]);
            const double behind = -plane.normal.dot(own - plane.point);
            if (behind > 1e-6 * mesh.size) add_row(mesh, elements, middles, plane, reflected(plane, own));
            // What has no image, and what lies before the plane, keeps its own.
            if (columns_.size() == starts_.back()) {
                columns_.push_back(v);
                weights_.push_back(1.0);
            }
            starts_.push_back(columns_.size());
        }
    }

    void apply(const std::vector<double>& in, std::vector<double>& out) const override {
        out.assign(in.size(), 0.0);
        for (std::size_t v = 0; v < in.size(); ++v)
            for (std::size_t k = starts_[v]; k < starts_[v + 1]; ++k) out[v] += weights_[k] * in[columns_[k]];
    }
    void pull_back(const std::vector<double>& /*in*/, const std::vector<double>& gradient,
                   std::vector<double>& out) const override {
        out.assign(gradient.size(), 0.0);
        for (std::size_t v = 0; v < gradient.size(); ++v)
            for (std::size_t k = starts_[v]; k < starts_[v + 1]; ++k)
                out[columns_[k]] += weights_[k] * gradient[v];
    }

  private:
    // The elements within 1.2 sizes of a place that do not lie behind the plane, by a hat.
    void add_row(const Mesh& mesh, const std::vector<std::size_t>& elements, const Middles& middles,
                 const AnyPlane& plane, const Vec3& at) {
        constexpr double reach = 1.2;
        const std::size_t first = columns_.size();
        double sum = 0.0;
        middles.within(at, reach * mesh.size, [&](std::size_t v, double distance) {
            if (plane.normal.dot(mesh.center(elements[v]) - plane.point) < -1e-6 * mesh.size) return;
            const double w = (1.0 - distance / (reach * mesh.size)) * mesh.volume(elements[v]);
            if (w <= 0.0) return;
            columns_.push_back(v);
            weights_.push_back(w);
            sum += w;
        });
        for (std::size_t k = first; k < weights_.size(); ++k) weights_[k] /= sum;
    }

    std::vector<std::size_t> starts_, columns_;
    std::vector<double> weights_;
};

// Several links, one after the other.
class InTurn final : public Link {
  public:
    void add(std::unique_ptr<Link> link) { links_.push_back(std::move(link)); }
    bool empty() const { return links_.empty(); }
    void apply(const std::vector<double>& in, std::vector<double>& out) const override {
        std::vector<double> now = in;
        for (const auto& link : links_) {
            link->apply(now, out);
            now = out;
        }
    }
    void pull_back(const std::vector<double>& in, const std::vector<double>& gradient,
                   std::vector<double>& out) const override {
        std::vector<std::vector<double>> before{in};
        for (std::size_t i = 0; i + 1 < links_.size(); ++i) {
            before.emplace_back();
            links_[i]->apply(before[i], before[i + 1]);
        }
        std::vector<double> now = gradient;
        for (std::size_t i = links_.size(); i-- > 0;) {
            links_[i]->pull_back(before[i], now, out);
            now = out;
        }
    }

  private:
    std::vector<std::unique_ptr<Link>> links_;
};

class Mirror final : public RuleKind {
  public:
    Mirror() {
        word = "mirror";
        ties = true;
        const ValueForm across = value::text("a plane \"y = 100\"");
        const ValueForm any = value::table(facts_of<AnyPlane, plane_schema>);
        keys = {
            key<FormCard>("mirror", {value::list_of({across, any}), across, any}, take)
                .example("mirror = [\"y = 100\"]")
                .says("the design is the same on both sides of planes, whatever the loads: across axes (at "
                      "most one across each), or any { point, normal }. What lies behind an oblique plane, "
                      "against its normal, follows what lies before it where the mesh is not mirrored "
                      "itself")};
    }
    bool asked(const FormCard& form) const override { return !form.mirror.empty() || !form.oblique.empty(); }
    void tie(const ModelForm& form, FormRules& rules) const override {
        rules.mirror = form.mirror;
        rules.oblique = form.oblique;
    }
    std::pair<std::string, std::string> unfit(const Model& model, const FormCard& form) const override {
        for (const AnyPlane& plane : form.oblique) {
            if (model.mesh.dimension() == 2 && !model.mesh.shell() && std::abs(plane.normal.z()) > 1e-9)
                return {"a plane model is mirrored at planes across it", "Write a normal [nx, ny, 0]"};
            for (std::size_t i = 0; &form.oblique[i] != &plane; ++i)
                if (const double along = std::abs(plane.normal.dot(form.oblique[i].normal)); along > 1e-6)
                    return {along > 1.0 - 1e-6 ? "two mirror planes are parallel"
                                               : "two oblique mirror planes are not square to each other",
                            "Write one of them, or sectors for a pattern about an axis"};
            for (const SymmetryPlane& other : form.mirror)
                if (std::abs(plane.normal[other.axis]) > 1e-6)
                    return {"an oblique mirror plane is not square to the other one",
                            "Write one of them, or sectors for a pattern about an axis"};
            for (const SymmetryCut& cut : model.mesh.symmetry)
                if (std::abs(plane.normal[cut.axis]) > 1e-6)
                    return {
                        "an oblique mirror plane is not square to the plane of symmetry that the model ends "
                        "at",
                        "Model the whole, or mirror at a plane square to it"};
        }
        return {};
    }
    std::unique_ptr<Link> link(const Model& model, const std::vector<std::size_t>& elements,
                               const FormCard& form) const override {
        auto out = std::make_unique<InTurn>();
        for (const AnyPlane& plane : form.oblique)
            if (!maps_onto_itself(model.mesh, elements, [&](const Vec3& p) { return reflected(plane, p); }))
                out->add(std::make_unique<Reflection>(model, elements, plane));
        if (out->empty()) return nullptr;
        return out;
    }
    std::string words(const FormCard& form, const UnitSystem& /*units*/) const override {
        std::string out;
        for (const SymmetryPlane& p : form.mirror)
            out += fmt::format("{}mirrored at {} = {:.6g}", out.empty() ? "" : ", ", "xyz"[p.axis], p.at);
        for (const AnyPlane& p : form.oblique)
            out += fmt::format(
                "{}mirrored at the plane through ({:.6g}, {:.6g}, {:.6g}) across ({:.4g}, {:.4g}, "
                "{:.4g})",
                out.empty() ? "" : ", ", p.point.x(), p.point.y(), p.point.z(), p.normal.x(), p.normal.y(),
                p.normal.z());
        return out;
    }

  private:
    static void take(FormCard& form, const Given& g) {
        for (const Node* item : g.items()) {
            if (item->table() == nullptr) {
                add_across(form, read_plane(*item, g.card, "a mirror plane"));
                continue;
            }
            const AnyPlane plane = read_table(plane_schema(), g.card.inner(*item, "mirror"));
            int axis = 0;
            if (plane.normal.cwiseAbs().maxCoeff(&axis) > 1.0 - 1e-9) // across an axis after all
                add_across(form, {axis, plane.point[axis], item->place});
            else
                form.oblique.push_back(plane);
        }
    }
    static void add_across(FormCard& form, const SymmetryPlane& plane) {
        for (const SymmetryPlane& other : form.mirror)
            if (other.axis == plane.axis)
                throw Error::input(plane.place, "two mirror planes stand across the same axis",
                                   "Write one of them");
        form.mirror.push_back(plane);
    }
};

} // namespace

RuleList mirror_rules() {
    return {std::make_shared<Mirror>()};
}

} // namespace upright
