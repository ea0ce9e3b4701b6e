// The goal, the making rules and the run.
#include "study/language.hpp"
#include "study/mesh_word.hpp"
#include "study/names.hpp"
#include "study/rule_word.hpp"

#include <cstdlib>

namespace upright {

namespace {

struct GoalDraft {
    std::string minimize, maximize;
};

const Schema<GoalDraft>& goal_schema() {
    static const Schema<GoalDraft> out = [] {
        auto s = section<GoalDraft>("goal", "what the run is to make small or large",
                                    {key("minimize", value::name("response"), &GoalDraft::minimize)
                                         .example("minimize = \"stiffness\"")
                                         .says("any response by its name"),
                                     key("maximize", value::name("response"), &GoalDraft::maximize)
                                         .example("maximize = \"clear-of-speed\"")
                                         .says("instead of `minimize`")});
        s.facts.choices.push_back({{"minimize", "maximize"},
                                   true,
                                   "[goal] needs one response to minimize or maximize",
                                   "[goal] needs one response to minimize or maximize",
                                   "Write minimize = \"stiffness\""});
        return s;
    }();
    return out;
}

double read_memory(const Given& g) {
    static const std::vector<std::pair<std::string, double>> sizes{{"TB", 1e12}, {"GB", 1e9}, {"MB", 1e6}};
    const std::string word = g.text();
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
    throw Error::input(g.node.place, "\"" + word + "\" is not a size of memory", "Write \"12 GB\"");
}

// "random 3"
std::optional<int> random_number(const Given& g) {
    const std::string& text = *g.node.text();
    const std::string word = "random";
    if (text.compare(0, word.size(), word) != 0) return std::nullopt;
    const std::string number = text.substr(word.size());
    const auto digit = number.find_first_not_of(' ');
    if (digit == std::string::npos || digit == 0 || number.size() - digit > 6 ||
        number.find_first_not_of("0123456789", digit) != std::string::npos)
        throw Error::input(g.node.place, "\"" + text + "\" is no random start",
                           "Write a number after it, such as \"random 1\"");
    return std::stoi(number.substr(digit));
}

void take_start(RunCard& run, const Given& g) {
    if (g.node.text() != nullptr && *g.node.text() == "uniform") return;
    if (g.node.text() != nullptr && (run.start_random = random_number(g))) return;
    if (g.node.text() != nullptr && g.node.text()->find(".run") != std::string::npos) {
        run.start_run = g.card.path(g.node, true);
        run.start_place = g.node.place;
        return;
    }
    run.start = g.number();
    if (*run.start > 1.0) throw Error::input(g.node.place, "a density lies between 0 and 1");
}

void finish_run(RunCard& run, const CardReader& reader) {
    const Study& study = reader.context().study;
    if (run.filter && study.form.min_feature)
        throw Error::input(run.filter_place, "min_feature in [form] sets the filter already",
                           "Write one of the two");
    const bool own_start = run.start_run || run.start_random;
    if (run.coarse_first.value_or(false) && (!study.mesh.kind->refinable || own_start))
        throw Error::input(reader.place_of("coarse_first"),
                           own_start
                               ? "coarse_first and a start from a run or a random one exclude each other"
                               : "a mesh from a file cannot be made coarser",
                           "Remove it");
}

} // namespace

const TableFacts& goal_facts() {
    return goal_schema().facts;
}

Schema<FormCard> form_schema(const std::vector<std::shared_ptr<const RuleWord>>& rules) {
    using F = FormCard;
    auto out = section<F>("form", "how the part will be made; the rules combine", {});
    for (const auto& rule : rules) out.add(rule->keys);
    out.check = [rules](F& form, const CardReader&) { form.rules = rules; };
    out.facts.notes =
        "On grids and polar meshes tied elements have the same density to the last digit; on fitted meshes "
        "they follow the nearest image. `check` says how many variables are left and which elements have "
        "no image.";
    return out;
}

Schema<RunCard> run_schema(const std::vector<SolverWord>& solvers) {
    using R = RunCard;
    std::vector<std::string> words;
    std::string meant;
    for (const SolverWord& s : solvers) {
        words.push_back(s.word);
        meant += (meant.empty() ? "" : "; ") + s.word + ": " + s.says;
    }
    return section<R>(
        "run", "how the optimiser goes to work",
        {key("iterations", value::whole(1), &R::iterations)
             .fallback("100")
             .example("iterations = 150")
             .says("at most so many"),
         key("stop_when", value::quantity(dimension::none).above(0), &R::stop_when)
             .fallback("0.01")
             .example("stop_when = 0.01")
             .says("largest change of any density below which the run may end"),
         key("sharpen", value::flag(), &R::sharpen)
             .fallback("true")
             .example("sharpen = false")
             .says("end near black and white"),
         key("penalty", value::quantity(dimension::none).between(1, 10), &R::penalty)
             .fallback("raised from 1 to 3 where compliance is the goal, 3 where stress or a frequency plays "
                       "a part")
             .example("penalty = 3")
             .says("exponent of the density in the stiffness"),
         key("filter", value::quantity(dimension::length).above(0), &R::filter, &R::filter_place)
             .fallback("2.5 cells")
             .example("filter = \"12 mm\"")
             .says("radius over which densities are averaged"),
         key<R>("start",
                {value::quantity(dimension::none).above(0), value::word({"uniform", "random 1"}),
                 value::path("an earlier run")},
                take_start)
             .fallback("\"uniform\": what the bounds ask for")
             .example("start = 0.5")
             .says("a density, a random one (another for each number: `\"random 2\"`), or the folder of an "
                   "earlier run "
                   "(`\"other.run\"`, also on another mesh)"),
         key<R>("coarse_first", {value::flag()}, [](R& run, const Given& g) { run.coarse_first = g.flag(); })
             .fallback("true where stress has a bound and three cells or more lie in the filter's radius")
             .example("coarse_first = true")
             .says("first a run on cells twice as large, which gives the start"),
         key("solver", value::word(words, {"distributed"}), &R::solver)
             .fallback("\"auto\"")
             .example("solver = \"multigrid\"")
             .says(meant),
         key("threads", value::whole(0), &R::threads)
             .fallback("0: as many as cores, or OMP_NUM_THREADS")
             .example("threads = 4")
             .says("of computation"),
         key<R>("memory", {value::text("a size of memory")},
                [](R& r, const Given& g) { r.memory = read_memory(g); })
             .fallback("\"12 GB\"")
             .example("memory = \"12 GB\"")
             .says("for solving"),
         key("keep_every", value::whole(1), &R::keep_every)
             .fallback("10")
             .example("keep_every = 5")
             .says("every so many iterations one is kept")},
        finish_run);
}

void read_goal(Study& study, const Node& document, const Context& context) {
    const Node* node = document.find("goal");
    if (node == nullptr) return;
    const CardReader reader(*node, context, "[goal]");
    const GoalDraft draft = read_table(goal_schema(), reader);
    GoalCard goal;
    goal.maximize = reader.has("maximize");
    goal.response = goal.maximize ? draft.maximize : draft.minimize;
    goal.place = reader.place_of(goal.maximize ? "maximize" : "minimize");
    require_known({goal.response}, names_of(study.responses), "response", goal.place);
    study.goal = goal;
}

} // namespace upright
