// Parts that are to be drawn or printed, through the built program, looked at in the file that it wrote.
#include "support/folder.hpp"
#include "support/run_upright.hpp"
#include "support/study_text.hpp"

#include <algorithm>
#include <cmath>
#include <cstring>
#include <gtest/gtest.h>
#include <map>
#include <nlohmann/json.hpp>

using namespace upright;
namespace fs = std::filesystem;
using test::StudyText;
using test::TemporaryFolder;

namespace {

std::string arm(const std::string& form) {
    return StudyText()
        .steel()
        .region("arm", "box = [[0, 0, 0], [80, 40, 40]]")
        .add("[[region]]\nname = \"plate\"\nrole = \"keep\"\nmaterial = \"steel\"\n"
             "box = [[75, 0, 0], [80, 40, 40]]\n")
        .surface("root", "facing = [-1, 0, 0]")
        .add("[[surface]]\nname = \"tip\"\nof = \"plate\"\nfacing = [1, 0, 0]\n")
        .support("clamp", "root", R"(["x", "y", "z"])")
        .force("pull", "tip", "[0, 300, -1000]")
        .load_case("bend", R"(["clamp"])", "{ pull = 1 }")
        .response("stiffness", "compliance")
        .response("budget", "mass-fraction", "max = 0.35")
        .minimize("stiffness")
        .mesh("size = 5\n")
        .section("run", "iterations = 80\n")
        .add(form);
}

using Corners = std::array<std::array<double, 3>, 3>;

std::vector<Corners> read_stl(const fs::path& file) {
    const std::string all = test::text_of(file);
    std::vector<Corners> out;
    for (std::size_t t = 84; t + 50 <= all.size(); t += 50) {
        Corners c{};
        for (std::size_t k = 0; k < 9; ++k) {
            float v = 0.0F;
            std::memcpy(&v, all.data() + t + 12 + 4 * k, 4);
            c[k / 3][k % 3] = v;
        }
        out.push_back(c);
    }
    return out;
}

// Where the line along z through (x, y) enters and leaves.
std::vector<double> crossings(const std::vector<Corners>& part, double x, double y) {
    std::vector<double> out;
    for (const Corners& t : part) {
        const auto side = [&](std::size_t i, std::size_t j) {
            return (t[j][0] - t[i][0]) * (y - t[i][1]) - (t[j][1] - t[i][1]) * (x - t[i][0]);
        };
        const double a = side(1, 2);
        const double b = side(2, 0);
        const double c = side(0, 1);
        if ((a > 0) != (b > 0) || (b > 0) != (c > 0)) continue;
        out.push_back((a * t[0][2] + b * t[1][2] + c * t[2][2]) / (a + b + c));
    }
    std::sort(out.begin(), out.end());
    return out;
}

struct Seen {
    int lines = 0, one_piece = 0, to_the_base = 0, through_the_middle = 0;
};
Seen look_along_z(const std::vector<Corners>& part) {
    Seen out;
    for (double x = 0.37; x < 74.0; x += 1.31)
        for (double y = 0.41; y < 40.0; y += 1.29) {
            const std::vector<double> at = crossings(part, x, y);
            if (at.empty() || at.size() % 2 != 0) continue;
            ++out.lines;
            if (at.size() == 2) ++out.one_piece;
            if (at.front() < 0.5) ++out.to_the_base;
            if (at.front() < 21.0 && at.back() > 19.0) ++out.through_the_middle;
        }
    return out;
}

} // namespace

