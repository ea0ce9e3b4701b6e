// upright verify and the ways of carve to say where to cut, on runs of the built program.
#include "support/folder.hpp"
#include "support/run_upright.hpp"
#include "support/study_text.hpp"

#include <chrono>
#include <csignal>
#include <cstring>
#include <gtest/gtest.h>
#include <nlohmann/json.hpp>
#include <thread>

using namespace upright;
namespace fs = std::filesystem;
using test::StudyText;
using test::TemporaryFolder;

namespace {

// A short cantilever of half its mass, held and loaded over kept plates.
std::string lever(const std::string& more = {}) {
    return StudyText()
        .add("title = \"Kurzer Hebel\"\n")
        .steel()
        .region("block", "box = [[0, 0, 0], [80, 40, 40]]")
        .add("[[region]]\nname = \"plate\"\nrole = \"keep\"\nmaterial = \"steel\"\n"
             "box = [[70, 0, 0], [80, 40, 40]]\n")
        .surface("root", "facing = [-1, 0, 0]")
        .add("[[surface]]\nname = \"tip\"\nof = \"plate\"\nfacing = [1, 0, 0]\n")
        .support("clamp", "root", R"(["x", "y", "z"])")
        .force("pull", "tip", "[0, 0, -1000]")
        .load_case("bend", R"(["clamp"])", "{ pull = 1 }")
        .card("case", "hum", "kind = \"modal\"\nsupports = \"clamp\"\nmodes = 2\n")
        .response("stiffness", "compliance")
        .response("budget", "mass-fraction", "max = 0.5")
        .add(more)
        .minimize("stiffness")
        .mesh("size = 10\n")
        .section("run", "iterations = 80\n");
}

} // namespace

TEST(Verify, ThePartIsAnalysedAgainstEveryBound) {
    const TemporaryFolder folder;
    folder.write("ein hebel.toml", lever());
    const auto run = test::upright(folder.path(), {"optimize", "ein hebel.toml", "--quiet"});
    ASSERT_EQ(run.code, 0) << run.err;
    const auto verify = test::upright(folder.path(), {"verify", "ein hebel.run", "--size", "800x500"});
    EXPECT_EQ(verify.code, 0) << verify.out << verify.err;
    EXPECT_NE(verify.out.find("VERIFIED: the part holds every bound"), std::string::npos) << verify.out;
    const fs::path out = folder.path() / "ein hebel.run/verify";
    const auto json = nlohmann::json::parse(test::text_of(out / "verify.json"));
    EXPECT_EQ(json["verified"], true);
    EXPECT_EQ(json["order"], 2);
    // The smooth part is about as stiff as the design that it was cut from, and as heavy.
    for (const auto& row : json["rows"]) {
        if (row["name"] == "stiffness")
            EXPECT_NEAR(row["part"].get<double>(), row["design"].get<double>(),
                        0.1 * row["design"].get<double>());
        if (row["name"] == "budget") EXPECT_NEAR(row["part"].get<double>(), 0.5, 0.005);
        if (row["measure"] == "mass" && row["name"] == "all")
            EXPECT_NEAR(row["part"].get<double>(), row["design"].get<double>(),
                        0.005 * row["design"].get<double>());
    }
    for (const auto& s : json["surfaces"]) {
        EXPECT_GT(s["area"].get<double>(), 0.0);
        EXPECT_LE(s["area"].get<double>(), s["of"].get<double>() * (1.0 + 1e-9));
    }
    // It is an analysis like any other; a second verification takes its place.
    EXPECT_TRUE(fs::exists(out / "figures/stress-bend.png"));
    EXPECT_EQ(
        test::upright(folder.path(), {"plot", "ein hebel.run/verify", "--what", "mode", "--mode", "1"}).code,
        0);
    EXPECT_EQ(test::upright(folder.path(), {"verify", "ein hebel.run", "--no-figures"}).code, 0);
    // A bound that the part breaks is named, with exit code 4.
    const auto low =
        test::upright(folder.path(), {"verify", "ein hebel.run", "--no-figures", "--at", "0.02"});
    EXPECT_TRUE(low.code == 0 || low.code == 4) << low.err;
    // Wrong asks.
    EXPECT_EQ(test::upright(folder.path(), {"verify", "none.run"}).code, 3);
    EXPECT_EQ(test::upright(folder.path(), {"verify", "ein hebel.run", "--at", "2"}).code, 2);
    EXPECT_EQ(test::upright(folder.path(), {"verify", "ein hebel.run", "--out", "/proc/none"}).code, 6);
}

