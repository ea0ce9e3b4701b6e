// Reactions where supports, couplings and symmetry planes share nodes; what balance is measured by.
#include "fem/support_forces.hpp"
#include "response/case_report.hpp"
#include "support/studies.hpp"

namespace upright {

namespace {

using test::study_from;

// A cube of 20 mm; a rigid coupling lifts the load of 100 N along x to z = 30.
std::string cube(const std::string& more, const char* element = "") {
    return std::string(R"(units = ["mm", "N", "s"]
[[material]]
name = "m"
E = 70000
nu = 0.3
density = "2700 kg/m3"
expansion = "23e-6 1/K"
[[region]]
name = "b"
role = "design"
material = "m"
box = [[0, 0, 0], [20, 20, 20]]
[[surface]]
name = "bottom"
of = "b"
facing = [0, 0, -1]
[[surface]]
name = "top"
of = "b"
facing = [0, 0, 1]
[[surface]]
name = "left"
of = "b"
facing = [-1, 0, 0]
[[surface]]
name = "right"
of = "b"
facing = [1, 0, 0]
[[point]]
name = "P"
at = [10, 10, 30]
[[coupling]]
name = "rig"
surface = "top"
at = "P"
kind = "rigid"
[[frame]]
name = "upright"
kind = "cylindrical"
origin = [10, 10, 0]
axis = [0, 0, 1]
start = [1, 0, 0]
[[support]]
name = "sx"
on = "left"
hold = ["x"]
[[support]]
name = "other"
on = "right"
hold = ["x"]
[[support]]
name = "sz"
on = "bottom"
hold = ["y", "z"]
[[support]]
name = "round"
on = "left"
frame = "upright"
hold = ["r", "t"]
[[load]]
name = "f"
on = "rig"
force = [100, 30, 0]
[[case]]
name = "A"
supports = ["sx", "sz"]
loads = { f = 1 }
)") + more +
           "[mesh]\nsize = 5\n" + element;
}

const Reaction& named(const StaticReport& s, const std::string& name) {
    for (const Reaction& r : s.reactions)
        if (r.name == name) return r;
    throw std::runtime_error(name);
}

} // namespace

TEST(SupportForces, OfNodesThatARigidCouplingHoldsToo) {
    for (const char* element : {"", "order = 2\n", "kind = \"fitted\"\n"}) {
        const StaticReport s = analyze(build_model(study_from(cube("", element))), {}).statics.at(0);
        EXPECT_NEAR(named(s, "sx").force.x(), -100.0, 1e-6) << element;
        EXPECT_NEAR(named(s, "sz").force.y(), -30.0, 1e-6) << element;
        EXPECT_LT(s.balance, 1e-10) << element;
    }
}

TEST(SupportForces, OfCylindricalHoldsAndSymmetryPlanes) {
    const StaticReport round =
        analyze(build_model(study_from(
                    cube("[[case]]\nname = \"B\"\nsupports = [\"round\", \"sz\"]\nloads = { f = 1 }\n"))),
                {})
            .statics.at(1);
    EXPECT_NEAR((named(round, "round").force + named(round, "sz").force - Vec3(-100, -30, 0)).norm(), 0.0,
                1e-6);
    EXPECT_LT(round.balance, 1e-10);
    // The half below y = 10 of a cube whose coupling has nodes on the plane.
    const std::string half = cube("[symmetry]\nplanes = [\"y = 10\"]\n");
    const StaticReport mirrored = analyze(build_model(study_from(half)), {}).statics.at(0);
    EXPECT_NEAR(named(mirrored, "sx").force.x(), -100.0, 1e-6);
    EXPECT_NEAR((named(mirrored, "symmetry").force + named(mirrored, "sz").force).y(), -30.0, 1e-6);
    EXPECT_LT(mirrored.balance, 1e-10);
}

// R = w' (K u - f) is the same number as the sum of the forces, and any residual gives the same both ways.
TEST(SupportForces, FieldIsTheTranspose) {
    const Model model = build_model(study_from(cube("[symmetry]\nplanes = [\"y = 10\"]\n")));
    const SupportForces holding(model, model.cases.at(0));
    Eigen::VectorXd residual = Eigen::VectorXd::Zero(static_cast<Eigen::Index>(model.freedoms()));
    Eigen::VectorXd weights = Eigen::VectorXd::Zero(static_cast<Eigen::Index>(holding.held().size()));
    for (Eigen::Index i = 0; i < residual.size(); ++i) residual[i] = std::sin(1.0 + 3.7 * double(i));
    for (Eigen::Index i = 0; i < weights.size(); ++i) weights[i] = std::cos(2.0 + 1.3 * double(i));
    const double a = weights.dot(holding.of(residual));
    EXPECT_NEAR(holding.field(weights).dot(residual), a, 1e-9 * std::abs(a));
}

TEST(SupportForces, ReactionsAreReadWhereTheirSupportIs) {
    const std::string more =
        "[[case]]\nname = \"B\"\nsupports = [\"other\", \"sz\"]\nloads = { f = 1 }\n"
        "[[response]]\nname = \"r\"\nmeasure = \"reaction\"\nat = \"sx\"\ncomponent = \"x\"\nmax = -50\n";
    const Study study = study_from(cube(more));
    const Model model = build_model(study);
    const std::vector<Outcome> found = measure_all(model, analyze(model, {}));
    ASSERT_EQ(found.size(), 1U); // in A alone
    EXPECT_EQ(found[0].in_case, "A");
    EXPECT_NEAR(found[0].value, -100.0, 1e-6);
    EXPECT_TRUE(found[0].holds);
    EXPECT_NE(
        test::error_of(cube("[[case]]\nname = \"B\"\nsupports = [\"other\", \"sz\"]\nloads = { f = 1 }\n"
                            "[[response]]\nname = \"r\"\nmeasure = \"reaction\"\nat = \"sx\"\ncase = "
                            "\"B\"\n"))
            .find("the case \"B\" has not the support \"sx\""),
        std::string::npos);
}

TEST(SupportForces, BalanceIsMeasuredByWhatActsInside) {
    const Model model = build_model(study_from(
        cube("[[load]]\nname = \"warm\"\nheat = 100\n[[case]]\nname = \"warm\"\nsupports = [\"sx\", "
             "\"other\", \"sz\"]\nloads = { warm = 1 }\n")));
    const StaticReport s = analyze(model, {}).statics.at(1);
    EXPECT_LT(s.balance, 1e-12);  // of noise over noise it would be about 1
    EXPECT_GT(s.at_work, 1000.0); // E alpha T over the faces: 161 N/mm2 on 400 mm2
    EXPECT_TRUE(s.doubts.empty());
}

TEST(CaseReport, StrainEnergyCountsJoints) {
    const Model model = build_model(study_from(cube(
        "[[joint]]\nname = \"j\"\nbetween = [\"rig\", \"ground\"]\nstiffness = { axial = 500, shear = 300 }\n"
        "[[case]]\nname = \"soft\"\nsupports = [\"sz\"]\nloads = { f = 1 }\n")));
    for (const StaticReport& s : analyze(model, {}).statics) {
        EXPECT_NEAR(s.strain_energy, 0.5 * s.compliance, 1e-9 * s.compliance);
        EXPECT_LT(s.balance, 1e-8);
    }
}

} // namespace upright
