// The CAD module: STEP in, faces triangulated and named; solids cut against each other. Open CASCADE does
// the exact geometry; nothing here meshes for analysis.
#include "base/module_file.hpp"
#include "base/version.hpp"
#include "geometry/cad/healing.hpp"
#include "geometry/cad/solid_writer.hpp"
#include "geometry/cad_module.hpp"

#include <BOPAlgo_Builder.hxx>
#include <BOPAlgo_MakerVolume.hxx>
#include <BRepAdaptor_Surface.hxx>
#include <BRepBndLib.hxx>
#include <BRepBuilderAPI_MakeFace.hxx>
#include <BRepBuilderAPI_MakePolygon.hxx>
#include <BRepBuilderAPI_Transform.hxx>
#include <BRepGProp.hxx>
#include <BRepLProp_SLProps.hxx>
#include <BRepMesh_IncrementalMesh.hxx>
#include <BRepOffsetAPI_MakeOffsetShape.hxx>
#include <BRepPrimAPI_MakeBox.hxx>
#include <BRepPrimAPI_MakeCone.hxx>
#include <BRepPrimAPI_MakeCylinder.hxx>
#include <BRepPrimAPI_MakePrism.hxx>
#include <BRepPrimAPI_MakeSphere.hxx>
#include <BRepTools.hxx>
#include <BRep_Builder.hxx>
#include <BRep_Tool.hxx>
#include <Bnd_Box.hxx>
#include <GProp_GProps.hxx>
#include <Message.hxx>
#include <Message_Messenger.hxx>
#include <Message_Printer.hxx>
#include <Poly_Triangulation.hxx>
#include <STEPCAFControl_Reader.hxx>
#include <Standard_Failure.hxx>
#include <TColStd_SequenceOfAsciiString.hxx>
#include <TDF_LabelSequence.hxx>
#include <TDataStd_Name.hxx>
#include <TDocStd_Document.hxx>
#include <TopExp.hxx>
#include <TopExp_Explorer.hxx>
#include <TopTools_IndexedMapOfShape.hxx>
#include <TopTools_ListOfShape.hxx>
#include <TopoDS.hxx>
#include <TopoDS_Face.hxx>
#include <TopoDS_Solid.hxx>
#include <XCAFApp_Application.hxx>
#include <XCAFDoc_DocumentTool.hxx>
#include <XCAFDoc_ShapeTool.hxx>
#include <gp_Ax2.hxx>
#include <gp_GTrsf.hxx>
#include <gp_Trsf.hxx>

#include <Eigen/Geometry>
#include <algorithm>
#include <array>
#include <cmath>
#include <map>
#include <stdexcept>
#include <sys/wait.h>
#include <unistd.h>

namespace upright::cad {

namespace {

constexpr double file_unit_si = 1e-3; // Open CASCADE hands over millimetres

Vec3 to_vec(const gp_Pnt& p, double scale) {
    return Vec3(p.X(), p.Y(), p.Z()) * scale;
}

gp_Pnt to_pnt(const Vec3& p) {
    return {p.x(), p.y(), p.z()};
}

void be_quiet() {
    Message::DefaultMessenger()->RemovePrinters(STANDARD_TYPE(Message_Printer));
}

// Points that triangulations of neighbouring faces share become one.
class PointPool {
  public:
    PointPool(std::vector<Vec3>& points, double tolerance)
        : points_(points), cell_(4.0 * tolerance), tolerance_(tolerance) {}
    std::int32_t add(const Vec3& p) {
        std::array<long, 3> at{};
        for (std::size_t a = 0; a < 3; ++a) at[a] = std::lround(p[static_cast<Eigen::Index>(a)] / cell_);
        for (long i = -1; i <= 1; ++i)
            for (long j = -1; j <= 1; ++j)
                for (long k = -1; k <= 1; ++k) {
                    const auto found = known_.find({at[0] + i, at[1] + j, at[2] + k});
                    if (found == known_.end()) continue;
                    for (const std::int32_t n : found->second)
                        if ((points_[static_cast<std::size_t>(n)] - p).norm() <= tolerance_) return n;
                }
        points_.push_back(p);
        known_[at].push_back(static_cast<std::int32_t>(points_.size()) - 1);
        return static_cast<std::int32_t>(points_.size()) - 1;
    }

