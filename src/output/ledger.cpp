#include "output/ledger.hpp"

#include "design/form.hpp"
#include "design/making_rule.hpp"

#include "fem/constrained_solver.hpp"
#include "geometry/distance.hpp"
#include "geometry/file_body.hpp"
#include "mesh/quality.hpp"
#include "model/rigid_freedom.hpp"
#include "model/written_volumes.hpp"
#include "optimize/run.hpp"
#include "optimize/run/stepper.hpp"
#include "study/file_slot.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <map>
#include <optional>

namespace upright {

namespace {

std::string number(double value) {
    return fmt::format("{:.6g}", std::abs(value) < 1e-300 ? 0.0 : value);
}

std::string joined(const std::vector<std::string>& words, const char* between = ", ") {
    std::string out;
    for (const std::string& word : words) out += (out.empty() ? "" : between) + word;
    return out;
}

// "one half", "a quarter", "an eighth".
std::string modelled_part(int copies) {
    return copies == 2 ? "one half" : copies == 4 ? "a quarter" : copies == 8 ? "an eighth" : "the whole";
}

class Writer {
  public:
    Writer(const Study& study, const Model& model, bool measured)
        : study_(study), model_(model), plane_(model.mesh.dimension() == 2) {
        if (measured) written_ = written_volumes(study, model);
    }

    Ledger run() {
        materials();
        regions();
        mesh();
        surfaces();
        links();
        supports();
        loads();
        cases();
        goal();
        solver();
        return std::move(ledger_);
    }

  private:
    std::string unit(const Dimension& d) const { return study_.units.text(d); }

    std::string vector(const Vec3& v, double scale) const {
        const auto clean = [&](double x) { return std::abs(x) < 1e-9 * scale ? 0.0 : x; };
        return plane_ ? fmt::format("({:.6g}, {:.6g})", clean(v.x()), clean(v.y()))
                      : fmt::format("({:.6g}, {:.6g}, {:.6g})", clean(v.x()), clean(v.y()), clean(v.z()));
    }
    std::string vector(const Vec3& v) const { return vector(v, std::max(v.norm(), 1e-300)); }
    std::string place(const Vec3& p) const { return vector(p, model_.mesh.bounds.diagonal()); }

    LedgerLine& line(const std::string& name, const std::string& text) {
        ledger_.sections.back().lines.push_back({Standing::Fine, name, text, {}});
        return ledger_.sections.back().lines.back();
    }
    static void doubt(LedgerLine& l, const std::string& why) {
        l.standing = std::max(l.standing, Standing::Doubt);
        l.remarks.push_back(why);
    }
    static void missing(LedgerLine& l, const std::string& why) {
        l.standing = Standing::Missing;
        l.remarks.push_back(why);
    }
    void section(const std::string& title) { ledger_.sections.push_back({title, {}}); }

    void materials() {
        section("Materials");
        for (const Material& m : study_.materials) {
            const auto three = [](const Vec3& v) {
                return number(v[0]) + " / " + number(v[1]) + " / " + number(v[2]);
            };
            std::string text =
                m.orthotropic
                    ? fmt::format("orthotropic in {}: E {} {}, nu xy yz zx {}, G {} {}, density {} {}",
                                  m.orthotropic->frame.name.empty() ? "the global axes"
                                                                    : m.orthotropic->frame.name,
                                  three(m.orthotropic->E), unit(dimension::stress), three(m.orthotropic->nu),
                                  three(m.orthotropic->G), unit(dimension::stress), number(m.density),
                                  unit(dimension::density))
                    : fmt::format("E {} {}, nu {:g}, density {} {}", number(m.E), unit(dimension::stress),
                                  m.nu, number(m.density), unit(dimension::density));
            if (m.yield) text += fmt::format(", yield {} {}", number(*m.yield), unit(dimension::stress));
            if (m.source != "own") text += "; " + m.source;
            LedgerLine& l = line(m.name, text);
            if (!m.yield && model_.family == ElementFamily::Solid && m.source == "own")
                l.text += "; no yield strength, so stress cannot be judged";
            const bool used = std::any_of(study_.regions.begin(), study_.regions.end(),
                                          [&](const RegionCard& r) { return r.material == m.name; });
            if (!used) doubt(l, "no region uses it");
            plausible(l, m);
        }
    }

    // Data that no solid has, with the unit that was probably meant.
    void plausible(LedgerLine& l, const Material& m) const {
        const double E = m.E * study_.units.si(dimension::stress);
        const double density = m.density * study_.units.si(dimension::density);
        const auto off = [&](const char* what, double value, double low, double high, const char* in,
                             double in_si) {
            if (value >= low && value <= high) return false;
            std::string meant;
            for (const double times : {1e3, 1e-3, 1e6, 1e-6, 1e9, 1e-9, 1e12, 1e-12})
                if (meant.empty() && value * times >= low && value * times <= high)
                    meant = fmt::format(": was {:.4g} {} meant?", value * times / in_si, in);
            doubt(l, fmt::format("{} of {:.4g} {} is that of no solid{}", what, value / in_si, in, meant));
            return true;
        };
        const bool heavy = off("a density", density, 10.0, 23000.0, "kg/m3", 1.0);
        // Sound runs at some 3 to 13 km/s in metals and ceramics; the softest of them, lead, has 1.2.
        if (!off("a modulus E", E, 1e5, 1.5e12, "GPa", 1e9) && !heavy && density > 2300.0 &&
            std::sqrt(E / density) < 900.0)
            doubt(l, fmt::format("E of {:.4g} GPa is far too soft for a material of {:.4g} kg/m3: was {:.4g} "
                                 "GPa meant?",
                                 E / 1e9, density, E / 1e6));
        if (m.yield && *m.yield > 0.1 * m.E)
            doubt(l, fmt::format("a yield of {:.3g} of E is that of no material: look at its unit",
                                 *m.yield / m.E));
    }

