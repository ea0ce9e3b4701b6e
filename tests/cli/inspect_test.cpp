// upright inspect --midsurface: the mesh and the cards it writes are a study that can be analysed.
#include "support/folder.hpp"
#include "support/run_upright.hpp"

#include <array>
#include <gtest/gtest.h>
#include <nlohmann/json.hpp>
#include <sstream>

using namespace upright;
namespace fs = std::filesystem;

namespace {

// Held all along a line and pressed along another one.
std::string acts(const std::string& held, const std::string& pressed, const std::string& force) {
    return "\n[[surface]]\nname = \"held\"\non_plane = " + held +
           "\n[[surface]]\nname = \"pressed\"\non_plane = " + pressed +
           "\n[[support]]\nname = \"clamp\"\non = \"held\"\nhold = [\"x\", \"y\", \"z\", \"rx\", \"ry\", "
           "\"rz\"]"
           "\n[[load]]\nname = \"press\"\non = \"pressed\"\nforce = " +
           force + "\n[[case]]\nname = \"press\"\nsupports = \"clamp\"\nloads = { press = 1 }\n";
}

double deflection(const test::TemporaryFolder& folder, const std::string& study) {
    const auto out = test::upright(folder.path(), {"analyze", study, "--no-figures", "--out", "a"});
    EXPECT_EQ(out.code, 0) << out.out << out.err;
    const auto json = nlohmann::json::parse(test::text_of(folder.path() / "a" / "analysis.json"));
    return json.at("cases").at(0).at("largest_displacement").at("value").get<double>();
}

// A box from the origin.
std::string box_stl(double x, double y, double z) {
    std::string out = "solid box\n";
    for (int axis = 0; axis < 3; ++axis)
        for (const int side : {0, 1}) {
            const auto corner = [&](int u, int v) {
                std::array<int, 3> at{};
                at[static_cast<std::size_t>(axis)] = side;
                at[static_cast<std::size_t>((axis + 1) % 3)] = side == 1 ? u : v;
                at[static_cast<std::size_t>((axis + 2) % 3)] = side == 1 ? v : u;
                std::ostringstream text;
                text << "vertex " << at[0] * x << ' ' << at[1] * y << ' ' << at[2] * z << '\n';
                return text.str();
            };
            for (const auto& [a, b] :
                 {std::pair{std::pair{1, 0}, std::pair{1, 1}}, std::pair{std::pair{1, 1}, std::pair{0, 1}}})
                out += "facet normal 0 0 0\nouter loop\n" + corner(0, 0) + corner(a.first, a.second) +
                       corner(b.first, b.second) + "endloop\nendfacet\n";
        }
    return out + "endsolid box\n";
}

} // namespace

// A plate of 4 by 2 by half an inch, held at a short side: between a beam, and a plate so wide that it does
// not bend across.
TEST(InspectMidsurface, APlateBendsAsABeam) {
    const test::TemporaryFolder folder;
    fs::copy_file(fs::path(UPRIGHT_TEST_BODIES) / "inch-plate.step", folder.path() / "dünne platte.step");
    for (const char* size : {"10 mm", "0.2 in"}) {
        const auto out = test::upright(folder.path(), {"inspect", "dünne platte.step", "--midsurface",
                                                       "--mesh-size", size, "--no-figures"});
        ASSERT_EQ(out.code, 0) << out.err;
        EXPECT_NE(out.out.find("12.7"), std::string::npos) << out.out;
        const fs::path study = folder.path() / "dünne platte-midsurface.toml";
        ASSERT_TRUE(fs::exists(study));
        folder.write("study.toml",
                     test::text_of(study) + acts("{ point = [0, 0, 0], normal = [1, 0, 0] }",
                                                 "{ point = [101.6, 0, 0], normal = [1, 0, 0] }",
                                                 "[0, 0, -1000]"));
        const double E = 210000, nu = 0.3, L = 101.6, b = 50.8, t = 12.7, F = 1000;
        const double bending = F * L * L * L / (3 * E * b * t * t * t / 12);
        const double found = deflection(folder, "study.toml");
        EXPECT_GT(found, (1 - nu * nu) * bending) << size;
        EXPECT_LT(found, bending) << size;
        fs::remove_all(folder.path() / "a");
    }
}

