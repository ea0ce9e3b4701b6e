// Matrices as files, read back by a reader of the test's own and solved.
#include "store/matrix_market.hpp"
#include "support/studies.hpp"

#include "fem/static_analysis.hpp"

#include <Eigen/SparseCholesky>
#include <fstream>
#include <sstream>

using namespace upright;

namespace {

struct Read {
    std::string head;
    long rows = 0, columns = 0;
    std::size_t entries = 0;
    Eigen::SparseMatrix<double> matrix;
};

Read read_matrix(const std::filesystem::path& file) {
    std::ifstream in(file);
    Read out;
    std::getline(in, out.head);
    std::string line;
    while (std::getline(in, line) && line.front() == '%') {
    }
    std::istringstream sizes(line);
    sizes >> out.rows >> out.columns >> out.entries;
    const bool symmetric = out.head.find("symmetric") != std::string::npos;
    std::vector<Eigen::Triplet<double>> entries;
    long i = 0, j = 0;
    double v = 0.0;
    std::size_t read = 0;
    while (in >> i >> j >> v) {
        ++read;
        EXPECT_GE(i, 1);
        EXPECT_LE(i, out.rows);
        if (symmetric) EXPECT_GE(i, j); // the lower triangle
        entries.emplace_back(static_cast<int>(i - 1), static_cast<int>(j - 1), v);
        if (symmetric && i != j) entries.emplace_back(static_cast<int>(j - 1), static_cast<int>(i - 1), v);
    }
    EXPECT_EQ(read, out.entries);
    out.matrix.resize(out.rows, out.columns);
    out.matrix.setFromTriplets(entries.begin(), entries.end());
    return out;
}

} // namespace

TEST(MatrixMarket, ComesBackToTheLastDigit) {
    const test::TemporaryFolder folder;
    SparseMatrix m(4, 3);
    m.insert(0, 0) = 1.0 / 3.0;
    m.insert(3, 1) = -1e-300;
    m.insert(2, 2) = 6.02214076e23;
    m.makeCompressed();
    write_matrix(folder.path() / "t.mtx", m, false, "transform");
    const Read back = read_matrix(folder.path() / "t.mtx");
    EXPECT_EQ(back.head.rfind("%%MatrixMarket matrix coordinate real general", 0), 0U);
    EXPECT_EQ(Eigen::MatrixXd(back.matrix), Eigen::MatrixXd(m));
}

TEST(MatrixMarket, OthersSolveTheModelToTheSameDisplacements) {
    const Model model = build_model(test::study_from(test::block_study()));
    const test::TemporaryFolder folder;
    StaticAnalysis analysis(model, {});
    const std::vector<double> ones(model.mesh.elements(), 1.0);
    const CaseResult ours = analysis.solve(ones, ones).front();
    const Transform transform = model.transform(model.cases[CaseId{0}]);
    write_matrix(folder.path() / "K.mtx", stiffness_matrix(model), true, "stiffness");
    write_matrix(folder.path() / "T.mtx", transform_matrix(transform), false, "transform");
    write_vector(folder.path() / "f.mtx", analysis.forces(model.cases[CaseId{0}], ones, ones), "forces");
    const Read k = read_matrix(folder.path() / "K.mtx");
    const Read t = read_matrix(folder.path() / "T.mtx");
    std::ifstream in(folder.path() / "f.mtx");
    std::string line;
    while (std::getline(in, line) && line.front() == '%') {
    }
    Eigen::VectorXd f(k.rows);
    for (Eigen::Index i = 0; i < f.size(); ++i) ASSERT_TRUE(in >> f[i]);
    const Eigen::SparseMatrix<double> reduced = t.matrix.transpose() * k.matrix * t.matrix;
    const Eigen::SimplicialLDLT<Eigen::SparseMatrix<double>> factor(reduced);
    ASSERT_EQ(factor.info(), Eigen::Success);
    const Eigen::VectorXd u = t.matrix * factor.solve(t.matrix.transpose() * f);
    EXPECT_LT((u - ours.displacement).norm(), 1e-9 * u.norm());
}

TEST(MatrixMarket, AFolderThatIsNotThereIsSaid) {
    const SparseMatrix m(2, 2);
    EXPECT_THROW(write_matrix("/nowhere/at/all/K.mtx", m, true, ""), Error);
    EXPECT_THROW(write_vector("/nowhere/at/all/f.mtx", Eigen::VectorXd::Ones(2), ""), Error);
}
