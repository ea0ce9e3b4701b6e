#include "model/storage.hpp"

#include "base/files.hpp"
#include "base/h5_file.hpp"
#include "base/sensible.hpp"
#include "model/storage_walk.hpp"

#include <cmath>
#include <fmt/format.h>
#include <limits>
#include <utility>

namespace upright {

using namespace storage;

namespace {

// 2: orthotropic materials name their frame, spins have an angular acceleration. 1 is still read.
constexpr std::int64_t layout_version = 2;
constexpr std::int64_t oldest_version = 1;
constexpr double none = std::numeric_limits<double>::quiet_NaN();

template <class Io> void walk_mesh(const Io& io, Mesh& mesh) {
    Numbers places;
    for (const Vec3& p : mesh.nodes) add(places, p);
    io.numbers("mesh/nodes", places, 3);
    if constexpr (Io::reading)
        for (std::size_t i = 0; 3 * i < places.size(); ++i) mesh.nodes.push_back(vec(places, i));
    Integers kinds;
    Integers starts;
    Integers regions;
    if constexpr (!Io::reading) {
        for (const ElementKind k : mesh.kinds) kinds.push_back(static_cast<std::int64_t>(k));
        for (std::size_t e = 0; e <= mesh.elements(); ++e)
            starts.push_back(static_cast<std::int64_t>(mesh.start(e)));
        for (const RegionId r : mesh.region) regions.push_back(static_cast<std::int64_t>(r));
    }
    io.integers("mesh/kind", kinds);
    io.integers("mesh/start", starts);
    io.integers("mesh/region", regions);
    nodes(io, "mesh/connectivity", mesh.connectivity);
    io.numbers("mesh/thickness", mesh.thickness);
    Numbers misc{mesh.size};
    Numbers cuts;
    for (const SymmetryCut& c : mesh.symmetry)
        cuts.insert(cuts.end(), {static_cast<double>(c.axis), c.at, c.high ? 1.0 : 0.0});
    io.numbers("mesh/size", misc);
    io.numbers("mesh/symmetry", cuts, 3);
    Numbers grid{mesh.grid.origin.x(), mesh.grid.origin.y(), mesh.grid.origin.z(),
                 mesh.grid.cell.x(),   mesh.grid.cell.y(),   mesh.grid.cell.z()};
    Integers counts{mesh.grid.count[0], mesh.grid.count[1], mesh.grid.count[2], mesh.grid.plane ? 1 : 0};
    for (const auto& axis : mesh.grid.symmetric)
        for (const bool side : axis) counts.push_back(side ? 1 : 0);
    Integers cells(mesh.cell_of.begin(), mesh.cell_of.end());
    io.numbers("mesh/grid/origin_and_cell", grid, 3);
    io.integers("mesh/grid/count", counts);
    io.integers("mesh/grid/cell", cells);
    Numbers polar_places;
    for (const Vec3& v : {mesh.polar.origin, mesh.polar.axis}) add(polar_places, v);
    Integers polar_counts(mesh.polar.count.begin(), mesh.polar.count.end());
    Integers polar_cells(mesh.polar.cell_of.begin(), mesh.polar.cell_of.end());
    io.numbers("mesh/polar/origin_and_axis", polar_places, 3);
    io.integers("mesh/polar/count", polar_counts);
    io.integers("mesh/polar/cell", polar_cells);
    if constexpr (Io::reading) {
        mesh.polar.origin = vec(polar_places, 0);
        mesh.polar.axis = vec(polar_places, 1);
        for (std::size_t a = 0; a < 3; ++a)
            mesh.polar.count[a] = whole<int>(polar_counts.at(a), "mesh/polar");
        for (const std::int64_t c : polar_cells)
            mesh.polar.cell_of.push_back(whole<std::uint32_t>(c, "mesh/polar"));
        mesh.size = misc.at(0);
        for (std::size_t i = 0; i + 2 < cuts.size(); i += 3)
            mesh.symmetry.push_back({cuts[i] >= 0.0 && cuts[i] < 3.0 ? static_cast<int>(cuts[i]) : -1,
                                     cuts[i + 1], cuts[i + 2] != 0.0});
        for (const std::int64_t k : kinds) mesh.kinds.push_back(whole<ElementKind>(k, "mesh/kind"));
        mesh.starts.assign(starts.begin(), starts.end());
        for (const std::int64_t r : regions) mesh.region.push_back(whole<RegionId>(r, "mesh/region"));
        mesh.grid.origin = vec(grid, 0);
        mesh.grid.cell = vec(grid, 1);
        for (std::size_t a = 0; a < 3; ++a) {
            mesh.grid.count[a] = whole<int>(counts.at(a), "mesh/grid");
            for (std::size_t side = 0; side < 2; ++side)
                mesh.grid.symmetric[a][side] = counts.at(4 + 2 * a + side) != 0;
        }
        mesh.grid.plane = counts.at(3) != 0;
        for (const std::int64_t c : cells) mesh.cell_of.push_back(whole<std::uint32_t>(c, "mesh/grid"));
        require_sound(mesh);
        mesh.pack_starts();
        if (!mesh.cell_of.empty()) {
            mesh.element_of.assign(mesh.grid.size(), -1);
            for (std::size_t e = 0; e < mesh.cell_of.size(); ++e)
                mesh.element_of[mesh.cell_of[e]] = static_cast<std::int32_t>(e);
        }
        mesh.finish();
    }
}

template <class Io> void walk_materials(const Io& io, std::vector<Material>& items) {
    sized(io, "materials", items);
    texts_of(io, "materials/name", items, [](Material& m) -> std::string& { return m.name; });
    texts_of(io, "materials/source", items, [](Material& m) -> std::string& { return m.source; });
    numbers_of(io, "materials/E", items, [](Material& m) -> double& { return m.E; });
    numbers_of(io, "materials/nu", items, [](Material& m) -> double& { return m.nu; });
    numbers_of(io, "materials/density", items, [](Material& m) -> double& { return m.density; });
    const auto optional = [&](const char* name, std::optional<double> Material::*member) {
        Numbers values;
        if constexpr (!Io::reading)
            for (const Material& m : items) values.push_back((m.*member).value_or(none));
        io.numbers(std::string("materials/") + name, values, 1, true);
        if constexpr (Io::reading)
            for (std::size_t i = 0; i < items.size(); ++i)
                if (!std::isnan(values.at(i))) items[i].*member = values[i];
    };
    optional("yield", &Material::yield);
    optional("ultimate", &Material::ultimate);
    optional("expansion", &Material::expansion);
    // Orthotropic ones: E, nu, G, expansion, kind and place of the frame, its axes column by column; and the
    // name of the frame.
    for (std::size_t i = 0; i < items.size(); ++i) {
        Numbers values;
        if (const auto& o = items[i].orthotropic; o && !Io::reading) {
            add(values, o->E);
            add(values, o->nu);
            add(values, o->G);
            add(values, o->expansion.value_or(Vec3::Constant(none)));
            values.push_back(o->frame.cylindrical ? 1.0 : 0.0);
            add(values, o->frame.origin);
            for (int c = 0; c < 3; ++c) add(values, o->frame.axes.col(c));
        }
        io.numbers(part("materials", i) + "/orthotropic", values, 1, true);
        Texts frame{items[i].orthotropic ? items[i].orthotropic->frame.name : std::string()};
        if (!Io::reading || io.has(part("materials", i) + "/frame"))
            io.texts(part("materials", i) + "/frame", frame);
        if (Io::reading && !values.empty()) {
            // Four triples, a number, four triples.
            const auto from = [&](std::size_t at) {
                return Vec3(values.at(at), values.at(at + 1), values.at(at + 2));
            };
            Orthotropic o;
            o.E = from(0);
            o.nu = from(3);
            o.G = from(6);
            if (!std::isnan(values.at(9))) o.expansion = from(9);
            o.frame.name = frame.at(0);
            o.frame.cylindrical = values.at(12) != 0.0;
            o.frame.origin = from(13);
            for (int c = 0; c < 3; ++c) o.frame.axes.col(c) = from(16 + 3 * static_cast<std::size_t>(c));
            items[i].orthotropic = o;
        }
    }
}

template <class Io> void walk_regions(const Io& io, std::vector<ModelRegion>& items) {
    sized(io, "regions", items);
    texts_of(io, "regions/name", items, [](ModelRegion& r) -> std::string& { return r.name; });
    integers_of(io, "regions/role", items, [](ModelRegion& r) -> Role& { return r.role; });
    integers_of(io, "regions/material", items, [](ModelRegion& r) -> MaterialId& { return r.material; });
    integers_of(io, "regions/elements", items, [](ModelRegion& r) -> std::size_t& { return r.elements; });
    numbers_of(io, "regions/volume", items, [](ModelRegion& r) -> double& { return r.volume; });
    numbers_of(io, "regions/mass", items, [](ModelRegion& r) -> double& { return r.mass; });
    integers_of(io, "regions/painted", items, [](ModelRegion& r) -> std::size_t& { return r.cells.painted; });
    integers_of(io, "regions/lost", items, [](ModelRegion& r) -> std::size_t& { return r.cells.lost; });
    integers_of(io, "regions/taken", items, [](ModelRegion& r) -> std::size_t& { return r.cells.taken; });
    numbers_of(io, "regions/taken_volume", items,
               [](ModelRegion& r) -> double& { return r.cells.taken_volume; });
}

template <class Io> void walk_places(const Io& io, Model& model) {
    sized(io, "surfaces", model.surfaces);
    texts_of(io, "surfaces/name", model.surfaces, [](ModelSurface& s) -> std::string& { return s.name; });
    numbers_of(io, "surfaces/area", model.surfaces, [](ModelSurface& s) -> double& { return s.area; });
    vectors_of(io, "surfaces/centroid", model.surfaces, [](ModelSurface& s) -> Vec3& { return s.centroid; });
    vectors_of(io, "surfaces/normal", model.surfaces, [](ModelSurface& s) -> Vec3& { return s.normal; });
    for (std::size_t i = 0; i < model.surfaces.size(); ++i) {
        ModelSurface& s = model.surfaces[i];
        Integers faces;
        if constexpr (!Io::reading)
            for (const MeshFace& f : s.faces)
                faces.insert(faces.end(), {static_cast<std::int64_t>(f.element), f.side});
        io.integers(part("surfaces", i) + "/element_and_side", faces, 2);
        nodes(io, part("surfaces", i) + "/nodes", s.nodes);
        if constexpr (Io::reading)
            for (std::size_t k = 0; k + 1 < faces.size(); k += 2)
                s.faces.push_back(
                    {whole<ElementId>(faces[k], "surfaces"), whole<int>(faces[k + 1], "surfaces")});
    }
    sized(io, "points", model.points);
    texts_of(io, "points/name", model.points, [](ModelPoint& p) -> std::string& { return p.name; });
    vectors_of(io, "points/at", model.points, [](ModelPoint& p) -> Vec3& { return p.at; });
    integers_of(io, "points/node", model.points, [](ModelPoint& p) -> NodeId& { return p.node; });
    numbers_of(io, "points/off", model.points, [](ModelPoint& p) -> double& { return p.off; });
}

template <class Io> void walk_links(const Io& io, Model& model) {
    std::vector<ModelCoupling>& couplings = model.couplings.all();
    sized(io, "couplings", couplings);
    texts_of(io, "couplings/name", couplings, [](ModelCoupling& c) -> std::string& { return c.name; });
    vectors_of(io, "couplings/at", couplings, [](ModelCoupling& c) -> Vec3& { return c.at; });
    for (std::size_t i = 0; i < couplings.size(); ++i) {
        ModelCoupling& c = couplings[i];
        Integers rigid{c.rigid ? 1 : 0};
        io.integers(part("couplings", i) + "/rigid", rigid);
        io.texts(part("couplings", i) + "/surfaces", c.surfaces);
        nodes(io, part("couplings", i) + "/nodes", c.nodes);
        equations(io, part("couplings", i) + "/equations", c.equations);
        if constexpr (Io::reading) c.rigid = rigid.at(0) != 0;
    }
    sized(io, "joints", model.joints);
    texts_of(io, "joints/name", model.joints, [](ModelJoint& j) -> std::string& { return j.name; });
    vectors_of(io, "joints/axis", model.joints, [](ModelJoint& j) -> Vec3& { return j.axis; });
    for (std::size_t i = 0; i < model.joints.size(); ++i) {
        ModelJoint& j = model.joints[i];
        Integers ends{static_cast<std::int64_t>(j.ends[0]), static_cast<std::int64_t>(j.ends[1])};
        Integers freedoms(j.freedoms.begin(), j.freedoms.end());
        Numbers matrix(j.matrix.data(), j.matrix.data() + j.matrix.size());
        io.integers(part("joints", i) + "/ends", ends);
        fixed(io, part("joints", i) + "/stiffness", j.stiffness);
        io.integers(part("joints", i) + "/freedom", freedoms);
        io.numbers(part("joints", i) + "/matrix", matrix, std::max<std::size_t>(1, freedoms.size()));
        if constexpr (Io::reading) {
            for (std::size_t k = 0; k < 2; ++k)
                j.ends[k] =
                    ends.at(k) < 0 ? CouplingId::None : among<CouplingId>(ends.at(k), model.couplings.size());
            j.freedoms.assign(freedoms.begin(), freedoms.end());
            if (freedoms.size() > 12 || matrix.size() != freedoms.size() * freedoms.size())
                throw Damage("a stiffness of another size, in joints");
            const auto n = static_cast<Eigen::Index>(freedoms.size());
            j.matrix = Eigen::Map<const Eigen::MatrixXd>(matrix.data(), n, n);
        }
    }
    sized(io, "masses", model.masses);
    texts_of(io, "masses/name", model.masses, [](ModelMass& m) -> std::string& { return m.name; });
    numbers_of(io, "masses/value", model.masses, [](ModelMass& m) -> double& { return m.value; });
    vectors_of(io, "masses/inertia", model.masses, [](ModelMass& m) -> Vec3& { return m.inertia; });
    for (std::size_t i = 0; i < model.masses.size(); ++i) {
        ModelMass& m = model.masses[i];
        io.texts(part("masses", i) + "/on", m.on);
        terms(io, part("masses", i) + "/diagonal", m.diagonal);
        Integers freedoms;
        Numbers shares;
        if constexpr (!Io::reading)
            for (const ModelMass::Share& s : m.shares) {
                freedoms.push_back(static_cast<std::int64_t>(s.freedom));
                shares.insert(shares.end(), {s.at.x(), s.at.y(), s.at.z(), s.mass});
            }
        io.integers(part("masses", i) + "/share_freedom", freedoms);
        io.numbers(part("masses", i) + "/share_place_and_mass", shares, 4);
        if constexpr (Io::reading)
            for (std::size_t k = 0; k < freedoms.size(); ++k)
                m.shares.push_back({whole<std::size_t>(freedoms[k], "masses"),
                                    Vec3(shares.at(4 * k), shares.at(4 * k + 1), shares.at(4 * k + 2)),
                                    shares.at(4 * k + 3)});
    }
    sized(io, "bonds", model.bonds);
    texts_of(io, "bonds/name", model.bonds, [](ModelBond& b) -> std::string& { return b.name; });
    integers_of(io, "bonds/tied", model.bonds, [](ModelBond& b) -> std::size_t& { return b.tied; });
    integers_of(io, "bonds/loose", model.bonds, [](ModelBond& b) -> std::size_t& { return b.loose; });
    numbers_of(io, "bonds/widest", model.bonds, [](ModelBond& b) -> double& { return b.widest; });
    for (std::size_t i = 0; i < model.bonds.size(); ++i) {
        Texts between(model.bonds[i].between.begin(), model.bonds[i].between.end());
        io.texts(part("bonds", i) + "/between", between);
        equations(io, part("bonds", i) + "/equations", model.bonds[i].equations);
        if constexpr (Io::reading) model.bonds[i].between = {between.at(0), between.at(1)};
    }
}

template <class Io> void walk_supports(const Io& io, std::vector<ModelSupport>& supports) {
    sized(io, "supports", supports);
    texts_of(io, "supports/name", supports, [](ModelSupport& s) -> std::string& { return s.name; });
    texts_of(io, "supports/frame", supports, [](ModelSupport& s) -> std::string& { return s.frame; });
    integers_of(io, "supports/places", supports, [](ModelSupport& s) -> std::size_t& { return s.nodes; });
    for (std::size_t i = 0; i < supports.size(); ++i) {
        ModelSupport& s = supports[i];
        const std::string at = part("supports", i);
        io.texts(at + "/on", s.on);
        io.texts(at + "/words", s.words);
        Integers hold(s.hold.begin(), s.hold.end());
        hold.push_back(s.cylindrical ? 1 : 0);
        Integers held(s.held.begin(), s.held.end());
        io.integers(at + "/hold", hold);
        io.integers(at + "/held", held);
        fixed(io, at + "/move", s.move);
        equations(io, at + "/equations", s.equations);
        if constexpr (Io::reading) {
            for (std::size_t k = 0; k < 6; ++k) s.hold[k] = hold.at(k) != 0;
            s.cylindrical = hold.at(6) != 0;
            s.held.assign(held.begin(), held.end());
        }
    }
}

template <class Io> void walk_loads(const Io& io, std::vector<ModelLoad>& all) {
    sized(io, "loads", all);
    texts_of(io, "loads/name", all, [](ModelLoad& l) -> std::string& { return l.name; });
    Texts kinds;
    for (const ModelLoad& l : all) kinds.emplace_back(text(l.kind));
    io.texts("loads/kind", kinds);
    if constexpr (Io::reading)
        for (std::size_t i = 0; i < all.size(); ++i) {
            const std::optional<LoadKind> kind = load_kind(kinds.at(i));
            if (!kind) throw Damage("a kind of load that is not known, in loads/kind");
            all[i].kind = *kind;
        }
    numbers_of(io, "loads/heat", all, [](ModelLoad& l) -> double& { return l.heat; });
    numbers_of(io, "loads/pressure", all, [](ModelLoad& l) -> double& { return l.pressure; });
    for (std::size_t i = 0; i < all.size(); ++i) {
        ModelLoad& l = all[i];
        const std::string at = part("loads", i);
        io.texts(at + "/on", l.on);
        terms(io, at + "/forces", l.forces);
        Numbers body;
        if (l.gravity) add(body, *l.gravity);
        io.numbers(at + "/gravity", body);
        Numbers spin;
        if (l.spin) {
            add(spin, l.spin->origin);
            add(spin, l.spin->axis);
            spin.push_back(l.spin->speed);
            spin.push_back(l.spin->speed_up);
        }
        io.numbers(at + "/spin", spin);
        if constexpr (Io::reading) {
            if (body.size() == 3) l.gravity = vec(body, 0);
            if (!spin.empty())
                l.spin = Spin{vec(spin, 0), vec(spin, 1), spin.at(6), spin.size() > 7 ? spin[7] : 0.0};
        }
    }
}

template <class Io> void walk_cases(const Io& io, Model& model) {
    std::vector<ModelCase>& cases = model.cases.all();
    sized(io, "cases", cases);
    texts_of(io, "cases/name", cases, [](ModelCase& c) -> std::string& { return c.name; });
    numbers_of(io, "cases/weight", cases, [](ModelCase& c) -> double& { return c.weight; });
    for (std::size_t i = 0; i < cases.size(); ++i) {
        ModelCase& c = cases[i];
        Integers supports = numbers_of_ids(c.supports);
        Integers loads;
        Numbers factors;
        for (const auto& [l, f] : c.loads) {
            loads.push_back(static_cast<std::int64_t>(l));
            factors.push_back(f);
        }
        io.integers(part("cases", i) + "/supports", supports);
        io.integers(part("cases", i) + "/loads", loads);
        io.numbers(part("cases", i) + "/factors", factors);
        if constexpr (Io::reading) {
            c.supports = ids<SupportId>(supports, model.supports.size());
            for (std::size_t k = 0; k < loads.size(); ++k)
                c.loads.emplace_back(among<LoadId>(loads[k], model.loads.size()), factors.at(k));
        }
    }
}

template <class Io> void walk_modal_cases(const Io& io, Model& model) {
    std::vector<ModelModalCase>& cases = model.modal_cases.all();
    sized(io, "modal_cases", cases);
    texts_of(io, "modal_cases/name", cases, [](ModelModalCase& c) -> std::string& { return c.name; });
    integers_of(io, "modal_cases/modes", cases, [](ModelModalCase& c) -> int& { return c.modes; });
    numbers_of(io, "modal_cases/up_to", cases, [](ModelModalCase& c) -> double& { return c.up_to; });
    for (std::size_t i = 0; i < cases.size(); ++i) {
        ModelModalCase& c = cases[i];
        Integers supports = numbers_of_ids(c.supports);
        Integers lumped{c.lumped ? 1 : 0};
        io.integers(part("modal_cases", i) + "/supports", supports);
        io.integers(part("modal_cases", i) + "/lumped", lumped);
        if constexpr (Io::reading) {
            c.supports = ids<SupportId>(supports, model.supports.size());
            c.lumped = lumped.at(0) != 0;
        }
    }
}

template <class Io> void walk_extents(const Io& io, RegionExtents& extents, std::size_t regions) {
    extents.skins.resize(regions);
    extents.rings.resize(regions);
    for (std::size_t r = 0; r < regions; ++r) {
        Numbers triangles;
        if (extents.skins[r])
            for (const auto& c : extents.skins[r]->corners())
                for (const Vec3& p : c) add(triangles, p);
        Numbers rings;
        for (const Ring& ring : extents.rings[r]) {
            add(rings, ring.from);
            add(rings, ring.to);
            rings.insert(rings.end(), {ring.inner, ring.outer});
        }
        io.numbers(part("extents", r) + "/skin", triangles, 9);
        io.numbers(part("extents", r) + "/rings", rings, 8);
        if constexpr (Io::reading) {
            for (const Numbers* list : {&triangles, &rings})
                for (const double number : *list)
                    if (std::abs(number) > largest_number)
                        throw Damage("a shape that has no place, in extents");
            if (!triangles.empty()) {
                std::vector<Vec3> points;
                std::vector<std::array<std::int32_t, 3>> corners;
                for (std::size_t i = 0; 3 * i < triangles.size(); ++i) points.push_back(vec(triangles, i));
                for (std::int32_t t = 0; static_cast<std::size_t>(3 * t) < points.size(); ++t)
                    corners.push_back({3 * t, 3 * t + 1, 3 * t + 2});
                extents.skins[r] = std::make_shared<FacetTree>(points, corners);
            }
            for (std::size_t i = 0; i + 7 < rings.size(); i += 8)
                extents.rings[r].push_back({Vec3(rings[i], rings[i + 1], rings[i + 2]),
                                            Vec3(rings[i + 3], rings[i + 4], rings[i + 5]), rings[i + 6],
                                            rings[i + 7]});
        }
    }
}

template <class Io> void walk(const Io& io, Model& model, std::string& study) {
    Texts text{study};
    io.texts("study", text);
    Texts units{model.units.length, model.units.force, model.units.time};
    Numbers si{model.units.length_si, model.units.force_si, model.units.time_si};
    io.texts("units", units);
    io.numbers("units_si", si);
    Integers choices{static_cast<std::int64_t>(model.family), static_cast<std::int64_t>(model.formulation)};
    io.integers("family_and_formulation", choices);
    io.texts("remarks", model.remarks);
    if constexpr (Io::reading) {
        study = text.at(0);
        model.units.length = units.at(0);
        model.units.force = units.at(1);
        model.units.time = units.at(2);
        model.units.length_si = si.at(0);
        model.units.force_si = si.at(1);
        model.units.time_si = si.at(2);
        if (choices.at(0) < 0 || choices[0] > static_cast<std::int64_t>(ElementFamily::Shell) ||
            choices.at(1) < 0 || choices[1] > static_cast<std::int64_t>(Formulation::Plain))
            throw Damage("what is not known, in family_and_formulation");
        model.family = static_cast<ElementFamily>(choices[0]);
        model.formulation = static_cast<Formulation>(choices[1]);
    }
    walk_mesh(io, model.mesh);
    walk_materials(io, model.materials.all());
    walk_regions(io, model.regions);
    walk_places(io, model);
    walk_links(io, model);
    equations(io, "symmetry", model.symmetry);
    walk_supports(io, model.supports.all());
    walk_loads(io, model.loads.all());
    walk_cases(io, model);
    walk_modal_cases(io, model);
    RegionExtents extents = model.shapes.extents();
    walk_extents(io, extents, model.regions.size());
    if (Io::reading) model.shapes = RegionField(std::move(extents));
}

} // namespace

void save_model(const std::filesystem::path& file, const Model& model, const std::string& study) {
    H5File::write(file, [&](const H5File& h5) {
        h5.put("layout_version", Integers{layout_version});
        // The walk only reads from the model when it writes the file.
        std::string text = study;
        walk(Writer(h5), const_cast<Model&>(model), text);
    });
}

StoredModel load_model(const std::filesystem::path& file) {
    std::error_code ignored;
    if (!std::filesystem::is_regular_file(file, ignored))
        throw Error::input({file.string()}, "there is no such file");
    const H5File h5 = H5File::open(file);
    if (!h5.has("layout_version") || !h5.has("mesh/nodes"))
        throw Error::input({file.string()}, "this is no model", "\"upright model STUDY\" writes one");
    const Integers layout = h5.integers("layout_version");
    if (layout.empty() || layout[0] < oldest_version || layout[0] > layout_version)
        throw Error::input({file.string()},
                           fmt::format("this model has the layout {}, and this program reads {} to {}",
                                       layout.empty() ? 0 : layout[0], oldest_version, layout_version),
                           "Write the model or the run again from its study (study.toml beside it holds that "
                           "of a run)");
    const auto damaged = [&](const std::string& how) {
        return Error::input({file.string()}, "this file is damaged: it " + how,
                            "Write it again with \"upright model STUDY\", or run the study again");
    };
    StoredModel out;
    try {
        walk(Reader(h5), out.model, out.study);
        require_sound(out.model);
    } catch (const Damage& bad) {
        throw damaged(std::string("holds ") + bad.what());
    } catch (const std::out_of_range&) { // an array that is too short
        throw damaged("lacks numbers");
    }
    return out;
}

} // namespace upright
