// Which elements share their matrices: cells of a grid with one material and one thickness do, and cells of
// one ring and layer of a polar mesh do once they are turned about its axis.
#pragma once

#include "model/model.hpp"

#include <Eigen/Core>

#include <cstdint>
#include <vector>

namespace upright {

struct ShapeClasses {
    std::vector<std::uint32_t> of;  // for each element
    std::vector<ElementId> example; // an element of each class
    // Of solid polar meshes: how an element's class has to be turned to stand where the element is. Matrix of
    // the element = R M R' node by node, M that of the class. Empty where nothing is turned.
    std::vector<Mat3> turns;            // the first is no turn
    std::vector<std::uint16_t> turn_of; // for each element
    // Whether the matrices of the polar mesh are the same all the way round.
    bool round() const { return !turn_of.empty(); }
    const Mat3* turn(ElementId e) const {
        return turn_of.empty() || turn_of[index(e)] == 0 ? nullptr : &turns[turn_of[index(e)]];
    }
    // An element's displacements (or forces) in the axes of its class, and back.
    void to_class(ElementId e, Eigen::VectorXd& local) const;
    void from_class(ElementId e, Eigen::Ref<Eigen::VectorXd> local) const;
    // R M R' of an element.
    Eigen::MatrixXd turned(ElementId e, const Eigen::MatrixXd& of_class) const;
};

ShapeClasses shape_classes(const Model& model);

} // namespace upright
