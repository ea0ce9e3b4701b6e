#include "quantity/quantities.hpp"
#include "quantity/units.hpp"

#include <gtest/gtest.h>

using namespace upright;

namespace {

const Place here{"study.toml", 1, 1};

Quantities millimetres(const std::vector<NamedValue>& values = {}) {
    return Quantities(make_unit_system("mm", "N", "s", here), values);
}

std::string complaint(const Quantities& q, const std::string& text, const Dimension& d) {
    try {
        q.number(text, d, here);
    } catch (const Error& bad) {
        return bad.what();
    }
    return "";
}

} // namespace

TEST(Quantities, ConvertToBaseUnits) {
    const Quantities q = millimetres();
    EXPECT_DOUBLE_EQ(q.number("1.8 kN", dimension::force, here), 1800.0);
    EXPECT_NEAR(q.number("210 GPa", dimension::stress, here), 210000.0, 1e-7);
    EXPECT_NEAR(q.number("7.1 g/cm3", dimension::density, here), 7.1e-9, 1e-22); // tonne per mm3
    EXPECT_NEAR(q.number("62 kg", dimension::mass, here), 0.062, 1e-15);
    EXPECT_NEAR(q.number("-225 lbf", dimension::force, here), -1000.849860, 1e-5);
    EXPECT_NEAR(q.number("1 in", dimension::length, here), 25.4, 1e-12);
    EXPECT_NEAR(q.number("-9.81 m/s2", dimension::acceleration, here), -9810.0, 1e-9);
    EXPECT_NEAR(q.number("11e-6 1/K", dimension::expansion, here), 11e-6, 1e-18);
    EXPECT_NEAR(q.number("0.1 rad", dimension::angle, here), 5.729577951, 1e-8);
    EXPECT_NEAR(q.number("35 %", dimension::none, here), 0.35, 1e-15);
    EXPECT_DOUBLE_EQ(q.number("3.5", dimension::length, here), 3.5); // a bare number is in base units
}

TEST(Quantities, WorkInOtherSystems) {
    const Quantities q(make_unit_system("in", "lbf", "s", here));
    EXPECT_NEAR(q.number("30 Msi", dimension::stress, here), 30e6, 1e-3);
    EXPECT_NEAR(q.number("25.4 mm", dimension::length, here), 1.0, 1e-12);
    EXPECT_NEAR(q.number("1 lb", dimension::mass, here), 1.0 / 386.08858, 1e-9);
}

TEST(Quantities, KnowWhatTheDatabaseLacks) {
    const Quantities q = millimetres();
    EXPECT_NEAR(q.number("2 Nm", dimension::moment, here), 2000.0, 1e-9);
    EXPECT_NEAR(q.number("100 thou", dimension::length, here), 2.54, 1e-12);
    EXPECT_NEAR(q.number("2 lbm", dimension::mass, here), 0.00090718474, 1e-15);
    EXPECT_NEAR(q.number("45 deg", dimension::angle, here), 45.0, 1e-12);
}

TEST(Quantities, RefuseWhatIsAmbiguous) {
    const Quantities q = millimetres();
    for (const char* text : {"3 oz", "2 g0", "20 C", "3 T", "5 \"", "20 degC", "2 ton"})
        EXPECT_NE(complaint(q, text, dimension::mass), "") << text;
}

TEST(Quantities, CheckDimensions) {
    const Quantities q = millimetres();
    EXPECT_EQ(complaint(q, "3 mm", dimension::force), "study.toml:1:1: \"3 mm\" is a length where a force is "
                                                      "expected. Write it in N or another unit of force.");
    EXPECT_NE(complaint(q, "5 lb", dimension::force).find("a lb is a mass"), std::string::npos);
    EXPECT_NE(complaint(q, "0 mm", dimension::force), "");
    EXPECT_NE(complaint(q, "3 wobbles", dimension::length).find("not a unit"), std::string::npos);
}