TEST(Making, ADrawnPartLeavesItsDies) {
    const TemporaryFolder folder;
    folder.write("free.toml", arm(""));
    folder.write("one.toml", arm("[form]\ndraw = { along = [0, 0, 1] }\n"));
    folder.write("two.toml", arm("[form]\ndraw = { along = [0, 0, 1], dies = 2 }\n"));
    folder.write("found.toml", arm("[form]\ndraw = { along = [0, 0, 1], dies = 2, parting = \"found\" }\n"));
    double goal[4] = {};
    Seen seen[4];
    for (int k = 0; k < 4; ++k) {
        const std::string name =
            std::vector<std::string>{"free", "one", "two", "found"}[static_cast<std::size_t>(k)];
        ASSERT_EQ(test::upright(folder.path(), {"optimize", name + ".toml", "--quiet"}).code, 0) << name;
        const auto json = nlohmann::json::parse(test::text_of(folder.path() / (name + ".run/run.json")));
        goal[k] = json["black_and_white"]["goal"].get<double>();
        EXPECT_LT(json["grayness"].get<double>(), 0.05) << name;
        const auto carve = test::upright(folder.path(), {"carve", name + ".run"});
        EXPECT_EQ(carve.code, 0) << carve.out;
        EXPECT_EQ(carve.out.find("draw: undercuts") != std::string::npos, k > 0) << carve.out;
        seen[k] = look_along_z(read_stl(folder.path() / (name + ".run/part.stl")));
        ASSERT_GT(seen[k].lines, 200) << name;
    }
    EXPECT_LT(seen[0].one_piece, 0.9 * seen[0].lines); // it is the rule that does it
    for (int k = 1; k < 4; ++k) EXPECT_GE(seen[k].one_piece, 0.998 * seen[k].lines) << k;
    EXPECT_GE(seen[1].to_the_base, 0.99 * seen[1].lines);
    EXPECT_GE(seen[2].through_the_middle, 0.97 * seen[2].lines);
    // Beam theory at a mass of 0.35: a closed box of 40 x 40 bends by (1000^2 + 300^2) / 123000, an H of two
    // webs by 1000^2 / 53300 + 300^2 / 122500, 2.2 times as much.
    EXPECT_LT(goal[2], 2.3 * goal[0]);
    EXPECT_LT(goal[3], 1.02 * goal[2]); // a plane is one of the surfaces that it could have found
    EXPECT_LT(goal[1], 2.0 * goal[0]);
    EXPECT_GT(goal[1], goal[0]);
    // The rule put to a design that knows nothing of it: measured, named, exit code 4.
    std::string study = test::text_of(folder.path() / "free.run/study.toml");
    folder.write("free.run/study.toml", study + "\n[form]\ndraw = { along = [0, 0, 1] }\n");
    fs::remove(folder.path() / "free.run/model.h5");
    const auto carve = test::upright(folder.path(), {"carve", "free.run"});
    EXPECT_EQ(carve.code, 4) << carve.out;
    EXPECT_NE(carve.out.find("NOT KEPT"), std::string::npos) << carve.out;
    const auto part = nlohmann::json::parse(test::text_of(folder.path() / "free.run/part.json"));
    EXPECT_EQ(part["making"][0]["holds"], false);
    EXPECT_GT(part["making"][0]["value"].get<double>(), 5.0);
}

TEST(Making, APrintedPartHangsOverLittle) {
    const TemporaryFolder folder;
    folder.write("free.toml", arm(""));
    folder.write("printed.toml", arm("[form]\noverhang = { up = [0, 0, 1] }\n"));
    double beyond[2] = {};
    double goal[2] = {};
    for (const int k : {0, 1}) {
        const std::string name = k == 0 ? "free" : "printed";
        ASSERT_EQ(test::upright(folder.path(), {"optimize", name + ".toml", "--quiet"}).code, 0);
        goal[k] = nlohmann::json::parse(
                      test::text_of(folder.path() / (name + ".run/run.json")))["black_and_white"]["goal"]
                      .get<double>();
        const auto carve = test::upright(folder.path(), {"carve", name + ".run"});
        ASSERT_EQ(carve.code, 0);
        EXPECT_EQ(carve.out.find("nothing bears") != std::string::npos, k == 1) << carve.out;
        EXPECT_EQ(carve.out.find("doubt"), std::string::npos) << carve.out;
        for (const Corners& t : read_stl(folder.path() / (name + ".run/part.stl"))) {
            double u[3];
            double v[3];
            for (int a = 0; a < 3; ++a) {
                u[a] = t[1][a] - t[0][a];
                v[a] = t[2][a] - t[0][a];
            }
            const double n[3] = {u[1] * v[2] - u[2] * v[1], u[2] * v[0] - u[0] * v[2],
                                 u[0] * v[1] - u[1] * v[0]};
            const double twice = std::sqrt(n[0] * n[0] + n[1] * n[1] + n[2] * n[2]);
            const double z = std::min({t[0][2], t[1][2], t[2][2]});
            if (z > 0.1 && -n[2] > std::sin(50.0 * 3.14159265358979 / 180.0) * twice)
                beyond[k] += 0.5 * twice;
        }
    }
    EXPECT_LT(beyond[1], 0.1 * beyond[0]) << beyond[0]; // cells of 5 mm; at 3.3 mm it is 0.01
    EXPECT_LT(goal[1], 1.15 * goal[0]);
    // The rule put to a design that knows nothing of it: so much is taken off that it is another part.
    folder.write("free.run/study.toml", test::text_of(folder.path() / "free.run/study.toml") +
                                            "\n[form]\noverhang = { up = [0, 0, 1] }\n");
    fs::remove(folder.path() / "free.run/model.h5");
    const auto carve = test::upright(folder.path(), {"carve", "free.run"});
    EXPECT_NE(carve.out.find("doubt: nothing bears"), std::string::npos) << carve.out;
    const auto part = nlohmann::json::parse(test::text_of(folder.path() / "free.run/part.json"));
    EXPECT_GT(part["taken_off"].get<double>(), 0.01 * part["volume"].get<double>());
}