    // The volume a region should have, and what the mesh gives it, side by side.
    void volumes(LedgerLine& l, std::size_t r) {
        const double meshed = model_.regions[r].volume;
        if (!written_ || meshed <= 0.0) return;
        const double written = (*written_)[r];
        // It is measured to about a per cent: three figures at most.
        const double step = written > 0.0 ? std::pow(10.0, std::floor(std::log10(written)) - 2.0) : 1.0;
        l.text += fmt::format("; as written about {} {}", number(step * std::round(written / step)),
                              unit(dimension::volume));
        const RegionCard& card = study_.regions[r];
        const Skin* skin = std::get_if<Skin>(&card.extent);
        if (written <= 0.0) return;
        const double ratio = meshed / written;
        if (skin != nullptr)
            l.text +=
                fmt::format(", so the layer of {} {} is {:.3g} {} deep on the mean", number(skin->depth),
                            unit(dimension::length), skin->depth * ratio, unit(dimension::length));
        if (std::abs(ratio - 1.0) > 0.1)
            doubt(l,
                  fmt::format("the mesh makes it {:+.0f} % of what is written: smaller cells, or a depth of "
                              "whole cells, come closer",
                              100.0 * (ratio - 1.0)));
    }

    void regions() {
        section("Regions, in painting order");
        for (std::size_t r = 0; r < model_.regions.size(); ++r) {
            const ModelRegion& region = model_.regions[r];
            const std::size_t painted = region.painted;
            if (region.role == Role::Void) {
                if (study_.mesh.kind == MeshKind::Fitted ||
                    (study_.mesh.kind == MeshKind::Polar && region.taken == 0)) {
                    line(region.name,
                         std::string("void; left out of the ") + text(study_.mesh.kind) + " mesh");
                    continue;
                }
                // What it took away: cells that an earlier region had painted.
                LedgerLine& l =
                    line(region.name, fmt::format("void; takes {} cells, {} {}", region.taken,
                                                  number(region.taken_volume), unit(dimension::volume)));
                const std::string plane = beyond(r);
                if (region.taken == 0 && !plane.empty())
                    doubt(l, "it lies beyond the symmetry plane " + plane +
                                 ": that part is the mirror image of what is modelled");
                else if (region.taken == 0)
                    doubt(l, "it takes nothing away: it lies outside of what was painted before it, or is "
                             "smaller than a cell");
                continue;
            }
            const std::string role = region.role == Role::Keep ? "keep" : "design";
            LedgerLine& l = line(region.name, fmt::format("{}, {}; {} elements, volume {} {}, mass {}", role,
                                                          study_.regions[r].material, region.elements,
                                                          number(region.volume), unit(dimension::volume),
                                                          model_.units.mass_text(region.mass)));
            if (!model_.mesh.thickness.empty())
                l.text += fmt::format(", {} {} thick", number(study_.thickness(static_cast<RegionId>(r))),
                                      unit(dimension::length));
            volumes(l, r);
            const std::string plane = beyond(r);
            if (painted == 0 && !plane.empty())
                doubt(l, "it lies beyond the symmetry plane " + plane +
                             ": that part is the mirror image of what is modelled");
            else if (painted == 0)
                doubt(l, "it paints no cell: its shape lies off the grid or is smaller than a cell");
            else if (region.elements == 0)
                doubt(l, "later regions paint over all of it");
            if (region.role == Role::Keep) {
                const std::size_t lost = region.lost;
                // A hole through it is usual; losing most of it is not.
                if (2 * lost > painted)
                    doubt(l, fmt::format("later voids take {} of its {} cells", lost, painted));
                else if (lost > 0)
                    l.text += fmt::format("; later voids take {} of its {} cells", lost, painted);
            }
        }
        for (const std::string& name : study_.inactive) line(name, "left out (active = false)");
        files();
    }

    std::string beyond(std::size_t r) const {
        const Shape* shape = std::get_if<Shape>(&study_.regions[r].extent);
        return shape == nullptr ? "" : beyond_symmetry(study_, model_.mesh.bounds, bounds(*shape));
    }

    // Bodies from files: how large they came out, and in what unit they were written.
    void files() {
        for (const RegionCard& card : study_.regions) {
            const Shape* shape = std::get_if<Shape>(&card.extent);
            const FileBody* file = shape == nullptr ? nullptr : std::get_if<FileBody>(shape);
            if (file == nullptr || !std::filesystem::exists(file->slot->file)) continue;
            const FacetBody& body = file_body(*file);
            const Vec3 s = body.bounds().size();
            LedgerLine& l =
                line(card.name + " file", fmt::format("{}, body \"{}\": {:.6g} x {:.6g} x {:.6g} {}",
                                                      file->slot->file.filename().string(), body.name(),
                                                      s.x(), s.y(), s.z(), unit(dimension::length)));
            if (file->slot->file_unit_si > 0.0 &&
                std::abs(file->slot->file_unit_si / study_.units.length_si - 1.0) > 1e-9)
                doubt(l, fmt::format("the file is written in {} and the study in {}; its lengths were "
                                     "converted: compare the box with the drawing, or write file_unit",
                                     file->slot->file_unit, unit(dimension::length)));
            for (const std::string& remark : file->slot->remarks) doubt(l, "repaired: " + remark);
        }
    }

