#include "figures/figure.hpp"

#include "base/error.hpp"
#include "base/files.hpp"
#include "base/nearest.hpp"
#include "figures/offscreen.hpp"

#include <vtkActor.h>
#include <vtkActor2D.h>
#include <vtkArrowSource.h>
#include <vtkBillboardTextActor3D.h>
#include <vtkCamera.h>
#include <vtkCellArray.h>
#include <vtkCellData.h>
#include <vtkConeSource.h>
#include <vtkDoubleArray.h>
#include <vtkImageData.h>
#include <vtkImageShrink3D.h>
#include <vtkLight.h>
#include <vtkLookupTable.h>
#include <vtkNew.h>
#include <vtkPNGWriter.h>
#include <vtkPointData.h>
#include <vtkPoints.h>
#include <vtkPolyData.h>
#include <vtkPolyDataMapper.h>
#include <vtkPolyDataMapper2D.h>
#include <vtkPolyDataNormals.h>
#include <vtkProperty.h>
#include <vtkProperty2D.h>
#include <vtkRenderWindow.h>
#include <vtkRenderer.h>
#include <vtkSphereSource.h>
#include <vtkTextActor.h>
#include <vtkTextProperty.h>
#include <vtkTransform.h>
#include <vtkUnsignedCharArray.h>
#include <vtkWindowToImageFilter.h>

#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <map>
#include <sstream>

