// What was measured on a carved part, as colours on it.
#pragma once

#include "figures/figure.hpp"
#include "part/lean.hpp"
#include "part/thickness.hpp"

#include <filesystem>
#include <string>

namespace upright {

// By inscribed spheres; the thinnest and the thickest place of the design are marked.
void draw_thickness(const Model& model, const Part& part, const Thickness& found, const std::string& state,
                    const FigureOptions& options, const std::filesystem::path& png);

// How far faces that look down lean over, degrees from the vertical, of those that the design made.
// `limit`: beyond it they need support.
void draw_overhang(const Model& model, const Part& part, const Vec3& up, double limit,
                   const std::string& state, const FigureOptions& options, const std::filesystem::path& png);

// How far faces that the design made lean back from the dies, degrees on the mean within a cell; below zero
// no die comes off.
void draw_draft(const Model& model, const Part& part, const Dies& dies, const std::string& state,
                const FigureOptions& options, const std::filesystem::path& png);

} // namespace upright