// The largest ball in a part by a search of its own: middles on a lattice, distances to the triangles' points
// and edges' middles, inside by the number of crossings above. As large as 2 r, within the triangles' size.
TEST(Making, LargestAndLeastFeaturesAreMeasuredOnThePart) {
    const TemporaryFolder folder;
    folder.write("free.toml", arm(""));
    folder.write("slender.toml", arm("[form]\nmax_feature = \"16 mm\"\n"));
    double across[2] = {};
    double goal[2] = {};
    double own[2] = {};
    for (const int k : {0, 1}) {
        const std::string name = k == 0 ? "free" : "slender";
        ASSERT_EQ(test::upright(folder.path(),
                                {"optimize", name + ".toml", "--quiet", "--set", "response.budget.max=0.42"})
                      .code,
                  0)
            << name;
        const auto run = nlohmann::json::parse(test::text_of(folder.path() / (name + ".run/run.json")));
        goal[k] = run["black_and_white"]["goal"].get<double>();
        const auto carve = test::upright(folder.path(), {"carve", name + ".run"});
        EXPECT_EQ(carve.code, 0) << carve.out;
        const auto part = nlohmann::json::parse(test::text_of(folder.path() / (name + ".run/part.json")));
        across[k] = part["thickness"]["thickest"]["across"].get<double>();
        const std::vector<Corners> surface = read_stl(folder.path() / (name + ".run/part.stl"));
        for (double x = 6.0; x < 70.0; x += 2.0)
            for (double y = 5.0; y < 36.0; y += 2.0) {
                const std::vector<double> at = crossings(surface, x + 0.013, y + 0.017);
                for (std::size_t i = 0; i + 1 < at.size(); i += 2)
                    for (double z = at[i] + 1.0; z < at[i + 1]; z += 2.0) {
                        double nearest = 1e300;
                        for (const Corners& t : surface)
                            for (const auto& p : t)
                                nearest = std::min(nearest, std::hypot(p[0] - x, p[1] - y, p[2] - z));
                        own[k] = std::max(own[k], 2.0 * nearest);
                    }
            }
        EXPECT_NEAR(across[k], own[k], 3.5) << name; // points lie a little further away than faces
    }
    EXPECT_GT(across[0], 1.1 * across[1]); // it is the rule that does it
    EXPECT_LE(across[1], 16.0 + 5.0);
    EXPECT_GT(goal[1], goal[0]);
    EXPECT_LT(goal[1], 1.5 * goal[0]);
    // Put to a design that knows nothing of it.
    folder.write("free.run/study.toml", test::text_of(folder.path() / "free.run/study.toml") +
                                            "\n[form]\nmax_feature = 20\nmin_feature = 18\n");
    fs::remove(folder.path() / "free.run/model.h5");
    const auto carve = test::upright(folder.path(), {"carve", "free.run"});
    EXPECT_EQ(carve.code, 4) << carve.out;
    EXPECT_NE(carve.out.find("min_feature: the thinnest place"), std::string::npos) << carve.out;
    for (const char* what : {"thickness", "overhang", "draft"}) {
        std::vector<std::string> words{"plot", "slender.run", "--what", what};
        if (std::string(what) != "thickness") words.insert(words.end(), {"--along", "0,0,1"});
        EXPECT_EQ(test::upright(folder.path(), words).code, 0) << what;
        EXPECT_TRUE(fs::exists(folder.path() / ("slender.run/figures/" + std::string(what) + ".png")));
    }
    EXPECT_EQ(test::upright(folder.path(), {"plot", "slender.run", "--what", "draft"}).code, 2);
    EXPECT_EQ(test::upright(folder.path(), {"plot", "slender.run", "--what", "draft", "--along", "up"}).code,
              2);
}