TEST(Quantities, EvaluateArithmeticWithDimensions) {
    const Quantities q = millimetres({{"lift", std::string("1.8 kN"), here},
                                      {"half", std::string("lift/2"), here},
                                      {"arm", std::string("20 mm"), here},
                                      {"n", 3.0, here}});
    EXPECT_NEAR(q.number("-0.5*lift", dimension::force, here), -900.0, 1e-9);
    EXPECT_NEAR(q.number("half + lift", dimension::force, here), 2700.0, 1e-9);
    EXPECT_NEAR(q.number("lift*arm", dimension::moment, here), 36000.0, 1e-9);
    EXPECT_NEAR(q.number("sqrt(arm*arm)", dimension::length, here), 20.0, 1e-12);
    EXPECT_NEAR(q.number("2*n", dimension::none, here), 6.0, 1e-12);
    EXPECT_NEAR(q.number("2*n", dimension::length, here), 6.0, 1e-12); // no unit took part
    EXPECT_DOUBLE_EQ(q.number("0*lift", dimension::force, here), 0.0);
}

TEST(Quantities, RefuseMixedSums) {
    const Quantities q =
        millimetres({{"lift", std::string("1.8 kN"), here}, {"arm", std::string("20 mm"), here}});
    EXPECT_NE(complaint(q, "lift + arm", dimension::force).find("mixes quantities"), std::string::npos);
    EXPECT_NE(complaint(q, "lift + 3", dimension::force).find("mixes quantities"), std::string::npos);
    EXPECT_NE(complaint(q, "lift*arm", dimension::force).find("is a moment"), std::string::npos);
}

TEST(Quantities, RefuseWhatTheParserWouldTake) {
    const Quantities q = millimetres({{"lift", std::string("1.8 kN"), here}});
    EXPECT_NE(complaint(q, "1/0", dimension::force).find("not a finite number"), std::string::npos);
    EXPECT_NE(complaint(q, "1,000 N", dimension::force).find("comma"), std::string::npos);
    EXPECT_NE(complaint(q, "lift, lift", dimension::force), "");
    EXPECT_NE(complaint(q, "2 lift", dimension::force).find("lacks an operator"), std::string::npos);
    EXPECT_NE(complaint(q, "-lfit", dimension::force).find("Did you mean \"lift\"?"), std::string::npos);
    EXPECT_NE(complaint(q, "", dimension::force), "");
    EXPECT_NE(complaint(q, "nan", dimension::force), "");
}

TEST(Quantities, TwoNumbersAreNotMultiplied) {
    const Quantities q;
    EXPECT_THROW(q.number("3 5 mm", dimension::length, {}), Error);
    EXPECT_THROW(q.number("3,5 mm", dimension::length, {}), Error);
    EXPECT_DOUBLE_EQ(q.number("3.5 mm", dimension::length, {}), 3.5);
    EXPECT_DOUBLE_EQ(q.number("1e1 mm", dimension::length, {}), 10.0);
    EXPECT_DOUBLE_EQ(q.number("12e-6 1/K", dimension::expansion, {}), 12e-6);
}

TEST(Quantities, FindCircles) {
    EXPECT_THROW(millimetres({{"a", std::string("b*2"), here}, {"b", std::string("a*2"), here}}), Error);
    EXPECT_THROW(millimetres({{"a-b", 1.0, here}}), Error);
    // A value may bear the name of a function of the parser.
    EXPECT_DOUBLE_EQ(millimetres({{"min", 4.0, here}}).number("2*min", dimension::none, here), 8.0);
}

TEST(UnitSystem, NamesUnitsForPeople) {
    const UnitSystem u = make_unit_system("mm", "N", "s", here);
    EXPECT_EQ(u.text(dimension::stress), "MPa");
    EXPECT_EQ(u.text(dimension::mass), "t");
    EXPECT_EQ(u.text(dimension::moment), "N·mm");
    EXPECT_EQ(make_unit_system("in", "lbf", "s", here).text(dimension::stress), "lbf/in2");
    EXPECT_THROW(make_unit_system("N", "mm", "s", here), Error);
}
