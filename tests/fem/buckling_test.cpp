#include "fem/buckling.hpp"

#include "base/angles.hpp"
#include "support/studies.hpp"

#include <cmath>

namespace upright {

using namespace test;

namespace {

constexpr auto first_case = static_cast<CaseId>(0);

BucklingResult buckling_of(const Model& model, int count = 1) {
    const std::vector<double> full(model.mesh.elements(), 1.0);
    StaticAnalysis analysis(model, {});
    const std::vector<CaseResult> results = analysis.solve(full, full);
    const GeometricStiffness G(analysis, model.cases[first_case], results[0].displacement, full);
    return buckling_modes(analysis, first_case, G, count);
}

double factor_of(const std::string& study) {
    const BucklingResult found = buckling_of(build_model(study_from(study)));
    EXPECT_EQ(found.modes.size(), 1U);
    return found.modes.empty() ? 0.0 : found.modes[0].factor;
}

// A column of 1000 x 20 x 30 mm along x, pressed with 1000 N at its head; the weak way is y. Foot and head
// move with rigid plates.
std::string column(const std::string& mesh, const std::string& foot, const std::string& head,
                   const std::string& load = "force = [-1000, 0, 0]") {
    StudyText text;
    text.material("plain", "210000", "0", "1e-9")
        .region("column", "box = [[0, 0, 0], [1000, 20, 30]]")
        .surface("low", "facing = [-1, 0, 0]")
        .surface("high", "facing = [1, 0, 0]")
        .card("coupling", "foot", "surface = \"low\"")
        .card("coupling", "head", "surface = \"high\"")
        .support("below", "foot", foot)
        .support("above", "head", head)
        .card("load", "press", (load.rfind("force", 0) == 0 ? "on = \"head\"\n" : "") + load)
        .load_case("pressed", R"(["below", "above"])", "{ press = 1 }")
        .mesh(mesh);
    return text;
}

const std::string clamped = R"(["x", "y", "z", "rx", "ry", "rz"])";

struct End {
    const char* name;
    std::string foot, head;
    double length; // of buckling, as a share of the column's
};
const std::vector<End> ends{
    {"free head", clamped, R"(["z"])", 2.0},
    {"two hinges", R"(["x", "y", "z", "rx", "ry"])", R"(["y", "z", "rx", "ry"])", 1.0},
    {"clamped and hinged", clamped, R"(["y", "z", "rx", "ry"])", 0.699156},
    {"clamped and guided", clamped, R"(["y", "z", "rx", "ry", "rz"])", 0.5}};

// Euler's load with what shear takes of it (Engesser).
double euler(double length) {
    const double bending = 210000.0 * 30.0 * 8000.0 / 12.0 * std::pow(pi / length, 2);
    return bending / (1.0 + bending / (5.0 / 6.0 * 105000.0 * 600.0));
}

} // namespace

TEST(Buckling, ColumnsOfFourEndConditionsFollowEuler) {
    for (const std::string& mesh :
         {std::string("size = 10"), std::string("kind = \"fitted\"\nsize = 20\norder = 2")})
        for (const End& end : ends)
            EXPECT_NEAR(1000.0 * factor_of(column(mesh, end.foot, end.head)) / euler(1000.0 * end.length),
                        1.0, 0.01)
                << end.name << ", " << mesh;
}

// In the plane, by every kind of element there.
TEST(Buckling, AStripInThePlane) {
    for (const std::string& mesh : {std::string("size = 10"), std::string("size = 10\norder = 2"),
                                    std::string("kind = \"fitted\"\nsize = 10\norder = 2")}) {
        StudyText text;
        text.material("plain", "210000", "0", "1e-9")
            .region("column", "box = [[0, 0], [1000, 20]]")
            .surface("low", "facing = [-1, 0]")
            .surface("high", "facing = [1, 0]")
            .support("below", "low", R"(["x", "y"])")
            .force("press", "high", "[-1000, 0]")
            .load_case("pressed", R"(["below"])", "{ press = 1 }")
            .mesh("element = \"plane-stress\"\nthickness = 30\n" + mesh);
        EXPECT_NEAR(1000.0 * factor_of(text) / euler(2000.0), 1.0, 0.01) << mesh;
    }
}

// A square plate of 400 mm, 4 mm thick, simply held at its edges and pressed along x: 4 pi^2 D / b^2 of force
// a length (Timoshenko & Gere 1961, section 9.2); half as much each way where both are pressed.
TEST(Buckling, APlateOfShells) {
    const double D = 210000.0 * 64.0 / 12.0 / (1.0 - 0.09);
    for (const std::string& mesh : {std::string("size = 20"), std::string("kind = \"fitted\"\nsize = 20")})
        for (const bool both : {false, true}) {
            StudyText text;
            text.steel()
                .region("plate", "box = [[0, 0], [400, 400]]")
                .surface("left", "facing = [-1, 0]")
                .surface("right", "facing = [1, 0]")
                .surface("front", "facing = [0, -1]")
                .surface("back", "facing = [0, 1]")
                .point("corner", "[0, 0]")
                .point("next", "[400, 0]")
                .support("left-edge", "left", R"(["z"])")
                .support("right-edge", "right", R"(["z"])")
                .support("front-edge", "front", R"(["z"])")
                .support("back-edge", "back", R"(["z"])")
                .support("one", "corner", R"(["x", "y"])")
                .support("two", "next", R"(["y"])")
                .force("west", "left", "[1000, 0, 0]")
                .force("east", "right", "[-1000, 0, 0]")
                .force("south", "front", "[0, 1000, 0]")
                .force("north", "back", "[0, -1000, 0]")
                .load_case("pressed",
                           R"(["left-edge", "right-edge", "front-edge", "back-edge", "one", "two"])",
                           both ? "{ west = 1, east = 1, south = 1, north = 1 }" : "{ west = 1, east = 1 }")
                .mesh("element = \"shell\"\nthickness = 4\n" + mesh);
            const double exact = (both ? 2.0 : 4.0) * pi * pi * D / 400.0;
            EXPECT_NEAR(1000.0 * factor_of(text) / exact, 1.0, 0.015) << mesh << both;
        }
}

// Held between two walls and heated: the stress is -E alpha dT.
TEST(Buckling, OfAHeatedColumn) {
    const std::string plain = "density = 1e-9\n";
    std::string study = column("size = 10", clamped, clamped, "heat = 10");
    study.insert(study.find(plain) + plain.size(), "expansion = 1.2e-5\n");
    const double force = 210000.0 * 1.2e-5 * 10.0 * 600.0;
    EXPECT_NEAR(force * factor_of(study) / euler(500.0), 1.0, 0.01);
}

// The same column pulled.
TEST(Buckling, NothingBucklesThatIsPulled) {
    const Model model =
        build_model(study_from(column("size = 10", clamped, R"(["z"])", "force = [1000, 0, 0]")));
    EXPECT_TRUE(buckling_of(model).modes.empty());
}

// A column of two ways that are alike has factors in pairs, and more of them in the order of their waves.
TEST(Buckling, FindsSeveralFactorsAndPairs) {
    std::string study = column("size = 10", clamped, "[\"ry\"]");
    study.replace(study.find("20, 30]]"), 8, "20, 20]]");
    study.erase(study.find("[[support]]\nname = \"above\""),
                study.find("[[load]]") - study.find("[[support]]\nname = \"above\""));
    study.replace(study.find("\"below\", \"above\""), 16, "\"below\"");
    const BucklingResult found = buckling_of(build_model(study_from(study)), 4);
    ASSERT_EQ(found.modes.size(), 4U);
    EXPECT_NEAR(found.modes[1].factor / found.modes[0].factor, 1.0, 1e-6);
    EXPECT_NEAR(found.modes[3].factor / found.modes[2].factor, 1.0, 1e-6);
    EXPECT_NEAR(found.modes[2].factor / found.modes[0].factor, 9.0, 0.15);
}

// A portal of two legs of 500 mm and a beam of the same 500 by 20 mm, clamped below, pressed at both corners,
// free to sway. The sway of a portal with clamped feet: k l tan(k l) ... is found from
// tan(x) / x = -(l_b I_c) / (6 l_c I_b) with x = k l (Timoshenko & Gere 1961, section 2.4): x = 2.716 for
// equal members.
TEST(Buckling, APortalSways) {
    StudyText text;
    text.material("plain", "210000", "0", "1e-9")
        .region("legs", "box = [[-10, 0], [510, 510]]")
        .region("window", "box = [[10, 0], [490, 490]]", "void")
        .add("");
    std::string study = text;
    study += R"([[surface]]
name = "feet"
of = "legs"
facing = [0, -1]
[[point]]
name = "left"
at = [0, 510]
[[point]]
name = "right"
at = [500, 510]
[[support]]
name = "clamp"
on = "feet"
hold = ["x", "y"]
[[load]]
name = "a"
on = "left"
force = [0, -1000]
[[load]]
name = "b"
on = "right"
force = [0, -1000]
[[case]]
name = "pressed"
supports = ["clamp"]
loads = { a = 1, b = 1 }
[mesh]
size = 5
element = "plane-stress"
thickness = 30
)";
    const double x = 2.716;
    const double exact = std::pow(x / 500.0, 2) * 210000.0 * 30.0 * 8000.0 / 12.0;
    EXPECT_NEAR(1000.0 * factor_of(study) / exact, 1.0, 0.02);
}