// What comes out is designed and carved like any other shell.
TEST(InspectMidsurface, APlateIsDesignedAndCarved) {
    const test::TemporaryFolder folder;
    fs::copy_file(fs::path(UPRIGHT_TEST_BODIES) / "inch-plate.step", folder.path() / "plate.step");
    const auto out = test::upright(
        folder.path(), {"inspect", "plate.step", "--midsurface", "--mesh-size", "6 mm", "--no-figures"});
    ASSERT_EQ(out.code, 0) << out.err;
    const std::string pad =
        "[[region]]\nname = \"pad\"\nrole = \"keep\"\nmaterial = \"S235\"\nbox = [[90, -1, "
        "0], [102, 52, 13]]\nthickness = 12.7\n";
    folder.write("study.toml",
                 test::text_of(folder.path() / "plate-midsurface.toml") + pad +
                     acts("{ point = [0, 0, 0], normal = [1, 0, 0] }",
                          "{ point = [101.6, 0, 0], normal = [1, 0, 0] }", "[0, 400, -100]") +
                     "[[response]]\nname = \"stiffness\"\nmeasure = \"compliance\"\n[[response]]\nname = "
                     "\"budget\"\nmeasure = \"mass-fraction\"\nmax = 0.5\n[goal]\nminimize = "
                     "\"stiffness\"\n[run]\niterations = 40\nfilter = \"15 mm\"\n");
    const auto run = test::upright(folder.path(), {"optimize", "study.toml", "--quiet"});
    EXPECT_TRUE(run.code == 0 || run.code == 4) << run.out << run.err;
    const auto carve = test::upright(folder.path(), {"carve", "study.run", "--size", "640x400"});
    EXPECT_EQ(carve.code, 0) << carve.out << carve.err;
    EXPECT_NE(carve.out.find("closed"), std::string::npos) << carve.out;
    const auto part = test::upright(folder.path(), {"inspect", "study.run/part.stl", "--no-figures"});
    EXPECT_EQ(part.code, 0) << part.err;
    EXPECT_NE(part.out.find("12.7"), std::string::npos) << part.out;
}

// Elements are smaller than the walls are thick, and the rib ends within a plate.
TEST(InspectMidsurface, ABracketWithARibIsDesignedCarvedAndVerified) {
    const test::TemporaryFolder folder;
    fs::copy_file(fs::path(UPRIGHT_TEST_BODIES) / "bracket.step", folder.path() / "bracket.step");
    const auto out = test::upright(
        folder.path(), {"inspect", "bracket.step", "--midsurface", "--mesh-size", "2.5 mm", "--no-figures"});
    ASSERT_EQ(out.code, 0) << out.err;
    const std::string pads =
        "[[region]]\nname = \"pads\"\nrole = \"keep\"\nmaterial = \"S235\"\nthickness = 5\nskin_of = "
        "[\"held\", \"pressed\"]\ndepth = 5\nwithin = \"wall-2\"\n";
    folder.write("study.toml",
                 test::text_of(folder.path() / "bracket-midsurface.toml") + pads +
                     acts("{ point = [50, 15, 2.5], normal = [1, 0, 0] }",
                          "{ point = [2.5, 15, 35], normal = [0, 0, 1] }", "[200, 0, 0]") +
                     "[[response]]\nname = \"stiffness\"\nmeasure = \"compliance\"\n[[response]]\nname = "
                     "\"budget\"\nmeasure = \"mass-fraction\"\nmax = 0.6\n[goal]\nminimize = "
                     "\"stiffness\"\n");
    const auto run =
        test::upright(folder.path(), {"optimize", "study.toml", "--quiet", "--set", "run.iterations=120"});
    ASSERT_EQ(run.code, 0) << run.out << run.err;
    const auto carve = test::upright(folder.path(), {"carve", "study.run", "--size", "640x400"});
    ASSERT_EQ(carve.code, 0) << carve.out << carve.err;
    EXPECT_NE(carve.out.find("one piece"), std::string::npos) << carve.out;
    const auto verify = test::upright(folder.path(), {"verify", "study.run", "--no-figures"});
    EXPECT_NE(verify.out.find("holds the whole face"), std::string::npos) << verify.out << verify.err;
    const auto json = nlohmann::json::parse(test::text_of(folder.path() / "study.run/verify/verify.json"));
    int rows = 0;
    for (const auto& row : json["rows"])
        if (row["measure"] == "compliance") {
            ++rows;
            // Solid throughout the tetrahedra are stiffer by the corner and the joint alone.
            EXPECT_NEAR(row["part"].get<double>(), row["design"].get<double>(),
                        0.12 * row["design"].get<double>());
        }
    EXPECT_GT(rows, 0);
    EXPECT_EQ(json["surfaces"].size(), 2U);
    for (const auto& surface : json["surfaces"])
        EXPECT_NEAR(surface["area"].get<double>(), 150.0, 1.0) << surface["name"];
}

