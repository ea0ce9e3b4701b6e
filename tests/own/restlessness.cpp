// A measure of the tests' own: the mean square displacement of all nodes, times a factor of its own key.
// One file; the table takes it as a further entry.
#include "own/own.hpp"

#include "response/design_state.hpp"
#include "study/response_keys.hpp"

namespace upright::test {

namespace {

class Restlessness final : public Measurement {
  public:
    explicit Restlessness(const Binding& to)
        : response_(to.response), nodes_(static_cast<Eigen::Index>(to.model.node_freedoms())),
          times_(std::any_cast<double>(to.response.own) / static_cast<double>(to.model.mesh.nodes.size())) {}

    std::optional<Reading> read(const State& state, const ColumnAt& at) const override {
        const auto c = at.in_case;
        if (!state.has_case(c)) return {};
        Reading out;
        out.value = times_ * state.displacement(c).head(nodes_).squaredNorm();
        out.min = response_.min;
        out.max = response_.max;
        return out;
    }

    std::vector<Pending> smooth(const DesignState& state, const ColumnAt& at, const SmoothWish&) override {
        const Eigen::VectorXd& u = state.displacement(at.in_case);
        Pending p;
        p.in_case = at.in_case;
        p.smooth.column = at.column;
        p.smooth.value = read(state, at)->value;
        p.smooth.min = response_.min;
        p.smooth.max = response_.max;
        p.load = Eigen::VectorXd::Zero(u.size());
        p.load.head(nodes_) = 2.0 * times_ * u.head(nodes_);
        return {std::move(p)};
    }

  private:
    const ResponseCard& response_;
    Eigen::Index nodes_;
    double times_;
};

class RestlessnessKind final : public MeasureKind {
  public:
    RestlessnessKind() {
        word = "restlessness";
        called = "a restlessness";
        dimension = dimension::area;
        says = "mean square displacement of all nodes";
        std::vector<Key<ResponseCard>> own{
            case_key(false), key<ResponseCard>("times", {value::quantity(dimension::none).above(0)},
                                               [](ResponseCard& r, const Given& g) { r.own = g.number(); })
                                 .must("times = 1")
                                 .says("a factor")};
        keys = std::move(own) + bound_keys(dimension);
        stiffness = needs_bound = true;
    }
    std::unique_ptr<Measurement> bind(const Binding& to) const override {
        return std::make_unique<Restlessness>(to);
    }
    std::string words(const ResponseCard& r) const override { return word + in_cases(r); }
};

} // namespace

std::shared_ptr<const MeasureKind> restlessness() {
    return std::make_shared<RestlessnessKind>();
}

} // namespace upright::test
