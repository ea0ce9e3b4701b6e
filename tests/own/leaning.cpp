// A making rule of the tests' own, not linear: an element is as dense as it may be by half alone, the other
// half takes what stands beside it along an axis: out = in * (1 + in of the neighbour) / 2.
#include "own/own.hpp"

#include <cmath>

namespace upright::test {

namespace {

class Lean final : public Link {
  public:
    Lean(const Model& model, const std::vector<std::size_t>& elements, int axis)
        : beside_(elements.size(), -1) {
        for (std::size_t v = 0; v < elements.size(); ++v) {
            double nearest = 1.1 * model.mesh.size;
            for (std::size_t o = 0; o < elements.size(); ++o) {
                const Vec3 way = model.mesh.center(elements[v]) - model.mesh.center(elements[o]);
                if (way[axis] <= 0.0 || way.norm() >= nearest) continue;
                nearest = way.norm();
                beside_[v] = static_cast<long>(o);
            }
        }
    }
    void apply(const std::vector<double>& in, std::vector<double>& out) const override {
        out = in;
        for (std::size_t v = 0; v < in.size(); ++v)
            if (beside_[v] >= 0) out[v] = 0.5 * in[v] * (1.0 + in[static_cast<std::size_t>(beside_[v])]);
    }
    void pull_back(const std::vector<double>& in, const std::vector<double>& gradient,
                   std::vector<double>& out) const override {
        out.assign(in.size(), 0.0);
        for (std::size_t v = 0; v < in.size(); ++v) {
            if (beside_[v] < 0) {
                out[v] += gradient[v];
                continue;
            }
            const auto o = static_cast<std::size_t>(beside_[v]);
            out[v] += 0.5 * (1.0 + in[o]) * gradient[v];
            out[o] += 0.5 * in[v] * gradient[v];
        }
    }

  private:
    std::vector<long> beside_;
};

class Leaning final : public RuleKind {
  public:
    Leaning() {
        word = "leaning";
        links = true;
        keys = {key<FormCard>("leaning", {value::word({"x", "y", "z"})},
                              [](FormCard& f, const Given& g) { f.own["leaning"] = g.word().front() - 'x'; })
                    .example("leaning = \"x\"")
                    .says("elements lean on their neighbours along an axis")};
    }
    bool asked(const FormCard& form) const override { return form.own.count("leaning") > 0; }
    std::unique_ptr<Link> link(const Model& model, const std::vector<std::size_t>& elements,
                               const FormCard& form) const override {
        return std::make_unique<Lean>(model, elements, std::any_cast<int>(form.own.at("leaning")));
    }
    std::string words(const FormCard& form, const UnitSystem&) const override {
        return std::string("elements lean along ") + "xyz"[std::any_cast<int>(form.own.at("leaning"))];
    }
};

} // namespace

std::shared_ptr<const RuleKind> leaning() {
    return std::make_shared<Leaning>();
}

} // namespace upright::test
