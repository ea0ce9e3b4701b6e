// Around the scene: title, legend, scale of colours, triad, scale line.
#include "figures/figure_inside.hpp"

#include <vtkActor2D.h>
#include <vtkArrowSource.h>
#include <vtkBillboardTextActor3D.h>
#include <vtkCamera.h>
#include <vtkCellArray.h>
#include <vtkCellData.h>
#include <vtkPoints.h>
#include <vtkPolyData.h>
#include <vtkPolyDataMapper2D.h>
#include <vtkProperty2D.h>
#include <vtkSphereSource.h>
#include <vtkTextActor.h>
#include <vtkTransform.h>
#include <vtkUnsignedCharArray.h>

#include <Eigen/Geometry>
#include <cmath>
#include <fmt/format.h>
#include <sstream>

namespace upright {

namespace {

constexpr const char* font_file = "/usr/share/fonts/truetype/dejavu/DejaVuSans.ttf";
constexpr const char* bold_file = "/usr/share/fonts/truetype/dejavu/DejaVuSans-Bold.ttf";

// Words of `size` that should take no more than `columns` characters a line: smaller down to `least`, then in
// two lines broken at a blank.
struct Fitted {
    std::string words;
    double size = 0.0;
    int lines = 1;
};
Fitted fitted(const std::string& text, double columns, double size, double least) {
    const auto count = static_cast<double>(std::count_if(
        text.begin(), text.end(), [](char c) { return (static_cast<unsigned char>(c) & 0xC0U) != 0x80U; }));
    if (count <= columns) return {text, size, 1};
    if (count * least <= columns * size) return {text, size * columns / count, 1};
    Fitted out{text, std::min(least, 1.9 * columns * size / count), 2};
    std::size_t at = text.find(' ', text.size() / 2);
    if (at == std::string::npos) at = text.rfind(' ');
    if (at != std::string::npos)
        out.words[at] = '\n';
    else
        out.lines = 1;
    return out;
}

// Lines of at most `columns` characters: those of the text, broken at blanks, and within a word where it is
// longer than that.
std::vector<std::string> broken(const std::string& text, std::size_t columns) {
    std::vector<std::string> out;
    std::istringstream lines(text);
    for (std::string line; std::getline(lines, line);) {
        while (true) {
            std::size_t count = 0;
            std::size_t end = 0;   // of what fits
            std::size_t blank = 0; // the last one in it
            for (; end < line.size(); ++end) {
                if ((static_cast<unsigned char>(line[end]) & 0xC0U) == 0x80U) continue;
                if (count == columns) break;
                if (line[end] == ' ') blank = end;
                ++count;
            }
            if (end >= line.size()) break;
            const std::size_t at = blank > 0 ? blank : end;
            out.push_back(line.substr(0, at));
            line.erase(0, blank > 0 ? at + 1 : at);
        }
        out.push_back(line);
    }
    return out;
}

// A round length of about a sixth of the model, for the scale line.
double round_length(double length) {
    const double decade = std::pow(10.0, std::floor(std::log10(length)));
    for (const double step : {5.0, 2.0, 1.0})
        if (step * decade <= length) return step * decade;
    return decade;
}

} // namespace

void style(vtkTextProperty* text, double size, const Color& color, bool bold) {
    text->SetFontFamily(VTK_FONT_FILE);
    text->SetFontFile(bold ? bold_file : font_file);
    text->SetFontSize(static_cast<int>(std::lround(size)));
    text->SetColor(color[0], color[1], color[2]);
}

// Pale to dark, rising evenly in darkness: what is high draws the eye, also in gray print.

void Figure::Inside::add_polygon(const std::vector<Vec2>& corners, const Color& color) {
    vtkNew<vtkPoints> points;
    vtkNew<vtkCellArray> cells;
    cells->InsertNextCell(static_cast<int>(corners.size()));
    for (const Vec2& c : corners) cells->InsertCellPoint(points->InsertNextPoint(c.x(), c.y(), 0.0));
    vtkNew<vtkPolyData> poly;
    poly->SetPoints(points);
    poly->SetPolys(cells);
    vtkNew<vtkPolyDataMapper2D> mapper;
    mapper->SetInputData(poly);
    vtkNew<vtkActor2D> actor;
    actor->SetMapper(mapper);
    actor->GetProperty()->SetColor(color[0], color[1], color[2]);
    overlay->AddViewProp(actor);
}

void Figure::Inside::add_marker(const Entry& entry, double x, double y) {
    const double s = 8.0 * pixel();
    switch (entry.symbol) {
    case '#':
        add_polygon({{x, y - s}, {x + 2 * s, y - s}, {x + 2 * s, y + s}, {x, y + s}}, entry.color);
        break;
    case '>':
        add_polygon(
            {{x, y - 0.15 * s}, {x + 1.3 * s, y - 0.15 * s}, {x + 1.3 * s, y + 0.15 * s}, {x, y + 0.15 * s}},
            entry.color);
        add_polygon({{x + 1.1 * s, y - 0.6 * s}, {x + 2.2 * s, y}, {x + 1.1 * s, y + 0.6 * s}}, entry.color);
        break;
    case '^':
        add_polygon({{x + 0.2 * s, y - 0.8 * s}, {x + 1.8 * s, y - 0.8 * s}, {x + s, y + 0.9 * s}},
                    entry.color);
        break;
    case '-':
        add_polygon(
            {{x, y - 0.12 * s}, {x + 2 * s, y - 0.12 * s}, {x + 2 * s, y + 0.12 * s}, {x, y + 0.12 * s}},
            on_paper(entry.color));
        break;
    case 'o': {
        std::vector<Vec2> circle;
        for (int i = 0; i < 20; ++i)
            circle.emplace_back(x + s + 0.6 * s * std::cos(0.314159 * i),
                                y + 0.6 * s * std::sin(0.314159 * i));
        add_polygon(circle, entry.color);
        break;
    }
    default:
        break;
    }
}

void Figure::Inside::draw_frame() {
    const double w = oversampling * options.width;
    const double h = oversampling * options.height;
    const double p = pixel();
    // Long ones are set smaller, and then in two lines: never cut.
    const double sheet = options.width / 1280.0;
    const Fitted head = fitted(title, 88.0 * sheet, 20.0, 14.0);
    const Fitted below = fitted(subtitle, 140.0 * sheet, 13.5, 10.5);
    add_words(24 * p, h - (below.lines > 1 ? 28 : 32) * p, head.words, head.size, color::text, true);
    add_words(24 * p,
              h - (head.lines > 1    ? 70
                   : below.lines > 1 ? 66
                                     : 62) *
                      p,
              below.words, below.size, color::faint, false);
    const double left = w * (1.0 - legend_share) + 10 * p;
    double y = h * (1.0 - title_share) - 20 * p;
    // A long legend is set smaller, so that it never runs off the sheet.
    const double room = y - (table == nullptr ? 20.0 : 190.0) * p;
    const auto columns_at = [](double tight) { return static_cast<std::size_t>(34.0 / tight); };
    const auto height_at = [&](double tight) {
        double out = 0.0;
        for (const Entry& entry : legend)
            out +=
                (6.0 + 20.0 * static_cast<double>(broken(entry.words, columns_at(tight)).size())) * tight * p;
        return out;
    };
    double tight = 1.0;
    while (tight > 0.3 && height_at(tight) > room) tight -= 0.05;
    const std::size_t columns = columns_at(tight);
    for (const Entry& entry : legend) {
        add_marker(entry, left, y);
        for (const std::string& line : broken(entry.words, columns)) {
            add_words(left + (entry.symbol == ' ' ? 0.0 : 28 * p), y, line, 13 * tight, color::text, false);
            y -= 20 * tight * p;
        }
        y -= 6 * tight * p;
    }
    if (table == nullptr) return;
    // The colour bar stands below the legend.
    const double top = y - 34 * p;
    const double bottom = std::max(0.09 * h, top - 380 * p);
    add_words(left, top + 22 * p, table_title, 13, color::text, true);
    constexpr int steps = 128;
    const double* range = table->GetTableRange();
    for (int i = 0; i < steps; ++i) {
        const double a = bottom + (top - bottom) * i / steps;
        const double b = bottom + (top - bottom) * (i + 1) / steps;
        std::array<double, 3> c{};
        table->GetColor(range[0] + (range[1] - range[0]) * (i + 0.5) / steps, c.data());
        add_polygon({{left, a}, {left + 24 * p, a}, {left + 24 * p, b}, {left, b}}, c);
    }
    for (int i = 0; i <= 5; ++i) {
        const double at = bottom + (top - bottom) * i / 5.0;
        add_polygon({{left + 24 * p, at - 0.5 * p},
                     {left + 30 * p, at - 0.5 * p},
                     {left + 30 * p, at + 0.5 * p},
                     {left + 24 * p, at + 0.5 * p}},
                    on_paper(color::text));
        add_words(left + 36 * p, at, fmt::format("{:.3g}", range[0] + (range[1] - range[0]) * i / 5.0), 13,
                  color::text, false);
    }
}

void Figure::Inside::draw_tags() {
    const double w = oversampling * options.width * (1.0 - legend_share);
    const double h = oversampling * options.height * (1.0 - title_share);
    const double p = pixel();
    vtkCamera* camera = scene->GetActiveCamera();
    const Vec3 middle(camera->GetFocalPoint());
    const Vec3 up = Vec3(camera->GetViewUp()).normalized();
    const Vec3 from = (Vec3(camera->GetPosition()) - middle).normalized();
    const Vec3 right = up.cross(from);
    const double scale = h / (2.0 * camera->GetParallelScale());
    for (const Tag& tag : tags) {
        const double x = 0.5 * w + scale * (tag.at - middle).dot(right);
        const double y = 0.5 * h + scale * (tag.at - middle).dot(up);
        // Towards the middle of the sheet, where there is room.
        const double to = x > 0.6 * w ? -1.0 : 1.0;
        const double rise = y > 0.85 * h ? -1.0 : 1.0;
        const Vec2 foot(x + to * 5 * p, y + rise * 7 * p);
        const Vec2 end(x + to * 14 * p, y + rise * 20 * p);
        const Vec2 across = 0.8 * p * Vec2(foot.y() - end.y(), end.x() - foot.x()).normalized();
        add_polygon({foot - across, foot + across, end + across, end - across}, tag.color);
        vtkNew<vtkTextActor> text;
        text->SetInput((" " + tag.words + " ").c_str());
        vtkTextProperty* look = text->GetTextProperty();
        style(look, 13 * p, on_paper(color::text), true);
        look->SetJustification(to > 0.0 ? VTK_TEXT_LEFT : VTK_TEXT_RIGHT);
        look->SetVerticalJustificationToCentered();
        look->SetBackgroundColor(paper()[0], paper()[1], paper()[2]);
        look->SetBackgroundOpacity(0.85);
        text->SetPosition(end.x(), end.y() + rise * 6 * p);
        overlay->AddViewProp(text);
    }
}

void Figure::Inside::draw_triad(const Vec3& from) {
    static const std::array<Color, 3> colors{{{0.80, 0.25, 0.10}, {0.00, 0.50, 0.35}, {0.00, 0.40, 0.70}}};
    for (int a = 0; a < (plane ? 2 : 3); ++a) {
        if (std::abs(from[a]) > 0.999) continue; // it points at the eye
        vtkNew<vtkArrowSource> arrow;
        arrow->SetShaftRadius(0.035);
        arrow->SetTipRadius(0.10);
        arrow->SetTipLength(0.3);
        vtkNew<vtkPolyDataMapper> mapper;
        mapper->SetInputConnection(arrow->GetOutputPort());
        vtkNew<vtkActor> actor;
        actor->SetMapper(mapper);
        actor->SetUserTransform(along(Vec3::Zero(), Vec3::Unit(a), 1.0));
        const Color& c = colors[static_cast<std::size_t>(a)];
        actor->GetProperty()->SetColor(c[0], c[1], c[2]);
        actor->GetProperty()->SetAmbient(0.5);
        triad->AddActor(actor);
        vtkNew<vtkBillboardTextActor3D> label;
        label->SetInput(std::string(1, "xyz"[a]).c_str());
        const Vec3 at = 1.25 * Vec3::Unit(a);
        label->SetPosition(at.x(), at.y(), at.z());
        style(label->GetTextProperty(), 14 * pixel(), c, true);
        label->GetTextProperty()->SetJustificationToCentered();
        label->GetTextProperty()->SetVerticalJustificationToCentered();
        triad->AddActor(label);
    }
    Vec3 up = std::abs(from.z()) > 0.95 ? Vec3::UnitY() : Vec3::UnitZ();
    const Vec3 right = up.cross(from).normalized();
    up = from.cross(right);
    vtkCamera* camera = triad->GetActiveCamera();
    camera->ParallelProjectionOn();
    const Vec3 eye = 10.0 * from;
    camera->SetFocalPoint(0, 0, 0);
    camera->SetPosition(eye.x(), eye.y(), eye.z());
    camera->SetViewUp(up.x(), up.y(), up.z());
    camera->SetParallelScale(1.6);
    camera->SetClippingRange(1, 30);
}

void Figure::Inside::draw_scale_line(double world_per_pixel) {
    const double p = pixel();
    const double length = round_length(170 * p * world_per_pixel);
    const double pixels = length / world_per_pixel;
    const double x = 150 * p;
    const double y = 30 * p;
    add_polygon({{x, y - p}, {x + pixels, y - p}, {x + pixels, y + p}, {x, y + p}}, on_paper(color::text));
    for (const double end : {x, x + pixels})
        add_polygon({{end - p, y - 5 * p}, {end + p, y - 5 * p}, {end + p, y + 5 * p}, {end - p, y + 5 * p}},
                    on_paper(color::text));
    add_words(x + pixels + 10 * p, y, fmt::format("{:g} {}", length, options.length_unit), 13, color::text,
              false);
}

} // namespace upright