namespace upright {

namespace {

constexpr int oversampling = 2; // rendered at twice the size and shrunk: smooth edges
constexpr double legend_share = 0.235;
constexpr double title_share = 0.115;
constexpr const char* font_file = "/usr/share/fonts/truetype/dejavu/DejaVuSans.ttf";
constexpr const char* bold_file = "/usr/share/fonts/truetype/dejavu/DejaVuSans-Bold.ttf";

void style(vtkTextProperty* text, double size, const Color& color, bool bold = false) {
    text->SetFontFamily(VTK_FONT_FILE);
    text->SetFontFile(bold ? bold_file : font_file);
    text->SetFontSize(static_cast<int>(std::lround(size)));
    text->SetColor(color[0], color[1], color[2]);
}

// Pale to dark, rising evenly in darkness: what is high draws the eye, also in gray print.
vtkSmartPointer<vtkLookupTable> color_table(const Scale& scale) {
    static const std::vector<Color> warm{{0.95, 0.95, 0.92}, {0.98, 0.84, 0.53}, {0.94, 0.58, 0.32},
                                         {0.78, 0.29, 0.34}, {0.46, 0.13, 0.38}, {0.17, 0.04, 0.22}};
    static const std::vector<Color> gray{{0.97, 0.97, 0.97}, {0.13, 0.16, 0.20}};
    const std::vector<Color>& stops = scale.gray ? gray : warm;
    constexpr int steps = 256;
    auto table = vtkSmartPointer<vtkLookupTable>::New();
    table->SetNumberOfTableValues(steps);
    table->SetTableRange(scale.low, scale.high > scale.low ? scale.high : scale.low + 1.0);
    for (int i = 0; i < steps; ++i) {
        const double at = static_cast<double>(i) / (steps - 1) * static_cast<double>(stops.size() - 1);
        const auto k = std::min(static_cast<std::size_t>(at), stops.size() - 2);
        const double t = at - static_cast<double>(k);
        std::array<double, 3> c{};
        for (std::size_t a = 0; a < 3; ++a) c[a] = (1 - t) * stops[k][a] + t * stops[k + 1][a];
        table->SetTableValue(i, c[0], c[1], c[2]);
    }
    return table;
}

vtkSmartPointer<vtkPolyData> to_poly(const Patch& patch) {
    auto out = vtkSmartPointer<vtkPolyData>::New();
    vtkNew<vtkPoints> points;
    points->SetDataTypeToDouble();
    for (const Vec3& p : patch.points) points->InsertNextPoint(p.data());
    vtkNew<vtkCellArray> cells;
    for (const auto& polygon : patch.polygons) {
        cells->InsertNextCell(static_cast<int>(polygon.size()));
        for (const std::int32_t i : polygon) cells->InsertCellPoint(i);
    }
    out->SetPoints(points);
    out->SetPolys(cells);
    const auto add = [&](const std::vector<double>& values, vtkDataSetAttributes* data) {
        if (values.empty()) return;
        vtkNew<vtkDoubleArray> array;
        for (const double v : values) array->InsertNextValue(v);
        data->SetScalars(array);
    };
    add(patch.values, out->GetPointData());
    add(patch.cell_values, out->GetCellData());
    if (!patch.colors.empty()) {
        vtkNew<vtkUnsignedCharArray> colors;
        colors->SetNumberOfComponents(3);
        for (const Color& c : patch.colors)
            for (const double channel : c)
                colors->InsertNextValue(static_cast<unsigned char>(std::lround(255 * channel)));
        out->GetCellData()->SetScalars(colors);
    }
    return out;
}

vtkSmartPointer<vtkTransform> along(const Vec3& from, const Vec3& direction, double length) {
    const Eigen::Quaterniond turn = Eigen::Quaterniond::FromTwoVectors(Vec3::UnitX(), direction);
    const Eigen::AngleAxisd angle(turn);
    auto out = vtkSmartPointer<vtkTransform>::New();
    out->Translate(from.data());
    out->RotateWXYZ(angle.angle() * 180.0 / 3.14159265358979323846, angle.axis().x(), angle.axis().y(),
                    angle.axis().z());
    out->Scale(length, length, length);
    return out;
}

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

// At most `columns` characters, the last one an ellipsis where something was cut.
std::string shortened(const std::string& text, std::size_t columns) {
    std::size_t count = 0;
    std::size_t cut = text.size();
    for (std::size_t i = 0; i < text.size(); ++i) {
        if ((static_cast<unsigned char>(text[i]) & 0xC0U) == 0x80U) continue;
        if (++count == columns) cut = i;
    }
    return count <= columns ? text : text.substr(0, cut) + "…";
}

// A round length of about a sixth of the model, for the scale line.
double round_length(double length) {
    const double decade = std::pow(10.0, std::floor(std::log10(length)));
    for (const double step : {5.0, 2.0, 1.0})
        if (step * decade <= length) return step * decade;
    return decade;
}

} // namespace

Vec3 view_direction(const std::string& from, bool plane) {
    static const std::map<std::string, Vec3> views{
        {"corner", Vec3(0.75, -1.0, 0.62)}, {"front", -Vec3::UnitY()}, {"back", Vec3::UnitY()},
        {"left", -Vec3::UnitX()},           {"right", Vec3::UnitX()},  {"top", Vec3::UnitZ()},
        {"bottom", -Vec3::UnitZ()}};
    if (plane && from == "corner") return Vec3::UnitZ();
    const auto known = views.find(from);
    if (known != views.end()) return known->second.normalized();
    std::istringstream in(from);
    Vec3 out;
    char comma1 = 0;
    char comma2 = 0;
    std::string rest;
    if (in >> out.x() >> comma1 >> out.y() >> comma2 >> out.z() && comma1 == ',' && comma2 == ',' &&
        !(in >> rest) && out.norm() > 1e-9)
        return out.normalized();
    std::vector<std::string> names;
    for (const auto& [name, direction] : views) names.push_back(name);
    const auto near = nearest(from, names);
    throw Error::usage(
        "--from " + from + " is not a view",
        near ? "Did you mean \"" + *near + "\"?"
             : "Write corner, front, back, left, right, top, bottom or a direction such as 1,-1,0.5");
}

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
    vtkSmartPointer<vtkLookupTable> table;
    std::string table_title;

    // The size of everything that is drawn in pixels: 1 on the usual sheet, before oversampling.
    double pixel() const { return oversampling * std::min(options.height / 800.0, options.width / 1280.0); }

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
    void draw_triad(const Vec3& from);
    void draw_scale_line(double world_per_pixel);
};

vtkSmartPointer<vtkActor> Figure::Inside::make_patch(const Patch& patch) {
    for (const Vec3& p : patch.points) bounds.include(p);
    const auto poly = to_poly(patch);
    vtkNew<vtkPolyDataMapper> mapper;
    if (patch.smooth) {
        vtkNew<vtkPolyDataNormals> normals;
        normals->SetInputData(poly);
        normals->SetFeatureAngle(35.0);
        normals->SplittingOn();
        normals->ConsistencyOff();
        mapper->SetInputConnection(normals->GetOutputPort());
    } else {
        mapper->SetInputData(poly);
    }
    mapper->SetScalarVisibility(!patch.colors.empty());
    mapper->SetColorModeToDirectScalars();
    mapper->SetScalarModeToUseCellData();
    vtkNew<vtkActor> actor;
    actor->SetMapper(mapper);
    vtkProperty* property = actor->GetProperty();
    property->SetColor(patch.color[0], patch.color[1], patch.color[2]);
    property->SetOpacity(patch.opacity);
    property->SetAmbient(0.34);
    property->SetDiffuse(0.78);
    if (!patch.smooth) property->SetInterpolationToFlat();
    if (patch.edges) {
        property->EdgeVisibilityOn();
        property->SetEdgeColor(0.42, 0.46, 0.50);
        property->SetLineWidth(static_cast<float>(0.5 * pixel()));
    }
    if (plane) property->LightingOff();
    return actor;
}

