// What several figures share: the skin of a mesh, mirror images, loads, supports and links as they are drawn.
#pragma once

#include "figures/figure.hpp"
#include "model/model.hpp"

#include <Eigen/Geometry>

#include <string>
#include <utility>
#include <vector>

namespace upright {

using Affine = Eigen::Affine3d;

// The faces between chosen elements and the rest, symmetry planes left open; in the plane the elements
// themselves. Points are shared inside a region, so that values can be averaged within it alone.
struct Skinned {
    Patch patch;
    std::vector<ElementId> element;                // for each polygon
    std::vector<std::pair<NodeId, RegionId>> node; // for each point
};

struct Spot {
    Vec3 at, normal;
};

// Whether a figure shows the modelled part alone or the whole body with its mirror images.
enum class Extent { Modelled, Whole };

// The modelled part and its mirror images.
std::vector<Affine> images(const Mesh& mesh);
Patch transformed(Patch patch, const Affine& by);
Segments transformed(Segments lines, const Affine& by);
Skinned skin_of_elements(const Model& model, const std::vector<bool>& shown);
std::vector<bool> denser_than(const std::vector<double>& density, double threshold);
// The outlines of shapes as written, folded in the plane or cut where they leave the body.
Segments outlines(const Model& model, bool voids);
// The outline of the original block, whole, with the cut at symmetry planes left out.
void add_block_outline(Figure& figure, const Model& model, const Color& shade);
double reach(const Model& model);
// The images in which supports and loads are drawn.
std::vector<Affine> shown_images(const Model& model, Extent extent);
void add_supports(Figure& figure, const Model& model, const std::vector<SupportId>& which, Extent extent);
// The outline of the symmetry planes, for figures of the modelled part alone.
void add_planes(Figure& figure, const Model& model);
std::string vector_text(const Vec3& v, bool plane);
void add_loads(Figure& figure, const Model& model, const ModelCase& c, Extent extent);
std::string dimensions(const Model& model);
std::string part_note(const Model& model);
FigureOptions with_unit(FigureOptions options, const Model& model);
// A different shade of the role's colour for each region of that role.
Color region_color(const Model& model, std::size_t region);
Skinned painted_skin(const Model& model, bool by_region);
void add_mirrored(Figure& figure, const Model& model, const Patch& patch, const Scale& scale);
void add_all_loads(Figure& figure, const Model& model, Extent extent);
std::vector<SupportId> used_supports(const Model& model);

} // namespace upright