TEST(Making, StrictlyLeastFeaturesAreMadeThreeTimes) {
    const TemporaryFolder folder;
    std::map<std::string, nlohmann::json> runs;
    for (const auto& [name, form] : std::map<std::string, std::string>{
             {"free", ""},
             {"strict", "[form]\nmin_feature = { size = 12, strict = true }\n"},
             {"slot", "[form]\nmin_slot = 12\n"}}) {
        folder.write(name + ".toml", arm(form));
        const auto gradients =
            test::upright(folder.path(), {"check", name + ".toml", "--no-figures", "--gradients"});
        EXPECT_EQ(gradients.code, 0) << gradients.err;
        const auto run = test::upright(folder.path(), {"optimize", name + ".toml"});
        ASSERT_EQ(run.code, 0) << name << run.out << run.err;
        EXPECT_EQ(run.out.find("every free face moved") != std::string::npos, name != "free") << run.out;
        EXPECT_EQ(run.out.find("made thin") != std::string::npos, name == "strict") << run.out;
        runs[name] = nlohmann::json::parse(test::text_of(folder.path() / (name + ".run/run.json")));
    }
    EXPECT_FALSE(runs["free"].contains("three_designs"));
    const auto& three = runs["strict"]["three_designs"];
    ASSERT_EQ(three.size(), 3U);
    EXPECT_NEAR(three[0]["face_shift"].get<double>(), -12.0 * (1.0 - std::sqrt(0.5)), 1e-9);
    EXPECT_EQ(three[1]["face_shift"].get<double>(), 0.0);
    EXPECT_GT(three[2]["face_shift"].get<double>(), 0.0);
    const auto goal = [&](std::size_t k) { return three[k]["goal"].get<double>(); };
    EXPECT_GT(goal(0), 1.02 * goal(1));
    EXPECT_GT(goal(1), 1.02 * goal(2));
    // What was optimised is the thin one; what was bounded is the mass as drawn.
    EXPECT_NEAR(runs["strict"]["goal"]["value"].get<double>(), goal(0), 0.1 * goal(0)); // gray, and few cells
    EXPECT_NEAR(runs["strict"]["goal"]["black_and_white"].get<double>(), goal(1), 1e-9 * goal(1));
    for (const auto& r : runs["strict"]["responses"])
        if (r["measure"] == "mass-fraction" && !r["max"].is_null())
            EXPECT_LT(r["black_and_white"]["value"].get<double>(), 1.001 * r["max"].get<double>());
    // It costs, and not the world.
    const double free_goal = runs["free"]["goal"]["black_and_white"].get<double>();
    EXPECT_GT(goal(1), 0.99 * free_goal);
    EXPECT_LT(goal(1), 1.4 * free_goal);
    // The run's own files go on: its part is measured.
    const auto carve = test::upright(folder.path(), {"carve", "strict.run"});
    EXPECT_EQ(carve.code, 0) << carve.out;
    EXPECT_NE(carve.out.find("min_feature: the thinnest place"), std::string::npos) << carve.out;
    const auto slot = test::upright(folder.path(), {"carve", "slot.run"});
    EXPECT_EQ(slot.code, 0) << slot.out;
    // What cannot be.
    const auto check = [&](const std::string& form, const std::string& setting = "run.iterations=80") {
        folder.write("bad.toml", arm("[form]\n" + form + "\n"));
        return test::upright(folder.path(), {"check", "bad.toml", "--no-figures", "--set", setting}).code;
    };
    EXPECT_EQ(check("min_feature = { size = 9, strict = true }"), 3); // two cells are 10
    EXPECT_EQ(check("min_feature = { size = 9, strict = false }"), 0);
    EXPECT_EQ(check("min_feature = { strict = true }"), 3);
    EXPECT_EQ(check("min_feature = { size = 12, strikt = true }"), 3);
    EXPECT_EQ(check("min_slot = 9"), 3);
    EXPECT_EQ(check("min_slot = \"12 kN\""), 3);
    EXPECT_EQ(check("min_slot = -1"), 3);
    EXPECT_EQ(check("min_slot = 12", "run.sharpen=false"), 3);
}

TEST(Making, PatternsAreDrawnMadeAndMeasured) {
    const TemporaryFolder folder;
    const std::string oblique = "[form]\nmirror = { point = [0, 20, 20], normal = [0, 1, 0.3] }\n";
    folder.write("free.toml", arm(""));
    folder.write("oblique.toml", arm(oblique));
    const auto check = test::upright(folder.path(), {"check", "oblique.toml"});
    ASSERT_EQ(check.code, 0) << check.err;
    EXPECT_TRUE(fs::exists(folder.path() / "oblique.check/pattern.png"));
    ASSERT_EQ(test::upright(folder.path(), {"check", "free.toml"}).code, 0);
    EXPECT_FALSE(fs::exists(folder.path() / "free.check/pattern.png"));
    for (const char* name : {"free", "oblique"}) {
        const auto run = test::upright(folder.path(), {"optimize", std::string(name) + ".toml", "--quiet"});
        ASSERT_EQ(run.code, 0) << run.err;
    }
    const auto kept = test::upright(folder.path(), {"carve", "oblique.run"});
    EXPECT_EQ(kept.code, 0) << kept.out;
    EXPECT_NE(kept.out.find("mirror: free faces, mirrored, miss the part by at most"), std::string::npos)
        << kept.out;
    // The same rule put to a design that knows nothing of it: the load is not symmetric.
    folder.write("free.run/study.toml",
                 test::text_of(folder.path() / "free.run/study.toml") + "\n[form]\nmirror = \"y = 20\"\n");
    fs::remove(folder.path() / "free.run/model.h5");
    const auto broken = test::upright(folder.path(), {"carve", "free.run"});
    EXPECT_EQ(broken.code, 4) << broken.out;
    EXPECT_NE(broken.out.find("NOT KEPT"), std::string::npos) << broken.out;
    const auto told = nlohmann::json::parse(test::text_of(folder.path() / "free.run/part.json"));
    EXPECT_NE(told.dump().find("mirror"), std::string::npos);
    // What cannot be.
    const auto refused = [&](const std::string& mirror) {
        folder.write("bad.toml", arm("[form]\nmirror = " + mirror + "\n"));
        return test::upright(folder.path(), {"check", "bad.toml", "--no-figures"}).code;
    };
    EXPECT_EQ(refused("[\"y = 20\", { point = [0, 20, 20], normal = [1, 0, 1] }]"), 0);
    EXPECT_EQ(
        refused("[{ point = [0, 0, 0], normal = [1, 1, 0] }, { point = [9, 0, 0], normal = [1, 1, 0] }]"), 3);
    EXPECT_EQ(
        refused("[{ point = [0, 0, 0], normal = [1, 1, 0] }, { point = [9, 0, 0], normal = [1, 2, 0] }]"), 3);
    EXPECT_EQ(refused("[\"x = 20\", { point = [0, 0, 0], normal = [1, 1, 0] }]"), 3);
    EXPECT_EQ(refused("[\"x = 20\", { point = [20, 0, 0], normal = [1, 0, 0] }]"), 3);
    EXPECT_EQ(refused("{ point = [0, 0, 0], normal = [0, 0, 0] }"), 3);
    EXPECT_EQ(refused("{ normal = [0, 1, 0] }"), 3);
    EXPECT_EQ(refused("{ point = [0, 0], normal = [0, 1, 0] }"), 3);
    EXPECT_EQ(refused("[3]"), 3);
}

