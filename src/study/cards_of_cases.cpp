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
    for (const Node& node : cards_of(document, "support")) {
        CardReader reader(node, context.quantities, "[[support]]", context.flat);
        SupportCard support;
        support.name = read_name(reader, "bolted");
        support.place = node.place;
        const Node& on = reader.need("on", "on = \"a surface, point or coupling\"");
        support.on = reader.names(on);
        support.on_place = on.place;
        const Frame* frame = read_frame(reader, study);
        const bool round = frame != nullptr && frame->cylindrical;
        if (frame != nullptr) support.frame = frame->name;
        // Words in the order x y z rx ry rz, or r t z in a cylindrical frame.
        std::vector<std::string> axes = round ? std::vector<std::string>{"r", "t", "z", "rr", "rt", "rz"}
                                              : std::vector<std::string>{"x", "y", "z", "rx", "ry", "rz"};
        std::vector<std::string> served = axes;
        if (context.flat && !context.shell) served = {axes[0], axes[1], "rz"};
        const auto index_of = [&](const std::string& word) {
            return static_cast<std::size_t>(std::find(axes.begin(), axes.end(), word) - axes.begin());
        };
        const Node& hold = reader.need("hold", context.flat && !context.shell ? R"(hold = ["x", "y"])"
                                                                              : R"(hold = ["x", "y", "z"])");
        Node::List single{hold};
        for (const Node& item : hold.list() != nullptr ? *hold.list() : single) {
            const std::string word = reader.text(item);
            if (round && (word == "x" || word == "y"))
                throw Error::input(item.place, "\"" + word + "\" is no direction of a cylindrical frame",
                                   "Write r, t or z");
            if (!round && (word == "r" || word == "t"))
                throw Error::input(item.place, "\"" + word + "\" needs a cylindrical frame",
                                   "Write frame = \"…\" with the name of a cylindrical [[frame]]");
            support.hold[index_of(reader.choice(item, served))] = true;
        }
        if (hold.list() != nullptr && hold.list()->empty())
            throw Error::input(hold.place, "hold names no direction", "Write hold = [\"x\"] and so on");
        if (const Node* move = reader.find("move")) {
            CardReader inner = reader.inner(*move, "move");
            for (const std::string& word : served) {
                const Node* value = inner.find(word);
                if (value == nullptr) continue;
                const std::size_t i = index_of(word);
                if (!support.hold[i])
                    throw Error::input(value->place,
                                       "move gives " + word + " a displacement but it is not held",
                                       "Add \"" + word + "\" to hold");
                support.move[i] =
                    i < 3 ? inner.number(*value, dimension::length)
                          : inner.number(*value, dimension::angle) * 3.14159265358979323846 / 180.0;
            }
            inner.finish();
        }
        const bool in_use = active(reader);
        reader.finish();
        if (in_use)
            study.supports.push_back(support);
        else
            study.inactive.push_back("support " + support.name);
    }
}

namespace {

// A place: a point by name, or coordinates.
std::variant<Vec3, std::string> read_place(const CardReader& reader, const Node& node, const Study& study) {
    if (node.text() == nullptr) return reader.vector(node, dimension::length);
    const std::string name = reader.text(node);
    require_known({name}, names_of(study.points), "point", node.place);
    return name;
}

} // namespace