TEST(Verify, ABrokenBoundFails) {
    const TemporaryFolder folder;
    // The run knows no bound on the frequency; the study of the run has one that no such part holds.
    folder.write("s.toml", lever("[[response]]\nname = \"hum\"\nmeasure = \"frequency\"\ncase = \"hum\"\n"));
    ASSERT_EQ(test::upright(folder.path(), {"optimize", "s.toml", "--quiet"}).code, 0);
    const fs::path study = folder.path() / "s.run/study.toml";
    std::string text = test::text_of(study);
    const auto at = text.find("measure = \"frequency\"");
    ASSERT_NE(at, std::string::npos) << text;
    text.insert(at, "min = \"900 kHz\"\n");
    folder.write("s.run/study.toml", text);
    fs::remove(folder.path() / "s.run/model.h5");
    const auto verify = test::upright(folder.path(), {"verify", "s.run", "--no-figures"});
    EXPECT_EQ(verify.code, 4) << verify.out << verify.err;
    EXPECT_NE(verify.out.find("NOT VERIFIED: hum @ hum broken by 99."), std::string::npos) << verify.out;
}

// The part as it was written, edited or not, and meshes that follow the error.
TEST(Verify, TakesABodyThatWasMadeElsewhereAndLooksCloser) {
    const TemporaryFolder folder;
    folder.write("s.toml", lever());
    ASSERT_EQ(test::upright(folder.path(), {"optimize", "s.toml", "--quiet"}).code, 0);
    const auto numbers = [&](const char* where) {
        const auto json = nlohmann::json::parse(test::text_of(folder.path() / where / "verify.json"));
        for (const auto& row : json["rows"])
            if (row["name"] == "stiffness") return std::pair(json, row["part"].get<double>());
        return std::pair(json, 0.0);
    };
    ASSERT_EQ(
        test::upright(folder.path(), {"verify", "s.run", "--no-figures", "--refine", "--error", "0.04"}).code,
        0);
    const auto [carved, finest] = numbers("s.run/verify");
    const auto& rounds = carved["rounds"];
    ASSERT_GE(rounds.size(), 2U);
    for (std::size_t i = 1; i < rounds.size(); ++i) {
        // Finer meshes see more of what is singular at held edges, so that the last may gain nothing.
        EXPECT_LT(rounds[i]["energy_error"].get<double>(),
                  1.05 * rounds[i - 1]["energy_error"].get<double>());
        EXPECT_GT(rounds[i]["tetrahedra"].get<int>(), rounds[i - 1]["tetrahedra"].get<int>());
    }
    EXPECT_LT(rounds.back()["energy_error"].get<double>(), 0.95 * rounds[0]["energy_error"].get<double>());
    ASSERT_EQ(test::upright(folder.path(), {"carve", "s.run", "--out", "teil.stl"}).code, 0);
    const auto edited = test::upright(
        folder.path(), {"verify", "s.run", "--part", "teil.stl", "--no-figures", "--out", "edited"});
    EXPECT_EQ(edited.code, 0) << edited.out << edited.err;
    EXPECT_NE(edited.out.find("part: a body of"), std::string::npos) << edited.out;
    const auto [taken, compliance] = numbers("edited");
    EXPECT_NEAR(compliance, finest, 0.05 * finest);
    EXPECT_TRUE(taken["threshold"].is_null());
    // A body of another unit of length, what is no body, and words that do not go together.
    std::string stl = test::text_of(folder.path() / "teil.stl");
    folder.write("halb.stl", stl.substr(0, stl.size() / 2));
    const auto half = test::upright(folder.path(), {"verify", "s.run", "--part", "halb.stl", "--out", "no"});
    EXPECT_EQ(half.code, 3) << half.out;
    for (std::size_t t = 84; t + 50 <= stl.size(); t += 50)
        for (std::size_t k = 0; k < 12; ++k) {
            float v = 0.0F;
            std::memcpy(&v, stl.data() + t + 4 * k, 4);
            v *= 25.4F;
            std::memcpy(stl.data() + t + 4 * k, &v, 4);
        }
    folder.write("inch.stl", stl);
    const auto inch = test::upright(folder.path(), {"verify", "s.run", "--part", "inch.stl", "--out", "no"});
    EXPECT_EQ(inch.code, 3) << inch.out;
    EXPECT_NE(inch.err.find("unit of length"), std::string::npos) << inch.err;
    EXPECT_FALSE(fs::exists(folder.path() / "no"));
    EXPECT_EQ(test::upright(folder.path(), {"verify", "s.run", "--part", "teil.stl", "--mend"}).code, 2);
    EXPECT_EQ(test::upright(folder.path(), {"verify", "s.run", "--error", "0.1"}).code, 2);
}

