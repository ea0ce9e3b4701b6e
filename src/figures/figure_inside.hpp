// What a figure is made of; only figure.cpp, frame.cpp and side_by_side.cpp use this.
#pragma once

#include "figures/figure.hpp"

#include <vtkActor.h>
#include <vtkLookupTable.h>
#include <vtkNew.h>
#include <vtkPolyData.h>
#include <vtkPolyDataMapper.h>
#include <vtkProperty.h>
#include <vtkRenderer.h>
#include <vtkSmartPointer.h>
#include <vtkTextProperty.h>
#include <vtkTransform.h>

#include <algorithm>
#include <string>
#include <vector>

namespace upright {

inline constexpr int oversampling = 2; // rendered at twice the size and shrunk: smooth edges
inline constexpr double legend_share = 0.235;
inline constexpr double title_share = 0.115;

// The figures' font, in pixels.
void style(vtkTextProperty* text, double size, const Color& color, bool bold = false);

// Written whole or not at all. Throws Error (Files).
void write_png(vtkImageData* image, const std::filesystem::path& png);

// From a thing along x of length one to where it stands.
vtkSmartPointer<vtkTransform> along(const Vec3& from, const Vec3& direction, double length);

struct Figure::Inside {
    FigureOptions options;
    bool plane;
    std::string title, subtitle;
    vtkNew<vtkRenderer> scene, overlay, triad;
    Bounds bounds;
    struct Entry {
        char symbol;
        Color color;
        std::string words;
    };
    std::vector<Entry> legend;
    struct Tag {
        Vec3 at;
        std::string words;
        Color color;
    };
    std::vector<Tag> tags;
    std::vector<vtkSmartPointer<vtkPolyData>> walls; // patches that cannot be seen through
    bool hides(const Vec3& at) const;                // from where one looks
    vtkSmartPointer<vtkLookupTable> table;
    std::string table_title;

    // The size of everything that is drawn in pixels: 1 on the usual sheet, before oversampling.
    double pixel() const { return oversampling * std::min(options.height / 800.0, options.width / 1280.0); }

    const Color& paper() const { return options.dark ? color::dark_paper : color::paper; }
    // Ink on it: grays are turned round where it is dark.
    Color on_paper(const Color& ink) const {
        const auto [least, most] = std::minmax({ink[0], ink[1], ink[2]});
        if (!options.dark || most - least > 0.12) return ink;
        return {1.0 - 0.85 * ink[0], 1.0 - 0.85 * ink[1], 1.0 - 0.85 * ink[2]};
    }

    vtkActor* show(vtkAlgorithmOutput* from, const Color& color) {
        vtkNew<vtkPolyDataMapper> mapper;
        mapper->SetInputConnection(from);
        mapper->ScalarVisibilityOff();
        vtkNew<vtkActor> actor;
        actor->SetMapper(mapper);
        actor->GetProperty()->SetColor(color[0], color[1], color[2]);
        scene->AddActor(actor);
        return actor;
    }

    vtkSmartPointer<vtkActor> make_patch(const Patch& patch);
    void aim(vtkRenderer* renderer, const Vec3& from, double aspect) const;
    void add_words(double x, double y, const std::string& words, double size, const Color& color, bool bold);
    void add_marker(const Entry& entry, double x, double y);
    void add_polygon(const std::vector<Vec2>& corners, const Color& color);
    void draw_frame();
    void draw_tags(); // the scene's camera is aimed
    void draw_triad(const Vec3& from);
    void draw_scale_line(double world_per_pixel);
};

} // namespace upright