    void mesh() {
        section("Mesh");
        const Mesh& m = model_.mesh;
        std::map<std::string, std::size_t> kinds;
        for (const ElementKind k : m.kinds) ++kinds[traits(k).name];
        std::string of_kinds;
        for (const auto& [name, count] : kinds)
            of_kinds += (of_kinds.empty() ? "" : ", ") +
                        (kinds.size() == 1 ? name : fmt::format("{} {}", count, name));
        if (model_.family == ElementFamily::PlaneStress) of_kinds += ", plane stress";
        if (model_.family == ElementFamily::PlaneStrain) of_kinds += ", plane strain";
        if (kinds.count("hex8") + kinds.count("quad4") + kinds.count("shell quad4") > 0)
            of_kinds += model_.formulation == Formulation::Plain ? ", plain" : ", enhanced";
        const std::string counts = fmt::format("{} elements ({}), {} nodes, {} displacements", m.elements(),
                                               of_kinds, m.nodes.size(), model_.freedoms());
        if (m.on_grid()) {
            const CellGrid& g = m.grid;
            const std::string cells = plane_
                                          ? fmt::format("{} x {}", g.count[0], g.count[1])
                                          : fmt::format("{} x {} x {}", g.count[0], g.count[1], g.count[2]);
            const std::string size =
                plane_ ? fmt::format("{:.4g} x {:.4g} {}, {:g} {} thick", g.cell.x(), g.cell.y(),
                                     unit(dimension::length), g.cell.z(), unit(dimension::length))
                       : fmt::format("{:.4g} x {:.4g} x {:.4g} {}", g.cell.x(), g.cell.y(), g.cell.z(),
                                     unit(dimension::length));
            line("grid", fmt::format("{} cells of {}; {}", cells, size, counts));
        } else {
            LedgerLine& l = line(text(study_.mesh.kind), fmt::format("size {} {}; {}", number(m.size),
                                                                     unit(dimension::length), counts));
            const MeshQuality q = mesh_quality(m);
            l.text += fmt::format("; worst scaled Jacobian {:.3g} at {}", q.scaled_jacobian,
                                  place(m.center(q.worst.front().element)));
            if (q.smallest_dihedral)
                l.text += fmt::format(", smallest dihedral angle {:.3g} deg", *q.smallest_dihedral);
            l.text += fmt::format(", largest aspect {:.3g}", q.aspect);
            // Tetrahedra are judged by their angles.
            const bool bad = q.smallest_dihedral ? *q.smallest_dihedral < 10.0 || *q.largest_dihedral > 170.0
                                                 : q.scaled_jacobian < 0.1;
            if (bad)
                doubt(l, "elements this bad spoil stresses near them; \"upright model\" lists the worst");
            for (const std::string& remark : model_.remarks) doubt(l, remark);
        }
        const std::vector<int> part = face_connected_parts(m);
        const int parts = 1 + *std::max_element(part.begin(), part.end());
        LedgerLine& l =
            line("connection", parts == 1
                                   ? "the mesh is one piece"
                                   : fmt::format("the mesh falls into {} pieces that share no face", parts));
        if (parts > 1) {
            std::vector<std::size_t> sizes(static_cast<std::size_t>(parts));
            for (const int p : part) ++sizes[static_cast<std::size_t>(p)];
            std::sort(sizes.rbegin(), sizes.rend());
            std::vector<std::string> words;
            for (std::size_t i = 0; i < std::min<std::size_t>(sizes.size(), 6); ++i)
                words.push_back(std::to_string(sizes[i]));
            const std::vector<LooseBody> loose = loose_bodies(model_);
            const std::string sizes_text = "pieces of " + joined(words) + " elements; ";
            if (loose.empty() && model_.bonds.empty() && model_.couplings.empty())
                doubt(l, sizes_text +
                             "they hang together at edges or corners alone: hinges; bodies that should hang "
                             "together must share faces of cells");
            else if (loose.empty())
                l.text += "; bonds, couplings and joints tie them together";
            for (const LooseBody& body : loose)
                missing(
                    l,
                    fmt::format(
                        "a body of {} elements around {} is tied to nothing; the nearest other body is {} {} "
                        "away at {}: let them touch, or write a [[bond]]",
                        body.elements, place(body.center), number(body.gap), unit(dimension::length),
                        place(body.nearest)));
        }
        for (const SymmetryCut& cut : m.symmetry)
            line("symmetry", fmt::format("{0} = {1:g}: {0} from {2:g} to {3:g} is modelled, {4} of the body "
                                         "in all; loads, masses, volumes and compliance are "
                                         "those of the modelled part",
                                         "xyz"[cut.axis], cut.at, m.bounds.low[cut.axis],
                                         m.bounds.high[cut.axis], modelled_part(m.copies())));
    }

