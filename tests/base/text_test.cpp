#include "base/text.hpp"

#include <gtest/gtest.h>
#include <sstream>

using namespace upright;

TEST(Text, JoinsWords) {
    EXPECT_EQ(joined({}), "");
    EXPECT_EQ(joined({"a"}), "a");
    EXPECT_EQ(joined({"a", "b", "c"}), "a, b, c");
    EXPECT_EQ(joined({"a", "b"}, " / "), "a / b");
}

TEST(Text, CountsColumnsNotBytes) {
    EXPECT_EQ(text_columns(""), 0U);
    EXPECT_EQ(text_columns("mm2"), 3U);
    EXPECT_EQ(text_columns("N·mm"), 4U);
    EXPECT_EQ(text_columns("größer"), 6U);
    EXPECT_EQ(text_columns("ρ ≥ 0.5"), 7U);
}

TEST(Text, LinesAreNoLongerThanTheWidthAndLoseNoWord) {
    const std::string text =
        "The stress bound on the bolt rings is broken by 2 % at iteration 37 — größte Spannung "
        "212 MPa where 208 are allowed";
    for (const std::size_t width : {20U, 33U, 60U, 200U})
        for (const std::size_t indent : {0U, 4U}) {
            std::istringstream lines(wrapped(text, indent, width));
            std::string line, all;
            bool first = true;
            while (std::getline(lines, line)) {
                if (!first) {
                    EXPECT_EQ(line.substr(0, indent), std::string(indent, ' '));
                    EXPECT_LE(text_columns(line), width);
                }
                EXPECT_LE(text_columns(line) + (first ? indent : 0), width);
                all += (first ? "" : " ") + line.substr(first ? 0 : indent);
                first = false;
            }
            EXPECT_EQ(all, text);
        }
}

TEST(Text, AWordLongerThanTheLineStandsByItself) {
    EXPECT_EQ(wrapped("a bbbbbbbbbbbbbbb c", 0, 6), "a\nbbbbbbbbbbbbbbb\nc");
    EXPECT_EQ(wrapped("", 2, 10), "");
}

TEST(Text, CellsOfTablesAreNeitherBrokenNorFormulas) {
    EXPECT_EQ(csv_cell("plain"), "plain");
    EXPECT_EQ(csv_cell("a,b"), "\"a,b\"");
    EXPECT_EQ(csv_cell("say \"x\"\n"), "\"say \"\"x\"\"\n\"");
    for (const char* formula : {"=1+1", "+cmd", "-cmd", "@sum(a)"})
        EXPECT_EQ(csv_cell(formula), std::string("'") + formula);
    for (const char* number : {"-1.5", "+2", "-.5", "-2 kN"}) EXPECT_EQ(csv_cell(number), number);
}
