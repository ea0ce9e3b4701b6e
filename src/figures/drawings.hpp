// The figures of the work: regions, cases, densities, the carved part, bodies, mesh quality.
#pragma once

#include "figures/figure.hpp"
#include "geometry/file_body.hpp"
#include "mesh/quality.hpp"
#include "model/model.hpp"
#include "part/extract.hpp"

#include <filesystem>
#include <memory>
#include <vector>

namespace upright {

// The regions as painted, the outlines of voids, every support and every load (with the factor 1).
void draw_regions(const Model& model, const FigureOptions& options, const std::filesystem::path& png);

// Where [form] repeats a pattern: the source and its images, in colours of their own. False, and nothing
// drawn, where it repeats none.
bool draw_pattern(const Model& model, const FigureOptions& options, const std::filesystem::path& png);

// One case: its loads to scale, its supports.
// A modal case: what holds it and what rides on it.
void draw_modal_case(const Model& model, const ModelModalCase& c, const FigureOptions& options,
                     const std::filesystem::path& png);
void draw_case(const Model& model, const ModelCase& c, const FigureOptions& options,
               const std::filesystem::path& png);

// The design: in space the surface at the threshold inside the outline of the original block, in the plane
// the densities.
std::unique_ptr<Figure> density_figure(const Model& model, const DesignValues& design, double threshold,
                                       const std::string& state, const FigureOptions& options);
void draw_density(const Model& model, const DesignValues& design, double threshold, const std::string& state,
                  const FigureOptions& options, const std::filesystem::path& png);

// The part that was carved.
void draw_part(const Model& model, const Part& part, const std::string& state, const FigureOptions& options,
               const std::filesystem::path& png);

// The same cut open through the middle of its infill.
void draw_inside(const Model& model, const Part& part, const FigureOptions& options,
                 const std::filesystem::path& png);

// The bodies of a file with their face numbers, from the chosen corner or from the opposite one. `sheets`:
// they are middle surfaces, seen from both sides, with their elements.
void draw_bodies(const BodyFile& file, const std::string& title, const std::string& unit, bool behind,
                 const FigureOptions& options, const std::filesystem::path& png,
                 const std::vector<std::string>& sheets = {});

// The mesh with its worst elements marked.
void draw_quality(const Model& model, const MeshQuality& quality, const FigureOptions& options,
                  const std::filesystem::path& png);

} // namespace upright