// An angle with a rounded inner corner, holes and a rib: one piece, a little softer than the solid (0.138 mm
// by tet10 of 3 mm), whose corner the shells do not have.
TEST(InspectMidsurface, ABracketWithARibIsOnePiece) {
    const test::TemporaryFolder folder;
    fs::copy_file(fs::path(UPRIGHT_TEST_BODIES) / "bracket.step", folder.path() / "bracket.step");
    const auto out = test::upright(
        folder.path(), {"inspect", "bracket.step", "--midsurface", "--out", "mitte", "--size", "640x400"});
    ASSERT_EQ(out.code, 0) << out.err;
    EXPECT_NE(out.out.find("3 walls"), std::string::npos) << out.out;
    EXPECT_EQ(out.out.find("doubt"), std::string::npos) << out.out;
    for (const char* file : {"mitte.vtu", "mitte.toml", "mitte.png", "mitte-behind.png"})
        EXPECT_TRUE(fs::exists(folder.path() / file)) << file;
    folder.write("study.toml", test::text_of(folder.path() / "mitte.toml") +
                                   acts("{ point = [2.5, 15, 35], normal = [0, 0, 1] }",
                                        "{ point = [50, 15, 2.5], normal = [1, 0, 0] }", "[0, 0, -100]"));
    const auto check = test::upright(folder.path(), {"check", "study.toml", "--no-figures"});
    EXPECT_NE(check.out.find("the mesh is one piece"), std::string::npos) << check.out;
    const double found = deflection(folder, "study.toml");
    EXPECT_GT(found, 0.138);
    EXPECT_LT(found, 0.170);
    // What was added to the cards is not lost by a second look.
    const std::string mine = test::text_of(folder.path() / "mitte.toml") + "\n# mine\n";
    folder.write("mitte.toml", mine);
    const auto second = test::upright(
        folder.path(), {"inspect", "bracket.step", "--midsurface", "--out", "mitte.vtu", "--no-figures"});
    EXPECT_EQ(second.code, 0) << second.err;
    EXPECT_EQ(test::text_of(folder.path() / "mitte.toml"), mine);
    const auto mesh = test::upright(folder.path(), {"inspect", "mitte.vtu"});
    EXPECT_NE(mesh.out.find("thickness-group"), std::string::npos) << mesh.out;
}

TEST(InspectMidsurface, WhatCannotBeIsRefused) {
    const test::TemporaryFolder folder;
    fs::copy_file(fs::path(UPRIGHT_TEST_BODIES) / "two-bodies.step", folder.path() / "two.step");
    fs::copy_file(fs::path(UPRIGHT_TEST_BODIES) / "inch-plate.step", folder.path() / "plate.step");
    folder.write("mesh.vtu", "<VTKFile/>");
    folder.write("cube.stl", box_stl(5, 5, 5));
    folder.write("sheet.stl", box_stl(50, 50, 2));
    const auto ends = [&](std::vector<std::string> words, int code, const std::string& says) {
        words.insert(words.begin(), "inspect");
        const auto out = test::upright(folder.path(), words);
        EXPECT_EQ(out.code, code) << out.out << out.err;
        EXPECT_NE(out.err.find(says), std::string::npos) << out.err;
    };
    ends({"cube.stl", "--midsurface"}, 3, "no thin wall");
    EXPECT_FALSE(fs::exists(folder.path() / "cube-midsurface.vtu"));
    // Of several bodies those are left out that have none, with a word.
    const auto two = test::upright(folder.path(), {"inspect", "two.step", "--midsurface", "--no-figures"});
    EXPECT_EQ(two.code, 0) << two.err;
    EXPECT_NE(two.out.find("doubt: left out: two.step: body \"post\" has no thin wall"), std::string::npos)
        << two.out;
    ends({"mesh.vtu", "--midsurface"}, 2, "goes with bodies");
    ends({"plate.step", "--mesh-size", "4 mm"}, 2, "goes with --midsurface");
    ends({"plate.step", "--midsurface", "--mesh-size", "4 kg"}, 2, "--mesh-size");
    ends({"plate.step", "--midsurface", "--mesh-size", "-4 mm"}, 2, "no length above zero");
    ends({"sheet.stl", "--midsurface", "--mesh-size", "4 mm"}, 2, "has no unit");
    ends({"plate.step", "--midsurface", "--mesh-size", "0.001 mm"}, 5, "Write a --mesh-size of");
    ends({"plate.step", "--midsurface", "--out", "no/such/folder/m.vtu", "--no-figures"}, 6, "");
    const auto sheet = test::upright(folder.path(), {"inspect", "sheet.stl", "--midsurface", "--no-figures"});
    EXPECT_EQ(sheet.code, 0) << sheet.err;
    EXPECT_NE(sheet.out.find("1 wall"), std::string::npos) << sheet.out;
}