TEST(Making, DrawnWallsLean) {
    const TemporaryFolder folder;
    // Of the file alone: faces inside the box that do not look up, as a share of all inside it.
    const auto steep_share = [&](const fs::path& stl) {
        double all = 0.0;
        double steep = 0.0;
        for (const Corners& t : read_stl(stl)) {
            bool on_box = false;
            for (std::size_t a = 0; a < 3; ++a)
                for (const double face : {0.0, a == 0 ? 80.0 : 40.0, a == 0 ? 75.0 : 40.0})
                    on_box = on_box || (std::abs(t[0][a] - face) < 1e-3 && std::abs(t[1][a] - face) < 1e-3 &&
                                        std::abs(t[2][a] - face) < 1e-3);
            if (on_box) continue;
            std::array<double, 3> n{};
            for (std::size_t a = 0; a < 3; ++a) {
                const std::size_t b = (a + 1) % 3;
                const std::size_t c = (a + 2) % 3;
                n[a] = (t[1][b] - t[0][b]) * (t[2][c] - t[0][c]) - (t[1][c] - t[0][c]) * (t[2][b] - t[0][b]);
            }
            const double size = std::sqrt(n[0] * n[0] + n[1] * n[1] + n[2] * n[2]);
            all += size;
            if (n[2] / size < std::sin(19.5 * 3.14159265 / 180.0)) steep += size;
        }
        return steep / all;
    };
    std::array<double, 2> share{};
    for (std::size_t k = 0; k < 2; ++k) {
        folder.write("s.toml", arm(std::string("[form]\ndraw = { along = [0, 0, 1]") +
                                   (k == 1 ? ", draft = \"20 deg\"" : "") + " }\n"));
        ASSERT_EQ(test::upright(folder.path(), {"optimize", "s.toml", "--quiet", "--force"}).code, 0);
        const auto carve = test::upright(folder.path(), {"carve", "s.run"});
        EXPECT_EQ(carve.code, 0) << carve.out;
        EXPECT_EQ(carve.out.find("draft: free faces") != std::string::npos, k == 1) << carve.out;
        EXPECT_NE(carve.out.find("draw: undercuts"), std::string::npos) << carve.out;
        share[k] = steep_share(folder.path() / "s.run/part.stl");
    }
    EXPECT_GT(share[0], 0.08);
    EXPECT_LT(share[1], 0.03);
    // Of two dies each has its own walls; a draft and an overhang are both given to the part.
    folder.write("two.toml", arm("[form]\ndraw = { along = [0, 0, 1], dies = 2, draft = \"4 deg\" }\n"
                                 "overhang = { up = [1, 0, 0], angle = \"45 deg\", plate = true }\n"));
    ASSERT_EQ(test::upright(folder.path(), {"optimize", "two.toml", "--quiet", "--force"}).code, 0);
    const auto both = test::upright(folder.path(), {"carve", "two.run"});
    EXPECT_NE(both.out.find("draft: free faces that lean less than 3.5 degrees"), std::string::npos)
        << both.out << both.err;
    EXPECT_NE(both.out.find("overhang: nothing bears"), std::string::npos) << both.out;
    EXPECT_EQ(test::upright(folder.path(), {"plot", "two.run", "--what", "draft", "--out", "d.png"}).code, 0);
    EXPECT_TRUE(fs::exists(folder.path() / "d.png"));
    for (const char* bad : {"\"0 deg\"", "\"31 deg\"", "\"-2 deg\"", "\"2 mm\""}) {
        folder.write("bad.toml",
                     arm(std::string("[form]\ndraw = { along = [0, 0, 1], draft = ") + bad + " }\n"));
        EXPECT_EQ(test::upright(folder.path(), {"check", "bad.toml", "--no-figures"}).code, 3) << bad;
    }
}