// The factor by the share of stiffness of an element: central differences against v' (K' + factor G') v and
// the adjoint of G by the displacements.
TEST(Buckling, SensitivitiesAgainstCentralDifferences) {
    for (const std::string& mesh : {std::string("size = 10"), std::string("kind = \"fitted\"\nsize = 40"),
                                    std::string("kind = \"fitted\"\nsize = 60\norder = 2")}) {
        const Model model = build_model(study_from(column(mesh, clamped, R"(["z"])")));
        const std::size_t n = model.mesh.elements();
        std::vector<double> share(n);
        for (std::size_t e = 0; e < n; ++e) share[e] = 0.6 + 0.4 * std::sin(3.0 * static_cast<double>(e));
        StaticAnalysis analysis(model, {});
        const auto solve = [&] {
            const std::vector<CaseResult> r = analysis.solve(share, share);
            const GeometricStiffness G(analysis, model.cases[first_case], r[0].displacement, share);
            return buckling_modes(analysis, first_case, G, 1).modes.at(0).factor;
        };
        const std::vector<CaseResult> r = analysis.solve(share, share);
        const Eigen::VectorXd& u = r[0].displacement;
        const GeometricStiffness G(analysis, model.cases[first_case], u, share);
        const BucklingMode mode = buckling_modes(analysis, first_case, G, 1).modes.at(0);
        const std::vector<double> elastic = analysis.unit_energy(mode.shape);
        const std::vector<double> geometric = G.unit_work(mode.shape);
        const Eigen::MatrixXd adjoint =
            analysis.answers(first_case, G.by_displacement(mode.shape), Accuracy());
        const Eigen::VectorXd v = adjoint.col(0);
        const std::vector<double> back = analysis.unit_energy(u, &v);
        for (const std::size_t e : {std::size_t{0}, n / 3, n - 2}) {
            const double slope =
                mode.factor * (elastic[e] + mode.factor * geometric[e] - mode.factor * back[e]);
            // A slender column's factor is known to some nine digits: wide steps, extrapolated.
            const auto wide = [&](double h) {
                const double was = share[e];
                share[e] = was + h;
                const double up = solve();
                share[e] = was - h;
                const double down = solve();
                share[e] = was;
                return (up - down) / (2.0 * h);
            };
            const double expected = (4.0 * wide(0.01) - wide(0.02)) / 3.0;
            // As a share of what all elements together come to.
            EXPECT_NEAR((slope - expected) / mode.factor * static_cast<double>(n), 0.0, 5e-5)
                << mesh << " " << e << " " << slope / mode.factor * static_cast<double>(n);
        }
    }
}

} // namespace upright