TEST(Verify, FilletsAreWeighedAndAnalysed) {
    const TemporaryFolder folder;
    folder.write("s.toml", lever());
    ASSERT_EQ(test::upright(folder.path(), {"optimize", "s.toml", "--quiet"}).code, 0);
    ASSERT_EQ(test::upright(folder.path(), {"carve", "s.run"}).code, 0);
    const auto carved =
        test::upright(folder.path(), {"carve", "s.run", "--blend", "12 mm", "--out", "rund.stl"});
    EXPECT_EQ(carved.code, 0) << carved.out << carved.err;
    EXPECT_NE(carved.out.find("fillets of 12 mm"), std::string::npos) << carved.out;
    const auto json = [&](const char* file) {
        return nlohmann::json::parse(test::text_of(folder.path() / file));
    };
    const double sharp = json("s.run/part.json")["mass"];
    const auto with = json("rund.json");
    EXPECT_GT(with["mass"].get<double>(), 1.002 * sharp);
    EXPECT_NEAR(with["fillets"]["mass"].get<double>(), with["mass"].get<double>() - sharp, 1e-6 * sharp);
    EXPECT_EQ(with["fillets"]["radius"], 12.0);
    // A mass that was asked for is that of the part with them.
    const double asked = 1.005 * with["mass"].get<double>();
    const auto heavy =
        test::upright(folder.path(), {"carve", "s.run", "--blend", "1.2 cm", "--mass",
                                      std::to_string(1000.0 * asked) + " kg", "--out", "gleich.3mf"});
    ASSERT_EQ(heavy.code, 0) << heavy.err;
    EXPECT_NEAR(json("gleich.json")["mass"].get<double>(), asked, 0.003 * sharp);
    // The part that is analysed is the one that was carved; its mass breaks the bound, and that is said.
    const auto verify = test::upright(folder.path(), {"verify", "s.run", "--blend", "12", "--no-figures"});
    EXPECT_EQ(verify.code, 4) << verify.out << verify.err;
    const auto found = json("s.run/verify/verify.json");
    EXPECT_NEAR(found["mass"].get<double>(), with["mass"].get<double>(), 1e-9 * sharp);
    for (const auto& row : found["rows"]) {
        if (row["name"] == "budget") EXPECT_FALSE(row["holds"]);
        if (row["name"] == "stiffness") EXPECT_LT(row["part"], row["design"].get<double>() * 1.05);
    }
    // The report shows the part that was carved last in the run.
    ASSERT_EQ(test::upright(folder.path(), {"carve", "s.run", "--blend", "12 mm"}).code, 0);
    ASSERT_EQ(test::upright(folder.path(), {"report", "s.run"}).code, 0);
    const std::string page = test::text_of(folder.path() / "s.run/report.html");
    EXPECT_NE(page.find("of it in fillets of 12 mm"), std::string::npos);
    EXPECT_NE(page.find(", with fillets"), std::string::npos);
    // What it cannot be.
    for (const auto& [radius, what] :
         {std::pair("2 mm", "cannot follow"), std::pair("2 kg", "is a mass"), std::pair("0", "no radius"),
          std::pair("1e9", "from corner to corner")}) {
        const auto wrong =
            test::upright(folder.path(), {"carve", "s.run", "--blend", radius, "--out", "no.stl"});
        EXPECT_EQ(wrong.code, 2) << radius << wrong.err;
        EXPECT_NE(wrong.err.find(what), std::string::npos) << wrong.err;
    }
    EXPECT_FALSE(fs::exists(folder.path() / "no.stl"));
    EXPECT_EQ(test::upright(folder.path(), {"verify", "s.run", "--part", "rund.stl", "--blend", "12"}).code,
              2);
}

