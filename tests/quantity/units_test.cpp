#include "quantity/units.hpp"

#include "base/angles.hpp"

#include <gtest/gtest.h>

using namespace upright;

namespace {

Unit read(const std::string& text) {
    return parse_unit(text, {"study.toml", 1, 1});
}
std::string refusal(const std::string& text) {
    try {
        read(text);
    } catch (const Error& bad) {
        return bad.what();
    }
    return {};
}

} // namespace

TEST(Units, AreWhatTheTablesOfTheTradeSay) {
    struct Row {
        const char* text;
        double si;
        Dimension dimension;
    };
    const double pound = 0.45359237, inch = 0.0254, g0 = 9.80665;
    const std::vector<Row> rows{
        {"m", 1.0, dimension::length},          {"mm", 1e-3, dimension::length},
        {"in", inch, dimension::length},        {"ft", 12 * inch, dimension::length},
        {"N", 1.0, dimension::force},           {"kN", 1e3, dimension::force},
        {"lbf", pound * g0, dimension::force},  {"kgf", g0, dimension::force},
        {"MPa", 1e6, dimension::stress},        {"N/mm2", 1e6, dimension::stress},
        {"N/mm^2", 1e6, dimension::stress},     {"psi", pound * g0 / (inch * inch), dimension::stress},
        {"bar", 1e5, dimension::stress},        {"kg", 1.0, dimension::mass},
        {"g", 1e-3, dimension::mass},           {"t", 1e3, dimension::mass},
        {"lb", pound, dimension::mass},         {"g/cm3", 1e3, dimension::density},
        {"t/mm3", 1e12, dimension::density},    {"Hz", 1.0, dimension::frequency},
        {"kHz", 1e3, dimension::frequency},     {"ms", 1e-3, dimension::time},
        {"m/s2", 1.0, dimension::acceleration}, {"N m", 1.0, dimension::moment},
        {"kN/mm", 1e6, dimension::stiffness},   {"1/K", 1.0, dimension::expansion},
        {"K", 1.0, dimension::temperature},     {"deg", degree, dimension::angle},
        {"rad", 1.0, dimension::angle},
    };
    for (const Row& row : rows) {
        const Unit unit = read(row.text);
        EXPECT_NEAR(unit.si, row.si, 1e-9 * row.si) << row.text;
        EXPECT_EQ(unit.dimension, row.dimension) << row.text;
    }
}

TEST(Units, OfMassAndForceAreOneSystem) {
    // Newton's law: a kilogram is a newton over a metre a second squared.
    EXPECT_EQ(read("kg m/s2").dimension, dimension::force);
    EXPECT_NEAR(read("kg m/s2").si, 1.0, 1e-12);
    EXPECT_EQ(read("J").dimension, dimension::moment);
    EXPECT_EQ(read("W s").dimension, dimension::moment);
}

TEST(Units, RefuseWhatMayMeanTwoThings) {
    for (const char* text :
         {"oz", "C", "T", "\"", "degC", "degF", "parsec/", "mmm", "N mm mm )", "5 mm", "2/mm", "mm 2", "5"})
        EXPECT_NE(refusal(text), "") << text;
    EXPECT_NE(refusal("Nn").find("study.toml:1:1"), std::string::npos);
}

TEST(Units, MayHavePowersAndStandBelowOne) {
    EXPECT_NEAR(read("1/mm").si, 1e3, 1e-9);
    EXPECT_NEAR(read("1 / mm2").si, 1e6, 1e-6);
    EXPECT_NEAR(read("s-1").si, 1.0, 1e-12);
    EXPECT_NEAR(read("mm^-2").si, 1e6, 1e-6);
    EXPECT_NEAR(read("kg/m^3").si, 1.0, 1e-12);
    EXPECT_NEAR(read("mm12").si, 1e-36, 1e-46);
}

TEST(UnitSystems, AreCoherent) {
    struct Row {
        const char *length, *force, *time;
        double mass_si, stress_si;
    };
    for (const Row& row : {Row{"mm", "N", "s", 1e3, 1e6}, Row{"m", "N", "s", 1.0, 1.0},
                           Row{"mm", "kN", "ms", 1.0, 1e9}, Row{"in", "lbf", "s", 175.126835, 6894.757293}}) {
        const UnitSystem units = make_unit_system(row.length, row.force, row.time, {});
        EXPECT_NEAR(units.si(dimension::mass), row.mass_si, 1e-8 * row.mass_si) << row.length;
        EXPECT_NEAR(units.si(dimension::stress), row.stress_si, 1e-8 * row.stress_si) << row.length;
        // Mass times acceleration is force, stress times area too.
        EXPECT_NEAR(units.si(dimension::mass) * units.si(dimension::acceleration), units.si(dimension::force),
                    1e-12 * units.force_si);
        EXPECT_NEAR(units.si(dimension::stress) * units.si(dimension::area), units.si(dimension::force),
                    1e-12 * units.force_si);
    }
}

TEST(UnitSystems, TakeLengthForceAndTimeAlone) {
    EXPECT_THROW(make_unit_system("N", "N", "s", {}), Error);
    EXPECT_THROW(make_unit_system("mm", "kg", "s", {}), Error);
    EXPECT_THROW(make_unit_system("mm", "N", "Hz", {}), Error);
    EXPECT_THROW(make_unit_system("", "N", "s", {}), Error);
}

TEST(UnitSystems, TellTheMassInWhatPeopleWeighIn) {
    const UnitSystem metric;
    EXPECT_EQ(metric.mass_text(0.0123, 3), "0.0123 t (12.3 kg)");
    const UnitSystem imperial = make_unit_system("in", "lbf", "s", {});
    EXPECT_NE(imperial.mass_text(1.0, 4).find("386.1 lb"), std::string::npos) << imperial.mass_text(1.0, 4);
}
