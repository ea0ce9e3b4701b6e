// From the tree of a study file to checked cards.
#include "base/nearest.hpp"
#include "quantity/units.hpp"
#include "study/cards.hpp"
#include "study/document.hpp"
#include "study/names.hpp"

#include <algorithm>

namespace upright {

namespace {

void check_document(const Node& document) {
    static const std::vector<std::string> served{
        "title", "notes",   "units",    "extends", "values",   "material", "region",   "surface",
        "point", "support", "load",     "case",    "symmetry", "mesh",     "response", "goal",
        "run",   "frame",   "coupling", "joint",   "mass",     "bond",     "form"};
    for (const Entry& entry : *document.table()) {
        if (std::find(served.begin(), served.end(), entry.key) != served.end()) continue;
        throw Error::input(entry.place, "a study has no \"" + entry.key + "\"",
                           suggestion(entry.key, served, 30));
    }
}

std::vector<NamedValue> read_values(const Node& document) {
    std::vector<NamedValue> out;
    const Node* node = document.find("values");
    if (node == nullptr) return out;
    if (node->table() == nullptr) throw Error::input(node->place, "values is a table", "Write [values]");
    for (const Entry& entry : *node->table()) {
        if (entry.node.number())
            out.push_back({entry.key, *entry.node.number(), entry.node.place});
        else if (entry.node.text())
            out.push_back({entry.key, *entry.node.text(), entry.node.place});
        else
            throw Error::input(entry.node.place,
                               "a value is a number or a text with a unit and this is " + entry.node.kind());
    }
    return out;
}

UnitSystem read_units(const Node& document) {
    const Node* node = document.find("units");
    if (node == nullptr)
        throw Error::input({document.place.file, 1, 1}, "the study does not say its units",
                           R"(Write units = ["mm", "N", "s"])");
    const Node::List* list = node->list();
    const bool texts =
        list != nullptr && list->size() == 3 &&
        std::all_of(list->begin(), list->end(), [](const Node& n) { return n.text() != nullptr; });
    if (!texts)
        throw Error::input(node->place, "units are a length, a force and a time",
                           R"(Write units = ["mm", "N", "s"])");
    return make_unit_system(*(*list)[0].text(), *(*list)[1].text(), *(*list)[2].text(), node->place);
}

std::string read_text_key(const Node& document, const std::string& key) {
    const Node* node = document.find(key);
    if (node == nullptr) return {};
    if (node->text() == nullptr)
        throw Error::input(node->place, "\"" + key + "\" is a text and this is " + node->kind());
    return *node->text();
}

// Names of files become absolute, so that the resolved study can be kept anywhere.
void resolve_files(Node& document, const std::filesystem::path& study) {
    const auto resolve = [&](Node& table, const char* key = "file") {
        Node* file = table.table() != nullptr ? table.find(key) : nullptr;
        if (file == nullptr || file->text() == nullptr) return;
        const std::filesystem::path given(*file->text());
        if (given.is_absolute()) return;
        std::filesystem::path beside = std::filesystem::path(file->place.file).parent_path();
        if (beside.empty()) beside = study.parent_path();
        file->value = std::filesystem::absolute(beside / given).lexically_normal().string();
    };
    if (Node* mesh = document.find("mesh")) resolve(*mesh);
    if (Node* run = document.find("run"))
        if (run->table() != nullptr) {
            Node* start = run->find("start");
            const bool word = start != nullptr && start->text() != nullptr;
            if (word && *start->text() != "uniform" && start->text()->find(".run") != std::string::npos)
                resolve(*run, "start");
        }
    if (Node* regions = document.find("region"))
        if (auto* list = std::get_if<Node::List>(&regions->value))
            for (Node& region : *list) resolve(region);
}

void require_polar_frame(const Study& study, const Node& document) {
    const Node& node = *document.find("mesh")->find("frame");
    require_known({study.mesh.frame}, names_of(study.frames), "frame", node.place);
    if (!study.frame(study.mesh.frame).cylindrical)
        throw Error::input(node.place, "the frame \"" + study.mesh.frame + "\" is not cylindrical",
                           "A polar mesh runs around the axis of a cylindrical frame");
}

} // namespace

namespace {

Study read_study(Node& document, const std::filesystem::path& file, bool need_files) {
    check_document(document);
    resolve_files(document, file);

    Study study;
    study.file = file;
    study.title = read_text_key(document, "title");
    if (study.title.empty()) {
        // Kept with the study, so that a run knows it wherever its folder goes.
        study.title = file.stem().string();
        Node title;
        title.value = study.title;
        title.place = document.place;
        document.table()->insert(document.table()->begin(), Entry{"title", document.place, title});
    }
    study.resolved = write_document(document);
    study.notes = read_text_key(document, "notes");
    study.units = read_units(document);
    const Quantities quantities(study.units, read_values(document));
    study.mesh = read_mesh(document, quantities, file, need_files);
    const Context context{quantities, study.mesh.flat(), study.mesh.shell(), file.parent_path(), need_files};
    read_frames(study, document, context);
    read_materials(study, document, context);
    if (study.mesh.kind == MeshKind::Polar) require_polar_frame(study, document);
    read_regions(study, document, context);
    read_surfaces(study, document, context);
    read_points(study, document, context);
    read_refine(study, document, context);
    read_couplings(study, document, context);
    read_joints(study, document, context);
    read_masses(study, document, context);
    read_bonds(study, document, context);
    read_supports(study, document, context);
    read_loads(study, document, context);
    read_cases(study, document, context);
    read_symmetry(study, document, context);
    read_responses(study, document, context);
    read_goal(study, document, context);
    read_form(study, document, context);
    read_run(study, document, context);
    check_names(study);
    return study;
}

} // namespace

Study load_study(const std::filesystem::path& file, const std::vector<std::string>& settings) {
    Node document = load_document(file);
    for (const std::string& setting : settings) apply_setting(document, setting);
    return read_study(document, file, true);
}

Study load_study_text(const std::string& text, const std::filesystem::path& file) {
    Node document = parse_document(text, file.string());
    return read_study(document, file, false);
}

} // namespace upright