// A bound that fails by little: what to ask of the optimiser, and a threshold at which all holds.
TEST(Verify, SaysWhatWouldMendIt) {
    const TemporaryFolder folder;
    std::string text = lever();
    text.replace(text.find("max = 0.5"), 9, "max = 0.9");
    folder.write("s.toml", text);
    ASSERT_EQ(test::upright(folder.path(), {"optimize", "s.toml", "--quiet", "--set", "run.sharpen=false",
                                            "--set", "run.iterations=20", "--set", "response.budget.max=0.5"})
                  .code,
              0);
    // Of more mass than its bound.
    ASSERT_EQ(test::upright(folder.path(), {"verify", "s.run", "--no-figures", "--at", "0.4"}).code, 4);
    const fs::path report = folder.path() / "s.run/verify/verify.json";
    double part = 0.0;
    const auto before = nlohmann::json::parse(test::text_of(report));
    for (const auto& row : before["rows"])
        if (row["name"] == "stiffness") part = row["part"].get<double>();
    const fs::path study = folder.path() / "s.run/study.toml";
    std::string asked = test::text_of(study);
    const auto at = asked.find("measure = \"compliance\"");
    ASSERT_NE(at, std::string::npos) << asked;
    asked.insert(at, "max = " + std::to_string(0.95 * part) + "\n");
    const auto budget = asked.find("max = 0.5");
    ASSERT_NE(budget, std::string::npos) << asked;
    asked.replace(budget, 9, "max = 1.0");
    folder.write("s.run/study.toml", asked);
    fs::remove(folder.path() / "s.run/model.h5");
    const auto verify =
        test::upright(folder.path(), {"verify", "s.run", "--no-figures", "--at", "0.4", "--mend"});
    EXPECT_EQ(verify.code, 4) << verify.out << verify.err;
    EXPECT_NE(verify.out.find("to mend it, ask the optimiser for stiffness at most"), std::string::npos)
        << verify.out;
    const auto after = nlohmann::json::parse(test::text_of(report));
    ASSERT_TRUE(after["mended_at"].is_number()) << verify.out;
    const std::string lower = std::to_string(after["mended_at"].get<double>());
    EXPECT_EQ(test::upright(folder.path(), {"verify", "s.run", "--no-figures", "--at", lower}).code, 0);
}

TEST(Carve, SaysWhereToCutInOtherWays) {
    const TemporaryFolder folder;
    folder.write("s.toml", lever());
    ASSERT_EQ(test::upright(folder.path(), {"optimize", "s.toml", "--quiet", "--set", "run.sharpen=false",
                                            "--set", "run.iterations=15", "--set", "mesh.size=5"})
                  .code,
              0);
    const auto report = [&] { return nlohmann::json::parse(test::text_of(folder.path() / "part.json")); };
    const auto carve = [&](std::vector<std::string> words) {
        words.insert(words.begin(), {"carve", "s.run", "--out", "part.ply"});
        return test::upright(folder.path(), words);
    };
    EXPECT_EQ(carve({"--mass", "0.6 kg"}).code, 0);
    EXPECT_NEAR(report()["mass"].get<double>(), 0.6e-3, 0.006 * 0.6e-3);
    EXPECT_EQ(carve({"--fraction", "0.6"}).code, 0);
    double design = 0.0;
    const auto by_fraction = report();
    for (const auto& r : by_fraction["regions"])
        if (r["name"] == "block") design = r["volume"].get<double>();
    EXPECT_NEAR(design, 0.6 * 70.0 * 1600.0, 0.01 * 70.0 * 1600.0);
    const auto connected = carve({"--connected"});
    EXPECT_EQ(connected.code, 0) << connected.err;
    const double most = report()["threshold"].get<double>();
    EXPECT_NE(connected.out.find("up to a threshold of"), std::string::npos) << connected.out;
    EXPECT_EQ(report()["one_piece"], true);
    if (most < 0.9) EXPECT_EQ(carve({"--at", std::to_string(std::min(0.99, most + 0.1))}).code, 4);
    EXPECT_EQ(carve({"--mass", "50 kg"}).code, 3);
    EXPECT_EQ(carve({"--mass", "3 mm"}).code, 2);
    EXPECT_EQ(carve({"--fraction", "1.5"}).code, 2);
    EXPECT_EQ(carve({"--fraction", "0.4", "--at", "0.3"}).code, 2);
    EXPECT_EQ(test::upright(folder.path(), {"carve", "s.run", "--out", "part.igs"}).code, 2);
    EXPECT_EQ(test::upright(folder.path(), {"carve", "s.run", "--out", "teil é.3mf"}).code, 0);
    EXPECT_TRUE(fs::exists(folder.path() / "teil é.3mf"));
}

