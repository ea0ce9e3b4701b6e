// What there is: materials, regions, mesh, surfaces.
#include "check/writer.hpp"

#include "base/text.hpp"
#include "part/solid/lattice_cell.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>

namespace upright::check {

void Writer::materials() {
    section("Materials");
    for (const Material& m : model_.materials) {
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
                : fmt::format("E {} {}, nu {:g}, density {} {}", number(m.E), unit(dimension::stress), m.nu,
                              number(m.density), unit(dimension::density));
        if (m.yield) text += fmt::format(", yield {} {}", number(*m.yield), unit(dimension::stress));
        if (m.source != "own") text += "; " + m.source;
        LedgerLine& l = line(m.name, text);
        if (!m.yield && model_.family == ElementFamily::Solid && m.source == "own")
            l.text += "; no yield strength, so stress cannot be judged";
        const bool used = std::any_of(model_.shapes.regions().begin(), model_.shapes.regions().end(),
                                      [&](const RegionCard& r) { return r.material == m.name; });
        if (!used) doubt(l, "no region uses it");
        plausible(l, m);
    }
}

void Writer::plausible(LedgerLine& l, const Material& m) const {
    const double E = m.E * model_.units.si(dimension::stress);
    const double density = m.density * model_.units.si(dimension::density);
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
        doubt(l,
              fmt::format("a yield of {:.3g} of E is that of no material: look at its unit", *m.yield / m.E));
}

void Writer::volumes(LedgerLine& l, std::size_t r) {
    const double meshed = model_.regions[r].volume;
    if (!written_ || meshed <= 0.0) return;
    const double written = (*written_)[r];
    // It is measured to about a per cent: three figures at most.
    const double step = written > 0.0 ? std::pow(10.0, std::floor(std::log10(written)) - 2.0) : 1.0;
    l.text += fmt::format("; as written about {} {}", number(step * std::round(written / step)),
                          unit(dimension::volume));
    const FieldRegion& card = model_.shapes[r];
    const Skin* skin = std::get_if<Skin>(&card.extent);
    if (written <= 0.0) return;
    const double ratio = meshed / written;
    if (skin != nullptr)
        l.text += fmt::format(", so the layer of {} {} is {:.3g} {} deep on the mean", number(skin->depth),
                              unit(dimension::length), skin->depth * ratio, unit(dimension::length));
    if (std::abs(ratio - 1.0) > 0.1)
        doubt(l, fmt::format("the mesh makes it {:+.0f} % of what is written: smaller cells, or a depth of "
                             "whole cells, come closer",
                             100.0 * (ratio - 1.0)));
}

void Writer::regions() {
    section("Regions, in painting order");
    for (std::size_t r = 0; r < model_.regions.size(); ++r) {
        const ModelRegion& region = model_.regions[r];
        const std::size_t painted = region.cells.painted;
        if (region.role == Role::Void) {
            if (model_.made_by.kind->leaves_out_voids &&
                (model_.made_by.kind->follows_shapes || region.cells.taken == 0)) {
                line(region.name,
                     std::string("void; left out of the ") + model_.made_by.kind->word + " mesh");
                continue;
            }
            // What it took away: cells that an earlier region had painted.
            LedgerLine& l =
                line(region.name, fmt::format("void; takes {} cells, {} {}", region.cells.taken,
                                              number(region.cells.taken_volume), unit(dimension::volume)));
            const std::string plane = beyond(r);
            if (region.cells.taken == 0 && !plane.empty())
                doubt(l, "it lies beyond the symmetry plane " + plane +
                             ": that part is the mirror image of what is modelled");
            else if (region.cells.taken == 0)
                doubt(l, "it takes nothing away: it lies outside of what was painted before it, or is "
                         "smaller than a cell");
            continue;
        }
        const std::string role = region.role == Role::Keep ? "keep" : "design";
        LedgerLine& l =
            line(region.name, fmt::format("{}, {}; {} elements, volume {} {}, mass {}", role,
                                          model_.shapes[r].material, region.elements, number(region.volume),
                                          unit(dimension::volume), model_.units.mass_text(region.mass)));
        if (!model_.mesh.thickness.empty())
            l.text += fmt::format(", {} {} thick", number(model_.shapes[r].deep), unit(dimension::length));
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
            const std::size_t lost = region.cells.lost;
            // A hole through it is usual; losing most of it is not.
            if (2 * lost > painted)
                doubt(l, fmt::format("later voids take {} of its {} cells", lost, painted));
            else if (lost > 0)
                l.text += fmt::format("; later voids take {} of its {} cells", lost, painted);
        }
    }
    for (const std::string& name : model_.inactive) line(name, "left out (active = false)");
    files();
}