    void surfaces() {
        if (!model_.surfaces.empty()) section("Surfaces");
        for (const ModelSurface& s : model_.surfaces) {
            LedgerLine& l = line(s.name, fmt::format("{} faces, area {} {}, centroid {}, mean normal {}",
                                                     s.faces.size(), number(s.area), unit(dimension::area),
                                                     place(s.centroid), vector(s.normal, 1.0)));
            bool used = false;
            for (const SupportCard& c : study_.supports) used = used || refers_to(c.on, s.name);
            for (const LoadCard& c : study_.loads) used = used || refers_to(c.on, s.name);
            for (const CouplingCard& c : study_.couplings) used = used || refers_to(c.surfaces, s.name);
            for (const MassCard& c : study_.masses) used = used || refers_to(c.on, s.name);
            for (const BondCard& c : study_.bonds)
                used = used || refers_to(c.between[0], s.name) || refers_to(c.between[1], s.name);
            for (const PointCard& c : study_.points)
                if (const auto* of = std::get_if<std::string>(&c.at)) used = used || refers_to(*of, s.name);
            for (const RegionCard& c : study_.regions)
                if (const auto* skin = std::get_if<Skin>(&c.extent))
                    used = used || refers_to(skin->of, s.name);
            if (!used) doubt(l, "nothing refers to it");
        }
        if (!model_.points.empty()) section("Points");
        for (const ModelPoint& p : model_.points) {
            const std::string off = p.off > 1e-9 * model_.mesh.bounds.diagonal()
                                        ? fmt::format("; the node that stands for it is {} {} away",
                                                      number(p.off), unit(dimension::length))
                                        : "; on a node";
            line(p.name, place(p.at) + off);
        }
    }

    void links() {
        if (model_.couplings.empty() && model_.joints.empty() && model_.masses.empty() &&
            model_.bonds.empty())
            return;
        section("Couplings, joints, masses, bonds");
        for (const ModelCoupling& c : model_.couplings) {
            LedgerLine& l = line(c.name, fmt::format("{} coupling of {} nodes of {} to {}",
                                                     c.rigid ? "rigid" : "averaging", c.nodes.size(),
                                                     joined(c.surfaces), place(c.at)));
            bool used = false;
            for (const SupportCard& s : study_.supports) used = used || refers_to(s.on, c.name);
            for (const LoadCard& s : study_.loads) used = used || refers_to(s.on, c.name);
            for (const MassCard& s : study_.masses) used = used || refers_to(s.on, c.name);
            for (const JointCard& s : study_.joints)
                used = used || s.between[0] == c.name || s.between[1] == c.name;
            if (!used && !c.rigid) doubt(l, "nothing refers to it, so it does nothing");
            std::size_t design = 0;
            std::vector<bool> coupled(model_.mesh.nodes.size(), false);
            for (const NodeId n : c.nodes) coupled[index(n)] = true;
            std::size_t touching = 0;
            for (std::size_t e = 0; e < model_.mesh.elements(); ++e) {
                const auto id = static_cast<ElementId>(e);
                const NodeRange ids = model_.mesh.nodes_of(id);
                if (std::none_of(ids.begin(), ids.end(), [&](NodeId n) { return coupled[index(n)]; }))
                    continue;
                ++touching;
                design += model_.role(id) == Role::Design ? 1 : 0;
            }
            if (design == touching)
                doubt(
                    l,
                    "all elements at it are design: material may fade there; keep a layer, as with skin_of");
        }
        for (const ModelJoint& j : model_.joints) {
            const auto end = [&](int c) {
                return c < 0 ? std::string("ground") : model_.couplings[static_cast<std::size_t>(c)].name;
            };
            const std::string linear = unit(dimension::stiffness);
            const std::string angular = unit(dimension::moment);
            line(j.name, fmt::format("joint between {} and {}, axis {}: axial {} {}, shear {} {}, torsion {} "
                                     "{}/rad, bending {} {}/rad",
                                     end(j.ends[0]), end(j.ends[1]), vector(j.axis, 1.0),
                                     number(j.stiffness[0]), linear, number(j.stiffness[1]), linear,
                                     number(j.stiffness[2]), angular, number(j.stiffness[3]), angular));
        }
        for (const ModelMass& m : model_.masses)
            line(m.name, fmt::format("mass {} on {}", model_.units.mass_text(m.value), joined(m.on)));
        for (const ModelBond& b : model_.bonds) {
            LedgerLine& l = line(b.name, fmt::format("bond: {} nodes of {} tied to {}, widest gap {} {}",
                                                     b.tied, b.between[0], b.between[1], number(b.widest),
                                                     unit(dimension::length)));
            if (b.loose > 0) l.text += fmt::format("; {} nodes lie farther off and stay free", b.loose);
            if (b.tied < 3) doubt(l, "so few nodes make a hinge");
        }
    }

    void supports() {
        section("Supports");
        if (model_.supports.empty() && model_.symmetry.empty())
            missing(line("none", "nothing holds the body"), "write a [[support]] with on and hold");
        for (std::size_t i = 0; i < model_.supports.size(); ++i) {
            const ModelSupport& s = model_.supports[i];
            std::string what = joined(s.words, " ");
            if (!s.frame.empty()) what += " of " + s.frame;
            if (s.moves()) {
                std::vector<std::string> moved;
                std::size_t k = 0;
                for (std::size_t a = 0; a < 6; ++a) {
                    if (!s.hold[a]) continue;
                    if (s.move[a] != 0.0)
                        moved.push_back(fmt::format("{} by {}{}", s.words[k], number(s.move[a]),
                                                    a < 3 ? " " + unit(dimension::length) : " rad"));
                    ++k;
                }
                what += " and moves " + joined(moved);
            }
            LedgerLine& l = line(s.name, fmt::format("on {}: holds {} at {} place{}", joined(s.on), what,
                                                     s.nodes, s.nodes == 1 ? "" : "s"));
            const bool used = std::any_of(model_.cases.begin(), model_.cases.end(), [&](const ModelCase& c) {
                return std::find(c.supports.begin(), c.supports.end(), i) != c.supports.end();
            });
            const bool modal = std::any_of(
                model_.modal_cases.begin(), model_.modal_cases.end(), [&](const ModelModalCase& c) {
                    return std::find(c.supports.begin(), c.supports.end(), i) != c.supports.end();
                });
            if (!used && !modal) doubt(l, "no case uses it");
        }
    }

