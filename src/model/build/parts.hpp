// The steps of building a model. Each takes the model as far as it is, and the card; only build.cpp and its
// neighbours use this.
#pragma once

#include "model/model.hpp"

#include <string>
#include <utility>
#include <vector>

namespace upright {

// Sets: sets.cpp.
ModelSurface make_surface(const Mesh& mesh, const std::string& name, std::vector<MeshFace> faces);
ModelPoint make_point(const Model& model, const PointCard& card);

// The surfaces, points and couplings that names refer to.
struct Target {
    std::vector<const ModelSurface*> surfaces;
    std::vector<const ModelPoint*> points;
    std::vector<CouplingId> couplings;
};

Target find_target(const Model& model, const std::vector<std::string>& names);

// Throws Error (Input) where a point that is to be stood for by a node lies off the body.
void require_near(const Model& model, const ModelPoint& p, const Place& place);
void require_near(const Model& model, const Target& target, const Place& place);

// How a force and a moment at a place spread over weighted nodes (the transpose of their mean motion).
struct Average {
    Vec3 center = Vec3::Zero();
    double weight = 0.0;
    Mat3 inverse = Mat3::Zero(); // of the second moments
};

Average average_of(const Mesh& mesh, const std::vector<std::pair<NodeId, double>>& shares);

// Weights for averages: the share of the area, which is zero or less at corners of second-order faces, so
// that these take what their faces' middles leave: equal parts of the face.
std::vector<std::pair<NodeId, double>> positive_shares(const Mesh& mesh,
                                                       const std::vector<const ModelSurface*>& surfaces);

// What hangs together: links.cpp. A coupling gets its equations once all have their numbers.
ModelCoupling make_coupling(const Model& model, const CouplingCard& card);
void fill_coupling(Model& model, CouplingId c);
ModelJoint make_joint(const Model& model, const JointCard& card);
ModelMass make_mass(const Model& model, const MassCard& card);
ModelBond make_bond(const Model& model, const BondCard& card);

// What holds: supports.cpp. `frames`: those of the study.
ModelSupport make_support(const Model& model, const std::vector<Frame>& frames, const SupportCard& card);
std::vector<Equation> hold_symmetry(const Model& model);

// What acts: loads.cpp.
ModelLoad make_load(const Model& model, const std::vector<Frame>& frames, const LoadCard& card);

// The frame of a name; nullptr for none.
const Frame* frame_named(const std::vector<Frame>& frames, const std::string& name);

} // namespace upright