// Two boxes of 100 by 50 by 10 upon each other, 0.02 apart in x: two ledges of 0.02 and four split sides.
TEST(InspectHeal, LedgesAreTakenOutAndSplitSidesJoined) {
    const test::TemporaryFolder folder;
    fs::copy_file(fs::path(UPRIGHT_TEST_BODIES) / "stepped.step", folder.path() / "stufe é.step");
    const auto seen = [&](std::vector<std::string> words) {
        words.insert(words.begin(), {"inspect", "stufe é.step", "--no-figures"});
        return test::upright(folder.path(), words);
    };
    EXPECT_NE(seen({}).out.find("12 faces"), std::string::npos);
    const auto healed = seen({"--heal", "0.05 mm"});
    EXPECT_EQ(healed.code, 0) << healed.err;
    EXPECT_NE(healed.out.find("12 faces became 8"), std::string::npos) << healed.out;
    EXPECT_NE(healed.out.find("0.02 wide"), std::string::npos) << healed.out;
    EXPECT_NE(healed.out.find("volume 100000"), std::string::npos) << healed.out;
    EXPECT_EQ(healed.out.find("open"), std::string::npos) << healed.out;
    const auto middle = seen({"--midsurface", "--heal", "0.05 mm", "--mesh-size", "20 mm"});
    EXPECT_EQ(middle.code, 0) << middle.err;
    EXPECT_NE(middle.out.find("12 faces became 8"), std::string::npos) << middle.out;
    // Below its width the ledge stays; only what lies on one surface is joined.
    EXPECT_NE(
        seen({"--heal", "0.005 mm"}).out.find("12 faces became 10; 2 joined with others of their surface"),
        std::string::npos);
    EXPECT_NE(seen({"--heal", "1e-6 mm"}).out.find("12 faces became 10"), std::string::npos);
    fs::copy_file(fs::path(UPRIGHT_TEST_BODIES) / "bracket.step", folder.path() / "whole.step");
    const auto whole =
        test::upright(folder.path(), {"inspect", "whole.step", "--no-figures", "--heal", "0.05 mm"});
    EXPECT_NE(whole.out.find("nothing was found"), std::string::npos) << whole.out;
    EXPECT_EQ(seen({"--heal", "0 mm"}).code, 2);
    EXPECT_EQ(seen({"--heal", "3 kg"}).code, 2);
    EXPECT_EQ(seen({"--heal", "30 mm"}).code, 3); // more than a fault
}

// What is healed is what is meshed, and the reaction is that of the whole part.
TEST(InspectHeal, AStudyMeshesTheHealedBody) {
    const test::TemporaryFolder folder;
    fs::copy_file(fs::path(UPRIGHT_TEST_BODIES) / "stepped.step", folder.path() / "part.step");
    const auto study = [&](const std::string& heal, const std::string& more) {
        folder.write("study.toml",
                     "units = [\"mm\", \"N\", \"s\"]\n[mesh]\nkind = \"fitted\"\nsize = 10\n" + more +
                         "[[region]]\nname = \"all\"\nrole = \"design\"\nfile = \"part.step\"\nmaterial "
                         "= \"S235\"\n" +
                         heal +
                         "[[surface]]\nname = \"foot\"\nfacing = [0, 0, -1]\non_plane = { point = [0, 0, 0], "
                         "normal = [0, 0, 1] }\n[[surface]]\nname = \"head\"\non_plane = { point = [0, 0, "
                         "20], normal = [0, 0, 1] }\n[[support]]\nname = \"clamp\"\non = \"foot\"\nhold = "
                         "[\"x\", \"y\", \"z\"]\n[[load]]\nname = \"press\"\non = \"head\"\npressure = "
                         "2\n[[case]]\nname = \"press\"\nsupports = \"clamp\"\nloads = { press = 1 }\n");
        return test::upright(folder.path(), {"check", "study.toml", "--no-figures"});
    };
    const auto elements = [](const std::string& text) {
        const auto at = text.find(" elements (tet4)");
        EXPECT_NE(at, std::string::npos) << text;
        return at == std::string::npos ? 0 : std::stoi(text.substr(text.rfind(' ', at - 1) + 1));
    };
    const auto without = study("", "");
    const auto with = study("heal = \"0.05 mm\"\n", "");
    EXPECT_NE(with.out.find("healed as asked"), std::string::npos) << with.out << with.err;
    EXPECT_LT(elements(with.out), elements(without.out)); // no small elements along the ledges
    EXPECT_NE(with.out.find("force (0, 0, -10000) N"), std::string::npos) << with.out;
    EXPECT_EQ(study("heal = \"0.05 mm\"\nfile_unit = \"1 in\"\n", "").code, 3);
    EXPECT_EQ(study("heal = \"-1 mm\"\n", "").code, 3);
}
