// Stiffness or mass of the elements of a model, class by class (fem/shape_classes.hpp): kept where several
// elements share one, made whenever it is asked for where every element is a tetrahedron of its own shape. A
// dense matrix of each would take 1,152 bytes (tet4) or 7,200 (tet10).
#pragma once

#include "fem/elasticity.hpp"
#include "fem/shape_classes.hpp"
#include "solve/linear_solver.hpp"

#include <Eigen/Core>

#include <vector>

namespace upright {

class ClassMatrices : public MadeMatrices {
  public:
    enum class What { Stiffness, Mass, LumpedMass };
    // Keeps references to both.
    ClassMatrices(const Model& model, const ShapeClasses& classes, What what);

    std::size_t size() const { return kept_.size(); }
    // Whether the class is one tetrahedron whose matrix is made.
    bool made(std::size_t number) const { return kept_[number].size() == 0; }
    // That of a class, made into `room` where it is not kept.
    const Eigen::MatrixXd& of(std::size_t number, Eigen::MatrixXd& room) const;
    Eigen::MatrixXd copy_of(std::size_t number) const;
    // By class, nothing for those that are made.
    const std::vector<Eigen::MatrixXd>& kept() const { return kept_; }

    void make(std::size_t number, Eigen::MatrixXd& out) const override;
    void make_rows(std::size_t number, std::size_t node, double* out) const override;
    void make_blocks(std::size_t number, double* out) const override;

    // v' M u of a class that is made; displacements node by node of the element.
    double work(std::size_t number, const double* u, const double* v) const;
    // K u of such a class, without its matrix: of stiffness alone.
    void times(std::size_t number, const double* u, double* out) const;
    // Stress at the middle of such an element from its displacements, and the forces on its nodes that are
    // the transposed product with a stress: of stiffness alone.
    Voigt stress(std::size_t number, const double* u) const;
    void stress_transposed(std::size_t number, const Voigt& by, double* out) const;

  private:
    struct Law {
        Elastic6 D = Elastic6::Zero();
        bool isotropic = true;
        double lambda = 0.0, mu = 0.0;
        double density = 0.0;
    };
    template <int Nodes> Eigen::Matrix<double, 3, Nodes> places(std::size_t number) const;
    template <int Nodes>
    static void add_blocks(const Law& law, const Vec3& own, const Eigen::Matrix<double, 3, Nodes>& g,
                           double volume, double* out);
    template <int Nodes> void mass_row(std::size_t number, std::size_t node, double* out) const;
    template <int Nodes> void blocks(std::size_t number, double* out) const;
    template <int Nodes> void rows(std::size_t number, std::size_t node, double* out) const;
    const Law& law(std::size_t number) const { return laws_[law_of_[number]]; }

    const Model& model_;
    const ShapeClasses& classes_;
    What what_;
    std::vector<Eigen::MatrixXd> kept_;
    std::vector<Law> laws_; // by material
    // Of each class that is made: its material, and whether it has four nodes.
    std::vector<std::uint16_t> law_of_;
    std::vector<std::uint8_t> first_order_;
};

} // namespace upright
