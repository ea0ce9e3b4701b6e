#include "base/dense.hpp"

#include <Eigen/Eigenvalues>
#include <Eigen/QR>

namespace upright {

SymmetricEigen symmetric_eigen(const Eigen::MatrixXd& a) {
    const Eigen::SelfAdjointEigenSolver<Eigen::MatrixXd> eigen(a);
    return {eigen.eigenvalues(), eigen.eigenvectors(), eigen.info() == Eigen::Success};
}

Eigen::VectorXd generalised_values(const Eigen::MatrixXd& K, const Eigen::MatrixXd& M) {
    return Eigen::GeneralizedSelfAdjointEigenSolver<Eigen::MatrixXd>(K, M, Eigen::EigenvaluesOnly)
        .eigenvalues();
}

Eigen::MatrixXd column_basis(const Eigen::MatrixXd& a, double threshold) {
    Eigen::ColPivHouseholderQR<Eigen::MatrixXd> qr(a);
    qr.setThreshold(threshold);
    return qr.householderQ() * Eigen::MatrixXd::Identity(a.rows(), qr.rank());
}

} // namespace upright
