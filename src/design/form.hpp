// How the part will be made, as a map: many elements, one variable. Mirror planes, cyclic sectors and
// extrusion tie elements into groups that share a density; all of them combine.
#pragma once

#include "design/form_rules.hpp"
#include "model/model.hpp"

#include <functional>
#include <optional>
#include <string>
#include <vector>

namespace upright {

// Whether elements of a design whose images lie in it have one whose middle lies there, most of them.
bool maps_onto_itself(const Mesh& mesh, const std::vector<std::size_t>& elements,
                      const std::function<Vec3(const Vec3&)>& image);

// What a rule has alike: a place, and the place that follows it or leads it; nothing where it has none.
struct PatternImage {
    std::string rule, words; // "sectors", "turned by a sector"
    std::function<std::optional<Vec3>(const Vec3&)> at;
};
std::vector<PatternImage> pattern_images(const Model& model, const FormRules& rules);

// Which copy of the pattern a place of a region belongs to: 0 the source, which lies below mirror planes
// across axes, before oblique ones, in the first sector, in the first of repeated regions.
int pattern_copy(const Model& model, const FormRules& rules, const Vec3& p, RegionId region);

class FormMap {
  public:
    FormMap() = default; // no rule: every element stands for itself
    // `elements`: those of the design. Where the mesh has the symmetry of a rule, each element is tied to its
    // images exactly; where it has not, to the nearest one. What has no image in the design stays alone.
    FormMap(const Model& model, const std::vector<std::size_t>& elements, const FormRules& rules);

    bool ties() const { return !group_of_.empty(); }
    std::size_t groups() const { return groups_; }
    std::size_t group(std::size_t variable) const { return ties() ? group_of_[variable] : variable; }
    // Design elements that a rule found no image for.
    std::size_t alone() const { return alone_; }
    bool exact() const { return exact_; } // the mesh has the symmetry of the rules

    // A value for each group to one for each element, and the transpose.
    std::vector<double> spread(const std::vector<double>& groups) const;
    std::vector<double> sum(const std::vector<double>& elements) const;
    // The mean of each group by volume, and the transpose.
    std::vector<double> mean(const std::vector<double>& elements) const;
    std::vector<double> mean_transpose(const std::vector<double>& groups) const;

  private:
    std::vector<std::size_t> group_of_; // of each design element
    std::vector<double> share_;         // of its group's volume
    std::size_t groups_ = 0;
    std::size_t alone_ = 0;
    bool exact_ = true;
};

} // namespace upright
