// A card of the test's own, so that every part of a table is used: what it reads, and each of its refusals.
#include "study/schema.hpp"
#include "study/study.hpp"

#include <gtest/gtest.h>

using namespace upright;

namespace {

struct Lid {
    bool hinged = false;
    double angle = 0.0;
};
struct Base {
    std::string name;
    double weight = 0.0;
};
struct Crate : Base {
    Place place;
    enum class Wood { Oak, Pine } wood = Wood::Oak;
    Vec3 size = Vec3::Zero();
    std::optional<double> load;
    int boards = 4;
    std::vector<std::string> labels;
    std::optional<Lid> lid;
    double rope = 0.0, strap = 0.0, tension = 0.0;
    Place load_place;
    bool checked = false;
};

const Schema<Lid>& lid_schema() {
    static const Schema<Lid> out = schema<Lid>(
        "lid", "what closes it",
        {key("hinged", value::flag(), &Lid::hinged).says("or loose"),
         key("angle", value::quantity(dimension::angle).between(0, 180), &Lid::angle).says("open")});
    return out;
}
const TableFacts* lid_facts() {
    return &lid_schema().facts;
}

const Schema<Crate>& crate_schema() {
    static const Schema<Crate> out = [] {
        auto s = cards<Crate>(
            "crate", "a box of boards", "box", true,
            {Key<Crate>(key("weight", value::quantity(dimension::mass).above(0), &Base::weight)
                            .must("weight = \"3 kg\"")),
             key("wood", Words<Crate::Wood>{{"oak", Crate::Wood::Oak}, {"pine", Crate::Wood::Pine}},
                 &Crate::wood),
             key("size", value::place(), &Crate::size).was("dimensions").example("size = [1, 2, 3]"),
             key("load", value::quantity(dimension::force), &Crate::load, &Crate::load_place),
             key("boards", value::whole(3, 12), &Crate::boards),
             key("labels", value::names("a label"), &Crate::labels),
             table_key("lid", lid_schema, &Crate::lid, lid_facts),
             key("rope", value::quantity(dimension::length).above(0), &Crate::rope),
             key("strap", value::quantity(dimension::length).above(0), &Crate::strap),
             key("tension", value::quantity(dimension::force), &Crate::tension)
                 .beside({"rope", "strap"}, "tension belongs to rope or strap", "Write rope = 10 as well"),
             later_key<Crate>("wheels", {value::flag()}, "to be rolled")},
            [](Crate& crate, const CardReader& reader) {
                crate.checked = true;
                if (crate.load && *crate.load > 1000.0 * crate.boards)
                    throw Error::input(reader.place(), "more than its boards bear");
            });
        s.facts.choices = {{{"rope", "strap"}, false, "", "{two} exclude each other in {title} {name}", ""}};
        return s;
    }();
    return out;
}

struct Outcome {
    std::vector<Crate> crates;
    Study study;
    std::string refusal;
};
Outcome read(const std::string& keys) {
    Outcome out;
    const Quantities quantities;
    const Context context{quantities, out.study, false, false, ".", false};
    try {
        const Node document = parse_document("[[crate]]\nname = \"a\"\n" + keys, "crates.toml");
        read_cards(crate_schema(), document, context, out.study,
                   [&](Crate crate, const CardReader&) { out.crates.push_back(std::move(crate)); });
    } catch (const Error& bad) {
        out.refusal = bad.what();
    }
    return out;
}

} // namespace

TEST(OwnSchema, FillsEveryMember) {
    const Outcome out = read("weight = \"3 kg\"\nwood = \"pine\"\nsize = [1, \"2 cm\", 3]\nload = \"2 kN\"\n"
                             "boards = 6\nlabels = [\"x\", \"y\"]\nlid = { hinged = true, angle = 90 }\n"
                             "rope = 5\ntension = 7\n");
    ASSERT_EQ(out.refusal, "");
    ASSERT_EQ(out.crates.size(), 1U);
    const Crate& crate = out.crates.front();
    EXPECT_EQ(crate.name, "a");
    EXPECT_NEAR(crate.weight, 0.003, 1e-15); // tonnes, into a member of what the card is built on
    EXPECT_EQ(crate.wood, Crate::Wood::Pine);
    EXPECT_EQ(crate.size, Vec3(1, 20, 3));
    EXPECT_DOUBLE_EQ(*crate.load, 2000.0);
    EXPECT_EQ(crate.load_place.line, 6);
    EXPECT_EQ(crate.boards, 6);
    EXPECT_EQ(crate.labels, (std::vector<std::string>{"x", "y"}));
    ASSERT_TRUE(crate.lid.has_value());
    EXPECT_TRUE(crate.lid->hinged);
    EXPECT_DOUBLE_EQ(crate.tension, 7.0);
    EXPECT_EQ(crate.place.line, 1);
    EXPECT_TRUE(crate.checked);
}