std::string Writer::beyond(std::size_t r) const {
    const Shape* shape = std::get_if<Shape>(&model_.shapes[r].extent);
    std::vector<SymmetryPlane> planes;
    for (const SymmetryCut& cut : model_.mesh.symmetry) planes.push_back({cut.axis, cut.at, {}});
    return shape == nullptr ? "" : beyond_symmetry(planes, model_.mesh.bounds, bounds(*shape));
}

void Writer::finishes() {
    if (model_.finishes.empty()) return;
    section("Finished when carved");
    for (const RegionCard& card : model_.finishes) {
        LedgerLine& l =
            line(card.name, card.role == Role::Void ? std::string("cut") : "added, of " + card.material);
        if (const Skin* stock = std::get_if<Skin>(&card.extent)) {
            l.text += fmt::format(", stock of {:.5g} {} on {}, to be machined away", stock->depth,
                                  unit(dimension::length), joined(stock->of));
            continue;
        }
        const Shape& shape = std::get<Shape>(card.extent);
        l.text += extent(", ", shape);
        if (apart(shape))
            doubt(l, card.role == Role::Void ? "it lies outside of the modelled space: it cuts nothing there"
                                             : "it lies outside of the modelled space and does not touch it");
    }
}

void Writer::infills() {
    if (model_.infills.empty()) return;
    section("Infill of the carved part");
    for (const InfillCard& card : model_.infills) {
        LedgerLine& l =
            line(card.name,
                 fmt::format("{}, period {:.5g}, thickness {:.5g}, skin {:.5g} {}; {:.3g} % solid; in {}",
                             text(card.cell), card.period, card.thickness, card.skin, unit(dimension::length),
                             100.0 * LatticeCell(card).share(),
                             card.of.empty() ? "all that is design" : joined(card.of)));
        if (!card.inside) continue;
        l.text += extent(", inside ", *card.inside);
        if (apart(*card.inside)) doubt(l, "its shape lies outside of the modelled space: nothing is filled");
    }
}

// How large a shape is, behind a word; nothing of one that has no end.
std::string Writer::extent(const std::string& before, const Shape& shape) const {
    const Vec3 s = bounds(shape).size();
    if (s.norm() >= 1e3 * model_.mesh.bounds.diagonal()) return "";
    return fmt::format("{}{:.5g} x {:.5g} x {:.5g} {}", before, s.x(), s.y(), s.z(), unit(dimension::length));
}

// Whether a shape lies outside of the modelled space.
bool Writer::apart(const Shape& shape) const {
    const Bounds box = bounds(shape);
    const double slack = 1e-9 * model_.mesh.size;
    return (box.low.array() > model_.mesh.bounds.high.array() + slack).any() ||
           (box.high.array() < model_.mesh.bounds.low.array() - slack).any();
}

void Writer::files() {
    for (const FieldRegion& card : model_.shapes.regions()) {
        const Shape* shape = std::get_if<Shape>(&card.extent);
        const FileBody* file = shape == nullptr ? nullptr : std::get_if<FileBody>(shape);
        if (file == nullptr || !std::filesystem::exists(file->slot->file)) continue;
        const FacetBody& body = file_body(*file);
        const Vec3 s = body.bounds().size();
        LedgerLine& l =
            line(card.name + " file", fmt::format("{}, body \"{}\": {:.6g} x {:.6g} x {:.6g} {}",
                                                  file->slot->file.filename().string(), body.name(), s.x(),
                                                  s.y(), s.z(), unit(dimension::length)));
        if (file->slot->file_unit_si > 0.0 &&
            std::abs(file->slot->file_unit_si / model_.units.length_si - 1.0) > 1e-9)
            doubt(l, fmt::format("the file is written in {} and the study in {}; its lengths were "
                                 "converted: compare the box with the drawing, or write file_unit",
                                 file->slot->file_unit, unit(dimension::length)));
        for (const std::string& remark : file->slot->remarks)
            if (file->slot->heal > 0.0)
                l.text += "; healed as asked: " + remark;
            else
                doubt(l, "repaired: " + remark);
    }
}

