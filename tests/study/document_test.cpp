#include "study/document.hpp"
#include "study/settings.hpp"

#include "support/studies.hpp"

#include <gtest/gtest.h>

using namespace upright;

namespace {

std::string parse_error(const std::string& text) {
    try {
        parse_document(text, "s.toml");
    } catch (const Error& bad) {
        return bad.what();
    }
    return "";
}

} // namespace

TEST(Document, KeepsOrderAndPlaces) {
    const Node document = parse_document("zeta = 1\nalpha = { y = 2, b = \"x\" }\n", "s.toml");
    ASSERT_EQ(document.table()->size(), 2U);
    EXPECT_EQ(document.table()->at(0).key, "zeta");
    const Node* alpha = document.find("alpha");
    ASSERT_NE(alpha, nullptr);
    EXPECT_EQ(alpha->table()->at(0).key, "y");
    EXPECT_EQ(alpha->find("b")->place.line, 2);
    EXPECT_EQ(alpha->find("b")->place.column, 22);
}

TEST(Document, HintsAtUsualSlips) {
    EXPECT_NE(parse_error("size = 3 mm\n").find("\"3 mm\""), std::string::npos);
    EXPECT_NE(parse_error("sharpen = yes\n").find("Write true or false"), std::string::npos);
    EXPECT_NE(parse_error("title = \"open\nx = 1\n").find("Close the text"), std::string::npos);
    EXPECT_NE(parse_error("role = design\n").find("\"design\""), std::string::npos);
    EXPECT_EQ(parse_error("size = 3 mm\n").rfind("s.toml:1:", 0), 0U);
}

TEST(Document, ExtendsReplacesCardsOfTheSameName) {
    const test::TemporaryFolder folder;
    folder.write("base.toml", "title = \"a\"\n[[load]]\nname = \"p\"\nx = 1\n[[load]]\nname = \"q\"\nx = "
                              "2\n[run]\niterations = 5\nfilter = 2\n");
    const auto file = folder.write("over.toml", "extends = \"base.toml\"\n[[load]]\nname = \"q\"\nx = "
                                                "7\n[[load]]\nname = \"r\"\nx = 3\n[run]\nfilter = 9\n");
    const Node merged = load_document(file);
    const Node::List& loads = *merged.find("load")->list();
    ASSERT_EQ(loads.size(), 3U);
    EXPECT_EQ(*loads[1].find("x")->number(), 7);
    EXPECT_EQ(loads[1].find("x")->place.file,
              file.string()); // its error would point at the file it stands in
    EXPECT_EQ(*merged.find("run")->find("iterations")->number(), 5);
    EXPECT_EQ(*merged.find("run")->find("filter")->number(), 9);
    EXPECT_EQ(merged.find("extends"), nullptr);
}

TEST(Document, ExtendsFindsCirclesAndMissingFiles) {
    const test::TemporaryFolder folder;
    const auto a = folder.write("a.toml", "extends = \"b.toml\"\n");
    folder.write("b.toml", "extends = \"a.toml\"\n");
    EXPECT_THROW(load_document(a), Error);
    const auto c = folder.write("c.toml", "title = \"c\"\nextends = \"none.toml\"\n");
    try {
        load_document(c);
        FAIL();
    } catch (const Error& bad) {
        EXPECT_EQ(bad.place().line, 2);
    }
}

TEST(Document, SettingsReachCardsByName) {
    Node document =
        parse_document("[[response]]\nname = \"budget\"\nmax = 0.5\n[mesh]\nsize = 1\n", "s.toml");
    apply_setting(document, "response.budget.max=0.3", shipped_language());
    apply_setting(document, "mesh.size=4 mm", shipped_language());
    apply_setting(document, "run.iterations=7", shipped_language()); // the table is made
    apply_setting(document, "response.budget.of=[\"a\", \"b\"]", shipped_language());
    EXPECT_EQ(*document.find("response")->list()->at(0).find("max")->number(), 0.3);
    EXPECT_EQ(*document.find("mesh")->find("size")->text(), "4 mm");
    EXPECT_EQ(*document.find("run")->find("iterations")->number(), 7);
    EXPECT_EQ(document.find("response")->list()->at(0).find("of")->list()->size(), 2U);
}

TEST(Document, SettingsThatLeadNowhereAreRefused) {
    Node document = parse_document("[[response]]\nname = \"budget\"\nmax = 0.5\n", "s.toml");
    for (const char* setting : {"response.bugdet.max=1", "respons.budget.max=1", "response.budget=1",
                                "response=1", "nothing", "response.budget.max.x=1", "a..b=1"}) {
        try {
            apply_setting(document, setting, shipped_language());
            ADD_FAILURE() << setting;
        } catch (const Error& bad) {
            EXPECT_EQ(bad.code(), ExitCode::Usage) << setting;
        }
    }
}

TEST(Document, WritesWhatItRead) {
    const std::string text =
        "title = \"quote \\\" and \\\\ and é\"\nlist = [1, [2.5, \"x\"], true]\n\n[[load]]\nname = "
        "\"p\"\nforce = [0, 1e-05]\n\n[run]\nx = { a = 1, \"b c\" = 2 }\n";
    const Node first = parse_document(text, "s.toml");
    const std::string written = write_document(first);
    EXPECT_EQ(write_document(parse_document(written, "s.toml")), written);
    EXPECT_EQ(written, text);
}