Figure::Figure(const FigureOptions& options, bool plane, std::string title, std::string subtitle)
    : inside_(new Inside) {
    inside_->options = options;
    inside_->plane = plane;
    inside_->title = std::move(title);
    inside_->subtitle = std::move(subtitle);
    view_direction(options.from, plane);
}

Figure::~Figure() = default;

void Figure::add(const Patch& patch) {
    inside_->scene->AddActor(inside_->make_patch(patch));
}

void Figure::add(const Patch& patch, const Scale& scale) {
    const auto actor = inside_->make_patch(patch);
    auto* mapper = vtkPolyDataMapper::SafeDownCast(actor->GetMapper());
    inside_->table = color_table(scale);
    inside_->table_title = scale.title;
    mapper->SetScalarVisibility(true);
    mapper->SetColorModeToMapScalars();
    if (patch.cell_values.empty())
        mapper->SetScalarModeToUsePointData();
    else
        mapper->SetScalarModeToUseCellData();
    mapper->SetLookupTable(inside_->table);
    mapper->UseLookupTableScalarRangeOn();
    mapper->InterpolateScalarsBeforeMappingOn();
    inside_->scene->AddActor(actor);
}

void Figure::add_lines(const Segments& lines, const Color& color, double width) {
    vtkNew<vtkPoints> points;
    vtkNew<vtkCellArray> cells;
    for (const auto& [a, b] : lines) {
        const vtkIdType ids[2] = {points->InsertNextPoint(a.data()), points->InsertNextPoint(b.data())};
        cells->InsertNextCell(2, ids);
        inside_->bounds.include(a);
        inside_->bounds.include(b);
    }
    vtkNew<vtkPolyData> poly;
    poly->SetPoints(points);
    poly->SetLines(cells);
    vtkNew<vtkPolyDataMapper> mapper;
    mapper->SetInputData(poly);
    // Lines that lie on a surface win over it.
    mapper->SetResolveCoincidentTopologyToPolygonOffset();
    mapper->SetRelativeCoincidentTopologyLineOffsetParameters(0.0, -4.0);
    vtkNew<vtkActor> actor;
    actor->SetMapper(mapper);
    actor->GetProperty()->SetColor(color[0], color[1], color[2]);
    actor->GetProperty()->SetLineWidth(static_cast<float>(width * inside_->pixel()));
    actor->GetProperty()->LightingOff();
    inside_->scene->AddActor(actor);
}

void Figure::add_arrow(const Vec3& tail, const Vec3& tip, const Color& color) {
    const double length = (tip - tail).norm();
    if (length <= 0.0) return;
    vtkNew<vtkArrowSource> arrow;
    arrow->SetShaftRadius(0.022);
    arrow->SetTipRadius(0.075);
    arrow->SetTipLength(0.26);
    arrow->SetTipResolution(24);
    arrow->SetShaftResolution(16);
    vtkActor* actor = inside_->show(arrow->GetOutputPort(), color);
    actor->SetUserTransform(along(tail, (tip - tail) / length, length));
    actor->GetProperty()->SetAmbient(0.45);
    inside_->bounds.include(tail);
    inside_->bounds.include(tip);
}

void Figure::add_cone(const Vec3& tip, const Vec3& direction, double height, const Color& color) {
    vtkNew<vtkConeSource> cone;
    cone->SetCenter(-0.5, 0, 0);
    cone->SetHeight(1.0);
    cone->SetRadius(0.38);
    cone->SetResolution(20);
    vtkActor* actor = inside_->show(cone->GetOutputPort(), color);
    actor->SetUserTransform(along(tip, direction, height));
    actor->GetProperty()->SetAmbient(0.4);
    inside_->bounds.include(tip - height * direction);
}