void Writer::mesh() {
    section("Mesh");
    const Mesh& m = model_.mesh;
    std::map<std::string, std::size_t> kinds;
    for (const ElementKind k : m.kinds) ++kinds[traits(k).name];
    std::string of_kinds;
    for (const auto& [name, count] : kinds)
        of_kinds +=
            (of_kinds.empty() ? "" : ", ") + (kinds.size() == 1 ? name : fmt::format("{} {}", count, name));
    if (model_.family == ElementFamily::PlaneStress) of_kinds += ", plane stress";
    if (model_.family == ElementFamily::PlaneStrain) of_kinds += ", plane strain";
    if (kinds.count("hex8") + kinds.count("quad4") + kinds.count("shell quad4") > 0)
        of_kinds += model_.formulation == Formulation::Plain ? ", plain" : ", enhanced";
    const std::string counts = fmt::format("{} elements ({}), {} nodes, {} displacements", m.elements(),
                                           of_kinds, m.nodes.size(), model_.freedoms());
    if (m.on_grid()) {
        const CellGrid& g = m.grid;
        const std::string cells = plane_ ? fmt::format("{} x {}", g.count[0], g.count[1])
                                         : fmt::format("{} x {} x {}", g.count[0], g.count[1], g.count[2]);
        const std::string size =
            plane_ ? fmt::format("{:.4g} x {:.4g} {}, {:g} {} thick", g.cell.x(), g.cell.y(),
                                 unit(dimension::length), g.cell.z(), unit(dimension::length))
                   : fmt::format("{:.4g} x {:.4g} x {:.4g} {}", g.cell.x(), g.cell.y(), g.cell.z(),
                                 unit(dimension::length));
        line("grid", fmt::format("{} cells of {}; {}", cells, size, counts));
    } else {
        LedgerLine& l = line(model_.made_by.kind->word,
                             fmt::format("size {} {}; {}", number(m.size), unit(dimension::length), counts));
        const MeshQuality q = mesh_quality(m);
        l.text += fmt::format("; worst scaled Jacobian {:.3g} at {}", q.scaled_jacobian,
                              place(m.center(q.worst.front().element)));
        if (q.smallest_dihedral)
            l.text += fmt::format(", smallest dihedral angle {:.3g} deg", *q.smallest_dihedral);
        l.text += fmt::format(", largest aspect {:.3g}", q.aspect);
        // Tetrahedra are judged by their angles.
        const bool bad = q.smallest_dihedral ? *q.smallest_dihedral < 10.0 || *q.largest_dihedral > 170.0
                                             : q.scaled_jacobian < 0.1;
        if (bad) doubt(l, "elements this bad spoil stresses near them; \"upright model\" lists the worst");
        for (const std::string& remark : model_.remarks) doubt(l, remark);
    }
    const std::vector<int> part = face_connected_parts(m);
    const int parts = 1 + *std::max_element(part.begin(), part.end());
    LedgerLine& l = line("connection",
                         parts == 1 ? "the mesh is one piece"
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
            missing(l,
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
                                     "xyz"[cut.axis], cut.at, m.bounds.low[cut.axis], m.bounds.high[cut.axis],
                                     modelled_part(m.copies())));
}

void Writer::surfaces() {
    if (!model_.surfaces.empty()) section("Surfaces");
    for (const ModelSurface& s : model_.surfaces) {
        LedgerLine& l = line(s.name, fmt::format("{} faces, area {} {}, centroid {}, mean normal {}",
                                                 s.faces.size(), number(s.area), unit(dimension::area),
                                                 place(s.centroid), vector(s.normal, 1.0)));
        bool used = false;
        for (const ModelSupport& c : model_.supports) used = used || refers_to(c.on, s.name);
        for (const ModelLoad& c : model_.loads) used = used || refers_to(c.on, s.name);
        for (const ModelCoupling& c : model_.couplings) used = used || refers_to(c.surfaces, s.name);
        for (const ModelMass& c : model_.masses) used = used || refers_to(c.on, s.name);
        for (const ModelBond& c : model_.bonds)
            used = used || refers_to(c.between[0], s.name) || refers_to(c.between[1], s.name);
        for (const ModelPoint& p : model_.points) used = used || (!p.of.empty() && refers_to(p.of, s.name));
        for (const FieldRegion& c : model_.shapes.regions())
            if (const auto* skin = std::get_if<Skin>(&c.extent)) used = used || refers_to(skin->of, s.name);
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

} // namespace upright::check
