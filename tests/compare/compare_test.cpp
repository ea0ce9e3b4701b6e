#include "compare/comparison.hpp"
#include "compare/sweep_points.hpp"
#include "figures/charts_compared.hpp"

#include "base/error.hpp"
#include "base/files.hpp"
#include "support/folder.hpp"

#include <gtest/gtest.h>

using namespace upright;
using test::TemporaryFolder;

namespace {

std::vector<std::string> paths(const std::vector<StudyDifference>& all) {
    std::vector<std::string> out;
    for (const StudyDifference& d : all) out.push_back(d.path);
    return out;
}

using Strings = std::vector<std::string>;

Subject subject(const std::string& label, const std::vector<KnownValue>& values) {
    Subject out;
    out.label = label;
    out.values = values;
    return out;
}

} // namespace

TEST(StudyDifferences, AreToldCardByCard) {
    const std::string base =
        "title = \"a\"\n[mesh]\nsize = 8\n[[region]]\nname = \"block\"\nrole = \"design\"\n"
        "[[region]]\nname = \"hole\"\nrole = \"void\"\n[[response]]\nname = \"budget\"\nmax = 0.4\n";
    EXPECT_TRUE(study_differences({base, base}).empty());
    // Comments, blanks and the order of keys and of cards other than regions are no difference.
    const std::string same =
        "# words\n[mesh]\nsize = 8.0\n[[response]]\nmax = 0.40\nname = \"budget\"\n[[region]]\nname "
        "= \"block\"\nrole = \"design\"\n[[region]]\nname = \"hole\"\nrole = \"void\"\n";
    EXPECT_TRUE(study_differences({base, "title = \"a\"\n" + same}).empty());
    std::string other = base;
    other.replace(other.find("0.4"), 3, "0.3");
    const auto found = study_differences({base, other, base});
    ASSERT_EQ(paths(found), Strings{"response.budget.max"});
    EXPECT_EQ(found[0].values, (Strings{"0.4", "0.3", "0.4"}));
    // Tables and lists stand on one line.
    const auto tables = study_differences(
        {base + "[form]\nsectors = { frame = \"a\", count = 5 }\n",
         base + "[form]\nsectors = { frame = \"a\", count = 6 }\nmirror = [\"x = 0\", \"y = 0\"]\n"});
    ASSERT_EQ(paths(tables), (Strings{"form.sectors", "form.mirror"}));
    EXPECT_EQ(tables[0].values, (Strings{"{ frame = \"a\", count = 5 }", "{ frame = \"a\", count = 6 }"}));
    EXPECT_EQ(tables[1].values, (Strings{"", "[\"x = 0\", \"y = 0\"]"}));
    // A card that one of them lacks is one difference, not one for each of its keys.
    const auto more =
        study_differences({base, base + "[[load]]\nname = \"side\"\non = \"tip\"\nforce = [1, 0, 0]\n"});
    ASSERT_EQ(paths(more), Strings{"load.side"});
    EXPECT_EQ(more[0].values, (Strings{"", "there"}));
    // Regions paint over each other.
    const std::string turned =
        "title = \"a\"\n[mesh]\nsize = 8\n[[region]]\nname = \"hole\"\nrole = \"void\"\n[[region]]\n"
        "name = \"block\"\nrole = \"design\"\n[[response]]\nname = \"budget\"\nmax = 0.4\n";
    EXPECT_EQ(paths(study_differences({base, turned})), Strings{"order of regions"});
    // A study that is not known has no say.
    EXPECT_TRUE(study_differences({base, "", base}).empty());
    EXPECT_EQ(study_differences({"", base, other}).size(), 1U);
    EXPECT_THROW(study_differences({base, "= 3"}), Error);
}

TEST(Comparison, ConvertsUnitsAndKeepsWhatOneAloneHas) {
    const Comparison both(
        {subject("x/a.run", {{"largest", "pull: stress", "MPa", 100.0, {}, {}, false, ""},
                             {"responses", "sag", "mm", 2.0, {}, 2.5, false, ""},
                             {"run", "ended", "", {}, {}, {}, false, "converged"}}),
         subject("y/a.run", {{"responses", "sag", "in", 0.1, {}, 0.05, true, ""},
                             {"responses", "more", "", 7.0, {}, {}, false, ""},
                             {"largest", "pull: stress", "psi", 14503.77377, {}, {}, false, ""}})});
    EXPECT_EQ(both.subjects()[0].label, "x/a");
    EXPECT_EQ(both.subjects()[1].label, "y/a");
    const ComparedRow* stress = both.row("largest", "pull: stress");
    ASSERT_NE(stress, nullptr);
    EXPECT_EQ(stress->unit, "MPa");
    EXPECT_NEAR(*stress->values[1], 100.0, 1e-5);
    const ComparedRow* sag = both.row("responses", "sag");
    ASSERT_NE(sag, nullptr);
    EXPECT_NEAR(*sag->values[1], 2.54, 1e-12);
    EXPECT_NEAR(*sag->maxs[1], 1.27, 1e-12);
    EXPECT_FALSE(sag->common_max().has_value());
    EXPECT_TRUE(sag->broken[1]);
    const ComparedRow* more = both.row("responses", "more");
    ASSERT_NE(more, nullptr);
    EXPECT_FALSE(more->values[0].has_value());
    EXPECT_EQ(both.rows().front().group, "responses");
    const TemporaryFolder folder;
    both.write_csv(folder.path() / "c.csv");
    EXPECT_NE(read_text(folder.path() / "c.csv").find("responses,sag,mm,2,2.54"), std::string::npos);
}

