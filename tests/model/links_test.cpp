// Couplings, joints, masses, bonds, frames, and every kind of load: resultants and closed forms.
#include "base/angles.hpp"
#include "fem/matrices.hpp"
#include "fem/static_analysis.hpp"
#include "model/rigid_freedom.hpp"
#include "model/storage.hpp"
#include "response/motions.hpp"
#include "support/studies.hpp"

#include <Eigen/Dense>
#include <Eigen/SparseCholesky>
#include <gtest/gtest.h>

using namespace upright;
using test::block_study;
using test::study_from;

namespace {

const char* tip_coupling = "[[point]]\nname = \"hook\"\nat = [12, 2, 7]\n[[coupling]]\nname = "
                           "\"arm\"\nsurface = \"tip\"\nat = \"hook\"\n";

Model model_with(const std::string& extra, const std::vector<std::string>& settings = {}) {
    return build_model(study_from(block_study(extra), settings));
}

Resultant of_load(const Model& model, const std::string& name) {
    for (const ModelLoad& l : model.loads)
        if (l.name == name) return resultant(model, l);
    ADD_FAILURE() << name;
    return {};
}

// What really reaches the nodes of the mesh when couplings pass a load on.
Resultant on_nodes(const Model& model, const Eigen::VectorXd& f) {
    Resultant out;
    for (Eigen::Index i = 0; i < f.size(); ++i) {
        const Model::Spot s = model.spot(static_cast<std::size_t>(i));
        if (s.component >= 3) {
            out.moment[s.component - 3] += f[i];
            continue;
        }
        const Vec3 force = f[i] * Vec3::Unit(s.component);
        out.force += force;
        out.moment += s.at.cross(force);
    }
    return out;
}

CaseResult solved(const Model& model, std::size_t c = 0) {
    StaticAnalysis analysis(model, {});
    const std::vector<double> full(model.mesh.elements(), 1.0);
    return analysis.solve(full, full)[c];
}

void expect_near(const Vec3& a, const Vec3& b, double tolerance) {
    EXPECT_NEAR((a - b).norm(), 0.0, tolerance) << a.transpose() << " and " << b.transpose();
}

} // namespace

TEST(Loads, EveryKindSumsToWhatWasMeant) {
    const std::string frame = "[[frame]]\nname = \"f\"\nkind = \"cylindrical\"\norigin = [0, 2, 2]\naxis = "
                              "[1, 0, 0]\nstart = [0, 0, 1]\n"
                              "[[frame]]\nname = \"turned\"\nkind = \"cartesian\"\norigin = [0, 0, 0]\naxis "
                              "= [0, 0, 1]\nstart = [0, 1, 0]\n";
    const Model m = model_with(
        frame + tip_coupling +
        "[[load]]\nname = \"in-frame\"\non = \"tip\"\nframe = \"turned\"\nforce = [10, 0, 5]\n"
        "[[load]]\nname = \"moment\"\non = \"tip\"\nmoment = [3, -4, 5]\n"
        "[[load]]\nname = \"far-force\"\non = \"arm\"\nforce = [1, 2, 3]\n"
        "[[load]]\nname = \"far-moment\"\non = \"arm\"\nmoment = [1, 2, 3]\n"
        "[[load]]\nname = \"pressure\"\non = \"tip\"\npressure = 2\n"
        "[[load]]\nname = \"rope\"\non = \"tip\"\ntoward = { from = [0, 0, 0], to = [3, 0, 4], size = 50 }\n"
        "[[load]]\nname = \"weight\"\ngravity = [0, 0, -9810]\n"
        "[[load]]\nname = \"turn\"\nspin = { frame = \"f\", speed = \"3000 rpm\" }\n"
        "[[load]]\nname = \"round\"\non = \"tip\"\nframe = \"f\"\nforce = [0, 7, 0]\n");
    expect_near(of_load(m, "in-frame").force, Vec3(0, 10, 5), 1e-9);
    expect_near(of_load(m, "moment").force, Vec3::Zero(), 1e-9);
    expect_near(of_load(m, "moment").moment, Vec3(3, -4, 5), 1e-9);
    expect_near(of_load(m, "far-force").force, Vec3(1, 2, 3), 1e-9);
    expect_near(of_load(m, "far-force").moment, Vec3(12, 2, 7).cross(Vec3(1, 2, 3)), 1e-9);
    expect_near(of_load(m, "far-moment").moment, Vec3(1, 2, 3), 1e-9);
    expect_near(of_load(m, "pressure").force, Vec3(-32, 0, 0), 1e-9);
    expect_near(of_load(m, "rope").force, Vec3(30, 0, 40), 1e-9);
    const double mass = 128 * 7.85e-9;
    expect_near(of_load(m, "weight").force, Vec3(0, 0, -9810 * mass), 1e-9 * 9810 * mass);
    // About the block's own axis the spin balances.
    expect_near(of_load(m, "turn").force, Vec3::Zero(), 1e-9);
    // Tangential all round: no force, and a moment about the axis.
    EXPECT_NEAR(of_load(m, "round").force.norm(), 0.0, 1e-9);
    EXPECT_GT(of_load(m, "round").moment.x(), 5.0);
}

