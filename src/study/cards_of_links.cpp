// Frames, couplings, joints, masses, bonds: what hangs together, and in which directions.
#include "study/cards.hpp"
#include "study/names.hpp"

#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>

namespace upright {

namespace {

constexpr double degree = 3.14159265358979323846 / 180.0;

// The two ends of a joint or bond.
std::array<std::string, 2> read_between(CardReader& reader, const Node& node) {
    const std::vector<std::string> names = reader.names(node);
    if (names.size() != 2)
        throw Error::input(node.place, "between takes two names and has " + std::to_string(names.size()),
                           "Write between = [\"one\", \"other\"]");
    return {names[0], names[1]};
}

// Moment for each radian; a bare number is that, a text may say deg or rad.
double read_angular(const CardReader& reader, const Node& node) {
    if (node.number() != nullptr) return *node.number();
    return reader.number(node, Dimension{1, 1, 0, 0, -1}) / degree;
}

} // namespace

Mat3 Frame::at(const Vec3& p) const {
    if (!cylindrical) return axes;
    const Vec3 axis = axes.col(2);
    Vec3 r = p - origin;
    r -= axis * r.dot(axis);
    Mat3 out;
    // On the axis itself the angle's zero gives the direction.
    out.col(0) =
        r.norm() > 1e-12 * std::max(1.0, (p - origin).norm()) ? Vec3(r.normalized()) : Vec3(axes.col(0));
    out.col(2) = axis;
    out.col(1) = axis.cross(out.col(0));
    return out;
}

const Frame& Study::frame(const std::string& name) const {
    for (const Frame& f : frames)
        if (f.name == name) return f;
    throw Error::input({file.string()}, "there is no frame \"" + name + "\"");
}

double Study::thickness(RegionId region) const {
    if (region == RegionId::None) return mesh.thickness;
    return regions[index(region)].thickness.value_or(mesh.thickness);
}

const Frame* read_frame(CardReader& reader, const Study& study, const char* key) {
    const Node* node = reader.find(key);
    if (node == nullptr) return nullptr;
    const std::string name = reader.text(*node);
    std::vector<std::string> known = names_of(study.frames);
    const auto at = std::find(known.begin(), known.end(), name);
    if (at == known.end()) require_known({name}, known, "frame", node->place);
    if (at == known.end())
        throw Error::input(node->place, "\"" + name + "\" means several frames", "Name one of them");
    return &study.frames[static_cast<std::size_t>(at - known.begin())];
}

void read_frames(Study& study, const Node& document, const Context& context) {
    for (const Node& node : cards_of(document, "frame")) {
        CardReader reader(node, context.quantities, "[[frame]]", context.flat);
        Frame frame;
        frame.name = read_name(reader, "bore");
        frame.place = node.place;
        frame.cylindrical = reader.choice(reader.need("kind", "kind = \"cylindrical\" or \"cartesian\""),
                                          {"cylindrical", "cartesian"}) == "cylindrical";
        frame.origin = reader.vector(reader.need("origin", "origin = [0, 0, 0]"), dimension::length);
        Vec3 axis = Vec3::UnitZ();
        const Node* axis_node = reader.find("axis");
        if (axis_node != nullptr) {
            if (context.flat)
                throw Error::input(axis_node->place, "the axis of a frame is z in a plane model",
                                   "Remove it");
            axis = reader.direction(*axis_node);
        } else if (!context.flat && frame.cylindrical) {
            reader.need("axis", "axis = [0, 0, 1]");
        }
        Vec3 start = std::abs(axis.x()) < 0.9 ? Vec3::UnitX() : Vec3::UnitY();
        const Node* start_node = reader.find("start");
        if (start_node != nullptr) start = reader.direction(*start_node);
        const Vec3 x = start - axis * axis.dot(start);
        if (x.norm() < 1e-6)
            throw Error::input(start_node->place, "start lies along the axis", "Write a direction across it");
        frame.axes.col(0) = x.normalized();
        frame.axes.col(2) = axis;
        frame.axes.col(1) = axis.cross(frame.axes.col(0));
        reader.finish();
        study.frames.push_back(frame);
    }
}

void read_couplings(Study& study, const Node& document, const Context& context) {
    for (const Node& node : cards_of(document, "coupling")) {
        CardReader reader(node, context.quantities, "[[coupling]]", context.flat);
        CouplingCard card;
        card.name = read_name(reader, "flange");
        card.place = node.place;
        const Node& surface = reader.need("surface", "surface = \"a surface\"");
        card.surfaces = reader.names(surface);
        card.surface_place = surface.place;
        if (const Node* at = reader.find("at")) {
            card.at = reader.text(*at);
            require_known({card.at}, names_of(study.points), "point", at->place);
        }
        if (const Node* kind = reader.find("kind"))
            card.rigid = reader.choice(*kind, {"rigid", "average"}) == "rigid";
        const bool in_use = active(reader);
        reader.finish();
        require_known(card.surfaces, names_of(study.surfaces), "surface", surface.place);
        if (!in_use) {
            study.inactive.push_back("coupling " + card.name);
            continue;
        }
        // A name that means several surfaces makes as many couplings, each with the point of its number.
        std::vector<std::string> copies;
        for (const SurfaceCard& s : study.surfaces)
            if (card.surfaces.size() == 1 && s.name != card.surfaces[0] &&
                refers_to(card.surfaces[0], s.name))
                copies.push_back(s.name);
        if (copies.empty()) {
            study.couplings.push_back(card);
            continue;
        }
        const std::vector<std::string> points = names_of(study.points);
        for (const std::string& copy : copies) {
            const std::string tail = copy.substr(card.surfaces[0].size());
            CouplingCard one = card;
            one.name += tail;
            one.surfaces = {copy};
            if (!card.at.empty() && std::find(points.begin(), points.end(), card.at + tail) != points.end())
                one.at += tail;
            study.couplings.push_back(one);
        }
    }
}

void read_joints(Study& study, const Node& document, const Context& context) {
    for (const Node& node : cards_of(document, "joint")) {
        CardReader reader(node, context.quantities, "[[joint]]", context.flat);
        JointCard card;
        card.name = read_name(reader, "bolt");
        card.place = node.place;
        const Node& between = reader.need("between", R"(between = ["a coupling", "ground"])");
        card.between_place = between.place;
        card.between = read_between(reader, between);
        if (const Node* axis = reader.find("axis"))
            card.axis = reader.direction(*axis);
        else if (context.flat)
            card.axis = Vec3::UnitX();
        const Node& stiffness = reader.need(
            "stiffness", "stiffness = { axial = \"2e5 N/mm\", shear = \"8e4 N/mm\", bending = 0 }");
        CardReader inner = reader.inner(stiffness, "stiffness");
        const auto linear = [&](const char* key) {
            const Node* value = inner.find(key);
            return value == nullptr ? 0.0 : inner.number(*value, dimension::stiffness);
        };
        const auto angular = [&](const char* key) {
            const Node* value = inner.find(key);
            return value == nullptr ? 0.0 : read_angular(inner, *value);
        };
        card.axial = linear("axial");
        card.shear = linear("shear");
        card.torsion = angular("torsion");
        card.bending = angular("bending");
        inner.finish();
        if (std::min({card.axial, card.shear, card.torsion, card.bending}) < 0.0)
            throw Error::input(stiffness.place, "a stiffness must not be negative");
        if (card.axial + card.shear + card.torsion + card.bending == 0.0)
            throw Error::input(stiffness.place, "every stiffness of the joint is zero",
                               "Write axial and shear at least");
        const bool in_use = active(reader);
        reader.finish();
        if (!in_use) {
            study.inactive.push_back("joint " + card.name);
            continue;
        }
        const std::vector<std::string> couplings = names_of(study.couplings);
        std::vector<std::string> known = couplings;
        known.emplace_back("ground");
        std::vector<std::vector<std::string>> ends;
        for (const std::string& name : card.between) {
            require_known({name}, known, "coupling", between.place);
            std::vector<std::string> meant;
            if (name == "ground")
                meant.emplace_back();
            else
                for (const std::string& c : couplings)
                    if (refers_to(name, c)) meant.push_back(c);
            ends.push_back(meant);
        }
        if (card.between[0] == card.between[1])
            throw Error::input(between.place, "the joint links \"" + card.between[0] + "\" with itself");
        const std::size_t count = std::max(ends[0].size(), ends[1].size());
        if (ends[0].size() != ends[1].size() && std::min(ends[0].size(), ends[1].size()) != 1)
            throw Error::input(between.place, "the two names mean different numbers of couplings");
        for (std::size_t i = 0; i < count; ++i) {
            JointCard one = card;
            if (count > 1) one.name += "/" + std::to_string(i + 1);
            for (std::size_t k = 0; k < 2; ++k) one.between[k] = ends[k][std::min(i, ends[k].size() - 1)];
            study.joints.push_back(one);
        }
    }
}

void read_masses(Study& study, const Node& document, const Context& context) {
    for (const Node& node : cards_of(document, "mass")) {
        CardReader reader(node, context.quantities, "[[mass]]", context.flat);
        MassCard card;
        card.name = read_name(reader, "motor");
        card.place = node.place;
        const Node& on = reader.need("on", "on = \"a coupling, a surface or a point\"");
        card.on = reader.names(on);
        card.on_place = on.place;
        card.value = reader.positive(reader.need("value", "value = \"62 kg\""), dimension::mass);
        if (const Node* inertia = reader.find("inertia")) {
            const Dimension d{1, 1, 2, 0, 0};
            if (context.flat && !context.shell) {
                card.inertia.z() = reader.positive(*inertia, d);
            } else {
                const Node::List* list = inertia->list();
                if (list == nullptr || list->size() != 3)
                    throw Error::input(inertia->place, "inertia has three numbers, about x, y and z");
                for (std::size_t a = 0; a < 3; ++a) {
                    card.inertia[static_cast<Eigen::Index>(a)] = reader.number((*list)[a], d);
                    if (card.inertia[static_cast<Eigen::Index>(a)] < 0.0)
                        throw Error::input((*list)[a].place, "an inertia must not be negative");
                }
            }
        }
        const bool in_use = active(reader);
        reader.finish();
        if (in_use)
            study.masses.push_back(card);
        else
            study.inactive.push_back("mass " + card.name);
    }
}

void read_bonds(Study& study, const Node& document, const Context& context) {
    for (const Node& node : cards_of(document, "bond")) {
        CardReader reader(node, context.quantities, "[[bond]]", context.flat);
        BondCard card;
        card.name = read_name(reader, "weld");
        card.place = node.place;
        const Node& between = reader.need("between", R"(between = ["one surface", "other surface"])");
        card.between_place = between.place;
        card.between = read_between(reader, between);
        card.gap = reader.positive(reader.need("gap", "gap = \"0.5 mm\""), dimension::length);
        const bool in_use = active(reader);
        reader.finish();
        require_known({card.between[0], card.between[1]}, names_of(study.surfaces), "surface", between.place);
        if (card.between[0] == card.between[1])
            throw Error::input(between.place, "the bond links \"" + card.between[0] + "\" with itself");
        if (in_use)
            study.bonds.push_back(card);
        else
            study.inactive.push_back("bond " + card.name);
    }
}

} // namespace upright
