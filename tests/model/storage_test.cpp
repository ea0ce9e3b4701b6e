// Every card and key of a model through model.h5 and back.
#include "base/h5_file.hpp"
#include "fem/static_analysis.hpp"
#include "model/storage.hpp"
#include "support/studies.hpp"

namespace upright {

namespace {

using test::study_from;

void same(const Vec3& a, const Vec3& b) {
    EXPECT_EQ((a - b).norm(), 0.0);
}
void same(const std::vector<Term>& a, const std::vector<Term>& b) {
    ASSERT_EQ(a.size(), b.size());
    for (std::size_t i = 0; i < a.size(); ++i) {
        EXPECT_EQ(a[i].freedom, b[i].freedom);
        EXPECT_EQ(a[i].factor, b[i].factor);
    }
}
void same(const std::vector<Equation>& a, const std::vector<Equation>& b) {
    ASSERT_EQ(a.size(), b.size());
    for (std::size_t i = 0; i < a.size(); ++i) {
        same(a[i].terms, b[i].terms);
        EXPECT_EQ(a[i].value, b[i].value);
    }
}
template <class T, class Each>
void same_list(const std::vector<T>& a, const std::vector<T>& b, const Each& each) {
    ASSERT_EQ(a.size(), b.size());
    for (std::size_t i = 0; i < a.size(); ++i) each(a[i], b[i]);
}

void same_mesh(const Mesh& a, const Mesh& b) {
    EXPECT_EQ(a.nodes, b.nodes);
    EXPECT_EQ(a.kinds, b.kinds);
    EXPECT_EQ(a.starts, b.starts);
    EXPECT_EQ(a.connectivity, b.connectivity);
    EXPECT_EQ(a.region, b.region);
    EXPECT_EQ(a.thickness, b.thickness);
    EXPECT_EQ(a.size, b.size);
    EXPECT_EQ(a.cell_of, b.cell_of);
    EXPECT_EQ(a.element_of, b.element_of);
    EXPECT_EQ(a.element_volumes(), b.element_volumes());
    for (std::size_t e = 0; e <= a.elements(); ++e) EXPECT_EQ(a.start(e), b.start(e));
    EXPECT_EQ(a.node_volumes, b.node_volumes);
    EXPECT_EQ(a.grid.count, b.grid.count);
    EXPECT_EQ(a.grid.plane, b.grid.plane);
    EXPECT_EQ(a.grid.symmetric, b.grid.symmetric);
    same(a.grid.origin, b.grid.origin);
    same(a.grid.cell, b.grid.cell);
    EXPECT_EQ(a.polar.count, b.polar.count);
    EXPECT_EQ(a.polar.cell_of, b.polar.cell_of);
    same(a.polar.origin, b.polar.origin);
    same(a.polar.axis, b.polar.axis);
    same_list(a.symmetry, b.symmetry, [](const SymmetryCut& x, const SymmetryCut& y) {
        EXPECT_EQ(x.axis, y.axis);
        EXPECT_EQ(x.at, y.at);
        EXPECT_EQ(x.high, y.high);
    });
}

void same_material(const Material& a, const Material& b) {
    EXPECT_EQ(a.name, b.name);
    EXPECT_EQ(a.E, b.E);
    EXPECT_EQ(a.nu, b.nu);
    EXPECT_EQ(a.density, b.density);
    EXPECT_EQ(a.yield, b.yield);
    EXPECT_EQ(a.ultimate, b.ultimate);
    EXPECT_EQ(a.expansion, b.expansion);
    EXPECT_EQ(a.source, b.source);
    ASSERT_EQ(a.orthotropic.has_value(), b.orthotropic.has_value());
    if (!a.orthotropic) return;
    const Orthotropic& x = *a.orthotropic;
    const Orthotropic& y = *b.orthotropic;
    same(x.E, y.E);
    same(x.nu, y.nu);
    same(x.G, y.G);
    ASSERT_EQ(x.expansion.has_value(), y.expansion.has_value());
    if (x.expansion) same(*x.expansion, *y.expansion);
    EXPECT_EQ(x.frame.name, y.frame.name);
    EXPECT_EQ(x.frame.cylindrical, y.frame.cylindrical);
    same(x.frame.origin, y.frame.origin);
    EXPECT_EQ(x.frame.axes, y.frame.axes);
}

void same_places(const Model& a, const Model& b) {
    same_list(a.surfaces, b.surfaces, [](const ModelSurface& x, const ModelSurface& y) {
        EXPECT_EQ(x.name, y.name);
        EXPECT_EQ(x.nodes, y.nodes);
        EXPECT_EQ(x.area, y.area);
        same(x.centroid, y.centroid);
        same(x.normal, y.normal);
        same_list(x.faces, y.faces, [](const MeshFace& f, const MeshFace& g) {
            EXPECT_EQ(f.element, g.element);
            EXPECT_EQ(f.side, g.side);
        });
    });
    same_list(a.points, b.points, [](const ModelPoint& x, const ModelPoint& y) {
        EXPECT_EQ(x.name, y.name);
        EXPECT_EQ(x.node, y.node);
        EXPECT_EQ(x.off, y.off);
        same(x.at, y.at);
    });
    same_list(a.couplings.all(), b.couplings.all(), [](const ModelCoupling& x, const ModelCoupling& y) {
        EXPECT_EQ(x.name, y.name);
        EXPECT_EQ(x.rigid, y.rigid);
        EXPECT_EQ(x.surfaces, y.surfaces);
        EXPECT_EQ(x.nodes, y.nodes);
        same(x.at, y.at);
        same(x.equations, y.equations);
    });
    same_list(a.joints, b.joints, [](const ModelJoint& x, const ModelJoint& y) {
        EXPECT_EQ(x.name, y.name);
        EXPECT_EQ(x.ends, y.ends);
        EXPECT_EQ(x.stiffness, y.stiffness);
        EXPECT_EQ(x.freedoms, y.freedoms);
        EXPECT_EQ(x.matrix, y.matrix);
        same(x.axis, y.axis);
    });
    same_list(a.masses, b.masses, [](const ModelMass& x, const ModelMass& y) {
        EXPECT_EQ(x.name, y.name);
        EXPECT_EQ(x.on, y.on);
        EXPECT_EQ(x.value, y.value);
        same(x.inertia, y.inertia);
        same(x.diagonal, y.diagonal);
        same_list(x.shares, y.shares, [](const ModelMass::Share& s, const ModelMass::Share& t) {
            EXPECT_EQ(s.freedom, t.freedom);
            EXPECT_EQ(s.mass, t.mass);
            same(s.at, t.at);
        });
    });
    same_list(a.bonds, b.bonds, [](const ModelBond& x, const ModelBond& y) {
        EXPECT_EQ(x.name, y.name);
        EXPECT_EQ(x.between, y.between);
        EXPECT_EQ(x.tied, y.tied);
        EXPECT_EQ(x.loose, y.loose);
        EXPECT_EQ(x.widest, y.widest);
        same(x.equations, y.equations);
    });
}

void same_actions(const Model& a, const Model& b) {
    same(a.symmetry, b.symmetry);
    same_list(a.supports.all(), b.supports.all(), [](const ModelSupport& x, const ModelSupport& y) {
        EXPECT_EQ(x.name, y.name);
        EXPECT_EQ(x.on, y.on);
        EXPECT_EQ(x.hold, y.hold);
        EXPECT_EQ(x.frame, y.frame);
        EXPECT_EQ(x.cylindrical, y.cylindrical);
        EXPECT_EQ(x.move, y.move);
        EXPECT_EQ(x.nodes, y.nodes);
        EXPECT_EQ(x.held, y.held);
        EXPECT_EQ(x.words, y.words);
        same(x.equations, y.equations);
    });
    same_list(a.loads.all(), b.loads.all(), [](const ModelLoad& x, const ModelLoad& y) {
        EXPECT_EQ(x.name, y.name);
        EXPECT_EQ(x.on, y.on);
        EXPECT_EQ(x.kind, y.kind);
        EXPECT_EQ(x.heat, y.heat);
        EXPECT_EQ(x.pressure, y.pressure);
        same(x.forces, y.forces);
        ASSERT_EQ(x.gravity.has_value(), y.gravity.has_value());
        if (x.gravity) same(*x.gravity, *y.gravity);
        ASSERT_EQ(x.spin.has_value(), y.spin.has_value());
        if (!x.spin) return;
        same(x.spin->origin, y.spin->origin);
        same(x.spin->axis, y.spin->axis);
        EXPECT_EQ(x.spin->speed, y.spin->speed);
        EXPECT_EQ(x.spin->speed_up, y.spin->speed_up);
    });
    same_list(a.cases.all(), b.cases.all(), [](const ModelCase& x, const ModelCase& y) {
        EXPECT_EQ(x.name, y.name);
        EXPECT_EQ(x.supports, y.supports);
        EXPECT_EQ(x.loads, y.loads);
        EXPECT_EQ(x.weight, y.weight);
    });
    same_list(a.modal_cases.all(), b.modal_cases.all(), [](const ModelModalCase& x, const ModelModalCase& y) {
        EXPECT_EQ(x.name, y.name);
        EXPECT_EQ(x.supports, y.supports);
        EXPECT_EQ(x.modes, y.modes);
        EXPECT_EQ(x.up_to, y.up_to);
        EXPECT_EQ(x.lumped, y.lumped);
    });
}

void same_model(const Model& a, const Model& b) {
    EXPECT_EQ(a.units.length, b.units.length);
    EXPECT_EQ(a.units.force, b.units.force);
    EXPECT_EQ(a.units.time, b.units.time);
    EXPECT_EQ(a.units.length_si, b.units.length_si);
    EXPECT_EQ(a.units.force_si, b.units.force_si);
    EXPECT_EQ(a.units.time_si, b.units.time_si);
    EXPECT_EQ(a.family, b.family);
    EXPECT_EQ(a.formulation, b.formulation);
    EXPECT_EQ(a.remarks, b.remarks);
    same_mesh(a.mesh, b.mesh);
    same_list(a.materials.all(), b.materials.all(), same_material);
    same_list(a.regions, b.regions, [](const ModelRegion& x, const ModelRegion& y) {
        EXPECT_EQ(x.name, y.name);
        EXPECT_EQ(x.role, y.role);
        EXPECT_EQ(x.material, y.material);
        EXPECT_EQ(x.elements, y.elements);
        EXPECT_EQ(x.volume, y.volume);
        EXPECT_EQ(x.mass, y.mass);
        EXPECT_EQ(x.cells.painted, y.cells.painted);
        EXPECT_EQ(x.cells.lost, y.cells.lost);
        EXPECT_EQ(x.cells.taken, y.cells.taken);
        EXPECT_EQ(x.cells.taken_volume, y.cells.taken_volume);
    });
    same_places(a, b);
    same_actions(a, b);
    ASSERT_EQ(a.shapes.extents().skins.size(), b.shapes.extents().skins.size());
    for (std::size_t r = 0; r < a.shapes.extents().skins.size(); ++r) {
        ASSERT_EQ(a.shapes.extents().skins[r] != nullptr, b.shapes.extents().skins[r] != nullptr);
        if (a.shapes.extents().skins[r])
            EXPECT_EQ(a.shapes.extents().skins[r]->corners(), b.shapes.extents().skins[r]->corners());
        same_list(a.shapes.extents().rings[r], b.shapes.extents().rings[r], [](const Ring& x, const Ring& y) {
            same(x.from, y.from);
            same(x.to, y.to);
            EXPECT_EQ(x.inner, y.inner);
            EXPECT_EQ(x.outer, y.outer);
        });
    }
}

Model comes_back(const Study& study) {
    const test::TemporaryFolder folder;
    const auto file = folder.path() / "model.h5";
    const Model model = build_model(study);
    save_model(file, model, "text");
    const StoredModel back = load_model(file);
    EXPECT_EQ(back.study, "text");
    same_model(model, back.model);
    return back.model;
}

// Two blocks with everything that a solid study may hold.
const char* everything = R"(
units = ["cm", "kN", "ms"]
[[frame]]
name = "grain"
kind = "cartesian"
origin = [1, 2, 3]
axis = [1, 1, 0]
start = [0, 0, 1]
[[frame]]
name = "axle"
kind = "cylindrical"
origin = [2, 2, 0]
axis = [0, 0, 1]
start = [0, 1, 0]
[[material]]
name = "timber"
E = [1800, 1700, 1200]
nu = [0.3, 0.25, 0.2]
G = [600, 610, 620]
frame = "grain"
density = "0.6 g/cm3"
yield = "30 MPa"
ultimate = "40 MPa"
expansion = [4e-6, 5e-6, 6e-6]
[[material]]
name = "wound"
E = [1800, 1700, 1200]
nu = [0.3, 0.25, 0.2]
G = [600, 610, 620]
frame = "axle"
density = "0.6 g/cm3"
expansion = "4e-6 1/K"
[[material]]
name = "iron"
like = "ductile iron"
expansion = "11e-6 1/K"
[[region]]
name = "block"
role = "design"
material = "timber"
box = [[0, 0, 0], [8, 4, 4]]
[[region]]
name = "other"
role = "design"
material = "iron"
box = [[9, 0, 0], [12, 4, 4]]
[[region]]
name = "hole"
role = "void"
cylinder = { from = [2, 2, 0], to = [2, 2, 4], radius = 0.9 }
[[region]]
name = "wall"
role = "keep"
material = "wound"
skin_of = "hole"
depth = 1
[[region]]
name = "rim"
role = "keep"
material = "iron"
ring = { around = "hole", width = 0.9, depth = 1 }
[[region]]
name = "pad"
role = "keep"
material = "iron"
skin_of = "tip"
depth = 1
[[surface]]
name = "root"
of = "block"
facing = [-1, 0, 0]
[[surface]]
name = "tip"
of = "other"
facing = [1, 0, 0]
[[surface]]
name = "right"
of = "block"
facing = [1, 0, 0]
[[surface]]
name = "left"
of = "other"
facing = [-1, 0, 0]
[[surface]]
name = "top"
of = "block"
facing = [0, 0, 1]
[[point]]
name = "hook"
at = [14, 2, 7]
[[point]]
name = "corner"
at = [8, 0, 4]
[[coupling]]
name = "arm"
surface = "tip"
at = "hook"
[[coupling]]
name = "soft"
surface = "top"
kind = "average"
[[joint]]
name = "bolt"
between = ["arm", "ground"]
axis = [0, 1, 1]
stiffness = { axial = 10, shear = 5, torsion = 3, bending = 2 }
[[joint]]
name = "link"
between = ["arm", "soft"]
stiffness = { axial = 1 }
[[mass]]
name = "motor"
on = "arm"
value = "3 kg"
inertia = [1, 2, 3]
[[mass]]
name = "plate"
on = "top"
value = "1 kg"
[[bond]]
name = "glue"
between = ["right", "left"]
gap = 1.5
[[support]]
name = "clamp"
on = "root"
hold = ["x", "y", "z"]
[[support]]
name = "turned"
on = "top"
frame = "axle"
hold = ["r", "z"]
move = { z = 0.01 }
[[load]]
name = "push"
on = "tip"
force = [1, 2, 3]
[[load]]
name = "each"
on = "tip"
force = [1, 0, 0]
spread = "each-face"
[[load]]
name = "twist"
on = "arm"
moment = [3, 2, 1]
[[load]]
name = "press"
on = "top"
pressure = 0.1
[[load]]
name = "rope"
on = "corner"
toward = { from = "corner", to = [9, 9, 9], size = 4 }
[[load]]
name = "weight"
gravity = [0, 0, "-9.81 m/s2"]
[[load]]
name = "spinning"
spin = { frame = "axle", speed = "1500 rpm", speed_up = "50 rad/s2" }
[[load]]
name = "warm"
heat = 40
[[case]]
name = "all"
supports = ["clamp", "turned"]
loads = { push = [1, -0.5], each = 1, twist = 1, press = 1, rope = 1, weight = 1, spinning = 1, warm = 1 }
weight = 0.7
[[case]]
name = "hum"
kind = "modal"
supports = "clamp"
up_to = "900 Hz"
mass = "lumped"
[[case]]
name = "float"
kind = "modal"
supports = []
modes = 3
)";

const char* flat = R"(
units = ["mm", "N", "s"]
[[material]]
name = "m"
E = 1000
nu = 0.3
density = 1e-9
[[frame]]
name = "axle"
kind = "cylindrical"
origin = [0, 0]
[[region]]
name = "thin"
role = "design"
material = "m"
disk = { center = [0, 0], radius = 20, inner = 8 }
[[region]]
name = "thick"
role = "keep"
material = "m"
disk = { center = [0, 0], radius = 12, inner = 8 }
thickness = 3
[[surface]]
name = "bore"
of = "thick"
inside = { disk = { center = [0, 0], radius = 10 } }
[[surface]]
name = "rim"
of = "thin"
facing = [1, 0]
[[support]]
name = "hub"
on = "bore"
frame = "axle"
hold = ["r", "t"]
[[load]]
name = "l"
on = "rim"
force = [1, 2]
[[case]]
name = "c"
supports = "hub"
loads = { l = 1 }
)";

} // namespace

