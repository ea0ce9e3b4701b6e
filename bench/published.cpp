#include "published.hpp"

#include "base/angles.hpp"
#include "kinds/kinds.hpp"
#include "store/vtu.hpp"

#include <Eigen/Geometry>
#include <cmath>
#include <filesystem>
#include <fmt/format.h>
#include <fstream>
#include <unistd.h>

namespace upright::published {

namespace {

constexpr double small = 1e-9;

bool solid(ElementKind kind) {
    return traits(kind).dimension == 3;
}

std::string hold(const std::string& name, const std::string& on, const std::string& what) {
    return fmt::format("[[support]]\nname = \"{}\"\non = \"{}\"\nhold = [{}]\n", name, on, what);
}

std::string material(double E, double nu, double density) {
    return fmt::format("[[material]]\nname = \"m\"\nE = {:.12g}\nnu = {:.12g}\ndensity = {:.12g}\n", E, nu,
                       density);
}

ProbeReading probe(const Solved& s, std::size_t c, const Vec3& at) {
    return read_probe(s.model, s.report, s.report.statics.at(c), at);
}

const char* element_word(ElementKind kind, const char* plane) {
    return solid(kind) ? "solid" : plane;
}

// The mean displacement of a set of nodes.
Vec3 mean_of(const Solved& s, std::size_t c, const std::string& surface) {
    Vec3 out = Vec3::Zero();
    for (const ModelSurface& m : s.model.surfaces) {
        if (m.name != surface) continue;
        for (const NodeId n : m.nodes)
            out += displacement_at(s.model, s.report.statics.at(c).displacement, n);
        out /= static_cast<double>(m.nodes.size());
    }
    return out;
}

} // namespace

Mesh unit_mesh(ElementKind kind, const std::array<int, 3>& n) {
    Mesh mesh;
    const bool space = solid(kind);
    const int nz = space ? n[2] : 0;
    const auto node = [&](int i, int j, int k) {
        return static_cast<NodeId>((k * (n[1] + 1) + j) * (n[0] + 1) + i);
    };
    for (int k = 0; k <= nz; ++k)
        for (int j = 0; j <= n[1]; ++j)
            for (int i = 0; i <= n[0]; ++i)
                mesh.nodes.emplace_back(static_cast<double>(i) / n[0], static_cast<double>(j) / n[1],
                                        space ? static_cast<double>(k) / nz : 0.0);
    const ElementKind base = first_order(kind);
    const auto add = [&](const std::vector<NodeId>& nodes) {
        mesh.add(base, nodes, static_cast<RegionId>(0));
    };
    for (int k = 0; k < std::max(nz, 1); ++k)
        for (int j = 0; j < n[1]; ++j)
            for (int i = 0; i < n[0]; ++i) {
                const std::array<NodeId, 4> low{node(i, j, k), node(i + 1, j, k), node(i + 1, j + 1, k),
                                                node(i, j + 1, k)};
                if (!space) {
                    if (traits(base).corners == 4) {
                        add({low.begin(), low.end()});
                    } else {
                        add({low[0], low[1], low[2]});
                        add({low[0], low[2], low[3]});
                    }
                    continue;
                }
                const std::array<NodeId, 4> high{node(i, j, k + 1), node(i + 1, j, k + 1),
                                                 node(i + 1, j + 1, k + 1), node(i, j + 1, k + 1)};
                if (base == ElementKind::Hex8) {
                    add({low[0], low[1], low[2], low[3], high[0], high[1], high[2], high[3]});
                } else if (base == ElementKind::Wedge6) {
                    add({low[0], low[1], low[2], high[0], high[1], high[2]});
                    add({low[0], low[2], low[3], high[0], high[2], high[3]});
                } else {
                    // Six tetrahedra around the diagonal from low[0] to high[2].
                    const std::array<NodeId, 6> ring{low[1], low[2], low[3], high[3], high[0], high[1]};
                    for (std::size_t s = 0; s < 6; ++s) add({low[0], ring[s], ring[(s + 1) % 6], high[2]});
                }
            }
    if (!space) mesh.thickness.assign(mesh.elements(), 1.0);
    if (base != kind) raise_order(mesh);
    return mesh;
}

Solved solve(const Mapped& mapped, const std::string& cards) {
    Mesh mesh = unit_mesh(mapped.kind, mapped.n);
    std::vector<VtuField> sets;
    std::string text = "units = [\"m\", \"N\", \"s\"]\n" + cards +
                       "[[region]]\nname = \"body\"\nrole = \"keep\"\nmaterial = \"m\"\ncells = { array = "
                       "\"body\" }\n";
    for (const auto& [name, inside] : mapped.sets) {
        VtuField field{name, 1, {}};
        for (const Vec3& p : mesh.nodes) field.values.push_back(inside(p) ? 1.0 : 0.0);
        sets.push_back(field);
        text += fmt::format("[[surface]]\nname = \"{0}\"\nset = \"{0}\"\n", name);
    }
    for (Vec3& p : mesh.nodes) p = mapped.map(p);
    text += "[mesh]\nkind = \"file\"\nfile = \"mesh.vtu\"\n" + mapped.mesh + "\n";
    static int count = 0;
    const auto folder =
        std::filesystem::temp_directory_path() / fmt::format("upright-published-{}-{}", ::getpid(), ++count);
    std::filesystem::create_directories(folder);
    mesh.finish();
    write_vtu(folder / "mesh.vtu", mesh, sets, {{"body", 1, std::vector<double>(mesh.elements(), 1.0)}});
    std::ofstream(folder / "study.toml") << text;
    Solved out;
    try {
        out.study = load_study(folder / "study.toml");
        out.model = build_model(out.study);
    } catch (...) {
        std::filesystem::remove_all(folder);
        throw;
    }
    std::filesystem::remove_all(folder);
    out.report = analyze(out.model, {});
    return out;
}

namespace {

Vec3 elliptic(const Vec3& u) {
    const double angle = 0.5 * pi * (1.0 - u.x()); // counter-clockwise cells
    const Vec3 inner(2.0 * std::cos(angle), std::sin(angle), 0.0);
    const Vec3 outer(3.25 * std::cos(angle), 2.75 * std::sin(angle), 0.0);
    // Finer towards the inner edge, where the stress is.
    const double t = u.y() * (0.6 + 0.4 * u.y());
    return inner + t * (outer - inner);
}

} // namespace

std::vector<Reading> elliptic_membrane(ElementKind kind, int n) {
    Mapped m;
    m.kind = kind;
    m.n = {2 * n, n, 1};
    m.map = elliptic;
    m.sets = {{"outer", [](const Vec3& u) { return u.y() > 1 - small; }},
              {"bottom", [](const Vec3& u) { return u.x() > 1 - small; }},
              {"left", [](const Vec3& u) { return u.x() < small; }}};
    m.mesh = "element = \"plane-stress\"\nthickness = 0.1";
    const Solved s =
        solve(m, material(210e9, 0.3, 7800) + hold("b", "bottom", "\"y\"") + hold("l", "left", "\"x\"") +
                     "[[load]]\nname = \"p\"\non = \"outer\"\npressure = -10e6\n"
                     "[[case]]\nname = \"c\"\nsupports = [\"b\", \"l\"]\nloads = { p = 1 }\n");
    return {{"stress yy at (2, 0), MPa", 92.7, 1e-6 * probe(s, 0, Vec3(2, 0, 0)).stress[1]}};
}

std::vector<Reading> elliptic_plate(ElementKind kind, int n) {
    Mapped m;
    m.kind = kind;
    m.n = {2 * n, n, n};
    m.map = [](const Vec3& u) { return Vec3(elliptic(u) + Vec3(0, 0, 0.6 * u.z())); };
    m.sets = {{"outer", [](const Vec3& u) { return u.y() > 1 - small; }},
              {"bottom", [](const Vec3& u) { return u.x() > 1 - small; }},
              {"left", [](const Vec3& u) { return u.x() < small; }},
              {"upper", [](const Vec3& u) { return u.z() > 1 - small; }}};
    std::string cards = material(210e9, 0.3, 7800) + hold("b", "bottom", "\"y\"") +
                        hold("l", "left", "\"x\"") + hold("o", "outer", "\"x\", \"y\"") +
                        "[[load]]\nname = \"p\"\non = \"upper\"\npressure = 1e6\n";
    // The line in the middle of the outer face is held point by point.
    std::string names;
    const int points = traits(kind).nodes > traits(kind).corners ? 4 * n : 2 * n;
    for (int i = 0; i <= points; ++i) {
        const double angle = 0.5 * pi * i / points;
        cards += fmt::format("[[point]]\nname = \"mid{}\"\nat = [{:.15g}, {:.15g}, 0.3]\n", i,
                             3.25 * std::cos(angle), 2.75 * std::sin(angle));
        names += fmt::format("{}\"mid{}\"", i == 0 ? "" : ", ", i);
    }
    cards += "[[support]]\nname = \"z\"\non = [" + names + "]\nhold = [\"z\"]\n";
    cards += "[[case]]\nname = \"c\"\nsupports = [\"b\", \"l\", \"o\", \"z\"]\nloads = { p = 1 }\n";
    const Solved s = solve(m, cards);
    return {{"stress yy at (2, 0, 0.6), MPa", -5.38, 1e-6 * probe(s, 0, Vec3(2, 0, 0.6)).stress[1]}};
}

std::vector<Reading> tapered_membrane(ElementKind kind, int n) {
    Mapped m;
    m.kind = kind;
    m.n = {2 * n, n, 1};
    m.map = [](const Vec3& u) { return Vec3(10 * u.x(), (u.y() - 0.5) * (5 - 4 * u.x()), 0); };
    m.sets = {{"root", [](const Vec3& u) { return u.x() < small; }}};
    m.mesh = "element = \"plane-stress\"\nthickness = 0.05";
    const Solved s =
        solve(m, material(200e9, 0.3, 8000) + hold("r", "root", "\"x\", \"y\"") +
                     "[[case]]\nname = \"c\"\nkind = \"modal\"\nsupports = [\"r\"]\nmodes = 6\n");
    const std::array<double, 6> expected{44.623, 130.03, 162.70, 246.05, 379.90, 391.44};
    std::vector<Reading> out;
    for (std::size_t i = 0; i < 6; ++i)
        out.push_back(
            {fmt::format("mode {}, Hz", i + 1), expected[i], s.report.modals[0].modes.at(i).frequency});
    return out;
}

std::vector<Reading> free_plate(ElementKind kind, int n) {
    Mapped m;
    m.kind = kind;
    m.n = {n, n, 1};
    m.map = [](const Vec3& u) { return Vec3(10 * u.x(), 10 * u.y(), 0); };
    m.mesh = "element = \"shell\"\nthickness = 0.05";
    const Solved s = solve(m, material(200e9, 0.3, 8000) +
                                  "[[case]]\nname = \"c\"\nkind = \"modal\"\nsupports = []\nmodes = 6\n");
    const std::array<double, 6> expected{1.622, 2.360, 2.922, 4.233, 4.233, 7.416};
    std::vector<Reading> out;
    for (std::size_t i = 0; i < 6; ++i)
        out.push_back(
            {fmt::format("mode {}, Hz", i + 1), expected[i], s.report.modals[0].modes.at(i).frequency});
    out.push_back({"rigid-body modes", 6.0, static_cast<double>(s.report.modals[0].rigid.size())});
    return out;
}

namespace {

// A quarter of a ring; of solids a slab, held along its axis.
Mapped ring(ElementKind kind, int n, double a, double b, double grading = 0.0) {
    Mapped m;
    m.kind = kind;
    m.n = {2 * n, n, 1};
    m.map = [=](const Vec3& u) {
        const double t = u.y() * (1.0 - grading + grading * u.y());
        const double r = a + (b - a) * t;
        const double angle = 0.5 * pi * (1.0 - u.x()); // counter-clockwise cells
        return Vec3(r * std::cos(angle), r * std::sin(angle), 0.2 * u.z());
    };
    m.sets = {{"inner", [](const Vec3& u) { return u.y() < small; }},
              {"bottom", [](const Vec3& u) { return u.x() > 1 - small; }},
              {"left", [](const Vec3& u) { return u.x() < small; }}};
    if (solid(kind)) {
        m.sets.emplace_back("low", [](const Vec3& u) { return u.z() < small; });
        m.sets.emplace_back("high", [](const Vec3& u) { return u.z() > 1 - small; });
    }
    return m;
}

struct Cylinder {
    double E = 200e9, nu = 0.3, a = 1.0, b = 2.0, p = 1e6, depth = 0.2;
    double moved() const {
        return (1 + nu) / E * a * a * p / (b * b - a * a) * ((1 - 2 * nu) * a + b * b / a);
    }
    double energy() const { return 0.5 * p * moved() * 0.5 * pi * a * depth; }
};

Solved cylinder(ElementKind kind, int n) {
    const Cylinder c;
    Mapped m = ring(kind, n, c.a, c.b);
    m.mesh = fmt::format("element = \"{}\"\n", element_word(kind, "plane-strain"));
    if (!solid(kind)) m.mesh += "thickness = 0.2";
    std::string cards = material(c.E, c.nu, 7800) + hold("b", "bottom", "\"y\"") +
                        hold("l", "left", "\"x\"") +
                        "[[load]]\nname = \"p\"\non = \"inner\"\npressure = 1e6\n";
    if (solid(kind)) cards += hold("lo", "low", "\"z\"") + hold("hi", "high", "\"z\"");
    cards += fmt::format("[[case]]\nname = \"c\"\nsupports = [\"b\", \"l\"{}]\nloads = {{ p = 1 }}\n",
                         solid(kind) ? ", \"lo\", \"hi\"" : "");
    return solve(m, cards);
}

} // namespace

std::vector<Reading> thick_cylinder(ElementKind kind, int n) {
    const Cylinder c;
    const Solved s = cylinder(kind, n);
    const ProbeReading r = probe(s, 0, Vec3(c.a, 0, solid(kind) ? 0.1 : 0.0));
    const double hoop = c.p * (c.b * c.b + c.a * c.a) / (c.b * c.b - c.a * c.a);
    return {{"hoop stress at the bore, MPa", 1e-6 * hoop, 1e-6 * r.stress[1]},
            {"displacement of the bore, um", 1e6 * c.moved(), 1e6 * r.displacement.x()}};
}

double thick_cylinder_energy_error(ElementKind kind, int n) {
    const Solved s = cylinder(kind, n);
    return std::abs(0.5 * s.report.statics[0].compliance / Cylinder().energy() - 1.0);
}

double thick_cylinder_effectivity(ElementKind kind, int n) {
    const Solved s = cylinder(kind, n);
    const double exact = 2.0 * Cylinder().energy();
    const double true_error = std::sqrt(std::abs(exact - s.report.statics[0].compliance));
    return s.report.statics[0].error.error / true_error;
}

std::vector<Reading> spinning_disk(ElementKind kind, int n) {
    const double a = 0.1;
    const double b = 0.5;
    const double nu = 0.3;
    const double rho = 7800;
    const double omega = 300;
    Mapped m = ring(kind, n, a, b, 0.7); // finer towards the bore
    m.mesh = fmt::format("element = \"{}\"\n", element_word(kind, "plane-stress"));
    if (!solid(kind)) m.mesh += "thickness = 0.2";
    // A thin disk of solids: a slab free on one side.
    if (solid(kind)) {
        const auto flat = m.map;
        m.map = [flat](const Vec3& u) {
            Vec3 p = flat(u);
            p.z() *= 0.1;
            return p;
        };
    }
    std::string cards = material(200e9, nu, rho) + hold("b", "bottom", "\"y\"") + hold("l", "left", "\"x\"") +
                        "[[frame]]\nname = \"axle\"\nkind = \"cylindrical\"\norigin = " +
                        (solid(kind) ? "[0, 0, 0]\naxis = [0, 0, 1]\n" : "[0, 0]\n") +
                        "[[load]]\nname = \"s\"\nspin = { frame = \"axle\", speed = \"300 rad/s\" }\n";
    if (solid(kind)) cards += hold("lo", "low", "\"z\"");
    cards += fmt::format("[[case]]\nname = \"c\"\nsupports = [\"b\", \"l\"{}]\nloads = {{ s = 1 }}\n",
                         solid(kind) ? ", \"lo\"" : "");
    const Solved s = solve(m, cards);
    const double hoop = rho * omega * omega / 4 * ((3 + nu) * b * b + (1 - nu) * a * a);
    return {{"hoop stress at the bore, MPa", 1e-6 * hoop, 1e-6 * probe(s, 0, Vec3(a, 0, 0)).stress[1]}};
}

std::vector<Reading> hole_in_plate(ElementKind kind, int n) {
    const double wide = 20.0; // half the width, in radii of the hole
    Mapped m;
    m.kind = kind;
    m.n = {2 * n, 2 * n, 1};
    m.map = [wide](const Vec3& u) {
        const double angle = 0.5 * pi * (1.0 - u.x());
        const Vec3 circle(std::cos(angle), std::sin(angle), 0);
        const Vec3 square = circle * (wide / std::max(circle.x(), circle.y()));
        const double t = (std::exp(4.0 * u.y()) - 1) / (std::exp(4.0) - 1);
        return Vec3(circle + t * (square - circle));
    };
    m.sets = {{"bottom", [](const Vec3& u) { return u.x() > 1 - small; }},
              {"left", [](const Vec3& u) { return u.x() < small; }},
              {"right", [](const Vec3& u) { return u.y() > 1 - small && u.x() > 0.5 - small; }}};
    m.mesh = "element = \"plane-stress\"\nthickness = 1";
    const Solved s =
        solve(m, material(200e9, 0.3, 7800) + hold("b", "bottom", "\"y\"") + hold("l", "left", "\"x\"") +
                     "[[load]]\nname = \"p\"\non = \"right\"\npressure = -1e6\n"
                     "[[case]]\nname = \"c\"\nsupports = [\"b\", \"l\"]\nloads = { p = 1 }\n");
    return {
        {"stress xx beside the hole over that far away", 3.0, 1e-6 * probe(s, 0, Vec3(0, 1, 0)).stress[0]}};
}

std::vector<Reading> curved_cantilever(ElementKind kind, int n) {
    Mapped m;
    m.kind = kind;
    m.n = {6 * n, n, n};
    m.map = [](const Vec3& u) {
        const double r = 4.12 + 0.2 * u.y();
        const double angle = 0.5 * pi * (1.0 - u.x());
        return Vec3(r * std::cos(angle), r * std::sin(angle), 0.1 * (u.z() - 0.5));
    };
    m.sets = {{"root", [](const Vec3& u) { return u.x() < small; }},
              {"tip", [](const Vec3& u) { return u.x() > 1 - small; }}};
    m.mesh = fmt::format("element = \"{}\"\n", element_word(kind, "plane-stress"));
    if (!solid(kind)) m.mesh += "thickness = 0.1";
    std::string cards =
        material(1e7, 0.25, 1) + hold("r", "root", solid(kind) ? R"("x", "y", "z")" : R"("x", "y")") +
        "[[load]]\nname = \"in\"\non = \"tip\"\nforce = " + (solid(kind) ? "[1, 0, 0]\n" : "[1, 0]\n") +
        "[[case]]\nname = \"in\"\nsupports = [\"r\"]\nloads = { in = 1 }\n";
    if (solid(kind))
        cards += "[[load]]\nname = \"out\"\non = \"tip\"\nforce = [0, 0, 1]\n"
                 "[[case]]\nname = \"out\"\nsupports = [\"r\"]\nloads = { out = 1 }\n";
    const Solved s = solve(m, cards);
    std::vector<Reading> out{{"tip displacement in the plane", 0.08734, mean_of(s, 0, "tip").x()}};
    if (solid(kind)) out.push_back({"tip displacement out of the plane", 0.5022, mean_of(s, 1, "tip").z()});
    return out;
}

std::vector<Reading> beam_frequencies(ElementKind kind, int n, bool clamped) {
    const double L = 10.0;
    const double h = 0.1;
    const double E = 200e9;
    const double rho = 8000;
    Mapped m;
    m.kind = kind;
    m.n = {20 * n, 2, 1};
    m.map = [=](const Vec3& u) { return Vec3(L * u.x(), h * (u.y() - 0.5), 0); };
    m.sets = {{"ends", [](const Vec3& u) { return u.x() < small || u.x() > 1 - small; }}};
    m.mesh = "element = \"plane-stress\"\nthickness = 0.1";
    std::string cards = material(E, 0.3, rho);
    if (clamped)
        cards += hold("s", "ends", "\"x\", \"y\"");
    else
        cards += "[[point]]\nname = \"a\"\nat = [0, 0]\n[[point]]\nname = \"b\"\nat = [10, 0]\n" +
                 hold("s", "a", "\"x\", \"y\"") + hold("t", "b", "\"y\"");
    cards += fmt::format("[[case]]\nname = \"c\"\nkind = \"modal\"\nsupports = [\"s\"{}]\nmodes = 3\n",
                         clamped ? "" : ", \"t\"");
    const Solved s = solve(m, cards);
    const std::array<double, 3> root = clamped ? std::array<double, 3>{4.730040745, 7.853204624, 10.995607838}
                                               : std::array<double, 3>{pi, 2 * pi, 3 * pi};
    std::vector<Reading> out;
    for (std::size_t i = 0; i < 3; ++i)
        out.push_back({fmt::format("mode {}, Hz", i + 1),
                       root[i] * root[i] / (2 * pi * L * L) * std::sqrt(E * h * h / 12 / rho),
                       s.report.modals[0].modes.at(i).frequency});
    return out;
}

std::vector<Reading> uniform_start(ElementKind kind, int n) {
    Mapped m;
    m.kind = kind;
    m.n = {8 * n, n, 1};
    m.map = [](const Vec3& u) { return Vec3(8 * u.x(), u.y(), 0); };
    m.mesh = "element = \"plane-stress\"\nthickness = 1";
    const Solved s =
        solve(m, material(1e7, 0.3, 1) +
                     "[[point]]\nname = \"a\"\nat = [0, 0.5]\n[[point]]\nname = \"b\"\nat = [8, 0.5]\n" +
                     hold("s", "a", "\"x\", \"y\"") + hold("t", "b", "\"x\", \"y\"") +
                     "[[case]]\nname = \"c\"\nkind = \"modal\"\nsupports = [\"s\", \"t\"]\nmodes = 1\n");
    const std::vector<double> stiffness(s.model.mesh.elements(), 0.125);
    const std::vector<double> density(s.model.mesh.elements(), 0.5);
    const ModalResult found = ModalAnalysis(s.model, {}).solve(s.model.modal_cases.at(0), stiffness, density);
    return {{"first circular frequency, rad/s", 68.7, 2 * pi * found.modes.at(0).frequency}};
}

std::vector<Reading> barrel_vault(ElementKind kind, int n) {
    // A quarter of the roof: length 50, radius 25, 80 degrees, its own weight of 90 a unit of area.
    Mapped m;
    m.kind = kind;
    m.n = {n, n, 1};
    m.map = [](const Vec3& u) {
        const double angle = 40.0 * pi / 180 * u.x();
        return Vec3(25 * std::sin(angle), 25 * u.y(), 25 * std::cos(angle));
    };
    m.sets = {{"crown", [](const Vec3& u) { return u.x() < small; }},
              {"free", [](const Vec3& u) { return u.x() > 1 - small; }},
              {"middle", [](const Vec3& u) { return u.y() < small; }},
              {"wall", [](const Vec3& u) { return u.y() > 1 - small; }}};
    m.mesh = "element = \"shell\"\nthickness = 0.25";
    const double angle = 40.0 * pi / 180;
    const Solved s =
        solve(m, material(4.32e8, 0.0, 360) + hold("c", "crown", R"("x", "ry", "rz")") +
                     hold("m", "middle", R"("y", "rx", "rz")") + hold("w", "wall", R"("x", "z")") +
                     fmt::format("[[point]]\nname = \"edge\"\nat = [{:.15g}, 0, {:.15g}]\n",
                                 25 * std::sin(angle), 25 * std::cos(angle)) +
                     "[[load]]\nname = \"weight\"\ngravity = [0, 0, -1]\n"
                     "[[case]]\nname = \"c\"\nsupports = [\"c\", \"m\", \"w\"]\nloads = { weight = 1 }\n");
    return {{"sag of the middle of the free edge", 0.3024,
             -displacement_at(s.model, s.report.statics[0].displacement, s.model.points[0].node).z()}};
}

std::vector<Reading> pinched_hemisphere(ElementKind kind, int n) {
    Mapped m;
    m.kind = kind;
    m.n = {n, n, 1};
    m.map = [](const Vec3& u) {
        const double around = 0.5 * pi * u.x();
        const double up = 72.0 * pi / 180 * u.y();
        return Vec3(10 * std::cos(up) * std::cos(around), 10 * std::cos(up) * std::sin(around),
                    10 * std::sin(up));
    };
    m.sets = {{"xz", [](const Vec3& u) { return u.x() < small; }},
              {"yz", [](const Vec3& u) { return u.x() > 1 - small; }}};
    m.mesh = "element = \"shell\"\nthickness = 0.04";
    // The whole is pulled by two forces of 2 along x and pressed by two along y; a quarter has half of each.
    const Solved s =
        solve(m, material(6.825e7, 0.3, 1) + hold("a", "xz", R"("y", "rx", "rz")") +
                     hold("b", "yz", R"("x", "ry", "rz")") +
                     "[[point]]\nname = \"px\"\nat = [10, 0, 0]\n[[point]]\nname = \"py\"\nat = "
                     "[0, 10, 0]\n" +
                     hold("z", "px", "\"z\"") +
                     "[[load]]\nname = \"fx\"\non = \"px\"\nforce = [1, 0, 0]\n"
                     "[[load]]\nname = \"fy\"\non = \"py\"\nforce = [0, -1, 0]\n"
                     "[[case]]\nname = \"c\"\nsupports = [\"a\", \"b\", \"z\"]\nloads = { fx = 1, "
                     "fy = 1 }\n");
    return {{"displacement under the force", 0.0940,
             displacement_at(s.model, s.report.statics[0].displacement, s.model.points[0].node).x()}};
}

std::vector<Reading> twisted_beam(ElementKind kind, int n) {
    Mapped m;
    m.kind = kind;
    m.n = {6 * n, n, solid(kind) ? std::max(1, n / 2) : 1};
    m.map = [kind](const Vec3& u) {
        const double angle = 0.5 * pi * u.x();
        const double across = 1.1 * (u.y() - 0.5);
        const double off = solid(kind) ? 0.32 * (u.z() - 0.5) : 0.0;
        return Vec3(12 * u.x(), across * std::cos(angle) - off * std::sin(angle),
                    across * std::sin(angle) + off * std::cos(angle));
    };
    m.sets = {{"root", [](const Vec3& u) { return u.x() < small; }},
              {"tip", [](const Vec3& u) { return u.x() > 1 - small; }}};
    m.mesh = solid(kind) ? "element = \"solid\"" : "element = \"shell\"\nthickness = 0.32";
    // At the tip the width lies along z: a force along z acts in the plane there, one along y across it.
    const Solved s = solve(
        m, material(29e6, 0.22, 1) +
               hold("r", "root", solid(kind) ? R"("x", "y", "z")" : R"("x", "y", "z", "rx", "ry", "rz")") +
               "[[load]]\nname = \"in\"\non = \"tip\"\nforce = [0, 0, 1]\n"
               "[[load]]\nname = \"out\"\non = \"tip\"\nforce = [0, 1, 0]\n"
               "[[case]]\nname = \"in\"\nsupports = [\"r\"]\nloads = { in = 1 }\n"
               "[[case]]\nname = \"out\"\nsupports = [\"r\"]\nloads = { out = 1 }\n");
    return {{"tip displacement in the plane", 0.005424, mean_of(s, 0, "tip").z()},
            {"tip displacement out of the plane", 0.001754, mean_of(s, 1, "tip").y()}};
}

} // namespace upright::published