TEST(SweepPoints, ListsRangesAndCombinations) {
    EXPECT_EQ(read_varied("response.budget.max=0.4, 0.3,0.2").values, (Strings{"0.4", "0.3", "0.2"}));
    EXPECT_EQ(read_varied("values.lift=1 kN..2 kN in 5").values,
              (Strings{"1 kN", "1.25 kN", "1.5 kN", "1.75 kN", "2 kN"}));
    EXPECT_EQ(read_varied("values.lift=-1..1 in 3").values, (Strings{"-1", "0", "1"}));
    EXPECT_EQ(read_varied("values.lift=1..2 kN in 2").values, (Strings{"1 kN", "2 kN"}));
    EXPECT_EQ(read_varied("load.side.force=[1, 0, 0],[0, 1, 0]").values, (Strings{"[1, 0, 0]", "[0, 1, 0]"}));
    EXPECT_EQ(read_varied("region.file=\"a,b.stl\",\"c..d.stl\"").values,
              (Strings{"\"a,b.stl\"", "\"c..d.stl\""}));
    for (const char* bad : {"max", "=3", "x=", "x=1,,2", "x=1..2", "x=1..2 in 1", "x=1 mm..2 in in 4",
                            "x=a..b in 3", "x=1..2 in many", "x=3,3"})
        EXPECT_THROW(read_varied(bad), Error) << bad;
    const std::vector<Varied> two{{"response.budget.max", {"0.4", "0.3"}},
                                  {"values.lift", {"1 kN", "2 kN", "3 kN"}}};
    const auto all = sweep_points(two, false);
    ASSERT_EQ(all.size(), 6U);
    EXPECT_EQ(all[1].settings, (Strings{"response.budget.max=0.4", "values.lift=2 kN"}));
    EXPECT_EQ(all[5].label, "budget.max=0.3, lift=3 kN");
    EXPECT_THROW(sweep_points(two, true), Error);
    const auto beside = sweep_points({{"a.b", {"1", "2"}}, {"c.d", {"3", "4"}}}, true);
    ASSERT_EQ(beside.size(), 2U);
    EXPECT_EQ(beside[1].settings, (Strings{"a.b=2", "c.d=4"}));
    EXPECT_THROW(sweep_points({}, false), Error);
    EXPECT_THROW(sweep_points({{"a.b", {"1"}}, {"a.b", {"2"}}}, false), Error);
    EXPECT_THROW(sweep_points({{"a.b", Strings(40, "1")}, {"c.d", Strings(40, "1")}}, false), Error);
}

TEST(Scatter, TheFrontIsWhatNoFeasibleOneBeats) {
    std::vector<ScatterPoint> points{{"light", 1, 10, true, false},      {"middle", 2, 5, true, false},
                                     {"beaten", 3, 6, true, false},      {"stiff", 4, 1, true, false},
                                     {"broken", 0.5, 0.5, false, false}, {"same", 2, 5, true, false}};
    mark_front(points, true, true);
    for (const ScatterPoint& p : points)
        EXPECT_EQ(p.front, p.label != "beaten" && p.label != "broken") << p.label;
    // Where much is good, others stand in front.
    mark_front(points, true, false);
    for (const ScatterPoint& p : points) EXPECT_EQ(p.front, p.label == "light") << p.label;
    const TemporaryFolder folder;
    for (const char* name : {"s.png", "s.svg"}) {
        points[0].label = "quote \" back\\slash\nline";
        draw_scatter("it's <a> title", "x, \"mm\"", "y", points, {}, folder.path() / name);
        EXPECT_GT(std::filesystem::file_size(folder.path() / name), 3000U);
    }
    EXPECT_NE(read_text(folder.path() / "s.svg").find("</svg>"), std::string::npos);
}