TEST(Loads, SpinPullsOutward) {
    // About z through the origin: sum of m w^2 r is mass * w^2 * centroid.
    const Model m =
        model_with("[[frame]]\nname = \"f\"\nkind = \"cylindrical\"\norigin = [0, 0, 0]\naxis = [0, 0, 1]\n"
                   "[[load]]\nname = \"turn\"\nspin = { frame = \"f\", speed = \"600 rpm\" }\n");
    const double w = 600.0 / 60 * 2 * pi;
    const double mass = 128 * 7.85e-9;
    const Vec3 expected = mass * w * w * Vec3(4, 2, 0);
    expect_near(of_load(m, "turn").force, expected, 1e-9 * expected.norm());
}

// A body that spins up is held back by its inertia: the moment is that of the mass times -a x r.
TEST(Loads, SpinningUpPushesBack) {
    const Model m =
        model_with("[[frame]]\nname = \"f\"\nkind = \"cylindrical\"\norigin = [1, 0, 0]\naxis = [0, 0, "
                   "1]\nstart = [1, 0, "
                   "0]\n[[load]]\nname = \"up\"\nspin = { frame = \"f\", speed_up = \"200 rad/s2\" }\n");
    const double density = 7.85e-9;
    const double mass = density * 8 * 4 * 4;
    const Resultant up = of_load(m, "up");
    // The centre lies at (3, 2) from the axis: force = -m a z x r.
    expect_near(up.force, -mass * 200.0 * Vec3(-2, 3, 0), 1e-12);
    // About the axis: second moments about the centre, and the centre's own.
    const double second = mass * ((8.0 * 8.0 + 4.0 * 4.0) / 12.0 + 3.0 * 3.0 + 2.0 * 2.0);
    const double about_axis = up.moment.z() - Vec3(1, 0, 0).cross(up.force).z();
    EXPECT_NEAR(about_axis, -200.0 * second, 1e-12);
}

// A total of the whole body on what a symmetry plane cuts: the half takes half of it.
TEST(Loads, CoverTheWholeOrTheModelledPart) {
    for (const auto& [covers, size] : {std::pair{"modelled", -100.0}, {"whole", -50.0}}) {
        const Model m =
            model_with("[symmetry]\nplanes = [\"y = 2\"]\n", {std::string("load.pull.covers=") + covers});
        EXPECT_NEAR(of_load(m, "pull").force.z(), size, 1e-9) << covers;
    }
    const Model quarter =
        model_with("[symmetry]\nplanes = [\"y = 2\", \"z = 2\"]\n", {"load.pull.covers=whole"});
    EXPECT_NEAR(of_load(quarter, "pull").force.z(), -25.0, 1e-9);
}

// A point off the body is read at the coupling that stands there, and refused without one.
TEST(Readings, OfPointsOffTheBody) {
    const std::string read = "[[response]]\nname = \"r\"\nmeasure = \"displacement\"\nat = \"hook\"\n";
    const std::string point = "[[point]]\nname = \"hook\"\nat = [12, 2, 7]\n";
    EXPECT_NE(test::error_of(block_study(point + read)).find("off the body, which is more than one cell"),
              std::string::npos);
    const Study study = study_from(block_study(std::string(tip_coupling) + read));
    const Model m = build_model(study);
    const std::vector<Motion> found = motions(m, m.responses.back());
    ASSERT_EQ(found.size(), 1U);
    EXPECT_EQ(found[0].along[0].front().freedom, m.freedom_of_coupling(static_cast<CouplingId>(0), 0));
    expect_near(found[0].at, Vec3(12, 2, 7), 1e-12);
}

