#include "tell/ledger_text.hpp"

#include "check/estimate.hpp"
#include "model/storage.hpp"
#include "support/bodies.hpp"
#include "support/studies.hpp"

#include <gtest/gtest.h>

using namespace upright;
using test::block_study;
using test::study_from;

namespace {

Ledger ledger_of(const std::string& extra, const std::vector<std::string>& settings = {}) {
    const Study study = study_from(block_study(extra), settings);
    return make_ledger(build_model(study), true);
}

bool shows(const Ledger& ledger, const std::string& words) {
    for (const LedgerSection& s : ledger.sections)
        for (const LedgerLine& l : s.lines)
            if (l.text.find(words) != std::string::npos) return true;
    return false;
}

bool says(const Ledger& ledger, Standing standing, const std::string& words) {
    for (const LedgerSection& s : ledger.sections)
        for (const LedgerLine& l : s.lines)
            for (const std::string& r : l.remarks)
                if (l.standing == standing && r.find(words) != std::string::npos) return true;
    return false;
}

const char* pad =
    "[[region]]\nname = \"pad\"\nrole = \"keep\"\nmaterial = \"steel\"\nbox = [[5, 0, 0], [8, 4, 4]]\n";

} // namespace

TEST(Ledger, ACleanStudyIsReady) {
    const Ledger ledger = ledger_of(pad);
    EXPECT_EQ(ledger.count(Standing::Missing), 0U);
    EXPECT_EQ(ledger.count(Standing::Doubt), 0U) << render(ledger, 100, false);
}

TEST(Ledger, SaysWhichMotionIsFree) {
    const Ledger ledger = ledger_of(pad, {"support.clamp.hold=[\"x\", \"z\"]"});
    EXPECT_TRUE(says(ledger, Standing::Missing, "translation along y"));
    EXPECT_EQ(ledger.count(Standing::Missing), 1U);
}

TEST(Ledger, DoubtsAreTheUsualMistakes) {
    EXPECT_TRUE(says(ledger_of(""), Standing::Doubt, "design cells"));
    EXPECT_TRUE(says(ledger_of(pad, {"run.filter=1.2"}), Standing::Doubt, "below 2.5 cells"));
    EXPECT_TRUE(says(ledger_of(std::string(pad) + "[[load]]\nname = \"suck\"\non = \"tip\"\npressure = -1\n"),
                     Standing::Doubt, "outward"));
    EXPECT_TRUE(
        says(ledger_of(std::string(pad) + "[[load]]\nname = \"idle\"\non = \"tip\"\nforce = [1, 0, 0]\n"),
             Standing::Doubt, "no case uses it"));
    EXPECT_TRUE(says(ledger_of(std::string(pad) +
                               "[[case]]\nname = \"silly\"\nsupports = \"clamp\"\nloads = { at-root = "
                               "1 }\n[[load]]\nname = \"at-root\"\non = \"root\"\nforce = [5, 0, 0]\n"),
                     Standing::Doubt, "straight into the support"));
    EXPECT_TRUE(
        says(ledger_of(std::string(pad) +
                       "[[region]]\nname = \"miss\"\nrole = \"void\"\nbox = [[20, 0, 0], [30, 4, 4]]\n"),
             Standing::Doubt, "takes nothing away"));
    EXPECT_TRUE(says(
        ledger_of(std::string(pad) + "[symmetry]\nplanes = [\"y = 2\"]\n", {"load.pull.force=[0, 5, -9]"}),
        Standing::Doubt, "across the symmetry plane"));
    EXPECT_TRUE(says(ledger_of(std::string(pad) + "[[surface]]\nname = \"idle\"\nof = \"block\"\n"),
                     Standing::Doubt, "nothing refers to it"));
}

TEST(Ledger, RendersWithinTheWidth) {
    const std::string text = render(ledger_of(pad), 80, false);
    std::size_t from = 0;
    while (from < text.size()) {
        const std::size_t end = std::min(text.find('\n', from), text.size());
        int columns = 0;
        for (std::size_t i = from; i < end; ++i)
            if ((static_cast<unsigned char>(text[i]) & 0xC0U) != 0x80U) ++columns;
        EXPECT_LE(columns, 84) << text.substr(from, end - from);
        from = end + 1;
    }
    EXPECT_EQ(text.find('\033'), std::string::npos);
}

