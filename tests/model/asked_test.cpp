// What is asked of a model: names resolved once, the same after the file.
#include "model/storage.hpp"
#include "response/reading.hpp"
#include "support/studies.hpp"

namespace upright {
namespace {

using test::block_study;
using test::study_from;

const char* asked = R"(
[[region]]
name = "pad"
role = "keep"
material = "steel"
box = [[6, 0, 0], [8, 4, 4]]
[[frame]]
name = "axle"
kind = "cylindrical"
origin = [0, 2, 2]
axis = [1, 0, 0]
start = [0, 1, 0]
[[point]]
name = "eye"
at = [8, 2, 2]
[[load]]
name = "side"
on = "tip"
force = [0, 1, 0]
[[case]]
name = "twist"
supports = "clamp"
loads = { side = [1, -1] }
[[case]]
name = "hum"
kind = "modal"
supports = "clamp"
[[response]]
name = "sag"
measure = "displacement"
at = "eye"
frame = "axle"
component = "r"
case = "twist"
[[response]]
name = "pitch"
measure = "frequency"
[[response]]
name = "heavy"
measure = "mass"
of = "pad"
[[response]]
name = "hold"
measure = "reaction"
at = "clamp"
component = "x"
)";

void expect_resolved(const Model& model) {
    ASSERT_EQ(model.responses.size(), 6U); // stiffness and budget of the block are the first
    EXPECT_TRUE(model.responses[0].goal);
    EXPECT_FALSE(model.responses[0].raised);
    ASSERT_TRUE(model.goal.has_value());
    EXPECT_EQ(model.goal->response, 0U);
    const ModelResponse& sag = model.responses[2];
    EXPECT_EQ(sag.points, std::vector<std::size_t>{0});
    ASSERT_TRUE(sag.axes.has_value());
    EXPECT_TRUE(sag.axes->cylindrical);
    EXPECT_EQ(sag.component, Component::R);
    // "twist" means twist/1 and twist/2, after the block's own case.
    ASSERT_EQ(sag.cases.size(), 2U);
    EXPECT_EQ(model.cases[sag.cases[1]].name, "twist/2");
    EXPECT_EQ(model.responses[3].modal_cases.size(), 1U);
    EXPECT_TRUE(model.responses[4].names(static_cast<RegionId>(1)));
    EXPECT_FALSE(model.responses[4].names(static_cast<RegionId>(0)));
    EXPECT_EQ(model.responses[5].supports, std::vector<SupportId>{SupportId{}});
    std::vector<std::string> names;
    for (const Column& c : columns(model)) names.push_back(c.name);
    EXPECT_EQ(names,
              (std::vector<std::string>{"stiffness", "budget", "sag@twist/1", "sag@twist/2", "pitch", "heavy",
                                        "hold@" + model.cases.at(0).name, "hold@twist/1", "hold@twist/2"}));
    EXPECT_EQ(model.shapes.size(), 2U);
    EXPECT_EQ(model.run.iterations, 33);
    EXPECT_EQ(model.form.mirror.size(), 1U);
}

} // namespace

TEST(Asked, NamesAreResolvedAtTheModelAndAgainAfterItsFile) {
    const Study study =
        study_from(block_study(asked + std::string("[run]\niterations = 33\n[form]\nmirror = \"y = 2\"\n")));
    const Model model = build_model(study);
    expect_resolved(model);
    const test::TemporaryFolder folder;
    save_model(folder.path() / "model.h5", model, study.resolved);
    StoredModel back = load_model(folder.path() / "model.h5");
    EXPECT_TRUE(back.model.responses.empty());
    take_asked(back.model, study);
    expect_resolved(back.model);
    EXPECT_EQ(back.model.title, model.title);
    EXPECT_EQ(back.model.cases.at(1).place.line, model.cases.at(1).place.line);
}

TEST(Asked, AGoalThatIsRaisedSaysSo) {
    const Study study = study_from(block_study(asked), {"goal.minimize=pitch"});
    Study raised = study;
    raised.goal->maximize = true;
    const Model model = build_model(raised);
    EXPECT_EQ(model.goal->response, 3U);
    EXPECT_TRUE(model.responses[3].raised);
    EXPECT_FALSE(model.responses[0].goal);
}

// A file that names what is not there is damaged; nothing is read past its end.
TEST(Storage, ForeignNumbersAreDamage) {
    const test::TemporaryFolder folder;
    const auto file = folder.path() / "model.h5";
    const auto damaged = [&](const auto& harm) {
        Model model = build_model(study_from(block_study(asked)));
        harm(model);
        save_model(file, model, "text");
        try {
            load_model(file);
        } catch (const Error& bad) {
            return std::string(bad.what()).find("damaged") != std::string::npos;
        }
        return false;
    };
    EXPECT_TRUE(damaged([](Model& m) { m.cases.at(0).supports.push_back(static_cast<SupportId>(9)); }));
    EXPECT_TRUE(damaged([](Model& m) { m.cases.at(0).loads.emplace_back(static_cast<LoadId>(-2), 1.0); }));
    EXPECT_TRUE(damaged([](Model& m) { m.modal_cases.at(0).supports.push_back(SupportId::None); }));
}

TEST(Storage, ACutFileIsSaid) {
    const test::TemporaryFolder folder;
    const auto file = folder.path() / "model.h5";
    save_model(file, build_model(study_from(block_study())), "text");
    const auto size = std::filesystem::file_size(file);
    for (const double share : {0.99, 0.7, 0.4, 0.1, 0.0}) {
        std::filesystem::resize_file(file, static_cast<std::uintmax_t>(share * static_cast<double>(size)));
        EXPECT_THROW(load_model(file), Error) << share;
    }
}

} // namespace upright
