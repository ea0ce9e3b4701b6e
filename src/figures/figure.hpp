// One figure: a scene in true proportions with title, legend, colour bar, triad and scale.
#pragma once

#include "geometry/distance.hpp"

#include <vtkSmartPointer.h>

#include <array>
#include <filesystem>
#include <memory>
#include <string>
#include <vector>

class vtkImageData;

namespace upright {

using Color = std::array<double, 3>;

// Colours that people with colour-blindness can tell apart (after Okabe & Ito).
namespace color {
inline constexpr Color text{0.13, 0.13, 0.15};
inline constexpr Color faint{0.55, 0.57, 0.60};
inline constexpr Color design{0.66, 0.75, 0.83};
inline constexpr Color keep{0.90, 0.62, 0.00};
inline constexpr Color hold{0.00, 0.49, 0.36};
inline constexpr Color load{0.84, 0.27, 0.00};
inline constexpr Color empty{0.35, 0.35, 0.40};
inline constexpr Color plane{0.00, 0.45, 0.70};
inline constexpr Color paper{1.0, 1.0, 1.0};
inline constexpr Color dark_paper{0.09, 0.10, 0.12};
} // namespace color

struct FigureOptions {
    int width = 1280;
    int height = 800;
    std::string length_unit = "mm"; // for the scale line
    std::string title;              // instead of the figure's own
    bool dark = false;              // pale on dark, for slides and screens
    std::string from =
        "corner"; // corner, front, back, left, right, top, bottom, or "x,y,z": where one looks from
};

// Throws Error (Usage) for a view that is not one.
Vec3 view_direction(const std::string& from, bool plane);

// Polygons of three or four corners with, if wanted, a number for each point or a colour for each polygon.
struct Patch {
    std::vector<Vec3> points;
    std::vector<std::vector<std::int32_t>> polygons;
    std::vector<double> values;      // for each point; empty: none
    std::vector<double> cell_values; // for each polygon; empty: none
    std::vector<Color> colors;       // for each polygon; empty: one colour
    Color color = color::design;
    double opacity = 1.0;
    bool edges = false;  // draw the polygons' outlines
    bool smooth = false; // shade as a smooth surface
};

// A colour scale for values.
struct Scale {
    double low = 0.0, high = 1.0;
    std::string title; // quantity and unit
    bool gray = false; // white to dark, for densities
};

// Pixels, row by row from the top, three bytes each.
struct Picture {
    int width = 0, height = 0;
    std::vector<unsigned char> rgb;
};

using Segments = std::vector<std::pair<Vec3, Vec3>>;

class Figure {
  public:
    Figure(const FigureOptions& options, bool plane, std::string title, std::string subtitle);
    ~Figure();
    Figure(const Figure&) = delete;
    Figure& operator=(const Figure&) = delete;

    void add(const Patch& patch);
    void add(const Patch& patch, const Scale& scale); // the colour bar is drawn once
    void add_lines(const Segments& lines, const Color& color, double width);
    // From tail to tip.
    void add_arrow(const Vec3& tail, const Vec3& tip, const Color& color);
    // A cone whose tip touches `tip`, coming along `direction`.
    void add_cone(const Vec3& tip, const Vec3& direction, double height, const Color& color);
    void add_ball(const Vec3& center, double radius, const Color& color);
    // Words at a place, on a plate so that they can be read on anything.
    void add_label(const Vec3& at, const std::string& words, double size);
    // A number at a marked place: beside it, with a line to it, above everything else. Not where one of the
    // patches that were added before hides the place: then it returns false.
    bool add_tag(const Vec3& at, const std::string& words, const Color& color);
    // An entry of the legend: '#' a patch, '>' an arrow, '^' a support, '-' a line, 'o' a point, ' ' words
    // alone.
    void add_legend(char symbol, const Color& color, const std::string& words);

    // The picture is framed for this room as well, whatever is in it: frames of one film stand still.
    void make_room(const Bounds& room);
    const Bounds& room() const; // of what is in it

    void write(const std::filesystem::path& png);
    Picture picture();

  private:
    vtkSmartPointer<vtkImageData> render();
    struct Inside;
    std::unique_ptr<Inside> inside_;
};

} // namespace upright
