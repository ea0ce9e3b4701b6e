// From the tree of a study file to checked cards.
#include "study/load.hpp"

#include "base/nearest.hpp"
#include "quantity/units.hpp"
#include "study/document.hpp"
#include "study/names.hpp"
#include "study/settings.hpp"

#include <algorithm>

namespace upright {

namespace {

void check_document(const Node& document, const Language& language) {
    const std::vector<std::string> served = language.words();
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
    for (const char* card : {"region", "finish"})
        if (Node* regions = document.find(card))
            if (auto* list = std::get_if<Node::List>(&regions->value))
                for (Node& region : *list) resolve(region);
}

MeshCard read_mesh(const Node& document, const Context& context, const Language& language) {
    const Node* node = document.find("mesh");
    if (node == nullptr)
        throw Error::input({context.study.file.string(), 1, 1}, "the study has no mesh",
                           "Write [mesh] with size = \"8 mm\"");
    return read_table(language.mesh, CardReader(*node, context, "[mesh]"));
}

// A section that a study may leave out.
template <class Card>
void read_section(const Schema<Card>& schema, const Node& document, const Context& context, Card& card) {
    if (const Node* node = document.find(schema.facts.word))
        read_table(schema, CardReader(*node, context, schema.facts.title()), card);
}

Study read_study(Node& document, const std::filesystem::path& file, bool need_files,
                 const Language& language) {
    check_document(document, language);
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
    Context context{quantities, study, false, false, file.parent_path(), need_files};
    study.mesh = read_mesh(document, context, language);
    context.flat = study.mesh.flat();
    context.shell = study.mesh.shell();
    read_frames(study, document, context);
    read_materials(study, document, context);
    require_polar_frame(study);
    read_regions(study, document, context);
    read_finishes(study, document, context);
    read_infills(study, document, context);
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
    read_cards(language.response, document, context, study,
               [&](const ResponseCard& card, const CardReader&) { study.responses.push_back(card); });
    read_goal(study, document, context);
    read_section(language.form, document, context, study.form);
    read_section(language.run, document, context, study.run);
    for (const auto& rule : language.making_rules) rule->add_bounds(study, language.measures);
    check_names(study);
    return study;
}

} // namespace

Study load_study(const std::filesystem::path& file, const std::vector<std::string>& settings,
                 const Language& language) {
    Node document = load_document(file);
    for (const std::string& setting : settings) apply_setting(document, setting, language);
    return read_study(document, file, true, language);
}

Study load_study_text(const std::string& text, const std::filesystem::path& file, const Language& language) {
    Node document = parse_document(text, file.string());
    return read_study(document, file, false, language);
}

} // namespace upright