TEST(Regions, OfThePlaneAreAsThickAsTheySay) {
    const Model m = build_model(study_from(R"(units = ["mm", "N", "s"]
[[material]]
name = "steel"
E = 210000
nu = 0.3
density = 7.85e-9
[[region]]
name = "thin"
role = "design"
material = "steel"
box = [[0, 0], [40, 20]]
[[region]]
name = "thick"
role = "keep"
material = "steel"
box = [[40, 0], [60, 20]]
thickness = 6
[mesh]
size = 2
element = "plane-stress"
thickness = 2
)"));
    EXPECT_NEAR(m.regions[0].volume, 40 * 20 * 2, 1e-9);
    EXPECT_NEAR(m.regions[1].volume, 20 * 20 * 6, 1e-9);
    EXPECT_NEAR(m.regions[1].mass, 7.85e-9 * 2400, 1e-15);
    double nodes = 0.0;
    for (std::size_t e = 0; e < m.mesh.elements(); ++e)
        for (std::size_t i = 0; i < 4; ++i) nodes += m.mesh.node_volume(static_cast<ElementId>(e), i);
    EXPECT_NEAR(nodes, 1600 + 2400, 1e-9);
    const ElementId last = static_cast<ElementId>(m.mesh.elements() - 1);
    EXPECT_NEAR(m.mesh.face_area({last, 1}), 2 * 6, 1e-9);
}

TEST(Couplings, PassOnForceAndMoment) {
    for (const char* kind : {"rigid", "average"}) {
        const Model m = model_with(std::string(tip_coupling) + "kind = \"" + kind +
                                   "\"\n[[load]]\nname = \"far\"\non = \"arm\"\nforce = [1, 2, 3]\n"
                                   "[[case]]\nname = \"far\"\nsupports = \"clamp\"\nloads = \"far\"\n");
        // The reactions balance the force at the hook: force and moment.
        StaticAnalysis analysis(m, {});
        const std::vector<double> full(m.mesh.elements(), 1.0);
        const auto results = analysis.solve(full, full);
        const Resultant back = on_nodes(m, analysis.reactions(results[1], m.cases.at(1), full, full));
        expect_near(back.force, Vec3(-1, -2, -3), 1e-8);
        expect_near(back.moment, -Vec3(12, 2, 7).cross(Vec3(1, 2, 3)), 1e-7);
    }
}

TEST(Couplings, ARigidOneKeepsItsSurfacePlane) {
    const Model m = model_with(tip_coupling);
    const CaseResult r = solved(m);
    // Four corners of the tip move as one body: distances stay.
    std::vector<Vec3> moved;
    for (const NodeId n : m.couplings.at(0).nodes)
        moved.push_back(m.mesh.nodes[index(n)] +
                        r.displacement.segment<3>(static_cast<Eigen::Index>(m.freedom(n, 0))));
    for (std::size_t i = 1; i < moved.size(); ++i) {
        const Vec3 before =
            m.mesh.nodes[index(m.couplings.at(0).nodes[i])] - m.mesh.nodes[index(m.couplings.at(0).nodes[0])];
        EXPECT_NEAR((moved[i] - moved[0]).dot(before.normalized()), before.norm(),
                    1e-9 * before.norm() + 1e-12);
    }
    // An averaging one leaves the stiffness alone.
    const Model plain = model_with("");
    const Model average = model_with(std::string(tip_coupling) + "kind = \"average\"\n");
    EXPECT_NEAR(solved(average).compliance, solved(plain).compliance, 1e-10 * solved(plain).compliance);
    EXPECT_LT(r.compliance, solved(plain).compliance);
}

TEST(Couplings, TheMeanMotionOfARigidMotionIsThatMotion) {
    const Model m = model_with(std::string(tip_coupling) + "kind = \"average\"\n");
    const Transform t = m.links();
    const Vec3 shift(0.1, -0.2, 0.3);
    const Vec3 turn(0.01, 0.02, -0.03);
    Eigen::VectorXd u = Eigen::VectorXd::Zero(static_cast<Eigen::Index>(m.freedoms()));
    for (std::size_t n = 0; n < m.mesh.nodes.size(); ++n)
        u.segment<3>(static_cast<Eigen::Index>(3 * n)) = shift + turn.cross(m.mesh.nodes[n]);
    Eigen::VectorXd q(static_cast<Eigen::Index>(t.unknowns()));
    for (std::size_t f = 0; f < t.freedoms(); ++f)
        if (!t.dependent(f)) q[t.unknown_of(f)] = u[static_cast<Eigen::Index>(f)];
    const Eigen::VectorXd all = t.expand(q, true);
    const auto first = static_cast<Eigen::Index>(m.freedom_of_coupling(static_cast<CouplingId>(0), 0));
    expect_near(all.segment<3>(first), shift + turn.cross(Vec3(12, 2, 7)), 1e-12);
    expect_near(all.segment<3>(first + 3), turn, 1e-12);
}

TEST(Joints, StandOnTheirSprings) {
    // The block rides on one joint alone and is pushed along its axis: force over stiffness, and the whole
    // block moves.
    const Model m =
        model_with("[[coupling]]\nname = \"foot\"\nsurface = \"root\"\n"
                   "[[joint]]\nname = \"bolt\"\nbetween = [\"foot\", \"ground\"]\naxis = [1, 0, 0]\n"
                   "stiffness = { axial = 1000, shear = 500, torsion = 1e5, bending = 1e5 }\n"
                   "[[load]]\nname = \"push\"\non = \"arm\"\nforce = [20, 0, 0]\n[[coupling]]\nname = "
                   "\"arm\"\nsurface = \"tip\"\n"
                   "[[support]]\nname = \"nothing\"\non = \"arm\"\nhold = [\"rx\"]\n"
                   "[[case]]\nname = \"push\"\nsupports = \"nothing\"\nloads = \"push\"\n");
    EXPECT_TRUE(free_motions(m, &m.cases.at(1))[0].motions.empty());
    StaticAnalysis analysis(m, {});
    const std::vector<double> full(m.mesh.elements(), 1.0);
    const CaseResult r = analysis.solve(full, full)[1];
    EXPECT_NEAR(
        r.displacement[static_cast<Eigen::Index>(m.freedom_of_coupling(static_cast<CouplingId>(0), 0))], 0.02,
        1e-9);
    EXPECT_NEAR(on_nodes(m, analysis.reactions(r, m.cases.at(1), full, full)).force.x(), -20.0, 1e-7);
}

TEST(Joints, WithoutBendingAreHinges) {
    const Model m = model_with("[[coupling]]\nname = \"foot\"\nsurface = \"root\"\n"
                               "[[joint]]\nname = \"pin\"\nbetween = [\"foot\", \"ground\"]\naxis = [0, 1, "
                               "0]\nstiffness = { axial = 1000, shear = 500, bending = 1e5 }\n"
                               "[[case]]\nname = \"pinned\"\nsupports = \"none\"\nloads = "
                               "\"pull\"\n[[support]]\nname = \"none\"\non = \"foot\"\nhold = [\"y\"]\n");
    const auto motions = free_motions(m, &m.cases.at(1))[0].motions;
    ASSERT_EQ(motions.size(), 1U);
    EXPECT_TRUE(motions[0].rotation);
    EXPECT_NEAR(std::abs(motions[0].direction.y()), 1.0, 1e-6);
}

TEST(Supports, EnforcedDisplacementStretchesABar) {
    // nu = 0: the tip moved by 0.08 over 8 mm gives a strain of 1 % and a stress of 2100 everywhere.
    const Model m = model_with("[[support]]\nname = \"puller\"\non = \"tip\"\nhold = \"x\"\nmove = { x = "
                               "0.08 }\n[[case]]\nname = \"stretch\"\nsupports = [\"clamp\", \"puller\"]\n",
                               {"material.steel.nu=0"});
    StaticAnalysis analysis(m, {});
    const std::vector<double> full(m.mesh.elements(), 1.0);
    const CaseResult r = analysis.solve(full, full)[1];
    for (const double s : analysis.von_mises_stress(r.displacement)) EXPECT_NEAR(s, 2100.0, 1e-6);
    EXPECT_NEAR(on_nodes(m, analysis.reactions(r, m.cases.at(1), full, full)).force.norm(), 0.0, 1e-6);
}

TEST(Supports, CylindricalOnesLetARingBreathe) {
    // Inner pressure on a thick ring that is held in t and z alone: Lame's radial displacement, to the mesh's
    // accuracy.
    const Study study = study_from(
        "units = [\"mm\", \"N\", \"s\"]\n[[material]]\nname = \"m\"\nE = 200000\nnu = 0.3\ndensity = 1e-9\n"
        "[[frame]]\nname = \"f\"\nkind = \"cylindrical\"\norigin = [0, 0, 0]\naxis = [0, 0, 1]\n"
        "[[region]]\nname = \"ring\"\nrole = \"design\"\nmaterial = \"m\"\ncylinder = { from = [0, 0, 0], to "
        "= [0, 0, 2], radius = 20 }\n"
        "[[region]]\nname = \"bore\"\nrole = \"void\"\ncylinder = { from = [0, 0, -1], to = [0, 0, 3], "
        "radius = 10 }\n"
        "[[surface]]\nname = \"wall\"\nof = \"bore\"\n[[surface]]\nname = \"sides\"\nof = \"ring\"\nfacing = "
        "[0, 0, 1]\n[[surface]]\nname = \"bottom\"\nof = \"ring\"\nfacing = [0, 0, -1]\n"
        "[[support]]\nname = \"s\"\non = [\"sides\", \"bottom\"]\nframe = \"f\"\nhold = [\"t\", \"z\"]\n"
        "[[load]]\nname = \"p\"\non = \"wall\"\npressure = 100\n[[case]]\nname = \"c\"\nsupports = "
        "\"s\"\nloads = \"p\"\n"
        "[mesh]\nkind = \"polar\"\nframe = \"f\"\nsize = 1\n");
    const Model m = build_model(study);
    const CaseResult r = solved(m);
    double sum = 0.0;
    int count = 0;
    for (const NodeId n : m.surfaces[0].nodes) {
        const Vec3 p = m.mesh.nodes[index(n)];
        sum += r.displacement.segment<3>(static_cast<Eigen::Index>(m.freedom(n, 0)))
                   .dot(Vec3(p.x(), p.y(), 0).normalized());
        ++count;
    }
    // Plane strain: u = (1 + nu) p a^2 / (E (b^2 - a^2)) ((1 - 2 nu) a + b^2 / a).
    const double exact = 1.3 * 100 * 100 / (200000.0 * 300) * (0.4 * 10 + 400 / 10.0);
    EXPECT_NEAR(sum / count, exact, 0.01 * exact);
}

TEST(Loads, HeatExpandsFreely) {
    const Model m = model_with(
        "[[load]]\nname = \"warm\"\nheat = 100\n[[case]]\nname = \"warm\"\nsupports = \"pins\"\nloads = "
        "\"warm\"\n"
        "[[point]]\nname = \"a\"\nat = [0, 0, 0]\n[[point]]\nname = \"b\"\nat = [8, 0, 0]\n[[point]]\nname = "
        "\"c\"\nat = [0, 4, 0]\n"
        "[[support]]\nname = \"pins\"\non = \"a\"\nhold = [\"x\", \"y\", \"z\"]\n[[support]]\nname = "
        "\"pin-b\"\non = \"b\"\nhold = [\"y\", \"z\"]\n[[support]]\nname = \"pin-c\"\non = \"c\"\nhold = "
        "\"z\"\n",
        {"material.steel.expansion=1.2e-5", "case.warm.supports=[\"pins\", \"pin-b\", \"pin-c\"]"});
    StaticAnalysis analysis(m, {});
    const std::vector<double> full(m.mesh.elements(), 1.0);
    const CaseResult r = analysis.solve(full, full)[1];
    for (std::size_t n = 0; n < m.mesh.nodes.size(); ++n)
        expect_near(r.displacement.segment<3>(static_cast<Eigen::Index>(3 * n)), 1.2e-3 * m.mesh.nodes[n],
                    1e-10);
    for (const double s : analysis.von_mises_stress(r.displacement, &m.cases.at(1)))
        EXPECT_NEAR(s, 0.0, 1e-6);
}

TEST(Masses, RideAlong) {
    const Model m = model_with(std::string(tip_coupling) +
                               "[[mass]]\nname = \"motor\"\non = \"arm\"\nvalue = 0.002\n[[load]]\nname = "
                               "\"weight\"\ngravity = [0, 0, -9810]\n");
    const double body = 128 * 7.85e-9;
    expect_near(of_load(m, "weight").force, Vec3(0, 0, -9810 * (body + 0.002)), 1e-8);
    const SparseMatrix M = mass_matrix(m);
    Eigen::VectorXd along = Eigen::VectorXd::Zero(M.rows());
    for (std::size_t f = 0; f < m.freedoms(); ++f)
        if (m.spot(f).component == 2) along[static_cast<Eigen::Index>(f)] = 1.0;
    EXPECT_NEAR(along.dot(M * along), body + 0.002, 1e-12);
}

TEST(Bonds, TieTwoBodiesAcrossAGap) {
    const std::string second = "[[region]]\nname = \"gap\"\nrole = \"void\"\nbox = [[4, 0, 0], [5, 4, 4]]\n"
                               "[[surface]]\nname = \"one\"\nof = \"gap\"\nfacing = [1, 0, "
                               "0]\n[[surface]]\nname = \"two\"\nof = \"gap\"\nfacing = [-1, 0, 0]\n";
    const Model loose = model_with(second);
    ASSERT_EQ(loose_bodies(loose).size(), 1U);
    EXPECT_NEAR(loose_bodies(loose)[0].gap, 1.0, 1e-9);
    const Model tied =
        model_with(second + "[[bond]]\nname = \"glue\"\nbetween = [\"one\", \"two\"]\ngap = 1.2\n");
    EXPECT_TRUE(loose_bodies(tied).empty());
    EXPECT_TRUE(free_motions(tied, &tied.cases.at(0))[1].motions.empty());
    EXPECT_GT(solved(tied).compliance, 0.0);
    EXPECT_NE(
        test::error_of(
            block_study(second + "[[bond]]\nname = \"glue\"\nbetween = [\"one\", \"two\"]\ngap = 0.5\n"))
            .find("are 1 mm apart"),
        std::string::npos);
}

TEST(Storage, AModelComesBackToTheLastBit) {
    const test::TemporaryFolder folder;
    const Model m = model_with(
        std::string(tip_coupling) +
        "[[mass]]\nname = \"motor\"\non = \"arm\"\nvalue = 0.002\n"
        "[[joint]]\nname = \"bolt\"\nbetween = [\"arm\", \"ground\"]\nstiffness = { axial = 10, shear = 5 }\n"
        "[[frame]]\nname = \"f\"\nkind = \"cylindrical\"\norigin = [0, 0, 0]\naxis = [0, 0, "
        "1]\n[[load]]\nname = \"turn\"\nspin = { frame = \"f\", speed = \"600 rpm\" }\n");
    const auto file = folder.path() / "model.h5";
    save_model(file, m, "text");
    const StoredModel back = load_model(file);
    EXPECT_EQ(back.study, "text");
    EXPECT_EQ(back.model.mesh.connectivity, m.mesh.connectivity);
    EXPECT_EQ(back.model.mesh.nodes, m.mesh.nodes);
    const CaseResult a = solved(m);
    const CaseResult b = solved(back.model);
    EXPECT_EQ(a.compliance, b.compliance);
    EXPECT_EQ((a.displacement - b.displacement).norm(), 0.0);
    EXPECT_EQ(back.model.loads.size(), m.loads.size());
    expect_near(of_load(back.model, "turn").force, of_load(m, "turn").force, 0.0);
}

TEST(Matrices, AnotherSolverFindsTheSameDisplacement) {
    const Model m = model_with(tip_coupling);
    const Transform t = m.transform(m.cases.at(0));
    const SparseMatrix K = stiffness_matrix(m);
    const SparseMatrix T = transform_matrix(t);
    const std::vector<double> full(m.mesh.elements(), 1.0);
    const SparseMatrix reduced = T.transpose() * K * T;
    const Eigen::SimplicialLDLT<SparseMatrix> solver(reduced);
    const Eigen::VectorXd u = T * solver.solve(T.transpose() * m.forces(m.cases.at(0), full));
    EXPECT_LT((u - solved(m).displacement).norm(), 1e-8 * u.norm());
}
