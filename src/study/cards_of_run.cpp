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
        return dimension::none;
    }
    return dimension::none;
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
        if (mesh.kind == MeshKind::Fitted && mesh.family != ElementFamily::Solid)
            throw Error::input(element->place, "fitted meshes are solid",
                               "Write kind = \"grid\" or \"polar\" for a " + word + " mesh");
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

void read_responses(Study& study, const Node& document, const Context& context) {
    for (const Node& node : cards_of(document, "response")) {
        CardReader reader(node, context.quantities, "[[response]]", context.flat);
        ResponseCard response;
        response.name = read_name(reader, "stiffness");
        response.place = node.place;
        const std::string word =
            reader.choice(reader.need("measure", "measure = \"compliance\""),
                          {"compliance", "mass", "volume", "mass-fraction", "volume-fraction"},
                          {"displacement", "stress", "safety", "frequency", "reaction"});
        for (const Measure m : {Measure::Compliance, Measure::Mass, Measure::Volume, Measure::MassFraction,
                                Measure::VolumeFraction})
            if (word == text(m)) response.measure = m;
        const Node* of = reader.find("of");
        const Node* in_case = reader.find("case");
        const bool compliance = response.measure == Measure::Compliance;
        if (of != nullptr) {
            if (compliance)
                throw Error::input(of->place, "compliance is that of the whole model", "Remove \"of\"");
            response.of = reader.names(*of);
            require_known(response.of, names_of(study.regions), "region", of->place);
        }
        if (in_case != nullptr) {
            if (!compliance)
                throw Error::input(in_case->place, "\"" + word + "\" does not depend on a case",
                                   "Remove \"case\"");
            response.in_case = reader.text(*in_case);
            require_known({response.in_case}, names_of(study.cases), "case", in_case->place);
        }
        const Dimension d = dimension_of(response.measure);
        if (const Node* bound = reader.find("min")) response.min = reader.number(*bound, d);
        if (const Node* bound = reader.find("max")) response.max = reader.positive(*bound, d);
        const bool fraction =
            response.measure == Measure::MassFraction || response.measure == Measure::VolumeFraction;
        if (fraction && response.max && *response.max > 1.0)
            throw Error::input(node.find("max")->place, "a fraction cannot exceed 1",
                               "Write 0.35 or \"35 %\"");
        if (response.min && response.max && *response.min > *response.max)
            throw Error::input(node.find("min")->place, "min lies above max");
        const bool in_use = active(reader);
        reader.finish({"at", "component", "mode", "except"});
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
    if (maximize != nullptr)
        throw not_served(maximize->place, "\"maximize\" in [goal]", "Minimize compliance, mass or volume");
    GoalCard goal;
    goal.response = reader.text(*minimize);
    goal.place = minimize->place;
    require_known({goal.response}, names_of(study.responses), "response", goal.place);
    study.goal = goal;
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
    }
    if (const Node* n = reader.find("start")) {
        if (n->text() != nullptr && *n->text() == "uniform") {
            run.start.reset();
        } else if (n->text() != nullptr && n->text()->find(".run") != std::string::npos) {
            throw not_served(n->place, "a start from an earlier run");
        } else {
            run.start = reader.positive(*n, dimension::none);
            if (*run.start > 1.0) throw Error::input(n->place, "a density lies between 0 and 1");
        }
    }
    if (const Node* n = reader.find("solver"))
        reader.choice(*n, {"auto", "direct"}, {"multigrid", "distributed"});
    if (const Node* n = reader.find("threads")) run.threads = reader.whole(*n, 0);
    if (const Node* n = reader.find("memory")) run.memory = read_memory(*n, reader);
    if (const Node* n = reader.find("keep_every")) run.keep_every = reader.whole(*n, 1);
    reader.finish({"coarse_first"});
}

} // namespace upright
