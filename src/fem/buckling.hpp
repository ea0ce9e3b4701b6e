// Linear buckling: the factors of a case's loads, heat and enforced motions at which its structure may leave
// its shape, (K + factor G) v = 0, with G the geometric stiffness of the stress that the case brings
// (Zienkiewicz & Taylor 2000, volume 2, chapter 11; de Borst, Crisfield, Remmers & Verhoosel 2012, chapter
// 4).
//
// G is the sum over the elements of the integral of grad(v)' sigma grad(v), for each direction of v alike, by
// the interpolation and the integration rule of the element; of shells by the membrane stress and the
// deflection of their mean plane, linear between nodes. Displacements before buckling are small, loads keep
// their direction, rigid couplings are linear.
#pragma once

#include "base/sparse_matrix.hpp"
#include "fem/static_analysis.hpp"
#include "fem/stress.hpp"

#include <Eigen/Core>

#include <vector>

namespace upright {

// G of a case, and its sensitivities. `share`: of its full stress that each element has.
class GeometricStiffness {
  public:
    GeometricStiffness(const StaticAnalysis& analysis, const ModelCase& c, const Eigen::VectorXd& u,
                       const std::vector<double>& share);

    // G v on every freedom, column by column.
    Eigen::MatrixXd times(const Eigen::MatrixXd& v) const;
    // v' G_e v of each element with its full stress.
    std::vector<double> unit_work(const Eigen::VectorXd& v) const;
    // The derivative of v' G v by the displacements of the case, on every freedom.
    Eigen::VectorXd by_displacement(const Eigen::VectorXd& v) const;

  private:
    // An element at one point of its rule.
    struct Point {
        Eigen::MatrixXd gradient; // of the interpolation, in the axes of the stress: 2 or 3 x nodes
        double weight = 0.0;      // of volume
        Eigen::MatrixXd stress;   // from its displacements: 3 or 6 rows
    };
    template <class Visit> void each_point(ElementId e, const Visit& visit) const;
    Eigen::MatrixXd matrix_of(ElementId e) const; // nodes x nodes, of full stress
    Eigen::MatrixXd translations(ElementId e, const Eigen::VectorXd& v) const;

    const StaticAnalysis& analysis_;
    const Model& model_;
    const ModelCase& case_;
    const Eigen::VectorXd& u_;
    std::vector<double> share_;
    StressMatrices shared_;
    SparseMatrix matrix_; // of one direction, node by node
};

struct BucklingMode {
    double factor = 0.0;
    Eigen::VectorXd shape; // every freedom of the model; v' K v = 1
};

struct BucklingResult {
    std::vector<BucklingMode> modes; // ascending; fewer than asked where there are no more below the limit
    int steps = 0;
    double seconds = 0.0;
};

// Factors above are not looked for.
inline constexpr double most_buckling_factor = 1e4;

// The least positive factors of a case, for the stiffness that `analysis` solved last and G of its answer.
// Throws Error (Numerics) where the search does not converge. Where a solver iterates, `energy` is that of
// Accuracy; shapes are right to about ten times its root.
BucklingResult buckling_modes(StaticAnalysis& analysis, CaseId c, const GeometricStiffness& G, int count,
                              double energy = Accuracy().energy);

} // namespace upright