TEST(Storage, EveryCardComesBack) {
    const Model back = comes_back(study_from(std::string(everything) + "[mesh]\nsize = 1\n"));
    ASSERT_TRUE(back.materials.at(0).orthotropic);
    EXPECT_EQ(back.materials.at(0).orthotropic->frame.name, "grain");
    EXPECT_EQ(back.bonds.size(), 1U);
    EXPECT_GT(back.loads.at(6).spin->speed_up, 0.0);
}

TEST(Storage, EveryKindOfMeshComesBack) {
    for (const char* mesh :
         {"[mesh]\nsize = 1\norder = 2\nformulation = \"plain\"\n",
          "[mesh]\nsize = 1\n[symmetry]\nplanes = [\"y = 2\"]\n", "[mesh]\nkind = \"fitted\"\nsize = 1.2\n",
          "[mesh]\nkind = \"fitted\"\nsize = 1.5\norder = 2\n"}) {
        SCOPED_TRACE(mesh);
        comes_back(study_from(std::string(everything) + mesh));
    }
    for (const char* mesh :
         {"[mesh]\nsize = 2\nelement = \"plane-stress\"\nthickness = 2\n",
          "[mesh]\nkind = \"polar\"\nframe = \"axle\"\nsize = 2\nelement = \"plane-strain\"\nthickness = 2\n",
          "[mesh]\nkind = \"fitted\"\nsize = 3\nelement = \"plane-stress\"\norder = 2\nthickness = 2\n"}) {
        SCOPED_TRACE(mesh);
        comes_back(study_from(std::string(flat) + mesh));
    }
}

TEST(Storage, AForeignLayoutIsRefusedWithWhatToDo) {
    const test::TemporaryFolder folder;
    const auto file = folder.path() / "model.h5";
    H5File::write(file, [](const H5File& h5) {
        h5.put("layout_version", std::vector<std::int64_t>{99});
        h5.put("mesh/nodes", std::vector<double>{0, 0, 0}, 3);
    });
    try {
        load_model(file);
        FAIL() << "it was read";
    } catch (const Error& bad) {
        EXPECT_NE(std::string(bad.what()).find("has the layout 99"), std::string::npos) << bad.what();
        EXPECT_NE(std::string(bad.what()).find("again from its study"), std::string::npos) << bad.what();
    }
}

} // namespace upright
