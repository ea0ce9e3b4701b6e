// The mesh, the responses, the goal and the run.
#include "study/cards.hpp"
#include "study/names.hpp"

#include <algorithm>
#include <cmath>

namespace upright {

namespace {

double read_memory(const Node& node, const CardReader& reader) {
    static const std::vector<std::pair<std::string, double>> sizes{{"TB", 1e12}, {"GB", 1e9}, {"MB", 1e6}};
    const std::string word = reader.text(node);
    for (const auto& [unit, size] : sizes) {
        const auto at = word.find(unit);
        if (at == std::string::npos || at + unit.size() != word.size()) continue;
        char* end = nullptr;
        const double number = std::strtod(word.c_str(), &end);
        if (end != word.c_str() && number > 0 &&
            std::string(end).find_first_not_of(' ') == at - static_cast<std::size_t>(end - word.c_str()))
            return number * size;
        if (end == word.c_str() + at && number > 0) return number * size;
    }
    throw Error::input(node.place, "\"" + word + "\" is not a size of memory", "Write \"12 GB\"");
}

} // namespace

const char* text(Measure measure) {
    switch (measure) {
    case Measure::Compliance:
        return "compliance";
    case Measure::Mass:
        return "mass";
    case Measure::Volume:
        return "volume";
    case Measure::MassFraction:
        return "mass-fraction";
    case Measure::VolumeFraction:
        return "volume-fraction";
    case Measure::Displacement:
        return "displacement";
    case Measure::Stress:
        return "stress";
    case Measure::Safety:
        return "safety";
    case Measure::Frequency:
        return "frequency";
    case Measure::Reaction:
        return "reaction";
    }
    return "";
}

Dimension dimension_of(Measure measure) {
    switch (measure) {
    case Measure::Compliance:
        return dimension::moment;
    case Measure::Mass:
        return dimension::mass;
    case Measure::Volume:
        return dimension::volume;
    case Measure::MassFraction:
    case Measure::VolumeFraction:
    case Measure::Safety:
        return dimension::none;
    case Measure::Displacement:
        return dimension::length;
    case Measure::Stress:
        return dimension::stress;
    case Measure::Frequency:
        return dimension::frequency;
    case Measure::Reaction:
        return dimension::force;
    }
    return dimension::none;
}

bool of_material(Measure measure) {
    return measure == Measure::Mass || measure == Measure::Volume || measure == Measure::MassFraction ||
           measure == Measure::VolumeFraction;
}

const char* text(MeshKind kind) {
    switch (kind) {
    case MeshKind::Grid:
        return "grid";
    case MeshKind::Polar:
        return "polar";
    case MeshKind::Fitted:
        return "fitted";
    case MeshKind::File:
        return "file";
    }
    return "";
}

namespace {

// A mesh from a file, and what only it has.
void read_mesh_file(MeshCard& mesh, CardReader& reader, const Context& context) {
    mesh.file = read_path(reader, reader.need("file", "file = \"wheel.vtu\""), context);
    if (const Node* unit = reader.find("file_unit"))
        mesh.file_scale = reader.positive(*unit, dimension::length);
    if (const Node* sweep = reader.find("sweep")) {
        CardReader inner = reader.inner(*sweep, "sweep");
        MeshCard::Sweep out;
        out.along = inner.vector(inner.need("along", "along = [0, 0, 40]"), dimension::length);
        if (out.along.norm() == 0.0) throw Error::input(sweep->place, "the sweep has no length");
        out.layers = inner.whole(inner.need("layers", "layers = 5"), 1);
        inner.finish();
        mesh.sweep = out;
    }
}

} // namespace

MeshCard read_mesh(const Node& document, const Quantities& quantities, const std::filesystem::path& file,
                   bool need_files) {
    const Node* node = document.find("mesh");
    if (node == nullptr)
        throw Error::input({file.string(), 1, 1}, "the study has no mesh",
                           "Write [mesh] with size = \"8 mm\"");
    CardReader reader(*node, quantities, "[mesh]", false);
    MeshCard mesh;
    mesh.place = node->place;
    if (const Node* kind = reader.find("kind")) {
        const std::string word = reader.choice(*kind, {"grid", "polar", "fitted", "file"});
        for (const MeshKind k : {MeshKind::Grid, MeshKind::Polar, MeshKind::Fitted, MeshKind::File})
            if (word == text(k)) mesh.kind = k;
    }
    if (mesh.kind == MeshKind::File)
        read_mesh_file(mesh, reader, {quantities, false, false, file.parent_path(), need_files});
    else
        mesh.size = reader.positive(reader.need("size", "size = \"8 mm\""), dimension::length);
    if (mesh.kind == MeshKind::Polar)
        mesh.frame = reader.text(reader.need("frame", "frame = \"bore\", whose axis the cells run around"));
    if (const Node* element = reader.find("element")) {
        const std::string word = reader.choice(*element, {"solid", "plane-stress", "plane-strain", "shell"});
        mesh.family = word == "solid"          ? ElementFamily::Solid
                      : word == "plane-stress" ? ElementFamily::PlaneStress
                      : word == "plane-strain" ? ElementFamily::PlaneStrain
                                               : ElementFamily::Shell;
        if (mesh.sweep && mesh.family != ElementFamily::Solid)
            throw Error::input(element->place, "a swept mesh is solid", "Remove this key, or sweep");
    }
    if (const Node* thickness = reader.find("thickness")) {
        if (!mesh.plane() && !mesh.shell())
            throw Error::input(thickness->place, "thickness belongs to plane models and shells", "Remove it");
        mesh.thickness = reader.positive(*thickness, dimension::length);
    } else if (mesh.plane() || mesh.shell()) {
        throw Error::input(
            node->place, std::string("a ") + (mesh.shell() ? "shell" : "plane") + " model needs a thickness",
            "Write thickness = \"1 mm\"");
    }
    if (const Node* order = reader.find("order")) {
        mesh.order = reader.whole(*order, 1);
        if (mesh.order > 2) throw Error::input(order->place, "the order is 1 or 2");
        if (mesh.order == 2 && (mesh.shell() || mesh.kind == MeshKind::Polar || mesh.kind == MeshKind::File))
            throw Error::input(order->place,
                               std::string("there are no second-order elements for ") +
                                   (mesh.shell()                   ? "shells"
                                    : mesh.kind == MeshKind::Polar ? "polar meshes"
                                                                   : "a mesh from a file; it brings its own"),
                               "Write order = 1");
    }
    if (const Node* formulation = reader.find("formulation"))
        mesh.formulation = reader.choice(*formulation, {"enhanced", "plain"}) == "plain"
                               ? Formulation::Plain
                               : Formulation::Enhanced;
    reader.find("refine");
    reader.finish();
    return mesh;
}

void read_refine(Study& study, const Node& document, const Context& context) {
    const Node* list = document.find("mesh")->find("refine");
    if (list == nullptr) return;
    if (study.mesh.kind != MeshKind::Fitted)
        throw Error::input(list->place, "refine belongs to fitted meshes", "Write kind = \"fitted\"");
    for (const Node& node : cards_of(*document.find("mesh"), "refine")) {
        CardReader reader(node, context.quantities, "[[mesh.refine]]", context.flat);
        RefineCard card;
        card.place = node.place;
        card.size = reader.positive(reader.need("size", "size = \"2 mm\""), dimension::length);
        if (const Node* on = reader.find("on")) {
            card.on = reader.names(*on);
            require_known(card.on, names_of(study.regions), "region", on->place);
        }
        if (const Node* inside = reader.find("inside")) {
            CardReader inner = reader.inner(*inside, "inside");
            card.inside = read_shape(inner, context);
            inner.finish();
        }
        reader.finish();
        if (card.on.empty() == !card.inside)
            throw Error::input(node.place, "a refinement needs either on (regions) or inside (a shape)",
                               "Write on = \"ring\" or inside = { sphere = … }");
        study.mesh.refine.push_back(card);
    }
}

namespace {

// "55% of yield".
std::optional<StrengthShare> read_share(const Node& node, const CardReader& reader) {
    if (node.text() == nullptr) return {};
    const std::string word = *node.text();
    const auto of = word.find(" of ");
    if (of == std::string::npos) return {};
    const std::string what = word.substr(of + 4);
    if (what != "yield" && what != "ultimate")
        throw Error::input(node.place, "\"" + what + "\" is no strength of a material",
                           "Write \"55% of yield\" or \"55% of ultimate\"");
    StrengthShare out;
    out.ultimate = what == "ultimate";
    out.share = reader.quantities().number(word.substr(0, of), dimension::none, node.place);
    if (!(out.share > 0.0)) throw Error::input(node.place, "a share of the strength is above zero");
    return out;
}

// Where a displacement or reaction is read, and which component.
void read_component(ResponseCard& response, CardReader& reader, const Study& study, const Node& card,
                    const Context& context) {
    const bool reaction = response.measure == Measure::Reaction;
    const Node& at = reader.need("at", reaction ? "at = \"a support\"" : "at = \"a point or surface\"");
    response.at = reader.text(at);
    response.at_place = at.place;
    std::vector<std::string> places = reaction ? names_of(study.supports) : names_of(study.points);
    if (!reaction)
        for (const auto& more : {names_of(study.couplings), names_of(study.surfaces)})
            places.insert(places.end(), more.begin(), more.end());
    require_known({response.at}, places, reaction ? "support" : "point, coupling or surface", at.place);
    const Frame* frame = read_frame(reader, study);
    if (frame != nullptr) response.frame = frame->name;
    if (const Node* component = reader.find("component")) {
        std::vector<std::string> words = frame != nullptr && frame->cylindrical
                                             ? std::vector<std::string>{"r", "t", "z", "size"}
                                             : std::vector<std::string>{"x", "y", "z", "size"};
        if (context.flat && !context.shell) words.erase(words.begin() + 2);
        response.component = reader.choice(*component, words);
    }
    if (frame != nullptr && response.component == "size")
        throw Error::input(card.find("frame")->place, "the size of a vector is the same in every frame",
                           "Write component = \"" + std::string(frame->cylindrical ? "r" : "x") + "\"");
    if (const Node* take = reader.find("take")) {
        const std::vector<std::string> surfaces = names_of(study.surfaces);
        if (std::none_of(surfaces.begin(), surfaces.end(),
                         [&](const std::string& s) { return refers_to(response.at, s); }))
            throw Error::input(take->place, "take belongs to a displacement of a surface", "Remove it");
        response.mean = reader.choice(*take, {"largest", "mean"}) == "mean";
    }
}

// A reaction is measured in the cases that have its support.
void require_some_case(const Study& study, const ResponseCard& response) {
    const bool any = std::any_of(study.cases.begin(), study.cases.end(), [&](const StaticCase& c) {
        return (response.in_case.empty() || refers_to(response.in_case, c.name)) &&
               holds_in(study, c, response.at);
    });
    if (any) return;
    const std::string in =
        response.in_case.empty() ? "no static case has" : "the case \"" + response.in_case + "\" has not";
    throw Error::input(response.at_place,
                       in + " the support \"" + response.at + "\", so there is no reaction to measure",
                       "Name a support that the case has");
}

// The cases that a measure is read in.
std::vector<std::string> fitting_cases(const Study& study, Measure measure) {
    return measure == Measure::Frequency ? names_of(study.modal_cases) : names_of(study.cases);
}

void read_bounds(ResponseCard& response, CardReader& reader, const Node& card) {
    const Dimension d = dimension_of(response.measure);
    // Components have a sign, all else has none.
    const bool has_sign = response.component != "size";
    if (const Node* bound = reader.find("min")) response.min = reader.number(*bound, d);
    if (const Node* bound = reader.find("max")) {
        if (response.measure == Measure::Stress) response.max_share = read_share(*bound, reader);
        if (!response.max_share)
            response.max = has_sign ? reader.number(*bound, d) : reader.positive(*bound, d);
    }
    const bool fraction =
        response.measure == Measure::MassFraction || response.measure == Measure::VolumeFraction;
    if (fraction && response.max && *response.max > 1.0)
        throw Error::input(card.find("max")->place, "a fraction cannot exceed 1", "Write 0.35 or \"35 %\"");
    if (response.min && response.max && *response.min > *response.max)
        throw Error::input(card.find("min")->place, "min lies above max");
}

} // namespace

void read_responses(Study& study, const Node& document, const Context& context) {
    static const std::vector<Measure> measures{
        Measure::Compliance,     Measure::Mass,         Measure::Volume, Measure::MassFraction,
        Measure::VolumeFraction, Measure::Displacement, Measure::Stress, Measure::Safety,
        Measure::Frequency,      Measure::Reaction};
    std::vector<std::string> words;
    for (const Measure m : measures) words.emplace_back(text(m));
    for (const Node& node : cards_of(document, "response")) {
        CardReader reader(node, context.quantities, "[[response]]", context.flat);
        ResponseCard response;
        response.name = read_name(reader, "stiffness");
        response.place = node.place;
        const std::string word = reader.choice(reader.need("measure", "measure = \"compliance\""), words);
        for (const Measure m : measures)
            if (word == text(m)) response.measure = m;
        const Measure m = response.measure;
        const bool strength = m == Measure::Stress || m == Measure::Safety;
        if (const Node* of = reader.find("of")) {
            if (!of_material(m) && !strength)
                throw Error::input(of->place, word + " is not that of regions", "Remove \"of\"");
            response.of = reader.names(*of);
            require_known(response.of, names_of(study.regions), "region", of->place);
        }
        if (const Node* in_case = reader.find("case")) {
            if (of_material(m))
                throw Error::input(in_case->place, "\"" + word + "\" does not depend on a case",
                                   "Remove \"case\"");
            response.in_case = reader.text(*in_case);
            require_known({response.in_case}, fitting_cases(study, m),
                          m == Measure::Frequency ? "modal case" : "static case", in_case->place);
        } else if (!of_material(m) && fitting_cases(study, m).empty()) {
            throw Error::input(node.place,
                               word + " needs a " + (m == Measure::Frequency ? "modal" : "static") +
                                   " case, and there is none",
                               m == Measure::Frequency ? "Write a [[case]] with kind = \"modal\""
                                                       : "Write a [[case]] with supports and loads");
        }
        if (m == Measure::Displacement || m == Measure::Reaction)
            read_component(response, reader, study, node, context);
        if (m == Measure::Compliance)
            if (const Node* take = reader.find("take")) {
                response.worst = reader.choice(*take, {"sum", "largest"}) == "largest";
                if (response.worst && !response.in_case.empty() &&
                    std::count_if(study.cases.begin(), study.cases.end(), [&](const StaticCase& c) {
                        return refers_to(response.in_case, c.name);
                    }) < 2)
                    throw Error::input(take->place, "of one case there is no largest", "Remove it");
            }
        if (m == Measure::Frequency)
            if (const Node* track = reader.find("track")) response.track = reader.flag(*track);
        if (m == Measure::Frequency)
            if (const Node* mode = reader.find("mode")) {
                response.mode = reader.whole(*mode, 1);
                for (const ModalCase& c : study.modal_cases)
                    if (!c.up_to && response.mode > c.modes &&
                        (response.in_case.empty() || response.in_case == c.name))
                        throw Error::input(mode->place,
                                           "the case \"" + c.name + "\" has " + std::to_string(c.modes) +
                                               " modes",
                                           "Raise modes there, or name an earlier one");
            }
        if (strength)
            if (const Node* except = reader.find("except")) {
                response.except = reader.names(*except);
                std::vector<std::string> known = names_of(study.regions);
                for (const std::string& s : names_of(study.surfaces)) known.push_back(s);
                require_known(response.except, known, "region or surface", except->place);
            }
        read_bounds(response, reader, node);
        const bool in_use = active(reader);
        if (in_use && m == Measure::Reaction) require_some_case(study, response);
        static const std::vector<std::pair<std::string, std::string>> homes{
            {"at", "a displacement or a reaction"},
            {"component", "a displacement or a reaction"},
            {"take", "a displacement or a compliance"},
            {"frame", "a displacement or a reaction"},
            {"mode", "a frequency"},
            {"track", "a frequency"},
            {"except", "a stress or a safety"}};
        for (const auto& [key, home] : homes) {
            const bool known = (m == Measure::Displacement || m == Measure::Reaction)
                                   ? key != "mode" && key != "track" && key != "except"
                               : m == Measure::Frequency  ? key == "mode" || key == "track"
                               : m == Measure::Compliance ? key == "take"
                               : strength                 ? key == "except"
                                                          : false;
            const Node* wrong = node.find(key);
            if (!known && wrong != nullptr)
                throw Error::input(wrong->place, key + " belongs to " + home, "Remove it");
        }
        reader.finish();
        if (in_use)
            study.responses.push_back(response);
        else
            study.inactive.push_back("response " + response.name);
    }
}

void read_goal(Study& study, const Node& document, const Context& context) {
    const Node* node = document.find("goal");
    if (node == nullptr) return;
    CardReader reader(*node, context.quantities, "[goal]", context.flat);
    const Node* minimize = reader.find("minimize");
    const Node* maximize = reader.find("maximize");
    reader.finish();
    if ((minimize == nullptr) == (maximize == nullptr))
        throw Error::input(node->place, "[goal] needs one response to minimize or maximize",
                           "Write minimize = \"stiffness\"");
    const Node& word = maximize != nullptr ? *maximize : *minimize;
    GoalCard goal;
    goal.maximize = maximize != nullptr;
    goal.response = reader.text(word);
    goal.place = word.place;
    require_known({goal.response}, names_of(study.responses), "response", goal.place);
    study.goal = goal;
}

void read_form(Study& study, const Node& document, const Context& context) {
    const Node* node = document.find("form");
    if (node == nullptr) return;
    CardReader reader(*node, context.quantities, "[form]", context.flat);
    FormCard& form = study.form;
    form.place = node->place;
    if (const Node* n = reader.find("mirror")) {
        Node::List single{*n};
        for (const Node& item : n->list() != nullptr ? *n->list() : single) {
            const SymmetryPlane plane = read_plane(item, reader, "a mirror plane");
            for (const SymmetryPlane& other : form.mirror)
                if (other.axis == plane.axis)
                    throw Error::input(item.place, "two mirror planes stand across the same axis",
                                       "Write one of them");
            form.mirror.push_back(plane);
        }
    }
    if (const Node* n = reader.find("sectors")) {
        CardReader inner = reader.inner(*n, "sectors");
        FormCard::Sectors sectors;
        const Node& frame = inner.need("frame", "frame = \"bore\", about whose axis the sectors repeat");
        sectors.frame = inner.text(frame);
        require_known({sectors.frame}, names_of(study.frames), "frame", frame.place);
        const Node& count = inner.need("count", "count = 6");
        sectors.count = inner.whole(count, 2);
        if (sectors.count > 1000) throw Error::input(count.place, "that many sectors are absurd");
        inner.finish();
        form.sectors = sectors;
    }
    if (const Node* n = reader.find("extrude")) {
        if (context.flat)
            throw Error::input(n->place, "a plane model or a flat shell is extruded already", "Remove it");
        form.extrude = reader.choice(*n, {"x", "y", "z"}).front() - 'x';
    }
    if (const Node* n = reader.find("min_feature")) form.min_feature = reader.positive(*n, dimension::length);
    reader.finish({"max_feature", "draw", "overhang"});
}

void read_run(Study& study, const Node& document, const Context& context) {
    const Node* node = document.find("run");
    if (node == nullptr) return;
    CardReader reader(*node, context.quantities, "[run]", context.flat);
    RunCard& run = study.run;
    if (const Node* n = reader.find("iterations")) run.iterations = reader.whole(*n, 1);
    if (const Node* n = reader.find("stop_when")) run.stop_when = reader.positive(*n, dimension::none);
    if (const Node* n = reader.find("sharpen")) run.sharpen = reader.flag(*n);
    if (const Node* n = reader.find("penalty")) {
        run.penalty = reader.number(*n, dimension::none);
        if (*run.penalty < 1.0 || *run.penalty > 10.0)
            throw Error::input(n->place, "the penalty must lie between 1 and 10", "3 is usual");
    }
    if (const Node* n = reader.find("filter")) {
        run.filter = reader.positive(*n, dimension::length);
        run.filter_place = n->place;
        if (study.form.min_feature)
            throw Error::input(n->place, "min_feature in [form] sets the filter already",
                               "Write one of the two");
    }
    if (const Node* n = reader.find("start")) {
        if (n->text() != nullptr && *n->text() == "uniform") {
            run.start.reset();
        } else if (n->text() != nullptr && n->text()->find(".run") != std::string::npos) {
            run.start_run = read_path(reader, *n, context, true);
            run.start_place = n->place;
        } else {
            run.start = reader.positive(*n, dimension::none);
            if (*run.start > 1.0) throw Error::input(n->place, "a density lies between 0 and 1");
        }
    }
    if (const Node* n = reader.find("solver")) {
        const std::string word = reader.choice(*n, {"auto", "direct", "multigrid"}, {"distributed"});
        run.solver = word == "direct"      ? SolverChoice::Direct
                     : word == "multigrid" ? SolverChoice::Multigrid
                                           : SolverChoice::Auto;
    }
    if (const Node* n = reader.find("threads")) run.threads = reader.whole(*n, 0);
    if (const Node* n = reader.find("memory")) run.memory = read_memory(*n, reader);
    if (const Node* n = reader.find("keep_every")) run.keep_every = reader.whole(*n, 1);
    if (const Node* n = reader.find("coarse_first")) {
        run.coarse_first = reader.flag(*n);
        if (run.coarse_first && (study.mesh.kind == MeshKind::File || run.start_run))
            throw Error::input(n->place,
                               run.start_run ? "coarse_first and a start from a run exclude each other"
                                             : "a mesh from a file cannot be made coarser",
                               "Remove it");
    }
    reader.finish();
}

} // namespace upright
