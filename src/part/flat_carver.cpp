#include "part/flat_carver.hpp"

#include "model/thickened.hpp"

#include <vtkDoubleArray.h>
#include <vtkFlyingEdges3D.h>
#include <vtkImageData.h>
#include <vtkNew.h>
#include <vtkPointData.h>
#include <vtkPolyData.h>

#include <algorithm>
#include <cmath>
#include <fmt/format.h>

namespace upright {

namespace {

constexpr int refine = 3;  // lattice steps in a cell
constexpr int passes = 50; // of smoothing
constexpr double margin =
    1.37; // lattice steps around the body; not whole, so that no point lies on a flat face

} // namespace

std::size_t FlatCarver::at(int i, int j, int k) const {
    return (static_cast<std::size_t>(k) * static_cast<std::size_t>(count_[1]) + static_cast<std::size_t>(j)) *
               static_cast<std::size_t>(count_[0]) +
           static_cast<std::size_t>(i);
}

Vec3 FlatCarver::place(std::size_t n) const {
    const auto nx = static_cast<std::size_t>(count_[0]);
    const auto ny = static_cast<std::size_t>(count_[1]);
    const std::array<std::size_t, 3> ijk{n % nx, n / nx % ny, n / nx / ny};
    return origin_ + step_.cwiseProduct(Vec3(static_cast<double>(ijk[0]), static_cast<double>(ijk[1]),
                                             static_cast<double>(ijk[2])));
}

// The image of a place in the modelled part, kept a little off the symmetry planes: there is no surface on
// them.
Vec3 FlatCarver::fold(const Vec3& p) const {
    Vec3 out = p;
    const double off = 0.25 * model_.mesh.size;
    for (const SymmetryCut& cut : model_.mesh.symmetry) {
        const double away = std::max(off, std::abs(out[cut.axis] - cut.at));
        out[cut.axis] = cut.high ? cut.at - away : cut.at + away;
    }
    return out;
}

RegionField::Parts FlatCarver::distances(const Vec3& p) const {
    const Vec3 flat(p.x(), p.y(), 0.0);
    RegionField::Parts out = model_.shapes.parts(flat);
    // Each region has its own thickness, about one middle.
    const double slab = std::abs(p.z() - middle_) - 0.5 * model_.mesh.depth(locator_.nearest(flat));
    out.body = std::max(out.body, slab);
    out.kept = std::max(out.kept, slab);
    return out;
}

Vec3 FlatCarver::onto_exact(const Vec3& p) const {
    const RegionField::Parts here = distances(fold(p));
    const bool body = std::abs(here.body) <= std::abs(here.kept);
    const auto value = [&](const Vec3& q) {
        const RegionField::Parts d = distances(fold(q));
        return body ? d.body : d.kept;
    };
    const double step = 0.02 * step_.minCoeff();
    Vec3 slope = Vec3::Zero();
    for (int a = 0; a < 3; ++a)
        slope[a] = (value(p + step * Vec3::Unit(a)) - value(p - step * Vec3::Unit(a))) / (2 * step);
    if (slope.squaredNorm() < 0.25) return p; // at an edge the slope says nothing
    const Vec3 move = (body ? here.body : here.kept) / slope.squaredNorm() * slope;
    return move.norm() < step_.minCoeff() ? Vec3(p - move) : p;
}

// Trilinear between cell middles, over the design cells in reach alone: kept regions come as their exact
// shapes, and their stair-stepped cells must not show beyond them.
double FlatCarver::density_at(const Vec3& p) const {
    if (!model_.mesh.on_grid()) return mean_density(Vec3(p.x(), p.y(), 0.0));
    const CellGrid& grid = model_.mesh.grid;
    std::array<int, 3> low{};
    std::array<double, 3> share{};
    for (int a = 0; a < grid.axes(); ++a) {
        const double u = (p[a] - grid.origin[a]) / grid.cell[a] - 0.5;
        low[static_cast<std::size_t>(a)] = static_cast<int>(std::floor(u));
        share[static_cast<std::size_t>(a)] = u - std::floor(u);
    }
    double sum = 0.0;
    double weights = 0.0;
    for (int corner = 0; corner < (grid.plane ? 4 : 8); ++corner) {
        std::array<int, 3> cell = low;
        double weight = 1.0;
        bool inside = true;
        for (std::size_t a = 0; a < static_cast<std::size_t>(grid.axes()); ++a) {
            const int bit = (corner >> a) & 1;
            cell[a] += bit;
            weight *= bit == 1 ? share[a] : 1.0 - share[a];
            const auto& sides = grid.symmetric[a];
            if (cell[a] < 0 && sides[0]) cell[a] = 0;
            if (cell[a] >= grid.count[a] && sides[1]) cell[a] = grid.count[a] - 1;
            inside = inside && cell[a] >= 0 && cell[a] < grid.count[a];
        }
        if (!inside) continue;
        const std::int32_t e = model_.mesh.element_of[grid.at(cell[0], cell[1], cell[2])];
        if (e < 0 || model_.role(static_cast<ElementId>(e)) != Role::Design) continue;
        weight = std::max(weight, 1e-9);
        sum += weight * density_[static_cast<std::size_t>(e)];
        weights += weight;
    }
    return weights > 0.0 ? sum / weights : 0.0;
}

// Elsewhere: the mean of the design elements about a place, nearer ones more.
double FlatCarver::mean_density(const Vec3& p) const {
    const double radius = 1.1 * model_.mesh.size;
    double sum = 0.0;
    double weights = 0.0;
    for (const double reach : {radius, 2.0 * radius}) {
        locator_.near(p, reach, [&](ElementId e, double d) {
            if (model_.role(e) != Role::Design) return;
            const double w = (reach - d) * (reach - d) * model_.mesh.volume(e);
            sum += w * density_[index(e)];
            weights += w;
        });
        if (weights > 0.0) return sum / weights;
    }
    return 0.0;
}

double FlatCarver::material_density(const Vec3& p) const {
    return model_.material(locator_.nearest(Vec3(p.x(), p.y(), 0.0))).density;
}

FlatCarver::FlatCarver(const Model& model, const std::vector<double>& density)
    : model_(model), density_(density), locator_(model.mesh, 1.5 * model.mesh.size),
      anchors_(anchors_of(model)) {
    const Mesh& mesh = model.mesh;
    Bounds box = mesh.bounds;
    const double thickest = *std::max_element(mesh.thickness.begin(), mesh.thickness.end());
    middle_ = middle_of_thickness(model);
    box.low.z() = middle_ - 0.5 * thickest;
    box.high.z() = middle_ + 0.5 * thickest;
    for (const SymmetryCut& cut : mesh.symmetry) {
        const double length = box.size()[cut.axis];
        if (cut.high)
            box.high[cut.axis] += length;
        else
            box.low[cut.axis] -= length;
    }
    for (int a = 0; a < 3; ++a) {
        step_[a] = (mesh.on_grid() ? mesh.grid.cell[a] : mesh.size) / refine;
        // The thickness of a plane model may be far from the cells' size.
        if (a == 2) step_[a] = thickest / std::clamp(std::round(thickest / step_.x()), 8.0, 60.0);
        origin_[a] = box.low[a] - margin * step_[a];
        count_[static_cast<std::size_t>(a)] =
            static_cast<int>(std::ceil(box.size()[a] / step_[a] + 2 * margin)) + 1;
    }
    const std::size_t points = at(0, 0, count_[2]);
    body_.resize(points);
    keep_.resize(points);
    filling_.resize(points);
    for (std::size_t n = 0; n < points; ++n) {
        const Vec3 p = fold(place(n));
        const RegionField::Parts d = distances(p);
        body_[n] = d.body;
        keep_[n] = d.kept;
        filling_[n] = density_at(p);
    }
    for (Anchor& anchor : anchors_) add_images(anchor.places);
}

// Into the middle of the thickness, and the mirror images.
void FlatCarver::add_images(std::vector<Vec3>& places) const {
    for (Vec3& p : places) p.z() = middle_;
    for (const SymmetryCut& cut : model_.mesh.symmetry) {
        const std::size_t count = places.size();
        for (std::size_t i = 0; i < count; ++i) {
            Vec3 image = places[i];
            image[cut.axis] = 2 * cut.at - image[cut.axis];
            places.push_back(image);
        }
    }
}

// How far the densities are from the threshold, as a length: about the distance to their surface in a sharp
// design.
double FlatCarver::filling_distance(double density, double threshold) const {
    const Mesh& mesh = model_.mesh;
    return (threshold - density) *
           (mesh.on_grid() ? mesh.grid.cell.head(mesh.grid.axes()).minCoeff() : mesh.size);
}

double FlatCarver::field(std::size_t n, double threshold) const {
    return std::max(body_[n], std::min(keep_[n], filling_distance(filling_[n], threshold)));
}

// Where a kept region and the design end in one place, whoever owns the places a little inside tells whose
// face it is.
bool FlatCarver::beside_kept(const Vec3& p) const {
    for (int a = 0; a < 3; ++a)
        for (const double sign : {-1.0, 1.0}) {
            Vec3 q = fold(p + sign * 0.3 * step_[a] * Vec3::Unit(a));
            q.z() = 0.0;
            const RegionId owner = model_.shapes.owner(q);
            if (owner != RegionId::None && model_.shapes[owner].role == Role::Keep) return true;
        }
    return false;
}

std::vector<PartPiece> FlatCarver::find_pieces(std::vector<double>& values, bool drop,
                                               std::vector<std::string>& missed) const {
    std::vector<std::int32_t> label(values.size(), -1);
    std::vector<PartPiece> pieces;
    std::vector<std::size_t> stack;
    const std::array<std::size_t, 3> stride{1, static_cast<std::size_t>(count_[0]), at(0, 0, 1)};
    const double share = step_.prod();
    for (std::size_t seed = 0; seed < values.size(); ++seed) {
        if (values[seed] >= 0.0 || label[seed] >= 0) continue;
        const auto name = static_cast<std::int32_t>(pieces.size());
        PartPiece piece;
        double points = 0.0;
        label[seed] = name;
        stack.push_back(seed);
        while (!stack.empty()) {
            const std::size_t n = stack.back();
            stack.pop_back();
            points += 1.0;
            piece.center += place(n);
            // The outermost points are never inside, so no neighbour falls off the lattice.
            for (const std::size_t s : stride)
                for (const std::size_t other : {n - s, n + s})
                    if (values[other] < 0.0 && label[other] < 0) {
                        label[other] = name;
                        stack.push_back(other);
                    }
        }
        piece.center /= points;
        piece.volume = points * share;
        pieces.push_back(piece);
    }
    for (const Anchor& anchor : anchors_) {
        std::vector<bool> touched(pieces.size(), false);
        for (const Vec3& p : anchor.places) {
            const Vec3 u = (p - origin_).cwiseQuotient(step_);
            for (int corner = 0; corner < 8; ++corner) {
                const std::int32_t found = label[at(static_cast<int>(u.x()) + (corner & 1),
                                                    static_cast<int>(u.y()) + ((corner >> 1) & 1),
                                                    static_cast<int>(u.z()) + (corner >> 2))];
                if (found >= 0) touched[static_cast<std::size_t>(found)] = true;
            }
        }
        for (std::size_t i = 0; i < pieces.size(); ++i)
            if (touched[i] && std::find(pieces[i].touches.begin(), pieces[i].touches.end(), anchor.card) ==
                                  pieces[i].touches.end())
                pieces[i].touches.push_back(anchor.card);
        if (std::none_of(touched.begin(), touched.end(), [](bool t) { return t; }))
            missed.push_back(anchor.label);
    }
    // The largest piece stays whatever it touches, or a part without any case would vanish.
    std::size_t largest = 0;
    for (std::size_t i = 0; i < pieces.size(); ++i)
        if (pieces[i].volume > pieces[largest].volume) largest = i;
    for (std::size_t i = 0; i < pieces.size(); ++i)
        pieces[i].dropped = drop && pieces[i].touches.empty() && i != largest;
    for (std::size_t n = 0; n < values.size(); ++n)
        if (label[n] >= 0 && pieces[static_cast<std::size_t>(label[n])].dropped)
            values[n] = std::max(-values[n], 1e-12);
    std::sort(pieces.begin(), pieces.end(),
              [](const PartPiece& a, const PartPiece& b) { return a.volume > b.volume; });
    return pieces;
}

Triangles FlatCarver::contour(const std::vector<double>& values) const {
    vtkNew<vtkImageData> image;
    image->SetDimensions(count_.data());
    image->SetOrigin(origin_.data());
    image->SetSpacing(step_.data());
    vtkNew<vtkDoubleArray> scalars;
    scalars->SetNumberOfValues(static_cast<vtkIdType>(values.size()));
    std::copy(values.begin(), values.end(), scalars->GetPointer(0));
    image->GetPointData()->SetScalars(scalars);
    vtkNew<vtkFlyingEdges3D> edges;
    edges->SetInputData(image);
    edges->SetValue(0, 0.0);
    edges->ComputeNormalsOff();
    edges->ComputeGradientsOff();
    edges->ComputeScalarsOff();
    edges->Update();
    vtkPolyData* found = edges->GetOutput();
    Triangles out;
    for (vtkIdType i = 0; i < found->GetNumberOfPoints(); ++i) {
        Vec3 p;
        found->GetPoint(i, p.data());
        out.points.push_back(p);
    }
    vtkNew<vtkIdList> ids;
    vtkCellArray* polygons = found->GetPolys();
    for (vtkIdType c = 0; c < polygons->GetNumberOfCells(); ++c) {
        polygons->GetCellAtId(c, ids);
        out.corners.push_back({static_cast<std::int32_t>(ids->GetId(0)),
                               static_cast<std::int32_t>(ids->GetId(1)),
                               static_cast<std::int32_t>(ids->GetId(2))});
    }
    if (volume(out) < 0.0)
        for (auto& t : out.corners) std::swap(t[1], t[2]);
    return out;
}

Part FlatCarver::extract(const PartOptions& options) const {
    std::vector<double> values(body_.size());
    for (std::size_t n = 0; n < values.size(); ++n) {
        values[n] = field(n, options.threshold);
        // A value of exactly zero on a lattice point makes triangles without area.
        if (std::abs(values[n]) < 1e-9 * step_.minCoeff()) values[n] = 1e-9 * step_.minCoeff();
    }
    Part part;
    part.pieces = find_pieces(values, options.drop_islands, part.missed);
    if (part.pieces.empty()) return part;
    part.surface = contour(values);
    // Points on the exact shapes stay; only what the densities drew is smoothed. What drew a point is the
    // term of the field that decides there, which also tells for the cut corners where two exact shapes meet.
    const double near = 0.05 * step_.minCoeff();
    std::vector<bool> pinned(part.surface.points.size());
    std::vector<bool> kept(part.surface.points.size());
    for (std::size_t i = 0; i < part.surface.points.size(); ++i) {
        const Vec3 p = fold(part.surface.points[i]);
        const RegionField::Parts d = distances(p);
        const double filling = filling_distance(density_at(p), options.threshold);
        pinned[i] = d.body >= std::min(d.kept, filling) || d.kept <= filling;
        kept[i] = d.kept < near && beside_kept(p);
    }
    for (const auto& t : part.surface.corners)
        part.kept.push_back(std::all_of(t.begin(), t.end(),
                                        [&](std::int32_t n) { return kept[static_cast<std::size_t>(n)]; }));
    if (options.improve)
        smooth_holding_volume(part.surface, pinned, passes, [this](const Vec3& p) { return onto_exact(p); });
    part.volume = volume(part.surface);
    part.closed = closed(part.surface);
    double points = 0.0;
    double heavy = 0.0;
    for (std::size_t n = 0; n < values.size(); ++n) {
        if (values[n] >= 0.0) continue;
        points += 1.0;
        heavy += material_density(fold(place(n)));
    }
    part.mass = part.volume * heavy / points;
    return part;
}

} // namespace upright