TEST(Finish, StockIsInTheFileAndNotInTheAnalysis) {
    const TemporaryFolder folder;
    folder.write("bare.toml", arm(""));
    folder.write("raw.toml", arm("[[finish]]\nname = \"facing\"\nrole = \"add\"\nmaterial = \"steel\"\n"
                                 "on = \"tip\"\nallowance = \"2 mm\"\n"));
    const auto check = test::upright(folder.path(), {"check", "raw.toml", "--no-figures"});
    ASSERT_EQ(check.code, 0) << check.err;
    EXPECT_NE(check.out.find("stock of 2 mm on tip, to be machined away"), std::string::npos) << check.out;
    std::array<double, 2> mass{};
    for (std::size_t k = 0; k < 2; ++k) {
        const std::string name = k == 0 ? "bare" : "raw";
        ASSERT_EQ(test::upright(folder.path(), {"optimize", name + ".toml", "--quiet"}).code, 0);
        ASSERT_EQ(test::upright(folder.path(), {"verify", name + ".run", "--no-figures"}).code, 0);
        mass[k] =
            nlohmann::json::parse(test::text_of(folder.path() / (name + ".run/verify/verify.json")))["mass"]
                .get<double>();
    }
    EXPECT_EQ(mass[0], mass[1]); // the machined part is what works
    const auto carve = test::upright(folder.path(), {"carve", "raw.run"});
    ASSERT_EQ(carve.code, 0) << carve.out << carve.err;
    EXPECT_NE(carve.out.find("stock facing: 2 mm to be machined away"), std::string::npos) << carve.out;
    const auto part = nlohmann::json::parse(test::text_of(folder.path() / "raw.run/part.json"));
    // The tip is 40 x 40, all of it kept.
    EXPECT_NEAR(part["stock"].get<double>(), 2.0 * 1600.0 * 7.85e-9, 1e-12);
    EXPECT_NEAR(part["mass"].get<double>(), mass[0] + 2.0 * 1600.0 * 7.85e-9, 1e-4 * mass[0]);
    double far = 0.0;
    for (const Corners& t : read_stl(folder.path() / "raw.run/part.stl"))
        for (const auto& p : t) far = std::max(far, p[0]);
    EXPECT_NEAR(far, 82.0, 1e-4);
    const auto machined =
        test::upright(folder.path(), {"carve", "raw.run", "--no-stock", "--out", "machined.3mf"});
    EXPECT_EQ(machined.code, 0) << machined.err;
    EXPECT_EQ(machined.out.find("stock"), std::string::npos) << machined.out;
    EXPECT_EQ(test::upright(folder.path(), {"carve", "raw.run", "--out", "raw.step"}).code, 0);
    EXPECT_EQ(test::upright(folder.path(), {"carve", "bare.run", "--no-stock"}).code, 2);
}

TEST(Finish, HolesAndPadsAreInThePartAlone) {
    const TemporaryFolder folder;
    const std::string finish = R"(
[[finish]]
name = "oil hole"
role = "cut"
cylinder = { from = [77.5, -5, 20], to = [77.5, 45, 20], radius = 1.5 }
[[finish]]
name = "boss"
role = "add"
material = "steel"
box = [[78, 10, 10], [88, 30, 30]]
[[finish]]
name = "bore"
role = "cut"
cylinder = { from = [70, 0, 0], to = [90, 0, 0], radius = 6 }
copies = [[0, 20, 20]]
)";
    folder.write("bare.toml", arm(""));
    folder.write("done.toml", arm(finish));
    const auto check = test::upright(folder.path(), {"check", "done.toml", "--no-figures"});
    ASSERT_EQ(check.code, 0) << check.err;
    EXPECT_NE(check.out.find("Finished when carved"), std::string::npos) << check.out;
    std::array<nlohmann::json, 2> part;
    std::array<double, 2> goal{};
    for (std::size_t k = 0; k < 2; ++k) {
        const std::string name = k == 0 ? "bare" : "done";
        ASSERT_EQ(test::upright(folder.path(), {"optimize", name + ".toml", "--quiet"}).code, 0);
        const auto carve = test::upright(folder.path(), {"carve", name + ".run"});
        EXPECT_EQ(carve.code, 0) << carve.out << carve.err;
        part[k] = nlohmann::json::parse(test::text_of(folder.path() / (name + ".run/part.json")));
        goal[k] =
            nlohmann::json::parse(test::text_of(folder.path() / (name + ".run/run.json")))["goal"]["value"]
                .get<double>();
    }
    EXPECT_EQ(goal[0], goal[1]); // the design knows nothing of it
    // The boss: 20 x 20 over 10 mm of which 2 lie in the plate, less a bore of 12 mm through all of it and
    // the plate. The oil hole runs through the plate alone, half of it beside the bore.
    const double pi = 3.14159265358979;
    const double added = 8.0 * (400.0 - pi * 36.0);
    const double bored = 5.0 * pi * 36.0;
    const double drilled = pi * 1.5 * 1.5 * (40.0 - 12.0);
    const double change = part[1]["volume"].get<double>() - part[0]["volume"].get<double>();
    EXPECT_NEAR(change, added - bored - drilled, 0.06 * added); // chords
    double far = 0.0;
    int on_bore = 0;
    for (const Corners& t : read_stl(folder.path() / "done.run/part.stl"))
        for (const auto& p : t) {
            far = std::max(far, p[0]);
            const double r = std::hypot(p[1] - 20.0, p[2] - 20.0);
            if (p[0] > 82.0 && p[0] < 87.9 && r < 7.0) {
                EXPECT_NEAR(r, 6.0, 1e-4);
                ++on_bore;
            }
        }
    EXPECT_NEAR(far, 88.0, 1e-4);
    EXPECT_GT(on_bore, 10);
    bool named = false;
    for (const auto& r : part[1]["regions"]) named = named || r["name"] == "boss";
    EXPECT_TRUE(named) << part[1].dump(1);
    // What follows has it as well.
    const auto verify = test::upright(folder.path(), {"verify", "done.run", "--no-figures"});
    EXPECT_EQ(verify.code, 0) << verify.out << verify.err;
    EXPECT_EQ(test::upright(folder.path(), {"plot", "done.run", "--what", "thickness"}).code, 0);
    EXPECT_EQ(test::upright(folder.path(), {"report", "done.run"}).code, 0);
    // A cut that takes the loaded face away is told.
    folder.write("cut.toml",
                 arm("[[finish]]\nname = \"saw\"\nrole = \"cut\"\nbox = [[70, -1, -1], [90, 41, 41]]\n"));
    ASSERT_EQ(test::upright(folder.path(), {"optimize", "cut.toml", "--quiet"}).code, 0);
    const auto sawn = test::upright(folder.path(), {"carve", "cut.run"});
    EXPECT_EQ(sawn.code, 4) << sawn.out;
    // Wrong asks.
    const auto refused = [&](const std::string& card) {
        folder.write("bad.toml", arm("[[finish]]\n" + card + "\n"));
        const auto out = test::upright(folder.path(), {"check", "bad.toml", "--no-figures"});
        EXPECT_EQ(out.err.find("\n"), out.err.size() - 1) << out.err; // one line
        return out.code;
    };
    const std::string box = "box = [[0, 0, 0], [1, 1, 1]]\n";
    EXPECT_EQ(refused("name = \"a\"\nrole = \"cut\"\n"), 3);
    EXPECT_EQ(refused("name = \"a\"\nrole = \"void\"\n" + box), 3);
    EXPECT_EQ(refused("name = \"a\"\nrole = \"add\"\n" + box), 3);
    EXPECT_EQ(refused("name = \"a\"\nrole = \"add\"\nmaterial = \"stel\"\n" + box), 3);
    EXPECT_EQ(refused("name = \"a\"\nrole = \"cut\"\nmaterial = \"steel\"\n" + box), 3);
    EXPECT_EQ(refused("name = \"plate\"\nrole = \"cut\"\n" + box), 3);
    EXPECT_EQ(
        refused("name = \"a\"\nrole = \"cut\"\n" + box + "sphere = { center = [0, 0, 0], radius = 1 }\n"), 3);
    EXPECT_EQ(refused("role = \"cut\"\n" + box), 3);
    const auto outside =
        (folder.write("far.toml", arm("[[finish]]\nname = \"a\"\nrole = \"cut\"\nbox = [[200, "
                                      "0, 0], [210, 10, 10]]\n")),
         test::upright(folder.path(), {"check", "far.toml", "--no-figures"}));
    EXPECT_EQ(outside.code, 0);
    EXPECT_NE(outside.out.find("outside of the modelled space"), std::string::npos) << outside.out;
}

