// What displacement and reaction responses read, as linear forms on the freedoms of a model.
#pragma once

#include "fem/stress.hpp"
#include "model/model.hpp"

#include <array>
#include <optional>
#include <string>
#include <vector>

namespace upright {

struct Mode;

// The displacement along x, y, z of one place, or the mean over a surface: sums of factor * u[freedom].
struct Motion {
    Vec3 at = Vec3::Zero();
    std::array<std::vector<Term>, 3> along;

    Vec3 of(const Eigen::VectorXd& u) const;
};
// Of every place that a displacement response names; for each surface its nodes, or its mean.
std::vector<Motion> motions(const Model& model, const ModelResponse& response);

// The direction of the component that a response reads at a place; none for the size of the vector.
std::optional<Vec3> direction(const ModelResponse& response, const Vec3& at);
// Whether a displacement of several places is read at the lowest of its values, not at the largest: where
// only a lower bound is set; with both bounds where the lower one is nearer to being broken; with none where
// the lowest is farther from zero.
bool reads_lowest(const ResponseCard& response, double lowest, double largest);
// That component of a vector, or its size.
double component_of(const ModelResponse& response, const Vec3& v, const Vec3& at);

// The force of the supports that a reaction response names, along x, y, z in one case: R_a = w_a' (K u - f),
// w_a on every freedom. Freedoms that several supports hold count for the first of them (support_forces.hpp).
std::array<Eigen::VectorXd, 3> reaction_fields(const Model& model, const ModelCase& c,
                                               const ModelResponse& response);

// " of tip along z in pull": what a displacement or reaction reads, for people.
std::string component_words(const ResponseCard& response);

// "local: moves 0.4 % of the mass": what is said of a mode that is local.
std::string local_words(const Mode& mode);

// A place in words, with two numbers in the plane.
std::string place_text(const Vec3& p, bool plane);

// Elements that stress leaves out: those of the regions named, and those with a node on the surfaces named.
std::vector<bool> left_out(const Model& model, const std::vector<std::string>& except);
// Nodes of regions that do count then: a node of a left-out element does not, whatever else touches it.
std::vector<bool> counted_nodes(const Model& model, const RegionNodes& nodes,
                                const std::vector<bool>& out_of);

} // namespace upright