// The part as a STEP solid: sound when read again, seen by inspect, and verified as a body made elsewhere.
TEST(Verify, ASolidIsWrittenReadAndVerified) {
    const TemporaryFolder folder;
    folder.write("ein hebel.toml", lever());
    ASSERT_EQ(test::upright(folder.path(), {"optimize", "ein hebel.toml", "--quiet"}).code, 0);
    const auto carve =
        test::upright(folder.path(), {"carve", "ein hebel.run", "--out", "teil é.step", "--size", "800x500"});
    EXPECT_EQ(carve.code, 0) << carve.out << carve.err;
    EXPECT_NE(carve.out.find("STEP: "), std::string::npos) << carve.out;
    const auto json = nlohmann::json::parse(test::text_of(folder.path() / "teil é.json"));
    EXPECT_EQ(json["step"]["sound"], true);
    EXPECT_GE(json["step"]["planes"], 6);
    EXPECT_GT(json["step"]["smooth_faces"], 20);
    EXPECT_LT(json["step"]["mean_distance"], 0.05);
    EXPECT_GE(json["step"]["largest_distance"], json["step"]["mean_distance"]);
    const auto inspect = test::upright(folder.path(), {"inspect", "teil é.step", "--no-figures"});
    EXPECT_EQ(inspect.code, 0) << inspect.err;
    EXPECT_NE(inspect.out.find("1 body"), std::string::npos) << inspect.out;
    // So coarse a mesh does not follow smooth pockets to two per cent of volume: the flat solid is verified.
    ASSERT_EQ(
        test::upright(folder.path(), {"carve", "ein hebel.run", "--out", "flach.step", "--step", "facets"})
            .code,
        0);
    const auto verify =
        test::upright(folder.path(), {"verify", "ein hebel.run", "--part", "flach.step", "--no-figures"});
    EXPECT_EQ(verify.code, 0) << verify.out << verify.err;
    // What does not go together is said before anything is made.
    EXPECT_EQ(test::upright(folder.path(), {"carve", "ein hebel.run", "--step", "facets"}).code, 2);
    EXPECT_EQ(
        test::upright(folder.path(), {"carve", "ein hebel.run", "--out", "a.step", "--step", "round"}).code,
        2);
}

// What is ended by a signal leaves nothing, and what fails leaves an earlier result as it was.
TEST(Verify, AnEarlierResultStaysUntilTheNextIsThere) {
    const TemporaryFolder folder;
    folder.write("s.toml", lever());
    ASSERT_EQ(test::upright(folder.path(), {"optimize", "s.toml", "--quiet"}).code, 0);
    const auto stopped = [&](int signal) {
        const int status = test::ended_by_signal(
            folder.path(), {"verify", "s.run", "--refine", "--error", "0.001"},
            [] { std::this_thread::sleep_for(std::chrono::milliseconds(700)); }, signal);
        return WIFSIGNALED(status);
    };
    // SIGTERM at moments at which orderings are looked for as well: their library would trap it.
    for (const int signal : {SIGTERM, SIGKILL, SIGTERM, SIGTERM}) {
        EXPECT_TRUE(stopped(signal)) << "it was done before";
        EXPECT_FALSE(fs::exists(folder.path() / "s.run/verify"));
    }
    ASSERT_EQ(test::upright(folder.path(), {"verify", "s.run", "--no-figures"}).code, 0);
    const std::string before = test::text_of(folder.path() / "s.run/verify/verify.json");
    EXPECT_TRUE(stopped(SIGKILL));
    EXPECT_EQ(test::text_of(folder.path() / "s.run/verify/verify.json"), before);
    folder.write("leer.stl", "solid nothing\nendsolid nothing\n");
    EXPECT_EQ(test::upright(folder.path(), {"verify", "s.run", "--part", "leer.stl"}).code, 3);
    EXPECT_EQ(test::text_of(folder.path() / "s.run/verify/verify.json"), before);
}