void Figure::add_ball(const Vec3& center, double radius, const Color& color) {
    vtkNew<vtkSphereSource> ball;
    ball->SetCenter(center.x(), center.y(), center.z());
    ball->SetRadius(radius);
    ball->SetThetaResolution(24);
    ball->SetPhiResolution(16);
    inside_->show(ball->GetOutputPort(), color);
    inside_->bounds.include(center);
}

void Figure::add_label(const Vec3& at, const std::string& words, double size) {
    vtkNew<vtkBillboardTextActor3D> label;
    label->SetInput(words.c_str());
    label->SetPosition(at.x(), at.y(), at.z());
    vtkTextProperty* text = label->GetTextProperty();
    style(text, size * inside_->pixel(), color::text, true);
    text->SetJustificationToCentered();
    text->SetVerticalJustificationToCentered();
    text->SetBackgroundColor(1.0, 1.0, 1.0);
    text->SetBackgroundOpacity(0.8);
    inside_->scene->AddActor(label);
}

void Figure::add_legend(char symbol, const Color& color, const std::string& words) {
    inside_->legend.push_back({symbol, color, words});
}

// A parallel view that holds the bounds with a margin.
void Figure::Inside::aim(vtkRenderer* renderer, const Vec3& from, double aspect) const {
    Vec3 up = std::abs(from.z()) > 0.95 ? Vec3::UnitY() : Vec3::UnitZ();
    const Vec3 right = up.cross(from).normalized();
    up = from.cross(right);
    double half_width = 0.0;
    double half_height = 0.0;
    double depth = 0.0;
    const Vec3 center = bounds.center();
    for (int corner = 0; corner < 8; ++corner) {
        const Vec3 p((corner & 1) != 0 ? bounds.high.x() : bounds.low.x(),
                     (corner & 2) != 0 ? bounds.high.y() : bounds.low.y(),
                     (corner & 4) != 0 ? bounds.high.z() : bounds.low.z());
        half_width = std::max(half_width, std::abs((p - center).dot(right)));
        half_height = std::max(half_height, std::abs((p - center).dot(up)));
        depth = std::max(depth, std::abs((p - center).dot(from)));
    }
    const double reach = std::max(depth, 1e-6 * bounds.diagonal()) + 0.2 * bounds.diagonal();
    vtkCamera* camera = renderer->GetActiveCamera();
    camera->ParallelProjectionOn();
    const Vec3 eye = center + 2.0 * reach * from;
    camera->SetFocalPoint(center.x(), center.y(), center.z());
    camera->SetPosition(eye.x(), eye.y(), eye.z());
    camera->SetViewUp(up.x(), up.y(), up.z());
    camera->SetParallelScale(1.1 * std::max(half_height, half_width / aspect));
    camera->SetClippingRange(0.5 * reach, 4.0 * reach);
}

void Figure::Inside::add_words(double x, double y, const std::string& words, double size, const Color& color,
                               bool bold) {
    vtkNew<vtkTextActor> text;
    text->SetInput(words.c_str());
    style(text->GetTextProperty(), size * pixel(), color, bold);
    text->GetTextProperty()->SetVerticalJustificationToCentered();
    text->SetPosition(x, y);
    overlay->AddViewProp(text);
}

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
            entry.color);
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
    double needed = 0.0;
    for (const Entry& entry : legend)
        needed +=
            (26.0 + 20.0 * static_cast<double>(std::count(entry.words.begin(), entry.words.end(), '\n'))) * p;
    const double room = y - (table == nullptr ? 20.0 : 190.0) * p;
    const double tight = std::clamp(room / std::max(needed, 1.0), 0.3, 1.0);
    const auto columns = static_cast<std::size_t>(34.0 / tight);
    for (const Entry& entry : legend) {
        add_marker(entry, left, y);
        std::istringstream lines(entry.words);
        std::string line;
        while (std::getline(lines, line)) {
            add_words(left + (entry.symbol == ' ' ? 0.0 : 28 * p), y, shortened(line, columns), 13 * tight,
                      color::text, false);
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
                    color::text);
        add_words(left + 36 * p, at, fmt::format("{:.3g}", range[0] + (range[1] - range[0]) * i / 5.0), 13,
                  color::text, false);
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
    add_polygon({{x, y - p}, {x + pixels, y - p}, {x + pixels, y + p}, {x, y + p}}, color::text);
    for (const double end : {x, x + pixels})
        add_polygon({{end - p, y - 5 * p}, {end + p, y - 5 * p}, {end + p, y + 5 * p}, {end - p, y + 5 * p}},
                    color::text);
    add_words(x + pixels + 10 * p, y, fmt::format("{:g} {}", length, options.length_unit), 13, color::text,
              false);
}

