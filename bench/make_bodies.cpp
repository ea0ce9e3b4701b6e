// Makes the STEP files of the examples and tests: our own bodies, in millimetres unless said.
//   make-bodies FOLDER writes yoke.step, bracket.step, two-bodies.step, inch-plate.step, hundred-faces.step
#include <BRepAdaptor_Curve.hxx>
#include <BRepAlgoAPI_Common.hxx>
#include <BRepAlgoAPI_Cut.hxx>
#include <BRepAlgoAPI_Fuse.hxx>
#include <BRepBuilderAPI_MakeFace.hxx>
#include <BRepBuilderAPI_MakePolygon.hxx>
#include <BRepFilletAPI_MakeFillet.hxx>
#include <BRepPrimAPI_MakeBox.hxx>
#include <BRepPrimAPI_MakeCylinder.hxx>
#include <BRepPrimAPI_MakePrism.hxx>
#include <Interface_Static.hxx>
#include <STEPCAFControl_Writer.hxx>
#include <ShapeUpgrade_UnifySameDomain.hxx>
#include <TDataStd_Name.hxx>
#include <TDocStd_Document.hxx>
#include <TopExp_Explorer.hxx>
#include <TopoDS.hxx>
#include <XCAFApp_Application.hxx>
#include <XCAFDoc_DocumentTool.hxx>
#include <XCAFDoc_ShapeTool.hxx>
#include <gp_Ax2.hxx>

#include <functional>
#include <string>
#include <utility>
#include <vector>

namespace {

TopoDS_Shape box(double x0, double y0, double z0, double x1, double y1, double z1) {
    return BRepPrimAPI_MakeBox(gp_Pnt(x0, y0, z0), gp_Pnt(x1, y1, z1)).Shape();
}
TopoDS_Shape rod(const gp_Pnt& from, const gp_Dir& way, double radius, double length) {
    return BRepPrimAPI_MakeCylinder(gp_Ax2(from, way), radius, length).Shape();
}
TopoDS_Shape fuse(const TopoDS_Shape& a, const TopoDS_Shape& b) {
    ShapeUpgrade_UnifySameDomain one(BRepAlgoAPI_Fuse(a, b).Shape());
    one.Build();
    return one.Shape();
}
TopoDS_Shape cut(const TopoDS_Shape& a, const TopoDS_Shape& b) {
    return BRepAlgoAPI_Cut(a, b).Shape();
}

// Rounds the edges whose middle the choice takes.
TopoDS_Shape round(const TopoDS_Shape& shape, double radius,
                   const std::function<bool(const gp_Pnt&)>& choice) {
    BRepFilletAPI_MakeFillet fillet(shape);
    for (TopExp_Explorer edges(shape, TopAbs_EDGE); edges.More(); edges.Next()) {
        const BRepAdaptor_Curve curve(TopoDS::Edge(edges.Current()));
        if (choice(curve.Value(0.5 * (curve.FirstParameter() + curve.LastParameter()))))
            fillet.Add(radius, TopoDS::Edge(edges.Current()));
    }
    return fillet.Shape();
}

void write(const std::string& file, const std::vector<std::pair<std::string, TopoDS_Shape>>& bodies,
           const char* unit = "MM") {
    Handle(TDocStd_Document) document;
    XCAFApp_Application::GetApplication()->NewDocument("MDTV-XCAF", document);
    const Handle(XCAFDoc_ShapeTool) tool = XCAFDoc_DocumentTool::ShapeTool(document->Main());
    for (const auto& [name, shape] : bodies) TDataStd_Name::Set(tool->AddShape(shape, false), name.c_str());
    STEPCAFControl_Writer writer;
    Interface_Static::SetCVal("write.step.unit", unit);
    Interface_Static::SetCVal("write.step.schema", "AP214IS");
    writer.SetNameMode(true);
    writer.Transfer(document);
    writer.Write(file.c_str());
}

// A yoke that carries a bell: a beam between two bearings with a seat for the bell's crown in its middle.
TopoDS_Shape yoke() {
    BRepBuilderAPI_MakePolygon outline;
    for (const auto& [x, z] : std::vector<std::pair<double, double>>{{-300, -50},
                                                                     {-110, -50},
                                                                     {-70, -90},
                                                                     {70, -90},
                                                                     {110, -50},
                                                                     {300, -50},
                                                                     {300, 50},
                                                                     {140, 120},
                                                                     {-140, 120},
                                                                     {-300, 50}})
        outline.Add(gp_Pnt(x, -60, z));
    outline.Close();
    TopoDS_Shape body =
        BRepPrimAPI_MakePrism(BRepBuilderAPI_MakeFace(outline.Wire()).Face(), gp_Vec(0, 120, 0)).Shape();
    // Bearings along x, at either end.
    body = cut(body, rod(gp_Pnt(-301, 0, 0), gp_Dir(1, 0, 0), 25, 81));
    body = cut(body, rod(gp_Pnt(301, 0, 0), gp_Dir(-1, 0, 0), 25, 81));
    // Four blind bolt holes for the crown of the bell, from below.
    for (const double x : {-38.0, 38.0})
        for (const double y : {-30.0, 30.0})
            body = cut(body, rod(gp_Pnt(x, y, -91), gp_Dir(0, 0, 1), 12, 61));
    return body;
}

TopoDS_Shape bracket() {
    TopoDS_Shape body = fuse(box(0, 0, 0, 50, 30, 5), box(0, 0, 0, 5, 30, 35));
    body = fuse(body, box(20, 13.5, 4, 45, 16.5, 15));
    body = round(body, 6,
                 [](const gp_Pnt& p) { return std::abs(p.X() - 5) < 0.1 && std::abs(p.Z() - 5) < 0.1; });
    for (const auto& [x, y] : {std::pair{40.0, 6.0}, std::pair{40.0, 24.0}})
        body = cut(body, rod(gp_Pnt(x, y, -1), gp_Dir(0, 0, 1), 1, 7));
    return cut(body, rod(gp_Pnt(-1, 8, 25), gp_Dir(1, 0, 0), 1, 7));
}

// A plate with 47 holes and six sides: about a hundred faces.
TopoDS_Shape hundred() {
    TopoDS_Shape body = box(0, 0, 0, 120, 80, 10);
    for (int i = 0; i < 8; ++i)
        for (int j = 0; j < 6; ++j) {
            if (i == 7 && j == 5) continue;
            body =
                cut(body, rod(gp_Pnt(8 + 15 * i, 8 + 13 * j, j % 2 == 0 ? -1 : 5), gp_Dir(0, 0, 1), 3, 12));
        }
    return body;
}

} // namespace

int main(int argc, char** argv) {
    const std::string folder = argc > 1 ? argv[1] : ".";
    write(folder + "/yoke.step", {{"yoke", yoke()}});
    write(folder + "/bracket.step", {{"bracket", bracket()}});
    write(folder + "/two-bodies.step",
          {{"plate", box(0, 0, 0, 40, 30, 5)}, {"post", rod(gp_Pnt(20, 15, 5), gp_Dir(0, 0, 1), 6, 20)}});
    write(folder + "/hundred-faces.step", {{"plate", hundred()}});
    // Last: the writer keeps the unit. Four inches by two by a half.
    write(folder + "/inch-plate.step", {{"plate", box(0, 0, 0, 4, 2, 0.5)}}, "INCH");
    return 0;
}
