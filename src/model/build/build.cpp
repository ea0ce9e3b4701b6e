// From a checked study to its model, step by step.
#include "mesh/mesh_kind.hpp"
#include "model/build/parts.hpp"
#include "study/measure_word.hpp"

#include <fmt/format.h>

namespace upright {

namespace {

void add_regions(Model& model, const std::vector<PaintedCells>& painted) {
    for (std::size_t r = 0; r < model.regions.size(); ++r) model.regions[r].cells = painted[r];
    for (std::size_t e = 0; e < model.mesh.elements(); ++e) {
        ModelRegion& region = model.regions[index(model.mesh.region[e])];
        const double volume = model.mesh.volume(static_cast<ElementId>(e));
        ++region.elements;
        region.volume += volume;
        region.mass += volume * model.material(static_cast<ElementId>(e)).density;
    }
}

std::vector<SupportId> supports_of(const Model& model, const std::vector<std::string>& names) {
    std::vector<SupportId> out;
    for (const SupportId s : model.supports.ids())
        if (refers_to(names, model.supports[s].name)) out.push_back(s);
    return out;
}

void add_cases(Model& model, const Study& study) {
    for (const ModalCase& card : study.modal_cases)
        model.modal_cases.push_back({card.name, supports_of(model, card.supports), card.modes,
                                     card.up_to.value_or(0.0), card.lumped});
    for (const StaticCase& card : study.cases) {
        ModelCase c;
        c.name = card.name;
        c.weight = card.weight;
        c.supports = supports_of(model, card.supports);
        for (const auto& [name, factor] : card.loads)
            for (const LoadId l : model.loads.ids())
                if (model.loads[l].name == name) c.loads.emplace_back(l, factor);
        model.cases.push_back(c);
    }
}

// What a name means among all of a kind.
template <class Id, class T> std::vector<Id> meant(const std::string& name, const std::vector<T>& all) {
    std::vector<Id> out;
    for (std::size_t i = 0; i < all.size(); ++i)
        if (refers_to(name, all[i].name)) out.push_back(static_cast<Id>(i));
    return out;
}
template <class Id, class T> std::vector<Id> meant(const std::string& name, const IdVector<Id, T>& all) {
    return meant<Id>(name, all.all());
}

ModelResponse resolve(const Model& model, const Study& study, const ResponseCard& card) {
    ModelResponse out;
    static_cast<ResponseCard&>(out) = card;
    for (std::size_t r = 0; r < model.regions.size(); ++r)
        if (refers_to(card.of, model.regions[r].name)) out.regions.push_back(static_cast<RegionId>(r));
    for (const CaseId c : model.cases.ids())
        if (card.in_case.empty() || refers_to(card.in_case, model.cases[c].name)) out.cases.push_back(c);
    for (const ModalCaseId c : model.modal_cases.ids())
        if (card.in_case.empty() || refers_to(card.in_case, model.modal_cases[c].name))
            out.modal_cases.push_back(c);
    out.points = meant<std::size_t>(card.at, model.points);
    out.couplings = meant(card.at, model.couplings);
    out.surfaces = meant<std::size_t>(card.at, model.surfaces);
    out.supports = meant(card.at, model.supports);
    if (!card.frame.empty()) out.axes = study.frame(card.frame);
    if (study.goal && study.goal->response == card.name) {
        out.goal = true;
        out.raised = study.goal->maximize;
    }
    return out;
}

void add_asked(Model& model, const Study& study) {
    model.file = study.file;
    model.title = study.title;
    model.notes = study.notes;
    model.made_by = study.mesh;
    model.responses.clear();
    model.goal.reset();
    for (const ResponseCard& card : study.responses) {
        model.responses.push_back(resolve(model, study, card));
        if (model.responses.back().goal)
            model.goal = ModelGoal{model.responses.size() - 1, study.goal->maximize, study.goal->place};
    }
    static_cast<FormCard&>(model.form) = study.form;
    if (study.form.sectors) model.form.sectors_about = study.frame(study.form.sectors->frame);
    if (const auto& filter = study.run.filter; filter && *filter > model.mesh.bounds.diagonal())
        throw Error::input(
            study.run.filter_place,
            fmt::format("a filter of {:g} {} reaches all across the body, whose diagonal is {:g}", *filter,
                        study.units.length, model.mesh.bounds.diagonal()),
            "Write a radius of a few cells");
    model.run = study.run;
    model.inactive = study.inactive;
    model.finishes = study.finishes;
    model.infills = study.infills;
    for (const CaseId c : model.cases.ids()) model.cases[c].place = study.cases[index(c)].place;
    for (const LoadCard& card : study.loads)
        for (ModelLoad& load : model.loads)
            if (load.name == card.name) load.covers = card.covers;
    for (const PointCard& card : study.points)
        for (ModelPoint& p : model.points)
            if (p.name == card.name)
                if (const auto* surface = std::get_if<std::string>(&card.at)) p.of = *surface;
}

} // namespace

Model build_model(const Study& study) {
    Model model;
    model.units = study.units;
    model.family = study.mesh.family;
    model.formulation = study.mesh.formulation;
    model.materials = study.materials;
    for (const RegionCard& card : study.regions) {
        ModelRegion region;
        region.name = card.name;
        region.role = card.role;
        for (std::size_t m = 0; m < study.materials.size(); ++m)
            if (study.materials[m].name == card.material) region.material = static_cast<MaterialId>(m);
        model.regions.push_back(region);
    }
    MadeMesh made = make_mesh(make_space(study));
    model.mesh = std::move(made.mesh);
    model.shapes = std::move(made.regions);
    model.remarks = std::move(made.remarks);
    add_regions(model, made.painted);
    for (std::size_t s = 0; s < study.surfaces.size(); ++s)
        model.surfaces.push_back(
            make_surface(model.mesh, study.surfaces[s].name, std::move(made.surfaces[s])));
    for (const PointCard& card : study.points) model.points.push_back(make_point(model, card));
    for (const CouplingCard& card : study.couplings) model.couplings.push_back(make_coupling(model, card));
    for (const CouplingId c : model.couplings.ids()) fill_coupling(model, c);
    for (const JointCard& card : study.joints) model.joints.push_back(make_joint(model, card));
    for (const MassCard& card : study.masses) model.masses.push_back(make_mass(model, card));
    for (const BondCard& card : study.bonds) model.bonds.push_back(make_bond(model, card));
    for (const SupportCard& card : study.supports)
        model.supports.push_back(make_support(model, study.frames, card));
    model.symmetry = hold_symmetry(model);
    for (const LoadCard& card : study.loads) model.loads.push_back(make_load(model, study.frames, card));
    add_cases(model, study);
    add_asked(model, study);
    for (const ModelResponse& r : model.responses)
        if (r.measure->at_place)
            for (const std::size_t p : r.points)
                if (model.coupling_at(model.points[p]) == CouplingId::None)
                    require_near(model, model.points[p], r.at_place);
    return model;
}

namespace {

// Throws Error (Input) unless the model has what its study names, at the same places; a carved part has
// regions behind them for what was added to it.
template <class Ours, class Cards>
void require_named(const Ours& ours, const Cards& cards, const char* what) {
    auto one = ours.begin();
    for (const auto& card : cards) {
        if (one != ours.end() && one->name == card.name) {
            ++one;
            continue;
        }
        throw Error::input({},
                           std::string("the study in this file names other ") + what + " than its model has",
                           "Write the file again with \"upright model STUDY\", or run the study again");
    }
}

} // namespace

void take_asked(Model& model, const Study& study) {
    require_named(model.regions, study.regions, "regions");
    require_named(model.surfaces, study.surfaces, "surfaces");
    require_named(model.points, study.points, "points");
    require_named(model.couplings, study.couplings, "couplings");
    require_named(model.supports, study.supports, "supports");
    require_named(model.loads, study.loads, "loads");
    require_named(model.cases, study.cases, "cases");
    require_named(model.modal_cases, study.modal_cases, "modal cases");
    if (model.cases.size() != study.cases.size()) require_named(study.cases, model.cases, "cases");
    model.shapes = RegionField(study, model.shapes.extents());
    add_asked(model, study);
}

} // namespace upright
