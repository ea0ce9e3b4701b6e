// The check that users run on their own studies: it has to see what is wrong, and not to cry where nothing
// is.
#include "optimize/gradient_check.hpp"

#include "kinds/kinds.hpp"
#include "response/design_state.hpp"
#include "study/response_keys.hpp"
#include "support/studies.hpp"

#include <gtest/gtest.h>

using namespace upright;

namespace {

class Silent final : public Observer {
  public:
    void note(const std::string&) override { ++notes; }
    bool stop_requested() const override { return stop; }
    int notes = 0;
    bool stop = false;
};

GradientCheck checked(const Study& study, Silent& silent) {
    const Model model = build_model(study);
    StaticAnalysis analysis(model, {});
    return check_gradients(analysis, silent);
}

// The compliance of one case with a gradient that is off by a share.
class Off final : public Measurement {
  public:
    explicit Off(double share) : share_(share) {}
    std::optional<Reading> read(const State& state, const ColumnAt& at) const override {
        Reading out;
        out.value = state.compliance(at.in_case);
        return out;
    }
    std::vector<Pending> smooth(const DesignState& state, const ColumnAt& at,
                                const SmoothWish& wish) override {
        Pending p;
        p.smooth.column = at.column;
        p.smooth.value = state.compliance(at.in_case);
        p.smooth.gradient.assign(state.density()->size(), 0.0);
        if (wish.gradients) state.add_compliance(at.in_case, 1.0 + share_, p.smooth.gradient);
        return {std::move(p)};
    }

  private:
    double share_;
};

class OffKind final : public MeasureKind {
  public:
    explicit OffKind(double share) : share_(share) {
        word = "off";
        called = "an off";
        dimension = dimension::moment;
        says = "a compliance whose gradient is wrong";
        keys = std::vector<Key<ResponseCard>>{case_key(false)} + bound_keys(dimension);
    }
    std::unique_ptr<Measurement> bind(const Binding&) const override { return std::make_unique<Off>(share_); }
    std::string words(const ResponseCard&) const override { return word; }

  private:
    double share_;
};

double error_of_off(double share) {
    const Kinds kinds = make_kinds({{}, {std::make_shared<OffKind>(share)}, {}, {}});
    const test::TemporaryFolder folder;
    const Study study = load_study(
        folder.write("study.toml", test::block_study("[[response]]\nname = \"o\"\nmeasure = \"off\"\n")), {},
        kinds.language);
    Silent silent;
    for (const GradientRow& row : checked(study, silent).rows)
        if (row.name == "o") return row.error;
    return -1.0;
}

} // namespace

TEST(GradientCheck, SeesAGradientThatIsOff) {
    EXPECT_LT(error_of_off(0.0), 1e-7);
    // The error is told as a share of the gradient: along random directions a part of it shows.
    EXPECT_GT(error_of_off(0.01), 1e-4);
    EXPECT_GT(error_of_off(0.2), 2e-3);
    EXPECT_GT(error_of_off(0.2), 10.0 * error_of_off(0.01));
}

TEST(GradientCheck, HasARowForEverySmoothFunction) {
    Silent silent;
    const Study study = test::study_from(test::block_study(R"(
[[case]]
name = "hum"
kind = "modal"
supports = ["clamp"]
modes = 4
[[response]]
name = "pitch"
measure = "frequency"
min = 1
[[response]]
name = "sag"
measure = "displacement"
at = "tip"
component = "z"
min = -1
max = 1
[[response]]
name = "peak"
measure = "stress"
max = 100
)"));
    const GradientCheck check = checked(study, silent);
    EXPECT_EQ(check.directions, 3);
    std::vector<std::string> names;
    for (const GradientRow& row : check.rows) {
        names.push_back(row.name);
        EXPECT_LT(row.error, 1e-5) << row.name << " " << row.slope << " " << row.difference;
    }
    for (const char* name :
         {"stiffness", "budget", "pitch (mode 1)", "pitch (mode 2)", "sag", "sag (lowest)", "peak"})
        EXPECT_NE(std::find(names.begin(), names.end(), name), names.end()) << name;
}

TEST(GradientCheck, StopsWhenAsked) {
    Silent silent;
    silent.stop = true;
    EXPECT_EQ(checked(test::study_from(test::block_study()), silent).directions, 1);
}