void Figure::make_room(const Bounds& room) {
    inside_->bounds.include(room.low);
    inside_->bounds.include(room.high);
}

vtkSmartPointer<vtkImageData> Figure::render() {
    Inside& in = *inside_;
    const int width = oversampling * in.options.width;
    const int height = oversampling * in.options.height;
    const auto window = make_offscreen_window(width, height);
    const Vec3 from = view_direction(in.options.from, in.plane);
    const double aspect = width * (1.0 - legend_share) / (height * (1.0 - title_share));
    in.scene->SetViewport(0.0, 0.0, 1.0 - legend_share, 1.0 - title_share);
    in.scene->SetBackground(1, 1, 1);
    in.scene->AutomaticLightCreationOff();
    // A head light and a softer one from the upper left, both fixed to the eye.
    for (const auto& [x, y, strength] : {std::tuple{0.0, 0.0, 0.72}, std::tuple{-0.9, 1.4, 0.55}}) {
        vtkNew<vtkLight> light;
        light->SetLightTypeToCameraLight();
        light->SetPosition(x, y, 1.0);
        light->SetFocalPoint(0, 0, 0);
        light->SetIntensity(strength);
        in.scene->AddLight(light);
        in.triad->AddLight(light);
    }
    in.aim(in.scene, from, aspect);
    in.overlay->SetViewport(0, 0, 1, 1);
    in.overlay->SetLayer(1);
    in.overlay->InteractiveOff();
    in.triad->SetViewport(0.0, 0.0, 0.10, 0.10 * width / height);
    in.triad->SetLayer(1);
    in.draw_triad(from);
    in.draw_frame();
    in.draw_scale_line(2.0 * in.scene->GetActiveCamera()->GetParallelScale() /
                       (height * (1.0 - title_share)));
    window->SetNumberOfLayers(2);
    in.scene->SetUseDepthPeeling(true);
    in.scene->SetMaximumNumberOfPeels(6);
    // The whole window is white, not only the part with the scene.
    vtkNew<vtkRenderer> paper;
    paper->SetBackground(1, 1, 1);
    paper->SetLayer(0);
    window->AddRenderer(paper);
    window->AddRenderer(in.scene);
    window->AddRenderer(in.overlay);
    window->AddRenderer(in.triad);
    window->Render();
    vtkNew<vtkWindowToImageFilter> grab;
    grab->SetInput(window);
    grab->SetShouldRerender(false);
    grab->ReadFrontBufferOff();
    grab->SetInputBufferTypeToRGB();
    vtkNew<vtkImageShrink3D> shrink;
    shrink->SetInputConnection(grab->GetOutputPort());
    shrink->SetShrinkFactors(oversampling, oversampling, 1);
    shrink->AveragingOn();
    shrink->Update();
    window->RemoveRenderer(in.scene);
    window->RemoveRenderer(in.overlay);
    window->RemoveRenderer(in.triad);
    return shrink->GetOutput();
}

void Figure::write(const std::filesystem::path& png) {
    const vtkSmartPointer<vtkImageData> image = render();
    make_folder(png.has_parent_path() ? png.parent_path() : std::filesystem::path("."));
    write_then_rename(png, [&](const std::filesystem::path& temporary) {
        vtkNew<vtkPNGWriter> writer;
        writer->SetInputData(image);
        writer->WriteToMemoryOn();
        writer->Write();
        vtkUnsignedCharArray* bytes = writer->GetResult();
        if (bytes == nullptr)
            throw Error::files(png.string(), "cannot be drawn", "There is too little memory");
        write_bytes(temporary, bytes->GetPointer(0), static_cast<std::size_t>(bytes->GetNumberOfValues()),
                    png);
    });
}

Picture Figure::picture() {
    const vtkSmartPointer<vtkImageData> image = render();
    Picture out;
    out.width = image->GetDimensions()[0];
    out.height = image->GetDimensions()[1];
    const auto row = static_cast<std::size_t>(3 * out.width);
    out.rgb.resize(row * static_cast<std::size_t>(out.height));
    for (int y = 0; y < out.height; ++y) {
        const auto* from =
            static_cast<const unsigned char*>(image->GetScalarPointer(0, out.height - 1 - y, 0));
        std::copy(from, from + row, out.rgb.begin() + static_cast<std::ptrdiff_t>(row) * y);
    }
    return out;
}

} // namespace upright
