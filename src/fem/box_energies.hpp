// Strain energies of box cells, many at a time along the rows of a grid.
#pragma once

#include "fem/shape_classes.hpp"
#include "mesh/mesh.hpp"

#include <Eigen/Core>

#include <array>
#include <vector>

namespace upright {

class BoxEnergies {
  public:
    // `matrices`: of each class, in the order of an element's nodes. Keeps a reference to the mesh.
    BoxEnergies(const Mesh& mesh, const ShapeClasses& classes, const std::vector<Eigen::MatrixXd>& matrices);

    // Whether it serves the mesh: solid cells of a grid whose material is symmetric about their planes.
    bool serve() const { return !runs_.empty(); }
    // out[e] = v' k u of every element (mesh.elements() of them). Displacements begin at three times the
    // numbers of nodes.
    void find(const double* u, const double* v, double* out, int threads) const;

  private:
    // Elements of one class in a row: each shares four nodes with the next.
    struct Run {
        std::size_t first = 0;
        int count = 0;
        std::uint32_t kind = 0;
    };
    const Mesh& mesh_;
    std::vector<std::array<double, 72>> blocks_; // of each class: eight blocks, by rows
    std::vector<Run> runs_;
};

} // namespace upright