void read_loads(Study& study, const Node& document, const Context& context) {
    constexpr Dimension turning{0, 0, -1, 0, 1};
    constexpr Dimension speeding_up{0, 0, -2, 0, 1};
    constexpr double degree = 3.14159265358979323846 / 180.0;
    for (const Node& node : cards_of(document, "load")) {
        // Forces on a flat shell have three numbers though its places have two.
        CardReader reader(node, context.quantities, "[[load]]", context.flat && !context.shell);
        LoadCard load;
        load.name = read_name(reader, "thrust");
        load.place = node.place;
        const Node* on = reader.find("on");
        const Node* spread = reader.find("spread");
        const Node* covers = reader.find("covers");
        const Frame* frame = read_frame(reader, study);
        if (frame != nullptr) load.frame = frame->name;
        const std::vector<std::string> words{"force",  "pressure", "gravity", "moment",
                                             "toward", "spin",     "heat"};
        const Node* size = nullptr;
        std::string kind;
        int kinds = 0;
        for (const std::string& word : words)
            if (const Node* found = reader.find(word)) {
                size = found;
                kind = word;
                ++kinds;
            }
        const bool in_use = active(reader);
        reader.finish();
        if (kinds != 1)
            throw Error::input(node.place,
                               "the load \"" + load.name + "\" has " +
                                   (kinds == 0 ? "no size" : "more than one kind"),
                               "Write one of force, pressure, gravity, moment, toward, spin and heat");
        const bool of_body = kind == "gravity" || kind == "spin" || kind == "heat";
        if (of_body && on != nullptr)
            throw Error::input(on->place, kind + " acts on the whole body", "Remove \"on\"");
        if (!of_body && on == nullptr)
            throw Error::input(node.place, "the load \"" + load.name + "\" acts on nothing",
                               "Write on = \"a surface, point or coupling\"");
        if (on != nullptr) {
            load.on = reader.names(*on);
            load.on_place = on->place;
        }
        if (spread != nullptr && kind != "force")
            throw Error::input(spread->place, "spread belongs to a force", "Remove it");
        if (frame != nullptr && kind != "force" && kind != "moment")
            throw Error::input(node.find("frame")->place, "frame belongs to a force or a moment",
                               "Remove it");
        if (covers != nullptr) {
            if (kind != "force" && kind != "moment" && kind != "toward")
                throw Error::input(covers->place, "covers belongs to a force or a moment", "Remove it");
            load.covers =
                reader.choice(*covers, {"modelled", "whole"}) == "whole" ? Covers::Whole : Covers::Modelled;
        }
        if (kind == "force") {
            ForceLoad force{reader.vector(*size, dimension::force), false};
            if (force.total.norm() == 0.0) throw Error::input(size->place, "the force is zero");
            if (spread != nullptr)
                force.each_face = reader.choice(*spread, {"total", "each-face"}) == "each-face";
            load.kind = force;
        } else if (kind == "moment") {
            MomentLoad moment;
            if (context.flat && !context.shell)
                moment.total.z() = reader.number(*size, dimension::moment);
            else
                moment.total = reader.vector(*size, dimension::moment);
            if (moment.total.norm() == 0.0) throw Error::input(size->place, "the moment is zero");
            load.kind = moment;
        } else if (kind == "pressure") {
            load.kind = PressureLoad{reader.number(*size, dimension::stress)};
        } else if (kind == "gravity") {
            load.kind = GravityLoad{reader.vector(*size, dimension::acceleration)};
        } else if (kind == "toward") {
            CardReader outer(node, context.quantities, "[[load]]", context.flat);
            CardReader inner = outer.inner(*size, "toward");
            TowardLoad toward;
            toward.from = read_place(inner, inner.need("from", "from = [x, y, z] or a point"), study);
            toward.to = read_place(inner, inner.need("to", "to = [x, y, z] or a point"), study);
            toward.size = inner.number(inner.need("size", "size = \"400 N\""), dimension::force);
            inner.finish();
            if (toward.from == toward.to) throw Error::input(size->place, "from and to are the same place");
            if (toward.size == 0.0) throw Error::input(size->place, "the force is zero");
            load.kind = toward;
        } else if (kind == "spin") {
            CardReader inner = reader.inner(*size, "spin");
            SpinLoad spin;
            inner.need("frame", "frame = \"bore\"");
            spin.frame = read_frame(inner, study)->name;
            if (const Node* speed = inner.find("speed")) spin.speed = inner.number(*speed, turning) * degree;
            if (const Node* more = inner.find("speed_up"))
                spin.speed_up = inner.number(*more, speeding_up) * degree;
            inner.finish();
            if (spin.speed == 0.0 && spin.speed_up == 0.0)
                throw Error::input(size->place, "the spin has neither a speed nor a speed_up",
                                   "Write speed = \"1500 rpm\", speed_up = \"50 rad/s2\" or both");
            load.kind = spin;
        } else {
            load.kind = HeatLoad{reader.number(*size, dimension::temperature)};
            for (const RegionCard& region : study.regions)
                for (const Material& m : study.materials)
                    if (m.name == region.material && !m.expansion)
                        throw Error::input(m.place,
                                           "heat needs the material \"" + m.name + "\" to have an expansion",
                                           "Write expansion = \"12e-6 1/K\"");
        }
        if (in_use)
            study.loads.push_back(load);
        else
            study.inactive.push_back("load " + load.name);
    }
}

