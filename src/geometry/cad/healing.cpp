#include "geometry/cad/healing.hpp"

#include <BRepCheck_Analyzer.hxx>
#include <BRepGProp.hxx>
#include <GProp_GProps.hxx>
#include <ShapeFix_FixSmallFace.hxx>
#include <ShapeFix_Shape.hxx>
#include <ShapeFix_Wireframe.hxx>
#include <ShapeUpgrade_UnifySameDomain.hxx>
#include <TopExp.hxx>
#include <TopTools_IndexedMapOfShape.hxx>
#include <gp_Pnt.hxx>

#include <array>
#include <cmath>
#include <cstdio>
#include <stdexcept>

namespace upright::cad {

namespace {

// More of the volume than that is no fault that was mended.
constexpr double most_change = 0.01;
constexpr double unchanged = 1e-9;
constexpr std::size_t most_named = 12;

struct FaceFacts {
    int number;
    double area, width; // of a strip: twice the area over the length of its border
    gp_Pnt at;
};

std::vector<FaceFacts> faces_of(const TopoDS_Shape& shape) {
    TopTools_IndexedMapOfShape faces;
    TopExp::MapShapes(shape, TopAbs_FACE, faces);
    std::vector<FaceFacts> out;
    for (int i = 1; i <= faces.Extent(); ++i) {
        GProp_GProps area;
        BRepGProp::SurfaceProperties(faces(i), area);
        GProp_GProps border;
        BRepGProp::LinearProperties(faces(i), border);
        out.push_back({i, std::abs(area.Mass()),
                       2.0 * std::abs(area.Mass()) / std::max(border.Mass(), 1e-300), area.CentreOfMass()});
    }
    return out;
}

double volume_of(const TopoDS_Shape& shape) {
    GProp_GProps properties;
    BRepGProp::VolumeProperties(shape, properties);
    return properties.Mass();
}

template <class... Numbers> std::string text(const char* format, Numbers... numbers) {
    std::array<char, 300> out{};
    std::snprintf(out.data(), out.size(), format, numbers...);
    return out.data();
}

} // namespace

Healed heal(const TopoDS_Shape& solid, const std::string& name, double tolerance, double scale) {
    const std::vector<FaceFacts> before = faces_of(solid);
    ShapeUpgrade_UnifySameDomain unify(solid, true, true, false);
    unify.SetLinearTolerance(tolerance);
    unify.SetAngularTolerance(1e-3);
    unify.Build();
    const int after_joining = static_cast<int>(faces_of(unify.Shape()).size());
    ShapeFix_FixSmallFace small;
    small.Init(unify.Shape());
    small.SetPrecision(tolerance);
    small.SetMaxTolerance(tolerance);
    small.Perform();
    const Handle(ShapeFix_Wireframe) wires = new ShapeFix_Wireframe(small.FixShape());
    wires->SetPrecision(tolerance);
    wires->SetMaxTolerance(tolerance);
    wires->ModeDropSmallEdges() = true;
    wires->FixSmallEdges();
    wires->FixWireGaps();
    const Handle(ShapeFix_Shape) whole = new ShapeFix_Shape(wires->Shape());
    whole->SetMaxTolerance(tolerance);
    whole->Perform();
    TopTools_IndexedMapOfShape solids;
    TopExp::MapShapes(whole->Shape(), TopAbs_SOLID, solids);
    const std::string failed =
        text("body \"%.100s\" does not heal at %.4g: ", name.c_str(), tolerance * scale);
    if (solids.Extent() != 1 || !BRepCheck_Analyzer(solids(1)).IsValid())
        throw std::runtime_error(failed + "no sound solid comes out");
    Healed out;
    out.solid = solids(1);
    const double change = volume_of(out.solid) / volume_of(solid) - 1.0;
    if (!(std::abs(change) < most_change))
        throw std::runtime_error(failed + text("its volume would change by %.2g %%", 100.0 * change));
    const std::vector<FaceFacts> after = faces_of(out.solid);
    if (before.size() == after.size() && std::abs(change) < unchanged) {
        out.remarks.push_back(
            text("body \"%.100s\" at %.4g: nothing was found", name.c_str(), tolerance * scale));
        return out;
    }
    std::string gone;
    std::size_t narrow = 0;
    for (const FaceFacts& f : before) {
        if (f.width > tolerance) continue;
        if (++narrow > most_named) continue;
        gone += (gone.empty() ? "" : ", ") + text("%d (%.3g wide, at (%.4g, %.4g, %.4g))", f.number,
                                                  f.width * scale, f.at.X() * scale, f.at.Y() * scale,
                                                  f.at.Z() * scale);
    }
    if (narrow > most_named) gone += text(" and %zu more", narrow - most_named);
    std::size_t stay = 0;
    for (const FaceFacts& f : after) stay += f.width <= tolerance ? 1 : 0;
    std::string remark = text("body \"%.100s\" at %.4g: %zu faces became %zu", name.c_str(),
                              tolerance * scale, before.size(), after.size());
    if (static_cast<int>(before.size()) > after_joining)
        remark +=
            text("; %d joined with others of their surface", static_cast<int>(before.size()) - after_joining);
    if (!gone.empty()) remark += "; narrow ones were " + gone;
    if (stay > 0) remark += text("; %zu as narrow stay", stay);
    remark += std::abs(change) < unchanged ? "; volume unchanged" : text("; volume %+.2g %%", 100.0 * change);
    out.remarks.push_back(remark);
    return out;
}

} // namespace upright::cad