    void loads() {
        section("Loads");
        if (model_.loads.empty() && (!model_.cases.empty() || model_.modal_cases.empty()))
            missing(line("none", "nothing loads the body"), "write a [[load]]");
        for (std::size_t i = 0; i < model_.loads.size(); ++i) {
            const ModelLoad& load = model_.loads[i];
            const Resultant sum = resultant(model_, load);
            const std::string on = load.on.empty() ? "the whole body, all material" : joined(load.on);
            const std::string heat =
                load.kind == "heat" ? fmt::format("heat: {:+g} K in the whole body", load.heat) : "";
            LedgerLine& l =
                !heat.empty() ? line(load.name, heat)
                              : line(load.name, fmt::format("{} on {}: {} {}, moment about the origin {} {}",
                                                            load.kind, on, force(sum), unit(dimension::force),
                                                            moment(sum), unit(dimension::moment)));
            const bool used = std::any_of(model_.cases.begin(), model_.cases.end(), [&](const ModelCase& c) {
                return std::any_of(c.loads.begin(), c.loads.end(),
                                   [&](const auto& entry) { return entry.first == i; });
            });
            if (!used) doubt(l, "no case uses it");
            if (load.kind == "pressure" && load.pressure < 0)
                doubt(l, "a negative pressure pulls the surface outward");
            if (load.kind == "pressure" &&
                sum.force.norm() < 1e-9 * std::abs(load.pressure) * target_area(load))
                l.text += " (balanced over its surface)";
            pads(l, load);
            across_symmetry(l, load, sum);
        }
    }

    std::string force(const Resultant& sum) const {
        return vector(sum.force, std::max({sum.force.norm(),
                                           sum.moment.norm() / model_.mesh.bounds.diagonal(), 1e-300}));
    }

    std::string moment(const Resultant& sum) const {
        const double scale =
            std::max(sum.moment.norm(), 1e-6 * sum.force.norm() * model_.mesh.bounds.diagonal());
        const auto clean = [&](double x) { return std::abs(x) < 1e-9 * scale ? 0.0 : x; };
        return plane_ ? fmt::format("{:.6g}", clean(sum.moment.z()))
                      : fmt::format("({:.6g}, {:.6g}, {:.6g})", clean(sum.moment.x()), clean(sum.moment.y()),
                                    clean(sum.moment.z()));
    }

    double target_area(const ModelLoad& load) const {
        double out = 0.0;
        for (const ModelSurface& s : model_.surfaces)
            if (refers_to(load.on, s.name)) out += s.area;
        return out;
    }

    // A load should meet solid material that the optimiser cannot take away, at least as deep as the filter
    // reaches.
    void pads(LedgerLine& l, const ModelLoad& load) const {
        double bare = 0.0;
        double whole = 0.0;
        bool thin = false;
        std::string surface;
        const double radius = filter_radius(study_, model_);
        for (const ModelSurface& s : model_.surfaces) {
            if (!refers_to(load.on, s.name)) continue;
            for (const MeshFace& f : s.faces) {
                const double area = model_.mesh.face_area(f);
                whole += area;
                if (model_.role(f.element) == Role::Design) {
                    bare += area;
                    surface = s.name;
                }
                const RegionCard& card = study_.regions[index(model_.mesh.region[index(f.element)])];
                if (const Skin* skin = std::get_if<Skin>(&card.extent))
                    thin = thin || skin->depth < 0.999 * radius;
            }
        }
        for (const ModelPoint& p : model_.points) {
            if (!refers_to(load.on, p.name)) continue;
            for (std::size_t e = 0; e < model_.mesh.elements(); ++e)
                for (const NodeId n : model_.mesh.nodes_of(static_cast<ElementId>(e)))
                    if (n == p.node && model_.role(static_cast<ElementId>(e)) == Role::Design) {
                        doubt(
                            l,
                            "the point " + p.name +
                                " stands on design cells: material may fade under the load; keep some there");
                        return;
                    }
        }
        if (bare > 0.0)
            doubt(l, fmt::format("{:.0f} % of its area are design cells: material may fade under it; keep a "
                                 "layer, as with skin_of = \"{}\", depth = \"{} {}\"",
                                 100.0 * bare / whole, surface, number(radius), unit(dimension::length)));
        else if (thin)
            doubt(l, fmt::format("the kept layer under it is thinner than the filter radius of {} {}",
                                 number(radius), unit(dimension::length)));
    }

    void across_symmetry(LedgerLine& l, const ModelLoad& load, const Resultant& sum) const {
        for (const SymmetryCut& cut : model_.mesh.symmetry) {
            const int a = cut.axis;
            if (load.kind == "pressure" || std::abs(sum.force[a]) < 1e-9 * sum.force.norm()) continue;
            doubt(l, fmt::format("it has a part along {}, across the symmetry plane: the mirrored part is "
                                 "loaded the opposite way",
                                 "xyz"[a]));
        }
        // A total on what a plane cuts: of the modelled part, or of the whole?
        for (const LoadCard& card : study_.loads) {
            if (card.name != load.name ||
                (load.kind != "force" && load.kind != "moment" && load.kind != "toward"))
                continue;
            const std::vector<SymmetryCut> cuts = cutting_planes(model_, card.on);
            if (cuts.empty()) continue;
            const std::string share = modelled_part(1 << cuts.size());
            if (card.covers == Covers::Whole)
                l.text += "; " + share + " of what was written, which covers the whole body";
            else if (card.covers == Covers::Unsaid)
                doubt(l,
                      fmt::format("the symmetry plane cuts what it acts on, and it acts on {} of the body in "
                                  "full: write covers = \"whole\" where it is the total of the whole body, "
                                  "covers = \"modelled\" where it is that of the modelled part",
                                  share));
        }
    }