TEST(Infill, IsCarvedWeighedAndVerifiedByItsStrutsAndAsSolidMaterial) {
    const TemporaryFolder folder;
    // A stout block: most of it is left.
    folder.write("full.toml",
                 StudyText()
                     .add("[[material]]\nname = \"steel\"\nlike = \"structural steel S355\"")
                     .add("[[region]]\nname = \"block\"\nrole = \"design\"\n"
                          "material = \"steel\"\nbox = [[0, 0, 0], [42, 30, 30]]")
                     .card("surface", "root", "of = \"block\"\nfacing = [-1, 0, 0]")
                     .card("surface", "tip", "of = \"block\"\nfacing = [1, 0, 0]")
                     .support("clamp", "root", R"(["x", "y", "z"])")
                     .force("pull", "tip", "[0, 0, \"-500 N\"]")
                     .load_case("bend", R"(["clamp"])", "{ pull = 1 }")
                     .response("stiffness", "compliance")
                     .response("budget", "mass-fraction", "max = 0.95")
                     .minimize("stiffness")
                     .mesh("size = \"6 mm\"")
                     .section("run", "iterations = 30")
                     .card("infill", "core",
                           "cell = \"cubic\"\nperiod = \"12 mm\"\nthickness = \"3 mm\"\n"
                           "skin = \"3 mm\"\nframe = \"strut\"")
                     .card("frame", "strut", "kind = \"cartesian\"\norigin = [9, 9, 9]\naxis = [0, 0, 1]"));
    const auto check = test::upright(folder.path(), {"check", "full.toml", "--no-figures"});
    ASSERT_EQ(check.code, 0) << check.err;
    EXPECT_NE(check.out.find("Infill of the carved part"), std::string::npos) << check.out;
    ASSERT_EQ(test::upright(folder.path(), {"optimize", "full.toml", "--quiet"}).code, 0);
    const auto carve = test::upright(folder.path(), {"carve", "full.run", "--out", "filled.stl"});
    ASSERT_EQ(carve.code, 0) << carve.out << carve.err;
    EXPECT_NE(carve.out.find("infill takes"), std::string::npos) << carve.out;
    EXPECT_NE(carve.out.find("closed in"), std::string::npos) << carve.out;
    EXPECT_TRUE(std::filesystem::exists(folder.path() / "filled-inside.png"));
    const auto part = nlohmann::json::parse(test::text_of(folder.path() / "filled.json"));
    const double mass = part["mass"].get<double>();
    const double before = part["mass_before_infill"].get<double>();
    EXPECT_LT(mass, 0.8 * before);
    EXPECT_NEAR(before - mass,
                7.85e-9 *
                    (part["infill"][0]["volume"].get<double>() - part["infill"][0]["solid"].get<double>()),
                0.015 * before); // the free face of finer triangles is a little rounder
    // The file is what was weighed.
    double volume = 0.0;
    for (const Corners& t : read_stl(folder.path() / "filled.stl"))
        volume += (t[0][0] * (t[1][1] * t[2][2] - t[1][2] * t[2][1]) -
                   t[0][1] * (t[1][0] * t[2][2] - t[1][2] * t[2][0]) +
                   t[0][2] * (t[1][0] * t[2][1] - t[1][1] * t[2][0])) /
                  6.0;
    EXPECT_NEAR(volume, part["volume"].get<double>(), 1e-4 * volume);
    // Both ways tell nearly the same: the beam is softer than the full one, by as much.
    std::array<double, 2> compliance{};
    for (std::size_t k = 0; k < 2; ++k) {
        const auto verify = test::upright(folder.path(), {"verify", "full.run", "--no-figures", "--infill",
                                                          k == 0 ? "tetrahedra" : "homogenised"});
        ASSERT_EQ(verify.code, 0) << verify.out << verify.err;
        const auto told = nlohmann::json::parse(test::text_of(folder.path() / "full.run/verify/verify.json"));
        EXPECT_EQ(told["infill"], k == 0 ? "tetrahedra" : "homogenised");
        EXPECT_NEAR(told["mass"].get<double>(), mass, 0.02 * mass);
        for (const auto& row : told["rows"])
            if (row["name"] == "stiffness") compliance[k] = row["part"].get<double>();
    }
    EXPECT_NEAR(compliance[1], compliance[0], 0.1 * compliance[0]);
    EXPECT_EQ(test::upright(folder.path(), {"report", "full.run"}).code, 0);
    EXPECT_EQ(test::upright(folder.path(), {"carve", "full.run", "--out", "p.step"}).code, 2);
    ASSERT_EQ(test::upright(folder.path(), {"carve", "full.run", "--out", "p.step", "--no-infill"}).code, 0);
    EXPECT_NEAR(nlohmann::json::parse(test::text_of(folder.path() / "p.json"))["mass"].get<double>(), before,
                1e-9 * before);
    EXPECT_EQ(test::upright(folder.path(), {"verify", "full.run", "--infill", "foam"}).code, 2);
    EXPECT_EQ(test::upright(folder.path(), {"verify", "full.run", "--part", "filled.stl"}).code, 3);
}