TEST(Ledger, ShowsVolumesAsWrittenAndMeshed) {
    const std::string layer = std::string(pad) + "[[region]]\nname = \"lid\"\nrole = \"keep\"\nmaterial = "
                                                 "\"steel\"\nskin_of = \"root\"\ndepth = ";
    // 1 mm is one cell exactly; 0.6 mm comes out one cell deep, two thirds too much.
    EXPECT_EQ(ledger_of(layer + "1\n").count(Standing::Doubt), 0U)
        << render(ledger_of(layer + "1\n"), 100, false);
    const Ledger thin = ledger_of(layer + "0.6\n");
    EXPECT_TRUE(says(thin, Standing::Doubt, "the mesh makes it +6"));
    EXPECT_TRUE(shows(thin, "deep on the mean"));
}

TEST(Ledger, DoubtsMaterialsThatAreNone) {
    const auto with = [](const std::string& key, const std::string& value) {
        return ledger_of(pad, {"material.steel." + key + "=" + value});
    };
    EXPECT_TRUE(says(with("E", "210"), Standing::Doubt, "was 210 GPa meant?"));
    EXPECT_TRUE(says(with("density", "7850 t/m3"), Standing::Doubt, "was 7850 kg/m3 meant?"));
    EXPECT_TRUE(says(with("density", "7850"), Standing::Doubt, "a density of"));
    EXPECT_TRUE(says(with("yield", "235 GPa"), Standing::Doubt, "that of no material"));
    // Lead, rubber, foam and diamond are materials.
    for (const auto& [E, density] : {std::pair{"16 GPa", "11340 kg/m3"},
                                     {"5 MPa", "1100 kg/m3"},
                                     {"10 MPa", "30 kg/m3"},
                                     {"1050 GPa", "3500 kg/m3"}})
        EXPECT_EQ(ledger_of(pad, {std::string("material.steel.E=") + E,
                                  std::string("material.steel.density=") + density})
                      .count(Standing::Doubt),
                  0U)
            << E;
}

TEST(Ledger, DoubtsBoundsThatNeverAct) {
    const std::string weight =
        std::string(pad) + "[[response]]\nname = \"weight\"\nmeasure = \"mass\"\nmax = ";
    EXPECT_TRUE(says(ledger_of(weight + "0.4\n"), Standing::Doubt, "can never act; 4e-07 t would act"));
    EXPECT_FALSE(says(ledger_of(weight + "\"0.0004 kg\"\n"), Standing::Doubt, "can never act"));
    EXPECT_TRUE(says(ledger_of(std::string(pad) + "[[response]]\nname = \"some\"\nmeasure = \"volume\"\nof = "
                                                  "[\"block\", \"pad\"]\nmin = 3\n"),
                     Standing::Doubt, "below the kept regions alone"));
}

TEST(Ledger, AsksWhatATotalOnASymmetryPlaneCovers) {
    const std::string half = std::string(pad) + "[symmetry]\nplanes = [\"y = 2\"]\n";
    EXPECT_TRUE(says(ledger_of(half), Standing::Doubt, "covers = \"whole\""));
    EXPECT_FALSE(says(ledger_of(half, {"load.pull.covers=modelled"}), Standing::Doubt, "covers"));
    EXPECT_TRUE(shows(ledger_of(half, {"load.pull.covers=whole"}), "one half of what was written"));
    EXPECT_TRUE(
        shows(ledger_of(std::string(pad) + "[symmetry]\nplanes = [\"y = 2\", \"z = 2\"]\n"), "a quarter"));
    EXPECT_TRUE(says(ledger_of(half + "[[region]]\nname = \"far\"\nrole = \"void\"\nbox = [[2, 3, 0], [3, 4, "
                                      "4]]\n"),
                     Standing::Doubt, "lies beyond the symmetry plane y = 2"));
}

TEST(Ledger, WeighsInPoundsWhereLengthsAreInches) {
    const Study study = study_from(block_study(pad), {"units=[\"in\", \"lbf\", \"s\"]"});
    const Ledger ledger = make_ledger(build_model(study));
    EXPECT_TRUE(shows(ledger, " lb)"));
    EXPECT_NEAR(study.units.si(dimension::mass), 4.4482216152605 / 0.0254, 1e-6);
    EXPECT_EQ(study.units.mass_text(1.0, 4), "1 lbf·s2/in (386.1 lb)");
}