    void cases() {
        section("Cases");
        if (model_.cases.empty() && model_.modal_cases.empty())
            missing(line("none", "there is no case"), "write a [[case]] with supports and loads");
        double weights = 0.0;
        for (std::size_t i = 0; i < model_.cases.size(); ++i) {
            const ModelCase& c = model_.cases[i];
            weights += c.weight;
            const Resultant sum = resultant(model_, c);
            std::vector<std::string> parts;
            for (const auto& [l, factor] : c.loads)
                parts.push_back(factor == 1.0 ? model_.loads[l].name
                                              : fmt::format("{:g} x {}", factor, model_.loads[l].name));
            LedgerLine& l = line(
                c.name, fmt::format("static, weight {:g}: {}; force {} {}, moment about the origin {} {}",
                                    c.weight, joined(parts, " + "), force(sum), unit(dimension::force),
                                    moment(sum), unit(dimension::moment)));
            freedom(l, c);
            straight_into_support(l, c);
            const bool looked_at =
                std::any_of(study_.responses.begin(), study_.responses.end(), [&](const ResponseCard& r) {
                    if (of_material(r) || r.measure->vibration) return false;
                    if (!r.in_case.empty()) return refers_to(r.in_case, c.name);
                    return !r.measure->compliance || r.worst || c.weight > 0.0;
                });
            if (study_.goal && !looked_at) doubt(l, "no response looks at this case");
        }
        for (const ModelModalCase& c : model_.modal_cases) modal(c);
        if (!model_.cases.empty() && weights == 0.0)
            missing(ledger_.sections.back().lines.front(), "every case has the weight 0");
    }

    void modal(const ModelModalCase& c) {
        LedgerLine& l = line(
            c.name, fmt::format("modal, {}, {} mass",
                                c.up_to > 0.0 ? fmt::format("all modes up to {} {}", number(c.up_to),
                                                            unit(dimension::frequency))
                                              : fmt::format("{} mode{}", c.modes, c.modes == 1 ? "" : "s"),
                                c.lumped ? "lumped" : "consistent"));
        ModelCase supports;
        supports.supports = c.supports;
        std::size_t free = 0;
        for (const FreePart& part : free_motions(model_, &supports)) free += part.motions.size();
        l.text += free == 0 ? "; fully held"
                            : fmt::format("; {} motion{} left free: so many rigid-body modes are set apart",
                                          free, free == 1 ? "" : "s");
        if (!model_.mesh.symmetry.empty())
            doubt(l, fmt::format(
                         "on {} of the body only modes that mirror across the plane{} are found; model "
                         "the whole for the others",
                         modelled_part(model_.mesh.copies()), model_.mesh.symmetry.size() > 1 ? "s" : ""));
        if (study_.goal &&
            std::none_of(study_.responses.begin(), study_.responses.end(), [&](const ResponseCard& r) {
                return r.measure->vibration && (r.in_case.empty() || refers_to(r.in_case, c.name));
            }))
            l.text += "; no response looks at it, so the optimiser leaves it out";
    }

    void freedom(LedgerLine& l, const ModelCase& c) {
        // Cases that use the same supports have one answer.
        const auto [known, fresh] = motions_.emplace(c.supports, std::vector<FreePart>{});
        if (fresh) known->second = free_motions(model_, &c);
        const std::vector<FreePart>& parts = known->second;
        bool all_held = true;
        for (const FreePart& part : parts) {
            if (part.motions.empty()) continue;
            all_held = false;
            std::vector<std::string> words;
            for (const FreeMotion& m : part.motions) words.push_back(m.text(model_.units));
            const std::string which = parts.size() == 1
                                          ? ""
                                          : fmt::format("the piece of {} elements around {} is ",
                                                        part.elements, place(part.center));
            missing(l, which + "not held: free in " + joined(words, "; "));
            if (parts.size() > 4 && l.remarks.size() >= 4) break; // many pieces say it no better
        }
        if (all_held) l.text += "; fully held";
    }

    // Forces that act on held components do nothing.
    void straight_into_support(LedgerLine& l, const ModelCase& c) const {
        std::vector<std::size_t> held;
        for (const std::size_t s : c.supports)
            held.insert(held.end(), model_.supports[s].held.begin(), model_.supports[s].held.end());
        std::sort(held.begin(), held.end());
        double lost = 0.0;
        double whole = 0.0;
        for (const auto& [index_of_load, factor] : c.loads)
            for (const Term& f : model_.loads[index_of_load].forces) {
                if (model_.spot(f.freedom).component >= 3) continue;
                whole += std::abs(factor * f.factor);
                if (std::binary_search(held.begin(), held.end(), f.freedom))
                    lost += std::abs(factor * f.factor);
            }
        if (whole > 0.0 && lost > 0.01 * whole)
            doubt(l, fmt::format("{:.0f} % of its forces act on held nodes in held directions and go "
                                 "straight into the support",
                                 100.0 * lost / whole));
    }

