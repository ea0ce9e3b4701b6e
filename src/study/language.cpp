#include "study/language.hpp"

namespace upright {

namespace {

TableFacts make_study_facts() {
    TableFacts out;
    out.word = "study";
    out.says = "the study itself";
    const auto add = [&](const char* name, ValueForm form, const char* example, const char* says,
                         bool must = false) {
        KeyFacts key = facts_for(name, std::move(form));
        key.example = example;
        key.says = says;
        key.required = must;
        out.keys.push_back(std::move(key));
    };
    add("title", value::text(), "title = \"Bilge pump pedestal\"", "of figures and reports");
    out.keys.back().fallback = "the name of the file";
    add("notes", value::text(), "notes = \"…\"", "free text, copied into every report");
    add("units", value::list(value::text("a unit"), 3), R"(units = ["mm", "N", "s"])",
        "length, force, time, of which all bare numbers are. Mass follows: tonnes here, kg with metres",
        true);
    add("extends", value::path("a study"), "extends = \"base.toml\"",
        "a study to start from: cards of the same name are replaced, a key with the value `\"unset\"` takes "
        "that of the "
        "base away, and `minimize` replaces its `maximize`");
    add("values", value::map("a table of named quantities", {value::quantity(dimension::none)}),
        "[values] lift = \"1.8 kN\", half = \"lift/2\"", "named quantities for arithmetic");
    return out;
}

} // namespace

Language::Language(const Vocabulary& words)
    : mesh(mesh_schema(words.mesh_kinds)), response(response_schema(words.measures)),
      form(form_schema(words.making_rules)), run(run_schema(words.solvers)), measures(words.measures),
      making_rules(words.making_rules) {}

const TableFacts& Language::study() const {
    static const TableFacts out = make_study_facts();
    return out;
}

std::vector<const TableFacts*> Language::cards() const {
    return {&material_facts(), &frame_facts(), &region_facts(),   &surface_facts(), &point_facts(),
            &coupling_facts(), &joint_facts(), &mass_facts(),     &bond_facts(),    &support_facts(),
            &load_facts(),     &case_facts(),  &symmetry_facts(), &mesh.facts,      &response.facts,
            &goal_facts(),     &form.facts,    &finish_facts(),   &infill_facts(),  &run.facts};
}

std::vector<std::string> Language::words() const {
    std::vector<std::string> out = study().key_names();
    for (const TableFacts* one : cards()) out.push_back(one->word);
    return out;
}

const TableFacts* Language::card(const std::string& word) const {
    for (const TableFacts* one : cards())
        if (one->word == word) return one;
    return nullptr;
}

} // namespace upright
