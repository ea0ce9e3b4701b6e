// Supports, loads, cases, symmetry planes.
#include "study/cards.hpp"
#include "study/names.hpp"

#include <algorithm>

namespace upright {

namespace {

// The factors of each load in a case: one, or a list that means "each of these".
std::vector<std::pair<std::string, std::vector<double>>> read_factors(const CardReader& reader,
                                                                      const Node& node) {
    std::vector<std::pair<std::string, std::vector<double>>> out;
    if (const Node::Table* table = node.table()) {
        for (const Entry& entry : *table) {
            std::vector<double> factors;
            if (const Node::List* list = entry.node.list()) {
                if (list->empty()) throw Error::input(entry.node.place, "the list of factors is empty");
                for (const Node& item : *list) factors.push_back(reader.number(item, dimension::none));
            } else {
                factors.push_back(reader.number(entry.node, dimension::none));
            }
            out.emplace_back(entry.key, factors);
        }
    } else {
        for (const std::string& name : reader.names(node)) out.emplace_back(name, std::vector<double>{1.0});
    }
    return out;
}

} // namespace

void read_supports(Study& study, const Node& document, const Context& context) {
    const std::vector<std::string> axes =
        context.plane ? std::vector<std::string>{"x", "y"} : std::vector<std::string>{"x", "y", "z"};
    for (const Node& node : cards_of(document, "support")) {
        CardReader reader(node, context.quantities, "[[support]]", context.plane);
        SupportCard support;
        support.name = read_name(reader, "bolted");
        support.place = node.place;
        const Node& on = reader.need("on", "on = \"a surface or point\"");
        support.on = reader.names(on);
        support.on_place = on.place;
        const Node& hold =
            reader.need("hold", context.plane ? R"(hold = ["x", "y"])" : R"(hold = ["x", "y", "z"])");
        Node::List single{hold};
        for (const Node& item : hold.list() != nullptr ? *hold.list() : single) {
            const std::string word = reader.choice(item, axes, {"rx", "ry", "rz", "r", "t"});
            support.hold[static_cast<std::size_t>(word[0] - 'x')] = true;
        }
        if (hold.list() != nullptr && hold.list()->empty())
            throw Error::input(hold.place, "hold names no direction", "Write hold = [\"x\"] and so on");
        const bool in_use = active(reader);
        reader.finish({"frame", "move"});
        if (in_use)
            study.supports.push_back(support);
        else
            study.inactive.push_back("support " + support.name);
    }
}

void read_loads(Study& study, const Node& document, const Context& context) {
    for (const Node& node : cards_of(document, "load")) {
        CardReader reader(node, context.quantities, "[[load]]", context.plane);
        LoadCard load;
        load.name = read_name(reader, "thrust");
        load.place = node.place;
        const Node* on = reader.find("on");
        const Node* force = reader.find("force");
        const Node* spread = reader.find("spread");
        const Node* pressure = reader.find("pressure");
        const Node* gravity = reader.find("gravity");
        const bool in_use = active(reader);
        reader.finish({"moment", "toward", "frame", "spin", "heat"});
        const int kinds = (force != nullptr) + (pressure != nullptr) + (gravity != nullptr);
        if (kinds != 1)
            throw Error::input(node.place,
                               "the load \"" + load.name + "\" has " +
                                   (kinds == 0 ? "no size" : "more than one kind"),
                               "Write one of force, pressure and gravity");
        if (gravity != nullptr) {
            if (on != nullptr)
                throw Error::input(on->place, "gravity acts on the whole body", "Remove \"on\"");
            load.kind = GravityLoad{reader.vector(*gravity, dimension::acceleration)};
        } else if (on == nullptr) {
            throw Error::input(node.place, "the load \"" + load.name + "\" acts on nothing",
                               "Write on = \"a surface or point\"");
        }
        if (on != nullptr) {
            load.on = reader.names(*on);
            load.on_place = on->place;
        }
        if (spread != nullptr && force == nullptr)
            throw Error::input(spread->place, "spread belongs to a force", "Remove it");
        if (force != nullptr) {
            ForceLoad kind{reader.vector(*force, dimension::force), false};
            if (kind.total.norm() == 0.0) throw Error::input(force->place, "the force is zero");
            if (spread != nullptr)
                kind.each_face = reader.choice(*spread, {"total", "each-face"}) == "each-face";
            load.kind = kind;
        }
        if (pressure != nullptr) load.kind = PressureLoad{reader.number(*pressure, dimension::stress)};
        if (in_use)
            study.loads.push_back(load);
        else
            study.inactive.push_back("load " + load.name);
    }
}

void read_cases(Study& study, const Node& document, const Context& context) {
    for (const Node& node : cards_of(document, "case")) {
        CardReader reader(node, context.quantities, "[[case]]", context.plane);
        StaticCase card;
        card.name = read_name(reader, "start-up");
        card.place = node.place;
        if (const Node* kind = reader.find("kind")) reader.choice(*kind, {"static"}, {"modal"});
        const Node& supports = reader.need("supports", R"(supports = ["bolted"])");
        card.supports = reader.names(supports);
        require_known(card.supports, names_of(study.supports), "support", supports.place);
        const Node& loads = reader.need("loads", "loads = { thrust = 1.0 }");
        const auto factors = read_factors(reader, loads);
        if (factors.empty())
            throw Error::input(loads.place, "the case \"" + card.name + "\" has no load",
                               "Write loads = { thrust = 1.0 }");
        for (const auto& [name, list] : factors) {
            Place place = loads.place;
            if (const Node* entry = loads.find(name)) place = entry->place;
            require_known({name}, names_of(study.loads), "load", place);
        }
        if (const Node* weight = reader.find("weight")) {
            card.weight = reader.number(*weight, dimension::none);
            if (card.weight < 0.0) throw Error::input(weight->place, "a weight must not be negative");
        }
        const bool in_use = active(reader);
        reader.finish({"modes"});
        if (!in_use) {
            study.inactive.push_back("case " + card.name);
            continue;
        }
        std::size_t count = 1;
        for (const auto& [name, list] : factors) count *= list.size();
        if (count > 64)
            throw Error::input(loads.place, "the lists of factors make " + std::to_string(count) + " cases",
                               "At most 64 are allowed; write fewer");
        for (std::size_t i = 0; i < count; ++i) {
            StaticCase one = card;
            if (count > 1) one.name += "/" + std::to_string(i + 1);
            std::size_t rest = i;
            std::size_t block = count;
            for (const auto& [name, list] : factors) {
                block /= list.size();
                one.loads.emplace_back(name, list[rest / block]);
                rest %= block;
            }
            study.cases.push_back(one);
        }
    }
}

void read_symmetry(Study& study, const Node& document, const Context& context) {
    const Node* node = document.find("symmetry");
    if (node == nullptr) return;
    CardReader reader(*node, context.quantities, "[symmetry]", context.plane);
    const Node& planes = reader.need("planes", R"(planes = ["x = 0"])");
    Node::List single{planes};
    for (const Node& item : planes.list() != nullptr ? *planes.list() : single) {
        const std::string word = reader.text(item);
        const auto equals = word.find('=');
        const auto letter = word.find_first_not_of(' ');
        const char* axes = context.plane ? "xy" : "xyz";
        if (equals == std::string::npos || letter == std::string::npos ||
            std::string(axes).find(word[letter]) == std::string::npos ||
            word.find_first_not_of(' ', letter + 1) != equals)
            throw Error::input(item.place, "\"" + word + "\" is not a symmetry plane",
                               "Write \"x = 0\" or \"y = 100 mm\"");
        SymmetryPlane plane;
        plane.axis = word[letter] - 'x';
        plane.at = context.quantities.number(word.substr(equals + 1), dimension::length, item.place);
        plane.place = item.place;
        for (const SymmetryPlane& other : study.symmetry)
            if (other.axis == plane.axis)
                throw Error::input(item.place, "two symmetry planes stand across the same axis",
                                   "One is enough to halve the model");
        study.symmetry.push_back(plane);
    }
    reader.finish();
}

} // namespace upright
