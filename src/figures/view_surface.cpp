#include "figures/view_surface.hpp"

#include "figures/scene.hpp"

#include <vtkCellArray.h>
#include <vtkNew.h>
#include <vtkPoints.h>
#include <vtkPolyData.h>
#include <vtkQuadricDecimation.h>

#include <algorithm>
#include <map>

namespace upright {

namespace {

struct Faces {
    std::vector<Vec3> points;
    std::vector<std::array<std::int32_t, 3>> triangles;
};

Faces fewer(const Faces& in, std::size_t most) {
    if (in.triangles.size() <= most || in.triangles.size() < 100) return in;
    vtkNew<vtkPoints> points;
    points->SetDataTypeToDouble();
    for (const Vec3& p : in.points) points->InsertNextPoint(p.data());
    vtkNew<vtkCellArray> cells;
    for (const auto& t : in.triangles) {
        const std::array<vtkIdType, 3> corners{t[0], t[1], t[2]};
        cells->InsertNextCell(3, corners.data());
    }
    vtkNew<vtkPolyData> surface;
    surface->SetPoints(points);
    surface->SetPolys(cells);
    vtkNew<vtkQuadricDecimation> joined;
    joined->SetInputData(surface);
    joined->SetTargetReduction(1.0 - static_cast<double>(most) / static_cast<double>(in.triangles.size()));
    joined->VolumePreservationOn();
    joined->Update();
    vtkPolyData* left = joined->GetOutput();
    Faces out;
    for (vtkIdType n = 0; n < left->GetNumberOfPoints(); ++n) {
        Vec3 p;
        left->GetPoint(n, p.data());
        out.points.push_back(p);
    }
    for (vtkIdType c = 0; c < left->GetNumberOfCells(); ++c) {
        vtkIdType count = 0;
        const vtkIdType* ids = nullptr;
        left->GetCellPoints(c, count, ids);
        if (count == 3)
            out.triangles.push_back({static_cast<std::int32_t>(ids[0]), static_cast<std::int32_t>(ids[1]),
                                     static_cast<std::int32_t>(ids[2])});
    }
    return out;
}

// The points that some triangles use, and the triangles by their new numbers.
template <class Wanted> Faces some_of(const Triangles& surface, const Wanted& wanted) {
    Faces out;
    std::vector<std::int32_t> number(surface.points.size(), -1);
    for (std::size_t t = 0; t < surface.corners.size(); ++t) {
        if (!wanted(t)) continue;
        std::array<std::int32_t, 3> triangle{};
        for (std::size_t k = 0; k < 3; ++k) {
            const auto old = static_cast<std::size_t>(surface.corners[t][k]);
            if (number[old] < 0) {
                number[old] = static_cast<std::int32_t>(out.points.size());
                out.points.push_back(surface.points[old]);
            }
            triangle[k] = number[old];
        }
        out.triangles.push_back(triangle);
    }
    return out;
}

// Skins of the modelled part and its images, kept polygons first; `at` gives what stands at each point.
template <class Take> ViewSurface skins(const Model& model, const Skinned& skin, const Take& take) {
    ViewSurface out;
    for (const bool kept : {true, false})
        for (const Affine& image : images(model.mesh)) {
            const bool turned = image.linear().determinant() < 0.0;
            std::vector<std::int32_t> number(skin.patch.points.size(), -1);
            for (std::size_t p = 0; p < skin.patch.polygons.size(); ++p) {
                if ((model.role(skin.element[p]) == Role::Keep) != kept) continue;
                std::vector<std::int32_t> corners;
                for (const std::int32_t old : skin.patch.polygons[p]) {
                    std::int32_t& n = number[static_cast<std::size_t>(old)];
                    if (n < 0) {
                        n = static_cast<std::int32_t>(out.points.size());
                        out.points.push_back(image * skin.patch.points[static_cast<std::size_t>(old)]);
                        take(static_cast<std::size_t>(old), image, out);
                    }
                    corners.push_back(n);
                }
                if (turned) std::reverse(corners.begin(), corners.end());
                for (std::size_t k = 2; k < corners.size(); ++k)
                    out.triangles.push_back({corners[0], corners[k - 1], corners[k]});
            }
            if (kept) out.kept = out.triangles.size();
        }
    return out;
}

} // namespace

ViewSurface view_of(const Part& part, std::size_t most) {
    ViewSurface out;
    // Kept and free faces apart, so that the border between them stays where it is.
    std::size_t kept = 0;
    for (const bool k : part.kept) kept += k ? 1 : 0;
    const std::size_t all = part.surface.corners.size();
    for (const bool wanted : {true, false}) {
        const std::size_t have = wanted ? kept : all - kept;
        if (have == 0) continue;
        const Faces faces =
            fewer(some_of(part.surface, [&](std::size_t t) { return part.kept[t] == wanted; }),
                  std::max<std::size_t>(100, most * have / std::max<std::size_t>(all, 1)));
        const auto first = static_cast<std::int32_t>(out.points.size());
        out.points.insert(out.points.end(), faces.points.begin(), faces.points.end());
        for (auto t : faces.triangles) {
            for (std::int32_t& n : t) n += first;
            out.triangles.push_back(t);
        }
        if (wanted) out.kept = out.triangles.size();
    }
    return out;
}

ViewSurface view_of(const Model& model, const std::vector<double>& density, double threshold) {
    return skins(model, skin_of_elements(model, denser_than(density, threshold)),
                 [](std::size_t, const Affine&, ViewSurface&) {});
}

ViewSurface view_of(const Model& model, const ResultFigure& result) {
    const Skinned skin = skin_of_elements(
        model, result.shown.empty() ? std::vector<bool>(model.mesh.elements(), true) : result.shown);
    return skins(model, skin, [&](std::size_t n, const Affine& image, ViewSurface& out) {
        const auto& [node, region] = skin.node[n];
        out.value.push_back(result.value(node, region));
        if (result.displacement.empty()) return;
        const double* u = &result.displacement[3 * index(node)];
        out.shift.emplace_back(image.linear() * Vec3(u[0], u[1], u[2]));
    });
}

} // namespace upright
