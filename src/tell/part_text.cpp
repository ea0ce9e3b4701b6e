#include "tell/part_text.hpp"

#include "base/groups.hpp"
#include "base/text.hpp"
#include "response/motions.hpp"
#include "tell/lines.hpp"

#include <algorithm>
#include <fmt/format.h>
#include <map>

namespace upright {

std::size_t pieces_left(const Part& part) {
    return static_cast<std::size_t>(
        std::count_if(part.pieces.begin(), part.pieces.end(), [](const PartPiece& p) { return !p.dropped; }));
}

std::string pieces_text(const Model& model, const Part& part) {
    Lines out;
    const std::string volume = model.units.text(dimension::volume);
    const std::size_t left = pieces_left(part);
    std::size_t dropped = 0;
    double dropped_volume = 0.0;
    for (const PartPiece& p : part.pieces)
        if (p.dropped) {
            ++dropped;
            dropped_volume += p.volume;
        }
    if (part.one_piece())
        out.add("one piece, and it reaches every support and load");
    else if (left == 1)
        out.add("one piece, but it MISSES " + joined(part.missed));
    else {
        out.add(fmt::format("NOT ONE PIECE: {} pieces", left));
        std::size_t shown = 0;
        for (const PartPiece& p : part.pieces) {
            if (p.dropped || shown == 12) continue;
            ++shown;
            out.add(fmt::format("  {:.4g} {} around ({:.4g}, {:.4g}, {:.4g}): {}touches {}", p.volume, volume,
                                p.center.x(), p.center.y(), p.center.z(),
                                p.regions.empty() ? "" : "holds " + joined(p.regions) + ", ",
                                p.touches.empty() ? "no support, joint or load" : joined(p.touches)));
        }
        if (left > shown) out.add(fmt::format("  and {} more", left - shown));
        if (!part.missed.empty()) out.add("  no piece reaches " + joined(part.missed));
    }
    if (!part.one_piece())
        out.add("a lower --at keeps more material; --connected finds where it becomes one piece");
    if (dropped > 0)
        out.add(fmt::format("left out {} island{} of {:.4g} {} in all that touch{} no support, joint, "
                            "mass or load (--all-pieces keeps them)",
                            dropped, dropped == 1 ? "" : "s", dropped_volume, volume,
                            dropped == 1 ? "es" : ""));
    return out.take();
}

std::size_t closed_voids(const Triangles& surface) {
    Groups shells(surface.points.size());
    for (const auto& t : surface.corners)
        for (std::size_t k = 1; k < 3; ++k)
            shells.join(static_cast<std::size_t>(t[k]), static_cast<std::size_t>(t[0]));
    std::map<std::size_t, double> volume;
    for (const auto& t : surface.corners) {
        const auto p = [&](std::size_t k) { return surface.points[static_cast<std::size_t>(t[k])]; };
        volume[shells.root(static_cast<std::size_t>(t[0]))] += p(0).dot(p(1).cross(p(2)));
    }
    return static_cast<std::size_t>(
        std::count_if(volume.begin(), volume.end(), [](const auto& one) { return one.second < 0.0; }));
}

std::string fillets_text(const Model& model, const Part& part, double radius) {
    return fmt::format(
        "fillets of {:.4g} {} where the free surface meets kept shapes: {} more, {:.2g} % of the part",
        radius, model.units.length, model.units.mass_text(part.fillets, 3), 100.0 * part.fillets / part.mass);
}

std::string faces_text(const Model& model, const SolidPart& part, const SharpPlace& place) {
    const auto one = [&](std::int32_t s) -> std::string {
        if (s < 0) return "an inner face";
        if (s == part.level) return "the free surface";
        if (part.free(s)) return "a wall of infill";
        const Sheet& sheet = (*part.sheets)[s];
        for (const std::int32_t r : sheet.regions)
            if (r >= 0 && static_cast<std::size_t>(r) < model.shapes.size())
                return fmt::format("a {} of {}", word_of(sheet.kind),
                                   model.shapes[static_cast<std::size_t>(r)].name);
        return fmt::format("a {}", word_of(sheet.kind));
    };
    return one(place.sheets[0]) + " and " + one(place.sheets[1]);
}

std::string sharp_text(const Model& model, const SolidPart& part, const std::vector<SharpPlace>& places) {
    if (places.empty()) return {};
    const auto own = std::find_if(places.begin(), places.end(), [](const SharpPlace& p) { return p.own; });
    const auto owned = std::count_if(places.begin(), places.end(), [](const SharpPlace& p) { return p.own; });
    std::string out =
        fmt::format("{} of the tetrahedra {} an angle below {:g} degrees, the sharpest {:.1f} at {}",
                    places.size(), places.size() == 1 ? "has" : "have", fair_dihedral, places.front().angle,
                    place_text(places.front().at, false));
    if (owned > 0)
        out += fmt::format("; {} of them because the shape is as sharp: {} meet at {:.1f} degrees at {}",
                           owned, faces_text(model, part, *own), own->angle, place_text(own->at, false));
    return out;
}

std::string infill_text(const Model& model, const Part& part) {
    Lines out;
    if (!part.unfilled) return out.take();
    const std::string unit = model.units.text(dimension::volume);
    out.add(fmt::format("  {:<24}  {:<28}  {:>14}  {:>10}  {:>10}", "infill", "cell", "zone, " + unit,
                        "solid", "as written"));
    for (std::size_t i = 0; i < part.infills.size(); ++i) {
        const InfillMade& made = part.infills[i];
        const InfillCard& card = model.infills[i];
        out.add(fmt::format("  {:<24}  {:<28}  {:>14.5g}  {:>8.2f} %  {:>8.2f} %", made.name,
                            fmt::format("{}, {:.4g} / {:.4g} {}", text(card.cell), card.period,
                                        card.thickness, model.units.length),
                            made.zone * model.mesh.copies(), 100.0 * made.solid / made.zone,
                            100.0 * made.written / made.zone));
        if (made.loose > 0)
            out.add(fmt::format("  {} piece{} of struts that touch nothing {} left out", made.loose,
                                made.loose == 1 ? "" : "s", made.loose == 1 ? "is" : "are"));
    }
    out.add(fmt::format("infill takes {:.1f} % of the mass: {} before it, {} with it",
                        100.0 * (1.0 - part.mass / part.unfilled->mass),
                        model.units.mass_text(part.unfilled->mass, 5), model.units.mass_text(part.mass, 5)));
    const std::size_t voids = closed_voids(part.surface);
    if (voids > 0)
        out.add(fmt::format("doubt: {} void{} closed in: powder or resin stays inside unless a hole is made",
                            voids, voids == 1 ? " is" : "s are"));
    return out.take();
}

std::string thickness_text(const Model& model, const Thickness& found) {
    const std::string& unit = model.units.length;
    const auto at = [&](const Thickness::Place& p) {
        return fmt::format("{:.3g} {} about ({:.4g}, {:.4g}, {:.4g})", p.across, unit, p.at.x(), p.at.y(),
                           p.at.z());
    };
    std::string out = "thickness of the design, by inscribed spheres:";
    if (!found.thickest) return out + " no design is left";
    out += "\n  at most " + at(*found.thickest);
    if (found.thinnest) out += "\n  at least " + at(*found.thinnest);
    if (found.narrowest) out += "\n  gaps at least " + at(*found.narrowest);
    return out;
}

std::string making_text(const std::vector<MakingFinding>& findings) {
    Lines out;
    for (const MakingFinding& f : findings)
        out.add(fmt::format("{}: {} {:.3g} {} ({}), {:.3g} {}: {}{}", f.rule, f.what, f.value, f.unit, f.also,
                            f.limit, f.at_least ? "are needed" : "are allowed",
                            f.holds() ? "kept" : "NOT KEPT",
                            f.holds() ? ""
                                      : fmt::format(", worst at ({:.4g}, {:.4g}, {:.4g})", f.where.x(),
                                                    f.where.y(), f.where.z())));
    return out.take();
}

} // namespace upright