// What a model.h5 brings and what its study says again make the same ledger: nothing was left behind in the
// study.
TEST(Ledger, OfAModelFromItsFileSaysTheSame) {
    const std::string more = R"(
[[region]]
name = "pad"
role = "keep"
material = "steel"
skin_of = "tip"
depth = 1
[[region]]
name = "spare"
role = "design"
material = "steel"
box = [[0, 0, 0], [1, 1, 1]]
active = false
[[surface]]
name = "top"
of = "block"
facing = [0, 0, 1]
[[point]]
name = "middle"
center_of = "top"
[[coupling]]
name = "arm"
surface = "top"
kind = "average"
[[load]]
name = "press"
on = "top"
pressure = 2
[[case]]
name = "both"
supports = "clamp"
loads = { pull = [1, -1], press = 1 }
[[case]]
name = "hum"
kind = "modal"
supports = "clamp"
[[response]]
name = "strong"
measure = "stress"
max = 200
[[response]]
name = "sag"
measure = "displacement"
at = "middle"
)";
    std::vector<std::pair<std::string, std::string>> all{{"block", test::block_study(more)}};
    for (const test::Body& body : test::bodies()) all.emplace_back(body.name, body.text);
    for (const auto& [name, text] : all) {
        const Study study = study_from(text);
        const Model model = build_model(study);
        const test::TemporaryFolder folder;
        save_model(folder.path() / "model.h5", model, study.resolved);
        StoredModel back = load_model(folder.path() / "model.h5");
        take_asked(back.model, study);
        const Ledger a = make_ledger(model, true);
        const Ledger b = make_ledger(back.model, true);
        ASSERT_EQ(a.sections.size(), b.sections.size()) << name;
        for (std::size_t s = 0; s < a.sections.size(); ++s) {
            ASSERT_EQ(a.sections[s].lines.size(), b.sections[s].lines.size()) << name << a.sections[s].title;
            for (std::size_t l = 0; l < a.sections[s].lines.size(); ++l) {
                const LedgerLine& one = a.sections[s].lines[l];
                const LedgerLine& other = b.sections[s].lines[l];
                EXPECT_EQ(one.name, other.name) << name;
                EXPECT_EQ(one.text, other.text) << name;
                EXPECT_EQ(one.remarks, other.remarks) << name;
                EXPECT_EQ(one.standing, other.standing) << name;
            }
        }
    }
}

// Twice the iterations take twice the time; more cells take more of both.
TEST(Estimate, OfARunGrowsWithWhatIsAsked) {
    const auto of = [](const std::vector<std::string>& settings) {
        return upright::estimate_run(
            upright::build_model(upright::test::study_from(upright::test::block_study(), settings)));
    };
    const upright::RunEstimate one = of({"run.iterations=50"});
    EXPECT_GT(one.seconds, 0.0);
    EXPECT_GT(one.bytes, 0.0);
    EXPECT_DOUBLE_EQ(of({"run.iterations=100"}).seconds, 2.0 * one.seconds);
    const upright::RunEstimate fine = of({"run.iterations=50", "mesh.size=0.25"});
    EXPECT_GT(fine.seconds, 2.0 * one.seconds);
    EXPECT_GT(fine.bytes, one.bytes);
    // Bounds on stress take as long as the rest and more; without a bound it is not looked at.
    const auto with_stress = [](const char* bound) {
        return upright::estimate_run(
                   upright::build_model(upright::test::study_from(
                       upright::test::block_study("[[response]]\nname = \"peak\"\nmeasure = \"stress\"\n" +
                                                  std::string(bound)),
                       {"run.iterations=50"})))
            .seconds;
    };
    EXPECT_DOUBLE_EQ(with_stress(""), one.seconds);
    EXPECT_GT(with_stress("max = 100\n"), one.seconds);
    const auto proof = [](const std::string& text, const std::vector<std::string>& settings) {
        return upright::estimate_verify(upright::build_model(upright::test::study_from(text, settings)));
    };
    const auto coarse = proof(upright::test::block_study(), {});
    const auto finer = proof(upright::test::block_study(), {"mesh.size=0.5"});
    ASSERT_TRUE(coarse && finer);
    EXPECT_GT(finer->seconds, 8.0 * coarse->seconds);
    EXPECT_FALSE(proof(upright::test::half_beam(12, 4, false), {}).has_value());
    EXPECT_EQ(upright::duration_text(0.2), "1 s");
    EXPECT_EQ(upright::duration_text(1500.0), "25 min");
    EXPECT_EQ(upright::duration_text(11000.0), "3.1 h");
}
