// Stress of a case: at the integration points, at the nodes of each element, and averaged at the nodes.
#pragma once

#include "fem/elasticity.hpp"
#include "fem/static_analysis.hpp"

#include <cstdint>
#include <map>
#include <utility>
#include <vector>

namespace upright {

// Stresses are tensors in global axes in Voigt order. A shell has two layers, the upper and the lower face;
// everything else one. Of first-order elements they are taken at the points of the integration rule, of
// second-order ones at the points of the next lower rule, where they are most accurate (Barlow 1976), and
// carried to the nodes by the polynomial through those points.
struct StressField {
    int layers = 1;
    std::vector<std::size_t> starts; // of each element's points, and the end
    std::vector<Voigt> at_points;    // point by point, layer by layer
    std::vector<Vec3> places;        // of the points
    std::vector<Voigt> at_nodes;     // beside Mesh::connectivity, layer by layer; not averaged
    double largest_at_point = 0.0;   // von Mises
    std::size_t largest_point = 0;
};
StressField stress_field(const StaticAnalysis& analysis, const Eigen::VectorXd& u, const ModelCase& c);

// The stress of one element at places in natural coordinates, place by place, layer by layer.
std::vector<Voigt> stress_at(const StaticAnalysis& analysis, const ModelCase& c, const Eigen::VectorXd& u,
                             ElementId e, const std::vector<Vec3>& points);

// Matrices from an element's displacements to its stress at places in natural coordinates, as
// Element::stress() gives them; of the plain cells of a grid made once for all.
class StressMatrices {
  public:
    using Points = const std::vector<Vec3>& (*)(ElementKind);
    StressMatrices(const Model& model, Points points);
    // Those of every cell like this one, or nullptr.
    const std::vector<Eigen::MatrixXd>* shared(ElementId e) const { return shared_[index(e)]; }

  private:
    std::map<std::pair<MaterialId, double>, std::vector<Eigen::MatrixXd>> known_;
    std::vector<const std::vector<Eigen::MatrixXd>*> shared_;
};

// Nodes taken once for each region that they belong to: stress is averaged within one region alone, since it
// may jump between materials.
struct RegionNodes {
    std::vector<NodeId> node;
    std::vector<RegionId> region;
    std::vector<std::int32_t> of; // beside Mesh::connectivity
};
RegionNodes region_nodes(const Mesh& mesh);

// The averages over the elements around each node of a region, layer by layer.
std::vector<Voigt> averaged(const Mesh& mesh, const RegionNodes& nodes, const StressField& field);

double von_mises(const Voigt& stress);
// Descending.
Vec3 principal(const Voigt& stress);

// The points at which stress is taken, and the matrix that carries values there to the nodes (nodes x
// points).
const std::vector<Vec3>& stress_points(ElementKind kind);
const Eigen::MatrixXd& to_nodes(ElementKind kind);

} // namespace upright