  private:
    std::vector<Vec3>& points_;
    double cell_, tolerance_;
    std::map<std::array<long, 3>, std::vector<std::int32_t>> known_;
};

double size_of(const TopoDS_Shape& shape) {
    Bnd_Box box;
    BRepBndLib::Add(shape, box);
    return box.IsVoid() ? 1.0 : std::sqrt(box.SquareExtent());
}

// The triangles of a face, turned as the face is.
void add_face(const TopoDS_Face& face, bool reversed, double scale, PointPool& pool,
              std::vector<std::array<std::int32_t, 3>>& out) {
    TopLoc_Location location;
    const Handle(Poly_Triangulation) triangles = BRep_Tool::Triangulation(face, location);
    if (triangles.IsNull()) return;
    std::vector<std::int32_t> number;
    for (int i = 1; i <= triangles->NbNodes(); ++i)
        number.push_back(pool.add(to_vec(triangles->Node(i).Transformed(location.Transformation()), scale)));
    for (int i = 1; i <= triangles->NbTriangles(); ++i) {
        int a = 0;
        int b = 0;
        int c = 0;
        triangles->Triangle(i).Get(a, b, c);
        if (reversed) std::swap(b, c);
        const std::array<std::int32_t, 3> t{number[static_cast<std::size_t>(a) - 1],
                                            number[static_cast<std::size_t>(b) - 1],
                                            number[static_cast<std::size_t>(c) - 1]};
        if (t[0] != t[1] && t[1] != t[2] && t[2] != t[0]) out.push_back(t);
    }
}

FacetFace describe(const TopoDS_Face& face, double scale) {
    FacetFace out;
    const BRepAdaptor_Surface surface(face);
    const bool reversed = face.Orientation() == TopAbs_REVERSED;
    const auto along_axis = [&](const gp_Ax1& axis) {
        // The stretch of the axis beside the face.
        double low = 1e300;
        double high = -1e300;
        TopLoc_Location location;
        const Handle(Poly_Triangulation) triangles = BRep_Tool::Triangulation(face, location);
        for (int i = 1; !triangles.IsNull() && i <= triangles->NbNodes(); ++i) {
            const gp_Pnt p = triangles->Node(i).Transformed(location.Transformation());
            const double t = gp_Vec(axis.Location(), p).Dot(gp_Vec(axis.Direction()));
            low = std::min(low, t);
            high = std::max(high, t);
        }
        if (low > high) return;
        out.axis_from = to_vec(axis.Location().Translated(gp_Vec(axis.Direction()) * low), scale);
        out.axis_to = to_vec(axis.Location().Translated(gp_Vec(axis.Direction()) * high), scale);
    };
    switch (surface.GetType()) {
    case GeomAbs_Plane:
        out.kind = FaceKind::Plane;
        break;
    case GeomAbs_Cylinder:
        out.kind = FaceKind::Cylinder;
        out.radius = surface.Cylinder().Radius() * scale;
        out.hole = reversed == surface.Cylinder().Direct();
        along_axis(surface.Cylinder().Axis());
        break;
    case GeomAbs_Cone:
        out.kind = FaceKind::Cone;
        out.hole = reversed == surface.Cone().Direct();
        along_axis(surface.Cone().Axis());
        out.radius = std::max(std::abs(surface.Cone().RefRadius() +
                                       surface.FirstVParameter() * std::sin(surface.Cone().SemiAngle())),
                              std::abs(surface.Cone().RefRadius() +
                                       surface.LastVParameter() * std::sin(surface.Cone().SemiAngle()))) *
                     scale;
        break;
    case GeomAbs_Sphere:
        out.kind = FaceKind::Sphere;
        out.radius = surface.Sphere().Radius() * scale;
        out.hole = reversed == surface.Sphere().Direct();
        break;
    case GeomAbs_Torus:
        out.kind = FaceKind::Torus;
        out.radius = surface.Torus().MinorRadius() * scale;
        out.hole = reversed == surface.Torus().Direct();
        break;
    default:
        out.kind = FaceKind::FreeForm;
    }
    return out;
}

struct Named {
    TopoDS_Shape solid;
    std::string name;
};

std::string label_name(const TDF_Label& label) {
    Handle(TDataStd_Name) name;
    if (!label.FindAttribute(TDataStd_Name::GetID(), name)) return {};
    TCollection_AsciiString text(name->Get());
    return text.ToCString();
}

void collect(const Handle(XCAFDoc_ShapeTool) & tool, const TDF_Label& label, const TopLoc_Location& where,
             const std::string& outer, std::vector<Named>& out) {
    std::string name = label_name(label);
    TDF_Label referred;
    if (XCAFDoc_ShapeTool::GetReferredShape(label, referred)) {
        const TopLoc_Location here = where * XCAFDoc_ShapeTool::GetLocation(label);
        const std::string inner = label_name(referred);
        return collect(tool, referred, here, inner.empty() ? name : inner, out);
    }
    if (XCAFDoc_ShapeTool::IsAssembly(label)) {
        TDF_LabelSequence parts;
        XCAFDoc_ShapeTool::GetComponents(label, parts);
        for (int i = 1; i <= parts.Length(); ++i) collect(tool, parts.Value(i), where, name, out);
        return;
    }
    if (name.empty()) name = outer;
    const TopoDS_Shape shape = XCAFDoc_ShapeTool::GetShape(label).Moved(where);
    for (TopExp_Explorer solids(shape, TopAbs_SOLID); solids.More(); solids.Next())
        out.push_back({solids.Current(), name});
}

std::vector<Named> read_solids(const std::filesystem::path& file, std::string& unit, double& unit_si) {
    be_quiet();
    STEPCAFControl_Reader reader;
    reader.SetNameMode(true);
    if (reader.ReadFile(file.c_str()) != IFSelect_RetDone)
        throw std::runtime_error("this is no STEP file, or it is broken");
    TColStd_SequenceOfAsciiString lengths;
    TColStd_SequenceOfAsciiString angles;
    TColStd_SequenceOfAsciiString solid_angles;
    reader.ChangeReader().FileUnits(lengths, angles, solid_angles);
    if (lengths.Length() > 0) unit = lengths.Value(1).ToCString();
    static const std::map<std::string, std::pair<std::string, double>> units{
        {"millimetre", {"mm", 1e-3}}, {"MILLIMETRE", {"mm", 1e-3}}, {"metre", {"m", 1.0}},
        {"METRE", {"m", 1.0}},        {"centimetre", {"cm", 1e-2}}, {"micrometre", {"um", 1e-6}},
        {"inch", {"in", 0.0254}},     {"INCH", {"in", 0.0254}},     {"foot", {"ft", 0.3048}},
        {"FOOT", {"ft", 0.3048}},     {"kilometre", {"km", 1e3}},   {"CENTIMETRE", {"cm", 1e-2}}};
    if (const auto known = units.find(unit); known != units.end()) {
        unit = known->second.first;
        unit_si = known->second.second;
    }
    Handle(TDocStd_Document) document;
    XCAFApp_Application::GetApplication()->NewDocument("MDTV-XCAF", document);
    if (!reader.Transfer(document)) throw std::runtime_error("the STEP file holds nothing that can be read");
    const Handle(XCAFDoc_ShapeTool) tool = XCAFDoc_DocumentTool::ShapeTool(document->Main());
    TDF_LabelSequence roots;
    tool->GetFreeShapes(roots);
    std::vector<Named> out;
    for (int i = 1; i <= roots.Length(); ++i) collect(tool, roots.Value(i), TopLoc_Location(), "", out);
    XCAFApp_Application::GetApplication()->Close(document);
    if (out.empty())
        throw std::runtime_error("the STEP file holds no solid body (surfaces alone do not enclose a part)");
    // Every body has a name of its own.
    std::map<std::string, int> count;
    for (Named& n : out) {
        for (char& c : n.name)
            if (c == '/' || c == '@' || c == ',' || static_cast<unsigned char>(c) < 0x20) c = '-';
        if (n.name.empty() || n.name.find("Open CASCADE") != std::string::npos) n.name = "body";
        ++count[n.name];
    }
    std::map<std::string, int> next;
    for (Named& n : out)
        if (count[n.name] > 1) n.name += "-" + std::to_string(++next[n.name]);
    return out;
}

// Heals all of them; what was done to each is added to `remarks`.
void heal_all(std::vector<Named>& all, double tolerance, double scale, std::vector<std::string>& remarks) {
    if (tolerance <= 0.0) return;
    for (Named& named : all) {
        Healed healed = heal(named.solid, named.name, tolerance, scale);
        named.solid = healed.solid;
        remarks.insert(remarks.end(), healed.remarks.begin(), healed.remarks.end());
    }
}

File read_step(const std::filesystem::path& file, double unit_si, double deflection, double tolerance) try {
    File out;
    const double scale = file_unit_si / unit_si;
    std::vector<Named> all = read_solids(file, out.unit, out.unit_si);
    heal_all(all, tolerance / scale, scale, out.remarks);
    for (const Named& named : all) {
        Body body;
        body.name = named.name;
        const double size = size_of(named.solid);
        BRepMesh_IncrementalMesh(named.solid, deflection * size, false, 0.2, true);
        GProp_GProps properties;
        BRepGProp::VolumeProperties(named.solid, properties);
        body.volume = properties.Mass() * scale * scale * scale;
        PointPool pool(body.mesh.points, 1e-7 * size * scale);
        for (TopExp_Explorer faces(named.solid, TopAbs_FACE); faces.More(); faces.Next()) {
            const TopoDS_Face& face = TopoDS::Face(faces.Current());
            const std::size_t before = body.mesh.triangles.size();
            add_face(face, face.Orientation() == TopAbs_REVERSED, scale, pool, body.mesh.triangles);
            FacetFace description = describe(face, scale);
            description.number = static_cast<int>(body.mesh.faces.size()) + 1;
            body.mesh.face_of.insert(body.mesh.face_of.end(), body.mesh.triangles.size() - before,
                                     static_cast<std::int32_t>(body.mesh.faces.size()));
            body.mesh.faces.push_back(description);
        }
        measure_faces(body.mesh);
        out.bodies.push_back(std::move(body));
    }
    return out;
} catch (const Standard_Failure& bad) {
    throw std::runtime_error(std::string("the STEP file cannot be read: ") + bad.GetMessageString());
}

// All faces moved outward, corners kept sharp. The library's offset can crash where faces vanish; it runs in
// a process of its own, so that this is a message and no end of the program.
TopoDS_Shape grown(const TopoDS_Shape& body, double grow) {
    const char* failed =
        "a layer of this depth cannot be made of this body's faces; write it as a shape, or as "
        "a layer under a surface";
    std::string file = (std::filesystem::temp_directory_path() / "upright-layer-XXXXXX").string();
    const int handle = ::mkstemp(file.data());
    if (handle < 0) throw std::runtime_error("no temporary file can be made for a layer");
    ::close(handle);
    const pid_t child = ::fork();
    if (child == 0) {
        bool good = false;
        try {
            BRepOffsetAPI_MakeOffsetShape offset;
            offset.PerformByJoin(body, grow, 1e-6 * size_of(body), BRepOffset_Skin, false, false,
                                 GeomAbs_Intersection);
            good =
                offset.IsDone() && !offset.Shape().IsNull() && BRepTools::Write(offset.Shape(), file.c_str());
        } catch (...) { // whatever it is, the parent says that no layer came out
        }
        ::_exit(good ? 0 : 1);
    }
    int status = 1;
    if (child > 0) ::waitpid(child, &status, 0);
    TopoDS_Shape out;
    BRep_Builder builder;
    const bool good = child > 0 && WIFEXITED(status) && WEXITSTATUS(status) == 0 &&
                      BRepTools::Read(out, file.c_str(), builder);
    std::filesystem::remove(file);
    if (!good) throw std::runtime_error(failed);
    GProp_GProps properties;
    GProp_GProps before;
    BRepGProp::VolumeProperties(out, properties);
    BRepGProp::VolumeProperties(body, before);
    // A layer that is deeper than the body is thick turns it inside out.
    if (!(properties.Mass() > 0.0) || (properties.Mass() > before.Mass()) != (grow > 0.0))
        throw std::runtime_error(failed);
    return out;
}

// Files as they were read, for all solids that come from one.
using ReadFiles = std::map<std::pair<std::filesystem::path, double>, std::vector<Named>>;

TopoDS_Shape make(const Solid& solid, double unit_si, ReadFiles& read) {
    TopoDS_Shape out;
    const auto axis = [&] {
        return gp_Ax2(to_pnt(solid.a), gp_Dir(solid.b.x() - solid.a.x(), solid.b.y() - solid.a.y(),
                                              solid.b.z() - solid.a.z()));
    };
    const double length = (solid.b - solid.a).norm();
    switch (solid.kind) {
    case Solid::Kind::Box:
        out = BRepPrimAPI_MakeBox(to_pnt(solid.a), to_pnt(solid.b)).Shape();
        break;
    case Solid::Kind::Cylinder:
        out = BRepPrimAPI_MakeCylinder(axis(), solid.radius_a, length).Shape();
        break;
    case Solid::Kind::Cone:
        out = std::abs(solid.radius_a - solid.radius_b) < 1e-12 * length
                  ? BRepPrimAPI_MakeCylinder(axis(), solid.radius_a, length).Shape()
                  : BRepPrimAPI_MakeCone(axis(), solid.radius_a, solid.radius_b, length).Shape();
        break;
    case Solid::Kind::Sphere:
        out = BRepPrimAPI_MakeSphere(to_pnt(solid.a), solid.radius_a).Shape();
        break;
    case Solid::Kind::Prism: {
        BRepBuilderAPI_MakePolygon polygon;
        for (const Vec3& p : solid.loop) polygon.Add(to_pnt(p));
        polygon.Close();
        const BRepBuilderAPI_MakeFace face(polygon.Wire(), true);
        if (!face.IsDone()) throw std::runtime_error("the polygon of a prism crosses itself");
        out = BRepPrimAPI_MakePrism(face.Face(), gp_Vec(to_pnt(solid.a), to_pnt(solid.b))).Shape();
        break;
    }
    case Solid::Kind::File: {
        auto at = read.find({solid.file, solid.heal});
        if (at == read.end()) {
            std::string unit;
            double si = 0.0;
            std::vector<Named> bodies = read_solids(solid.file, unit, si);
            std::vector<std::string> told; // when the file was read for its faces
            const double scale = file_unit_si / unit_si;
            heal_all(bodies, solid.heal / scale, scale, told);
            at = read.emplace(std::pair{solid.file, solid.heal}, std::move(bodies)).first;
        }
        const std::vector<Named>& all = at->second;
        gp_Trsf scaling;
        scaling.SetScale(gp_Pnt(0, 0, 0), file_unit_si / unit_si * solid.scale);
        out = BRepBuilderAPI_Transform(all.at(static_cast<std::size_t>(solid.body)).solid, scaling, true)
                  .Shape();
        break;
    }
    }
    if (solid.grow != 0.0) out = grown(out, solid.grow);
    if (!solid.axes.isIdentity(1e-14) || !solid.origin.isZero()) {
        gp_Trsf motion;
        const Mat3& m = solid.axes;
        const Vec3& o = solid.origin;
        motion.SetValues(m(0, 0), m(0, 1), m(0, 2), o.x(), m(1, 0), m(1, 1), m(1, 2), o.y(), m(2, 0), m(2, 1),
                         m(2, 2), o.z());
        out = BRepBuilderAPI_Transform(out, motion, true).Shape();
    }
    return out;
}

double least_radius(const TopoDS_Face& face);

Arrangement arrange(const std::vector<Solid>& solids, double unit_si, double deflection, double angle) try {
    be_quiet();
    TopTools_ListOfShape arguments;
    ReadFiles read;
    for (const Solid& solid : solids) arguments.Append(make(solid, unit_si, read));
    TopoDS_Shape all;
    if (arguments.Extent() == 1) {
        all = arguments.First();
    } else {
        BOPAlgo_Builder builder;
        builder.SetArguments(arguments);
        builder.SetNonDestructive(true);
        builder.SetRunParallel(false);
        builder.Perform();
        if (builder.HasErrors())
            throw std::runtime_error("the regions cannot be cut against each other; their faces touch in a "
                                     "way that leaves open what is inside");
        all = builder.Shape();
    }
    BRepMesh_IncrementalMesh(all, deflection, false, angle, true);
    Arrangement out;
    PointPool pool(out.points, 1e-8 * size_of(all));
    TopTools_IndexedMapOfShape faces;
    TopTools_IndexedMapOfShape solids_found;
    TopExp::MapShapes(all, TopAbs_SOLID, solids_found);
    std::vector<std::array<std::int32_t, 2>>
        sides; // for each face: the cell behind it as it is drawn FORWARD, and before it
    for (int s = 1; s <= solids_found.Extent(); ++s)
        for (TopExp_Explorer walk(solids_found(s), TopAbs_FACE); walk.More(); walk.Next()) {
            const int known = faces.FindIndex(walk.Current().Oriented(TopAbs_FORWARD));
            const int at = known > 0 ? known : faces.Add(walk.Current().Oriented(TopAbs_FORWARD));
            if (known == 0) sides.push_back({-1, -1});
            // The normal of a face points out of its solid.
            sides[static_cast<std::size_t>(at) - 1][walk.Current().Orientation() == TopAbs_REVERSED ? 1 : 0] =
                s - 1;
        }
    out.cells = solids_found.Extent();
    out.faces = faces.Extent();
    for (int f = 1; f <= faces.Extent(); ++f) {
        const std::size_t before = out.triangles.size();
        out.radius.push_back(least_radius(TopoDS::Face(faces(f))));
        add_face(TopoDS::Face(faces(f)), false, 1.0, pool, out.triangles);
        out.face_of.insert(out.face_of.end(), out.triangles.size() - before, f - 1);
        out.cells_of.insert(out.cells_of.end(), out.triangles.size() - before,
                            sides[static_cast<std::size_t>(f) - 1]);
    }
    return out;
} catch (const Standard_Failure& bad) {
    throw std::runtime_error(std::string("the regions cannot be cut against each other: ") +
                             bad.GetMessageString());
}

// The least radius of curvature of a face; 0 for a plane.
double least_radius(const TopoDS_Face& face) {
    const BRepAdaptor_Surface surface(face);
    switch (surface.GetType()) {
    case GeomAbs_Plane:
        return 0.0;
    case GeomAbs_Cylinder:
        return surface.Cylinder().Radius();
    case GeomAbs_Sphere:
        return surface.Sphere().Radius();
    case GeomAbs_Torus:
        return surface.Torus().MinorRadius();
    default:
        break;
    }
    double out = 1e300;
    constexpr int steps = 8;
    for (int i = 0; i <= steps; ++i)
        for (int j = 0; j <= steps; ++j) {
            const double u = surface.FirstUParameter() +
                             (surface.LastUParameter() - surface.FirstUParameter()) * i / steps;
            const double v = surface.FirstVParameter() +
                             (surface.LastVParameter() - surface.FirstVParameter()) * j / steps;
            BRepLProp_SLProps properties(surface, u, v, 2, 1e-9);
            if (!properties.IsCurvatureDefined()) continue;
            const double k =
                std::max(std::abs(properties.MaxCurvature()), std::abs(properties.MinCurvature()));
            if (k > 1e-12) out = std::min(out, 1.0 / k);
        }
    return out < 1e299 ? out : 0.0;
}

const Module module_table{read_step, write_solid, arrange};

} // namespace

} // namespace upright::cad

extern "C" const upright::cad::Module* upright_cad_module() {
    return &upright::cad::module_table;
}

UPRIGHT_MODULE_BUILD
