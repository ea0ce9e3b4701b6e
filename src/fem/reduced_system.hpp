// A system of elements on the unknowns that constraints leave: u = T q, K to T' K T element by element.
#pragma once

#include "base/sparse_matrix.hpp"
#include "fem/class_matrices.hpp"
#include "fem/shape_classes.hpp"
#include "model/constraints.hpp"
#include "solve/linear_solver.hpp"

#include <Eigen/Core>

#include <deque>
#include <vector>

namespace upright {

// The sum of scale * matrix over the elements of a system as a sparse matrix, both triangles.
SparseMatrix assembled(const ElementSystem& system, const std::vector<double>& scale);

class ReducedSystem {
  public:
    // An element whose freedoms all stand on their own, or are held, keeps its matrix, which the caller keeps
    // as long as this lives; another is taken through the transform.
    void add(const Transform& t, const std::vector<std::size_t>& freedoms, const Eigen::MatrixXd& matrix);

    // The same with a matrix that is kept here.
    void add(const Transform& t, const std::vector<std::size_t>& freedoms, Eigen::MatrixXd&& matrix);

    // The same with a matrix that is made as element `number` of `source`, which the caller keeps: for one of
    // plain freedoms it is made anew whenever it is asked for. One source a system.
    void add(const Transform& t, const std::vector<std::size_t>& freedoms, const MadeMatrices& source,
             std::size_t number);

    // The elements of another system on the same unknowns, after these; it must live as long.
    void append(const ReducedSystem& other);

    const ElementSystem& system() const { return system_; }
    SparseMatrix assembled(const std::vector<double>& scale) const {
        return upright::assembled(system_, scale);
    }

  private:
    ElementSystem system_;
    void add_plain(const Transform& t, const std::vector<std::size_t>& freedoms);

    std::deque<Eigen::MatrixXd> reduced_; // of elements that touch dependent freedoms
};

// Every element of a model, each with the matrix of its class turned to its place; `matrices` must live as
// long.
void add_elements(ReducedSystem& system, const Model& model, const Transform& transform,
                  const ShapeClasses& classes, const ClassMatrices& matrices);

} // namespace upright
