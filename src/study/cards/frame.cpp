// Local coordinate systems.
#include "base/angles.hpp"
#include "study/cards/cards.hpp"
#include "study/names.hpp"

#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>

namespace upright {

namespace {

struct FrameDraft : Frame {
    std::optional<Vec3> axis, start;
};

void finish_frame(FrameDraft& frame, const CardReader& reader) {
    const Vec3 axis = frame.axis.value_or(Vec3::UnitZ());
    const Vec3 start = frame.start.value_or(std::abs(axis.x()) < 0.9 ? Vec3::UnitX() : Vec3::UnitY());
    if (!frame.axis && in_space(reader.context()) && frame.cylindrical)
        throw Error::input(frame.place, "[[frame]] lacks \"axis\"", "Write axis = [0, 0, 1]");
    const Vec3 x = start - axis * axis.dot(start);
    if (x.norm() < 1e-6)
        throw Error::input(reader.place_of("start"), "start lies along the axis",
                           "Write a direction across it");
    frame.axes.col(0) = x.normalized();
    frame.axes.col(2) = axis;
    frame.axes.col(1) = axis.cross(frame.axes.col(0));
}

const Schema<FrameDraft>& frame_schema() {
    static const Schema<FrameDraft> out = cards<FrameDraft>(
        "frame", "a local coordinate system", "bore", false,
        {key("kind", Words<bool>{{"cylindrical", true}, {"cartesian", false}}, &FrameDraft::cylindrical)
             .must("kind = \"cylindrical\" or \"cartesian\"")
             .says("r, t, z around an axis, or x, y, z"),
         key("origin", value::place(), &FrameDraft::origin).must("origin = [0, 0, 0]").says("where it lies"),
         key<FrameDraft>("axis", {value::direction()},
                         [](FrameDraft& f, const Given& g) { f.axis = g.direction(); })
             .where(in_space, "the axis of a frame is z in a plane model", "Remove it")
             .fallback("z; must be there where it is cylindrical")
             .example("axis = [0, 0, 1]")
             .says("z of the frame"),
         key<FrameDraft>("start", {value::direction()},
                         [](FrameDraft& f, const Given& g) { f.start = g.direction(); })
             .fallback("x, or y where the axis lies along x")
             .example("start = [1, 0, 0]")
             .says("its x, or where the angle is zero")},
        finish_frame);
    return out;
}

struct CopiesAround {
    const Frame* frame = nullptr;
    int count = 2;
};

const Schema<CopiesAround>& copies_schema() {
    static const Schema<CopiesAround> out = schema<CopiesAround>(
        "copies", "copies around an axis",
        {key<CopiesAround>("around", {value::name("frame")},
                           [](CopiesAround& c, const Given& g) { c.frame = &read_frame(g); })
             .must("around = \"a frame\"")
             .says("about whose axis they are turned"),
         key("count", value::whole(2, 10000), &CopiesAround::count)
             .must("count = 6")
             .says("with the first")});
    return out;
}

} // namespace

const TableFacts& frame_facts() {
    return frame_schema().facts;
}

const TableFacts* copies_facts() {
    return &copies_schema().facts;
}

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

const Frame& read_frame(const Given& given) {
    const std::string name = given.text();
    const std::vector<Frame>& frames = given.context().study.frames;
    const std::vector<std::string> known = names_of(frames);
    const auto at = std::find(known.begin(), known.end(), name);
    if (at == known.end()) require_known({name}, known, "frame", given.node.place);
    if (at == known.end())
        throw Error::input(given.node.place, "\"" + name + "\" means several frames", "Name one of them");
    return frames[static_cast<std::size_t>(at - known.begin())];
}

void read_frames(Study& study, const Node& document, const Context& context) {
    read_cards(frame_schema(), document, context, study,
               [&](FrameDraft frame, const CardReader&) { study.frames.push_back(frame); });
}

std::vector<RigidMove> read_copies(const Given& given) {
    const Node& node = given.node;
    std::vector<RigidMove> out;
    if (node.table() != nullptr) {
        const CopiesAround around = read_table(copies_schema(), given.inner());
        for (int i = 0; i < around.count; ++i) {
            RigidMove motion;
            motion.turn = Eigen::AngleAxisd(2.0 * pi * i / around.count, around.frame->axes.col(2)).matrix();
            motion.shift = around.frame->origin - motion.turn * around.frame->origin;
            if (i == 0) motion = RigidMove();
            out.push_back(motion);
        }
        return out;
    }
    const Node::List* list = node.list();
    if (list == nullptr || list->empty())
        throw Error::input(node.place, "copies needs a list of shifts", "Write " + given.key.example);
    for (const Node& shift : *list) {
        RigidMove motion;
        motion.shift = given.card.vector(shift, dimension::length);
        out.push_back(motion);
    }
    return out;
}

bool has_thickness(const Context& context) {
    return context.study.mesh.plane() || context.study.mesh.shell();
}

bool in_space(const Context& context) {
    return !context.flat;
}

bool in_plane(const Context& context) {
    return context.flat;
}

} // namespace upright
