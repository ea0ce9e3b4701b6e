#include "verify/verification.hpp"

#include "base/reduction.hpp"
#include "fem/effective_stiffness.hpp"
#include "mesh/locator.hpp"
#include "model/finished.hpp"
#include "model/thickened.hpp"
#include "part/solid/lattice_cell.hpp"
#include "response/motions.hpp"
#include "solve/solver_table.hpp"
#include "study/measure_word.hpp"
#include "study/mesh_word.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>

namespace upright {

namespace {

constexpr int most_carvings = 6; // of mend()
// A round of refining: elements whose error is larger than all would have at an even share are made smaller
// by the root of it, at most so much; and a round that does not gain a tenth was the last.
constexpr double least_shrink = 0.5;
constexpr double worth_it = 0.9;
constexpr int modes_told = 3;
constexpr double beside = 0.25; // of a size: a stress as near to an edge or a surface is one at it

VerifyRow plain_row(const std::string& name, const std::string& measure, const std::string& unit,
                    const std::optional<double>& whole, const std::optional<double>& design, double part) {
    VerifyRow out;
    out.name = name;
    out.measure = measure;
    out.unit = unit;
    out.whole = whole;
    out.design = design;
    out.part = part;
    return out;
}

std::string place_text(const Extreme& e) {
    const auto tidy = [](double v) { return std::abs(v) < 1e-9 ? 0.0 : v; };
    return fmt::format("({:.4g}, {:.4g}, {:.4g}){}", tidy(e.place.x()), tidy(e.place.y()), tidy(e.place.z()),
                       e.region.empty() ? "" : " in " + e.region);
}

// Mass and volume and their fractions: of the part as it is carved, against the space of full material. As
// the study has them: of the modelled part.
double amount(const Part& part, const Model& space, const ModelResponse& card, bool of_space) {
    const bool mass = std::string(card.measure->word).find("mass") == 0;
    double whole = 0.0;
    double carved = 0.0;
    for (std::size_t r = 0; r < space.regions.size(); ++r) {
        const ModelRegion& region = space.regions[r];
        const bool counted =
            card.of.empty() ? region.role == Role::Design : card.names(static_cast<RegionId>(r));
        if (!counted) continue;
        whole += mass ? region.mass : region.volume;
        for (const RegionShare& share : part.regions)
            if (share.region == region.name)
                carved += (mass ? share.mass : share.volume) / space.mesh.copies();
    }
    const bool fraction = card.measure->dimension == dimension::none;
    if (of_space) return fraction ? 1.0 : whole;
    return fraction ? carved / whole : carved;
}

std::vector<std::string> all_excepted(const Model& model) {
    std::vector<std::string> out;
    for (const ModelResponse& r : model.responses)
        for (const std::string& name : r.except)
            if (std::find(out.begin(), out.end(), name) == out.end()) out.push_back(name);
    return out;
}

// Solid material that is from afar what a lattice of another is; its density is that of a period.
Material homogenised(const InfillCard& card, const Material& of) {
    if (of.orthotropic)
        throw Error::input(card.place,
                           "the infill \"" + card.name + "\" is of " + of.name +
                               ", which is not isotropic: its lattice has no material that stands for it",
                           "Write verify --infill tetrahedra");
    const LatticeCell cell(card);
    const double share = cell.share();
    constexpr double most_cells = 25000.0; // of material, in a period
    const int n = std::clamp(static_cast<int>(std::cbrt(most_cells / share)), 24, 48);
    const EffectiveConstants found = constants_of(effective_stiffness(n, cell.shares(n), of.E, of.nu));
    Material out;
    out.name = of.name + ", " + text(card.cell) + " of " + card.name;
    out.place = card.place;
    Orthotropic elastic;
    elastic.E = found.E;
    elastic.nu = found.nu;
    elastic.G = found.G;
    elastic.frame.origin = card.origin;
    elastic.frame.axes = card.axes;
    if (of.expansion) elastic.expansion = Vec3::Constant(*of.expansion); // of all alike, whatever the lattice
    out.E = found.E.maxCoeff();
    out.nu = found.nu.maxCoeff();
    out.orthotropic = elastic;
    out.density = share * of.density;
    out.expansion = of.expansion;
    out.source = "homogenised";
    return out;
}

} // namespace

Verification::Verification(const Study& study, const Model& model, const RunFolder& folder,
                           DesignValues design)
    : study_(finished(study)), run_model_(model), carved_model_(finished(model)), folder_(folder),
      design_(std::move(design)) {
    if (model.made_by.flat() || model.mesh.dimension() != 3 || (model.mesh.shell() && !made_of_sheets(model)))
        throw Error::input(model.made_by.place,
                           "verify serves solid models and shells from files: the part of a plane model, or "
                           "of shells that are meshed here, is its cells with their thickness",
                           "The run's black-and-white design is analysed already: see run.json");
    out_.run = RunNumbers(folder.report_file());
    out_.run_of_shells = model.mesh.shell();
    out_.first_order_run = model.mesh.kinds.front() == ElementKind::Tet4;
    wish_.solver = solver_options(model.run);
    wish_.except = all_excepted(model);
}

Verification::Verification(const Study& study, const Model& model, const RunFolder& folder,
                           const DesignValues& design, double threshold, InfillAs infill, double blend)
    : Verification(study, model, folder, design) {
    infill_ = infill;
    options_.blend = out_.blend = blend;
    options_.threshold = out_.threshold = threshold;
    field_ = std::make_unique<PartField>(carved_model_, design_);
}

Verification::Verification(const Study& study, const Model& model, const RunFolder& folder,
                           const DesignValues& design,
                           const std::vector<std::shared_ptr<const FacetBody>>& bodies, std::string file)
    : Verification(study, model, folder, design) {
    out_.body_file = std::move(file);
    if (!model.infills.empty())
        throw Error::input(model.infills.front().place,
                           "a body made elsewhere is verified as it is, and this study fills its part",
                           "Set active = false on the infill in a study of its own and run that");
    for (const auto& body : bodies) out_.body_volume += body->volume();
    field_ = std::make_unique<PartField>(carved_model_, bodies);
}

// With its infill, where it has some, as it is analysed.
Part Verification::part_at(const PartOptions& options) {
    PartOptions wish = options;
    wish.infill = infill_ != InfillAs::Homogenised;
    Part out = field_->extract(wish);
    if (run_model_.infills.empty()) return out;
    if (infill_ == InfillAs::Auto && out.solid->tets.size() > most_infill_analysed) {
        infill_ = InfillAs::Homogenised; // and so it stays
        out = Part(out.outside());
    }
    return infill_ == InfillAs::Homogenised ? homogenised_part(std::move(out)) : out;
}

Part Verification::homogenised_part(Part solid) {
    Part out = solid;
    std::vector<InfillZone> zones;
    out.unfilled = std::make_shared<const Part>(std::move(solid));
    out.infills.clear();
    out.solid = std::make_shared<const SolidPart>(
        with_infill_zones(carved_model_, *out.unfilled->solid, out.infills, zones));
    out_.homogenised = true;
    zones_.clear();
    zone_materials_.clear();
    for (const InfillZone& zone : zones) {
        const InfillCard& card = carved_model_.infills[zone.card];
        const Material& of = carved_model_.materials[zone.of];
        const InfillMade& made = out.infills[zone.card];
        const auto known = lattices_.find({zone.card, zone.of});
        zone_materials_.push_back(
            known != lattices_.end()
                ? known->second
                : lattices_.emplace(std::pair{zone.card, zone.of}, homogenised(card, of)).first->second);
        // Ends of struts in a small zone make its share another than that of a period.
        zone_materials_.back().density = of.density * made.solid / made.zone;
        RegionCard region;
        region.name = card.name;
        region.place = card.place;
        region.role = Role::Keep;
        region.material = zone_materials_.back().name;
        // Its tetrahedra are known; the shape only has to be in the part.
        region.extent = Sphere{made.box.center(), 1e-3 * card.thickness};
        zones_.push_back(region);
    }
    // What is void of each region.
    const double copies = run_model_.mesh.copies();
    for (const InfillMade& made : out.infills)
        for (std::size_t r = 0; r < made.voids.size(); ++r)
            for (RegionShare& share : out.regions) {
                if (share.region != carved_model_.regions[r].name || share.volume <= 0.0) continue;
                const double lost = copies * made.voids[r];
                const double mass = lost * share.mass / share.volume;
                share.volume -= lost;
                share.mass -= mass;
                out.mass -= mass;
                out.volume -= lost;
            }
    return out;
}

void Verification::carve() {
    out_.part = part_at(options_);
    out_.space = build_part_model(study_, field_->whole(), false, run_model_);
    if (out_.body_volume <= 0.0) return;
    double volume = out_.part.volume; // pieces that were left out are in the file too
    for (const PartPiece& p : out_.part.pieces) volume += p.dropped ? p.volume : 0.0;
    if (std::abs(volume - out_.body_volume) > beyond_allowed * out_.body_volume)
        throw Error::input(
            {out_.body_file},
            fmt::format("the body has a volume of {:.5g} {}, of which {:.5g} lie in the space of the study",
                        out_.body_volume, run_model_.units.text(dimension::volume), volume),
            "Check its unit of length (that of the study) and its place; what was added beyond the space "
            "needs a study whose regions reach as far");
}

Study Verification::study_of_part() const {
    Study out = study_;
    out.regions.insert(out.regions.end(), zones_.begin(), zones_.end());
    out.materials.insert(out.materials.end(), zone_materials_.begin(), zone_materials_.end());
    return out;
}

void Verification::model_part() {
    out_.second_order = out_.part.solid->tets.size() <= most_second_order;
    out_.model = build_part_model(study_of_part(), *out_.part.solid, out_.second_order, run_model_);
    out_.surfaces = surfaces_left(out_.model, out_.space);
}

void Verification::note_round() {
    VerifyRound round;
    round.tets = out_.part.solid->tets.size();
    for (const StaticReport& s : out_.report.statics) {
        round.error = std::max(round.error, s.error.relative);
        round.stress = std::max(round.stress, s.stress_peak.value);
    }
    out_.rounds.push_back(round);
}

void Verification::analyse() {
    model_part();
    out_.report = analyze(out_.model, wish_);
    out_.outcomes = measure_all(out_.model, out_.report);
    if (out_.rounds.empty()) { // the space of full material, on the run's own mesh
        out_.whole_report = analyze(run_model_, wish_);
        out_.whole = measure_all(run_model_, out_.whole_report);
    }
    note_round();
    judge();
}

// Of each tetrahedron the size that would have its share of the error, were all as large: of second order the
// error falls with the square of the size, of first order with the size. The smallest of all cases holds.
SizeWish Verification::sizes_for(double error) const {
    const auto mesh = std::make_shared<Mesh>(out_.model.mesh); // the wish outlives it
    const double power = out_.second_order ? 2.0 : 1.0;
    auto size = std::make_shared<std::vector<double>>(mesh->elements());
    const double count = static_cast<double>(mesh->elements());
    for (std::size_t e = 0; e < mesh->elements(); ++e) {
        double longest = 0.0;
        const auto& t = out_.part.solid->tets[e];
        for (std::size_t i = 0; i < 4; ++i)
            for (std::size_t j = i + 1; j < 4; ++j)
                longest = std::max(longest, (out_.part.solid->points[static_cast<std::size_t>(t[i])] -
                                             out_.part.solid->points[static_cast<std::size_t>(t[j])])
                                                .norm());
        double shrink = 1.0;
        for (const StaticReport& s : out_.report.statics) {
            const double allowed = error * s.error.energy_norm / std::sqrt(count);
            const double own = std::sqrt(std::max(s.error.element[e], 0.0));
            if (own > allowed && own > 0.0)
                shrink = std::min(shrink, std::pow(allowed / own, 1.0 / (power + 0.5)));
        }
        (*size)[e] = longest * std::max(shrink, least_shrink);
    }
    const auto locator = std::make_shared<ElementLocator>(*mesh, run_model_.mesh.size);
    return [size, mesh, locator](const Vec3& p) { return (*size)[index(locator->nearest(p))]; };
}

bool Verification::analyse_finer(double error) {
    if (out_.rounds.empty() || out_.error() <= error) return false;
    const std::size_t n = out_.rounds.size();
    if (n > 1 && out_.rounds[n - 1].error > worth_it * out_.rounds[n - 2].error) return false;
    if (out_.part.solid->tets.size() >= most_second_order) return false;
    options_.size = sizes_for(error);
    Part finer = part_at(options_);
    if (finer.solid->tets.size() > most_second_order ||
        finer.solid->tets.size() <= out_.part.solid->tets.size())
        return false;
    out_.part = std::move(finer);
    analyse();
    return true;
}

// That of the design that decides, of the whole body.
std::optional<double> Verification::design_mass() const {
    return run_model_.mesh.copies() * sum_over(design_.density.size(), [&](std::size_t e) {
               const auto id = static_cast<ElementId>(e);
               const bool solid =
                   run_model_.role(id) != Role::Design || design_.density[e] > design_.threshold;
               return (out_.run.black_and_white() ? (solid ? 1.0 : 0.0) : design_.density[e]) *
                      run_model_.mesh.volume(id) * run_model_.material(id).density;
           });
}

// Where a stress was found, and why it may be another on another mesh.
std::string Verification::stress_place(const Extreme& e) const {
    const SolidPart& solid = *out_.part.solid;
    const double near = beside * run_model_.mesh.size;
    const auto at_surface = [&](const std::vector<std::string>& names) {
        return std::any_of(
            out_.model.surfaces.begin(), out_.model.surfaces.end(), [&](const ModelSurface& s) {
                return refers_to(names, s.name) && std::any_of(s.nodes.begin(), s.nodes.end(), [&](NodeId n) {
                           return (out_.model.mesh.nodes[index(n)] - e.place).norm() <= near;
                       });
            });
    };
    bool edge = false;
    for (std::size_t n = 0; n < solid.points.size() && !edge; ++n)
        edge = solid.sheets_of[n].size() > 1 && (solid.points[n] - e.place).norm() <= near;
    const char* why = edge ? " [edge]" : "";
    for (const ModelLoad& load : out_.model.loads)
        if (at_surface(load.on)) why = " [loaded]";
    for (const ModelSupport& support : out_.model.supports)
        if (at_surface(support.on)) why = " [held]";
    return place_text(e) + why;
}

// Of material that of the part as it is carved, not of full regions.
void Verification::judge_material(Outcome& o, const Part& part) const {
    const ModelResponse& card = run_model_.responses[o.response];
    if (!of_material(card)) return;
    Reading reading;
    reading.value = amount(part, out_.space, card, false);
    reading.min = o.min;
    reading.max = o.max;
    upright::judge(reading);
    o.value = reading.value;
    o.excess = reading.excess;
    o.holds = reading.excess <= part_mass_tolerance;
}

void Verification::judge() {
    const Model& model = out_.model;
    const auto unit = [&](const Dimension& d) { return model.units.text(d); };
    out_.rows.clear();
    out_.bounds_hold = true;
    double whole_mass = 0.0;
    for (const ModelRegion& r : out_.space.regions) whole_mass += r.mass * out_.space.mesh.copies();
    out_.rows.push_back(
        plain_row("all", "mass", unit(dimension::mass), whole_mass, design_mass(), out_.part.mass));
    for (Outcome& o : out_.outcomes) {
        const ModelResponse& card = model.responses[o.response];
        VerifyRow row;
        row.name = card.name + (o.in_case.empty() ? "" : " @ " + o.in_case);
        row.measure = card.measure->word;
        row.unit = unit(card.measure->dimension);
        for (const Outcome& w : out_.whole)
            if (w.response == o.response && w.in_case == o.in_case) row.whole = w.value;
        row.design = out_.run.response(card.name, o.in_case);
        judge_material(o, out_.part);
        if (of_material(card)) {
            row.tolerance = part_mass_tolerance;
            row.whole = amount(out_.part, out_.space, card, true);
        }
        row.part = o.value;
        row.min = o.min;
        row.max = o.max;
        row.holds = o.holds;
        row.excess = o.excess;
        row.where = o.where;
        out_.bounds_hold = out_.bounds_hold && o.holds;
        out_.rows.push_back(row);
    }
    for (std::size_t c = 0; c < out_.report.statics.size(); ++c) {
        const StaticReport& s = out_.report.statics[c];
        const StaticReport& w = out_.whole_report.statics[c];
        const auto add = [&](const char* measure, const Dimension& dimension,
                             const std::optional<double>& whole, const char* key, double part,
                             const std::string& where) {
            out_.rows.push_back(plain_row(s.name, measure, unit(dimension), whole,
                                          *key == 0 ? std::nullopt : out_.run.of_case(s.name, key), part));
            out_.rows.back().where = where;
        };
        add("compliance", dimension::moment, w.compliance, "compliance", s.compliance, "");
        add("largest displacement", dimension::length, w.displacement_peak.value, "largest_displacement",
            s.displacement_peak.value, place_text(s.displacement_peak));
        add("largest stress", dimension::stress, w.stress_peak.value, "largest_stress", s.stress_peak.value,
            stress_place(s.stress_peak));
        if (s.least_safety)
            add("least safety", dimension::none,
                w.least_safety ? std::optional<double>(w.least_safety->value) : std::nullopt, "",
                s.least_safety->value, stress_place(*s.least_safety));
    }
    for (std::size_t c = 0; c < out_.report.modals.size(); ++c)
        for (std::size_t m = 0; m < std::min<std::size_t>(out_.report.modals[c].modes.size(), modes_told);
             ++m) {
            VerifyRow row;
            row.name = out_.report.modal_names[c];
            row.measure = fmt::format("mode {}", m + 1);
            row.unit = unit(dimension::frequency);
            const Mode& mode = out_.report.modals[c].modes[m];
            row.part = mode.frequency;
            if (mode.local()) row.where = place_text(mode.moved_at, false) + ", " + local_words(mode);
            if (m < out_.whole_report.modals[c].modes.size())
                row.whole = out_.whole_report.modals[c].modes[m].frequency;
            const std::vector<double> kept = folder_.frequencies(row.name);
            if (m < kept.size()) row.design = kept[m];
            out_.rows.push_back(row);
        }
}

bool Verification::nearly() const {
    return out_.body_volume <= 0.0 && out_.part.one_piece() &&
           std::all_of(out_.rows.begin(), out_.rows.end(),
                       [](const VerifyRow& r) { return !r.bounded() || r.holds || r.excess < mendable; });
}

bool Verification::holds_at(double threshold, double& mass) {
    PartOptions options = options_;
    options.threshold = threshold;
    const Part part = part_at(options);
    mass = part.mass;
    if (!part.one_piece()) return false;
    const Model model = build_part_model(study_of_part(), *part.solid,
                                         part.solid->tets.size() <= most_second_order, run_model_);
    std::vector<Outcome> outcomes = measure_all(model, analyze(model, wish_));
    return std::all_of(outcomes.begin(), outcomes.end(), [&](Outcome& o) {
        judge_material(o, part);
        return o.holds;
    });
}

void Verification::mend(const std::function<void(double, double, bool)>& tried) {
    double fails = options_.threshold;
    double holds = 0.0;
    double mass = 0.0;
    for (int carving = 0; carving < most_carvings; ++carving) {
        const double t = carving == 0 ? std::min(0.02, 0.5 * fails) : 0.5 * (holds + fails);
        const bool good = holds_at(t, mass);
        if (good) {
            holds = t;
            mended_mass_ = mass;
        } else if (carving > 0) {
            fails = t;
        }
        tried(t, mass, good);
        if (carving == 0 && !good) break;
    }
    if (holds > 0.0) out_.mended = holds;
}

} // namespace upright