TEST(Making, RulesThatCannotBeKeptAreRefused) {
    const TemporaryFolder folder;
    const auto check = [&](const std::string& form) {
        folder.write("s.toml", arm("[form]\n" + form + "\n"));
        return test::upright(folder.path(), {"check", "s.toml", "--no-figures"});
    };
    EXPECT_EQ(check("draw = { along = [0, 0, 1] }").code, 0);
    EXPECT_EQ(check("overhang = { up = [0, 0, 1], angle = \"30 deg\" }").code, 3);
    EXPECT_EQ(check("draw = { dies = 2 }").code, 3);
    EXPECT_EQ(check("draw = { along = [0, 0, 0] }").code, 3);
    EXPECT_EQ(check("draw = { along = [0, 0, 1], dies = 3 }").code, 3);
    EXPECT_EQ(check("draw = { along = [0, 0, 1], parting = \"somewhere\" }").code, 3);
    EXPECT_EQ(check("draw = { along = [0, 0, 1], draft = \"2 deg\" }").code, 0);
    EXPECT_EQ(check("overhang = { up = [0, 0, 1], angle = \"90 deg\" }").code, 3);
    EXPECT_EQ(check("max_feature = \"14 mm\"").code, 3); // three cells are 15
    EXPECT_EQ(check("max_feature = 20\nmin_feature = 21").code, 3);
    EXPECT_EQ(check("max_feature = -20").code, 3);
    EXPECT_EQ(check("max_feature = \"20 kN\"").code, 3);
    EXPECT_EQ(check("max_feature = 20").code, 0);
    const auto twice = check("draw = { along = [0, 0, 1] }\nextrude = \"z\"");
    EXPECT_EQ(twice.code, 3) << twice.out;
    EXPECT_NE((twice.out + twice.err).find("one height everywhere"), std::string::npos)
        << twice.out << twice.err;
    folder.write("s.toml", arm("[form]\ndraw = { along = [0, 0, 1] }\nextrude = \"z\"\n"));
    const auto run = test::upright(folder.path(), {"optimize", "s.toml", "--quiet"});
    EXPECT_EQ(run.code, 3);
    EXPECT_FALSE(fs::exists(folder.path() / "s.run/run.json")) << run.err;
}