namespace {

void read_modal_case(Study& study, CardReader& reader, const Node& node) {
    ModalCase card;
    card.name = read_name(reader, "running");
    card.place = node.place;
    const Node& supports = reader.need("supports", R"(supports = ["bolted"], or [] for a free body)");
    if (supports.list() == nullptr || !supports.list()->empty()) card.supports = reader.names(supports);
    require_known(card.supports, names_of(study.supports), "support", supports.place);
    if (const Node* modes = reader.find("modes")) card.modes = reader.whole(*modes, 1);
    if (card.modes > 500)
        throw Error::input(reader.find("modes")->place, "at most 500 modes are served", "Write fewer");
    if (const Node* up_to = reader.find("up_to")) {
        card.up_to = reader.positive(*up_to, dimension::frequency);
        if (const Node* modes = reader.find("modes"))
            throw Error::input(modes->place, "a modal case has either modes or up_to", "Remove one of them");
    }
    if (const Node* mass = reader.find("mass"))
        card.lumped = reader.choice(*mass, {"consistent", "lumped"}) == "lumped";
    for (const char* key : {"loads", "weight"})
        if (const Node* wrong = reader.find(key))
            throw Error::input(wrong->place, std::string(key) + " has no meaning in a modal case",
                               "Remove it");
    const bool in_use = active(reader);
    reader.finish();
    if (in_use)
        study.modal_cases.push_back(card);
    else
        study.inactive.push_back("case " + card.name);
}

} // namespace

void read_cases(Study& study, const Node& document, const Context& context) {
    for (const Node& node : cards_of(document, "case")) {
        CardReader reader(node, context.quantities, "[[case]]", context.flat);
        if (const Node* kind = reader.find("kind"))
            if (reader.choice(*kind, {"static", "modal"}) == "modal") {
                read_modal_case(study, reader, node);
                continue;
            }
        StaticCase card;
        card.name = read_name(reader, "start-up");
        card.place = node.place;
        const Node& supports =
            reader.need("supports", R"(supports = ["bolted"], or [] for a body on joints alone)");
        if (supports.list() == nullptr || !supports.list()->empty()) card.supports = reader.names(supports);
        require_known(card.supports, names_of(study.supports), "support", supports.place);
        // An enforced displacement alone is a case too.
        const bool moves =
            std::any_of(study.supports.begin(), study.supports.end(), [&](const SupportCard& s) {
                return refers_to(card.supports, s.name) &&
                       std::any_of(s.move.begin(), s.move.end(), [](double m) { return m != 0.0; });
            });
        const Node none{Node::Table{}, node.place};
        const Node* given = reader.find("loads");
        if (given == nullptr && !moves) reader.need("loads", "loads = { thrust = 1.0 }");
        const Node& loads = given != nullptr ? *given : none;
        const auto factors = read_factors(reader, loads);
        if (factors.empty() && !moves)
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
        for (const char* key : {"modes", "up_to", "mass"})
            if (const Node* wrong = reader.find(key))
                throw Error::input(wrong->place, std::string(key) + " belongs to a modal case",
                                   "Write kind = \"modal\", or remove it");
        reader.finish();
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

SymmetryPlane read_plane(const Node& item, const CardReader& reader, const std::string& what) {
    const std::string word = reader.text(item);
    const auto equals = word.find('=');
    const auto letter = word.find_first_not_of(' ');
    const char* axes = reader.plane() ? "xy" : "xyz";
    if (equals == std::string::npos || letter == std::string::npos ||
        std::string(axes).find(word[letter]) == std::string::npos ||
        word.find_first_not_of(' ', letter + 1) != equals)
        throw Error::input(item.place, "\"" + word + "\" is not " + what,
                           "Write \"x = 0\" or \"y = 100 mm\"");
    SymmetryPlane plane;
    plane.axis = word[letter] - 'x';
    plane.at = reader.quantities().number(word.substr(equals + 1), dimension::length, item.place);
    plane.place = item.place;
    return plane;
}

void read_symmetry(Study& study, const Node& document, const Context& context) {
    const Node* node = document.find("symmetry");
    if (node == nullptr) return;
    CardReader reader(*node, context.quantities, "[symmetry]", context.flat);
    const Node& planes = reader.need("planes", R"(planes = ["x = 0"])");
    Node::List single{planes};
    for (const Node& item : planes.list() != nullptr ? *planes.list() : single) {
        const SymmetryPlane plane = read_plane(item, reader, "a symmetry plane");
        for (const SymmetryPlane& other : study.symmetry)
            if (other.axis == plane.axis)
                throw Error::input(item.place, "two symmetry planes stand across the same axis",
                                   "One is enough to halve the model");
        study.symmetry.push_back(plane);
    }
    reader.finish();
}

} // namespace upright