    void goal() {
        section("Goal, bounds and run");
        if (!study_.goal) {
            doubt(line("goal", "none"), "without [goal] nothing can be optimised");
            return;
        }
        for (const ResponseCard& r : study_.responses) {
            std::string words = kind_of(r).words(r);
            const std::string u = unit(r.measure->dimension);
            if (r.name == study_.goal->response)
                words = (study_.goal->maximize ? "maximize " : "minimize ") + words;
            if (r.min) words += fmt::format(", at least {}{}", number(*r.min), u.empty() ? "" : " " + u);
            if (r.max) words += fmt::format(", at most {}{}", number(*r.max), u.empty() ? "" : " " + u);
            if (r.max_share)
                words += fmt::format(", at most {:g} % of {}", 100.0 * r.max_share->share,
                                     r.max_share->ultimate ? "ultimate" : "yield");
            LedgerLine& l = line(r.name, words);
            const bool by_strength =
                r.max_share || (r.measure->strength && r.measure->dimension == dimension::none);
            if (by_strength)
                for (std::size_t k = 0; k < model_.regions.size(); ++k) {
                    const ModelRegion& region = model_.regions[k];
                    if (region.material < 0 || region.elements == 0 ||
                        (!r.of.empty() && !refers_to(r.of, region.name)))
                        continue;
                    const Material& m = model_.materials[static_cast<std::size_t>(region.material)];
                    if (r.max_share && r.max_share->ultimate ? !m.ultimate : !m.yield)
                        doubt(l, fmt::format("the material {} of {} has no {}: it is not judged there",
                                             m.name, region.name,
                                             r.max_share && r.max_share->ultimate ? "ultimate strength"
                                                                                  : "yield"));
                }
            if (of_material(r)) {
                const Range range = material_range(model_, r);
                const auto amount = [&](double value) {
                    return r.measure->dimension == dimension::mass
                               ? model_.units.mass_text(value)
                               : number(value) + (u.empty() ? "" : " " + u);
                };
                l.text += fmt::format("; {} with the kept regions alone, {} with all", amount(range.least),
                                      amount(range.most));
                never(l, r, range);
            }
        }
        try {
            require_reachable(study_, model_, make_problem(study_));
        } catch (const Error& bad) {
            missing(line("problem", "cannot be optimised as it stands"), bad.what());
        }
        const double radius = filter_radius(study_, model_);
        const double cell = model_.mesh.size;
        LedgerLine& l =
            line("filter",
                 fmt::format(
                     "radius {} {}, {:.3g} cells; at the boundary it averages over the design cells in reach",
                     number(radius), unit(dimension::length), radius / cell));
        // Published examples use 2.4 cells; from 2.5 the solution no longer follows the mesh.
        if (radius < 2.499 * cell)
            doubt(l, fmt::format("below 2.5 cells the design follows the mesh; write filter = \"{} {}\"",
                                 number(2.5 * cell), unit(dimension::length)));
        form();
        std::optional<Problem> problem;
        try {
            problem = make_problem(study_);
        } catch (const Error&) { // told above
        }
        if (!problem) return;
        const double first = schedule(study_, *problem, 1).penalty;
        std::string start = study_.run.start          ? "density " + number(*study_.run.start)
                            : study_.run.start_run    ? study_.run.start_run->filename().string()
                            : study_.run.coarse_first ? "a run on cells twice as large"
                                                      : "a uniform density";
        LedgerLine& run = line(
            "run",
            fmt::format("at most {} iterations by {}, from {}, stop below a change of {:g}, penalty {}, {}",
                        study_.run.iterations, problem->method->word, start, study_.run.stop_when,
                        study_.run.penalty ? number(*study_.run.penalty)
                        : first < 3.0      ? "1 rising to 3"
                                           : "3",
                        study_.run.sharpen ? "sharpened at the end" : "not sharpened"));
        if (problem->has_frequency && !problem->has_stiffness && model_.masses.empty())
            doubt(run,
                  "a frequency with neither a mass that rides on the part nor a bound on stiffness often "
                  "ends in gray hinges; add a [[mass]] or bound a compliance or displacement");
        if (problem->has_stress && study_.mesh.kind != MeshKind::Fitted)
            doubt(run, "stress is read on a staircase boundary: judge the part on a fitted mesh afterwards");
    }

    // A bound on material that every design holds, with the unit that was probably meant.
    void never(LedgerLine& l, const ResponseCard& r, const Range& range) const {
        const auto meant = [&](double bound) -> std::string {
            for (const double times : {1e-3, 1e-6, 1e-9, 1e3, 1e6, 1e9})
                if (bound * times > range.least && bound * times < range.most)
                    return fmt::format("; {} {} would act", number(bound * times),
                                       unit(r.measure->dimension));
            return "";
        };
        if (r.max && *r.max >= range.most)
            doubt(l, "its max lies above all material, so it can never act" + meant(*r.max));
        if (r.min && *r.min <= range.least)
            doubt(l, "its min lies below the kept regions alone, so it can never act" + meant(*r.min));
    }