TEST(OwnSchema, LeavesWhatIsNotWritten) {
    const Outcome out = read("weight = 1\nlabels = \"alone\"\n");
    ASSERT_EQ(out.refusal, "");
    EXPECT_EQ(out.crates.front().boards, 4);
    EXPECT_FALSE(out.crates.front().load.has_value());
    EXPECT_FALSE(out.crates.front().lid.has_value());
    EXPECT_EQ(out.crates.front().labels, std::vector<std::string>{"alone"});
}

TEST(OwnSchema, ACardThatRestsIsNoted) {
    const Outcome out = read("weight = 1\nactive = false\n[[crate]]\nname = \"b\"\nweight = 2\n");
    ASSERT_EQ(out.refusal, "");
    ASSERT_EQ(out.crates.size(), 1U);
    EXPECT_EQ(out.crates.front().name, "b");
    ASSERT_EQ(out.study.inactive.size(), 1U);
    EXPECT_EQ(out.study.inactive.front(), "crate a");
}

TEST(OwnSchema, EveryRefusalHasItsPlaceAndItsWords) {
    struct Row {
        const char *keys, *place, *words;
    };
    for (const Row& row : {
             Row{"wood = \"oak\"\n", "crates.toml:1", "lacks \"weight\""},
             Row{"weight = 0\n", "crates.toml:3:10", "above zero"},
             Row{"weight = \"3 N\"\n", "crates.toml:3:10", "mass"},
             Row{"weight = 1\nwood = \"elm\"\n", "crates.toml:4:8", "oak"},
             Row{"weight = 1\nboards = 2\n", "crates.toml:4:10", "at least 3"},
             Row{"weight = 1\nboards = 13\n", "crates.toml:4:10", "at most 12"},
             Row{"weight = 1\nboards = 4.5\n", "crates.toml:4:10", "whole number"},
             Row{"weight = 1\nsize = [1, 2]\n", "crates.toml:4:8", "three"},
             Row{"weight = 1\nbords = 5\n", "crates.toml:4:1", "boards"},
             Row{"weight = 1\ndimensions = [1, 2, 3]\n", "crates.toml:4:1", "size"},
             Row{"weight = 1\nwheels = true\n", "crates.toml:4:1", "does not serve yet"},
             Row{"weight = 1\ntension = 3\n", "crates.toml:4:11", "tension belongs to rope or strap"},
             Row{"weight = 1\nrope = 3\nstrap = 4\n", "crates.toml:5:9", "\"rope\" and \"strap\" exclude"},
             Row{"weight = 1\nlid = { angle = 200 }\n", "crates.toml:4:17", "must not exceed 180 deg"},
             Row{"weight = 1\nlid = { hinge = true }\n", "crates.toml:4:9", "hinged"},
             Row{"weight = 1\nlid = 3\n", "crates.toml:4:7", "table"},
             Row{"weight = 1\nload = 5000\n", "crates.toml:1", "more than its boards bear"},
         }) {
        const std::string refusal = read(row.keys).refusal;
        EXPECT_EQ(refusal.rfind(row.place, 0), 0U) << row.keys << " -> " << refusal;
        EXPECT_NE(refusal.find(row.words), std::string::npos) << row.keys << " -> " << refusal;
    }
}

TEST(OwnSchema, KeysStandInTheirOrderWithActiveLast) {
    Schema<Crate> more = crate_schema();
    more.add({key<Crate>("colour", std::vector<ValueForm>{value::text()}, [](Crate&, const Given&) {})});
    const std::vector<std::string> names = more.facts.key_names();
    EXPECT_EQ(names.front(), "name");
    EXPECT_EQ(names.back(), "active");
    EXPECT_EQ(names[names.size() - 2], "colour");
    EXPECT_EQ(more.takes.size(), more.facts.keys.size());
}
