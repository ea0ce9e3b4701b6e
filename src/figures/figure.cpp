#include "figures/figure.hpp"

#include "base/angles.hpp"
#include "base/error.hpp"
#include "base/files.hpp"
#include "base/nearest.hpp"
#include "figures/figure_inside.hpp"
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

// On dark paper the other way round: what is high draws the eye there too.
vtkSmartPointer<vtkLookupTable> color_table(const Scale& scale, bool dark) {
    static const std::vector<Color> warm{{0.95, 0.95, 0.92}, {0.98, 0.84, 0.53}, {0.94, 0.58, 0.32},
                                         {0.78, 0.29, 0.34}, {0.46, 0.13, 0.38}, {0.17, 0.04, 0.22}};
    static const std::vector<Color> gray{{0.97, 0.97, 0.97}, {0.13, 0.16, 0.20}};
    const std::vector<Color>& stops = scale.gray ? gray : warm;
    constexpr int steps = 256;
    auto table = vtkSmartPointer<vtkLookupTable>::New();
    table->SetNumberOfTableValues(steps);
    table->SetTableRange(scale.low, scale.high > scale.low ? scale.high : scale.low + 1.0);
    for (int i = 0; i < steps; ++i) {
        const double share = static_cast<double>(dark ? steps - 1 - i : i) / (steps - 1);
        const double at = share * static_cast<double>(stops.size() - 1);
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

} // namespace

vtkSmartPointer<vtkTransform> along(const Vec3& from, const Vec3& direction, double length) {
    const Eigen::Quaterniond turn = Eigen::Quaterniond::FromTwoVectors(Vec3::UnitX(), direction);
    const Eigen::AngleAxisd angle(turn);
    auto out = vtkSmartPointer<vtkTransform>::New();
    out->Translate(from.data());
    out->RotateWXYZ(angle.angle() * 180.0 / pi, angle.axis().x(), angle.axis().y(), angle.axis().z());
    out->Scale(length, length, length);
    return out;
}

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

vtkSmartPointer<vtkActor> Figure::Inside::make_patch(const Patch& patch) {
    for (const Vec3& p : patch.points) bounds.include(p);
    const auto poly = to_poly(patch);
    if (!plane && patch.opacity == 1.0) walls.push_back(poly);
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
    inside_->title = options.title.empty() ? std::move(title) : options.title;
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
    inside_->table = color_table(scale, inside_->options.dark);
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
    const Color ink = inside_->on_paper(color);
    actor->GetProperty()->SetColor(ink[0], ink[1], ink[2]);
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
    style(text, size * inside_->pixel(), inside_->on_paper(color::text), true);
    text->SetJustificationToCentered();
    text->SetVerticalJustificationToCentered();
    const Color& sheet = inside_->paper();
    text->SetBackgroundColor(sheet[0], sheet[1], sheet[2]);
    text->SetBackgroundOpacity(0.8);
    inside_->scene->AddActor(label);
}

bool Figure::Inside::hides(const Vec3& at) const {
    const Vec3 from = view_direction(options.from, plane);
    const double near = 0.01 * bounds.diagonal(); // of the surface that it lies on
    // Where the line of sight meets a triangle (Moeller & Trumbore 1997).
    const auto meets = [&](const Vec3& t, const Vec3& a, const Vec3& b) {
        const Vec3 p = from.cross(b);
        const double det = a.dot(p);
        if (std::abs(det) < 1e-12 * a.norm() * b.norm()) return false;
        const Vec3 s = at - t;
        const double u = s.dot(p) / det;
        const Vec3 q = s.cross(a);
        const double v = from.dot(q) / det;
        return u >= 0.0 && v >= 0.0 && u + v <= 1.0 && b.dot(q) / det > near;
    };
    return std::any_of(walls.begin(), walls.end(), [&](vtkPolyData* wall) {
        const auto corner = [&](vtkIdType id) { return Vec3(wall->GetPoint(id)); };
        vtkCellArray* polygons = wall->GetPolys();
        vtkIdType count = 0;
        const vtkIdType* ids = nullptr;
        for (polygons->InitTraversal(); polygons->GetNextCell(count, ids) != 0;) {
            const Vec3 first = corner(ids[0]);
            for (vtkIdType k = 2; k < count; ++k)
                if (meets(first, corner(ids[k - 1]) - first, corner(ids[k]) - first)) return true;
        }
        return false;
    });
}

bool Figure::add_tag(const Vec3& at, const std::string& words, const Color& color) {
    inside_->bounds.include(at);
    if (inside_->hides(at)) return false;
    inside_->tags.push_back({at, words, color});
    return true;
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
    style(text->GetTextProperty(), size * pixel(), on_paper(color), bold);
    text->GetTextProperty()->SetVerticalJustificationToCentered();
    text->SetPosition(x, y);
    overlay->AddViewProp(text);
}

const Bounds& Figure::room() const {
    return inside_->bounds;
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
    const Color& sheet = in.paper();
    in.scene->SetBackground(sheet[0], sheet[1], sheet[2]);
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
    in.draw_tags();
    in.draw_scale_line(2.0 * in.scene->GetActiveCamera()->GetParallelScale() /
                       (height * (1.0 - title_share)));
    window->SetNumberOfLayers(2);
    in.scene->SetUseDepthPeeling(true);
    in.scene->SetMaximumNumberOfPeels(6);
    // The whole window is of one colour, not only the part with the scene.
    vtkNew<vtkRenderer> paper;
    paper->SetBackground(sheet[0], sheet[1], sheet[2]);
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

void write_png(vtkImageData* image, const std::filesystem::path& png) {
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

void Figure::write(const std::filesystem::path& png) {
    write_png(render(), png);
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