    // How the part will be made.
    void form() {
        const FormRules rules = form_rules(study_);
        if (rules.any()) {
            std::vector<std::string> words;
            for (const auto& rule : rules.asked)
                if (rule->ties) words.push_back(rule->words(study_.form, study_.units));
            std::vector<std::size_t> elements;
            for (std::size_t e = 0; e < model_.mesh.elements(); ++e)
                if (model_.role(static_cast<ElementId>(e)) == Role::Design) elements.push_back(e);
            const FormMap map(model_, elements, rules);
            LedgerLine& l = line("form", fmt::format("{}: {} variables for {} design elements", joined(words),
                                                     map.groups(), elements.size()));
            if (!map.exact())
                doubt(l, "the mesh has not the symmetry of the rules: elements follow the nearest image; a "
                         "grid or polar mesh repeats exactly");
            if (map.alone() > 0)
                doubt(l, fmt::format("{} design elements have no image in the design and stay free: the "
                                     "regions are not as symmetric as the rules",
                                     map.alone()));
        }
        for (const auto& rule : rules.asked) {
            if (rule->ties) continue;
            LedgerLine& l = line(rule->word, rule->words(study_.form, study_.units));
            if (const std::string told = rule->doubt(model_, study_.form); !told.empty()) doubt(l, told);
        }
    }

    // Which solver the cases get, and what an analysis of them takes.
    void solver() {
        if (model_.cases.empty()) return;
        section("Solver");
        const SolverOptions options = solver_options(study_.run);
        std::vector<CasePlan> groups;
        try {
            groups = plan_cases(model_, options);
        } catch (const Error&) {
            return; // supports that contradict each other are told of with their case
        }
        for (const CasePlan& group : groups) {
            const SolverPlan& plan = group.solver;
            std::string names = model_.cases[group.cases.front()].name;
            if (groups.size() == 1)
                names = "all cases";
            else if (group.cases.size() > 1)
                names += fmt::format(" + {}", group.cases.size() - 1);
            LedgerLine& l = line(names, fmt::format("{} ({}): {} unknowns, about {} and {} an analysis",
                                                    text(plan.kind), plan.reason, plan.unknowns,
                                                    bytes_text(plan.bytes), seconds_text(plan.seconds)));
            if (!plan.fits && plan.kind != SolverKind::Direct) {
                doubt(l, no_room(model_, plan, options.memory).what());
            } else if (!plan.fits) {
                doubt(l, fmt::format("[run] memory allows {}; write a larger cell size, or solver = \"auto\"",
                                     bytes_text(options.memory)));
            }
        }
    }
    static std::string bytes_text(double bytes) {
        return bytes < 1e9 ? fmt::format("{:.0f} MB", std::max(1.0, bytes / 1e6))
                           : fmt::format("{:.2g} GB", bytes / 1e9);
    }
    static std::string seconds_text(double seconds) {
        return seconds < 0.1 ? std::string("less than 0.1 s") : fmt::format("{:.2g} s", seconds);
    }

    const Study& study_;
    const Model& model_;
    bool plane_;
    std::optional<std::vector<double>> written_; // volumes of the regions as the study writes them
    std::map<std::vector<std::size_t>, std::vector<FreePart>> motions_;
    Ledger ledger_;
};

// The number of columns of a UTF-8 text.
std::size_t columns(const std::string& text) {
    return static_cast<std::size_t>(std::count_if(
        text.begin(), text.end(), [](char c) { return (static_cast<unsigned char>(c) & 0xC0U) != 0x80U; }));
}

// Breaks at blanks so that no line is longer than `width`, the second and later ones indented.
std::string wrapped(const std::string& text, std::size_t indent, std::size_t width) {
    std::string out;
    std::size_t used = 0;
    std::size_t at = 0;
    while (at < text.size()) {
        const std::size_t end = std::min(text.find(' ', at), text.size());
        const std::string word = text.substr(at, end - at);
        if (used > 0 && used + 1 + columns(word) + indent > width) {
            out += "\n" + std::string(indent, ' ');
            used = 0;
        } else if (used > 0) {
            out += " ";
            ++used;
        }
        out += word;
        used += columns(word);
        at = end + 1;
    }
    return out;
}

} // namespace

std::size_t Ledger::count(Standing standing) const {
    std::size_t out = 0;
    for (const LedgerSection& s : sections)
        out += static_cast<std::size_t>(std::count_if(
            s.lines.begin(), s.lines.end(), [&](const LedgerLine& l) { return l.standing == standing; }));
    return out;
}

Ledger make_ledger(const Study& study, const Model& model, bool measured) {
    return Writer(study, model, measured).run();
}

std::string render(const Ledger& ledger, int width, bool colored) {
    const auto paint = [&](const std::string& words, const char* code) {
        return colored ? std::string("\033[") + code + "m" + words + "\033[0m" : words;
    };
    std::size_t longest = 6;
    for (const LedgerSection& s : ledger.sections)
        for (const LedgerLine& l : s.lines) longest = std::max(longest, columns(l.name));
    longest = std::min<std::size_t>(longest, 24);
    const std::size_t indent = longest + 6;
    std::string out;
    for (const LedgerSection& s : ledger.sections) {
        out += (out.empty() ? "" : "\n") + paint(s.title, "1") + "\n";
        for (const LedgerLine& l : s.lines) {
            const char* mark = l.standing == Standing::Fine ? "✓" : l.standing == Standing::Doubt ? "?" : "✗";
            const char* code = l.standing == Standing::Fine    ? "32"
                               : l.standing == Standing::Doubt ? "33;1"
                                                               : "31;1";
            const std::string pad(longest > columns(l.name) ? longest - columns(l.name) : 0, ' ');
            out += "  " + paint(mark, code) + " " + l.name + pad + "  " +
                   wrapped(l.text, indent, static_cast<std::size_t>(width)) + "\n";
            for (const std::string& remark : l.remarks)
                out += std::string(indent, ' ') +
                       paint(wrapped("→ " + remark, indent + 2, static_cast<std::size_t>(width)), code) +
                       "\n";
        }
    }
    return out;
}

} // namespace upright
