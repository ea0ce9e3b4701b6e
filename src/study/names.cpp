#include "study/names.hpp"

#include "base/nearest.hpp"

#include <algorithm>
#include <array>
#include <map>

namespace upright {

bool refers_to(const std::string& reference, const std::string& name) {
    return name == reference || (name.size() > reference.size() && name[reference.size()] == '/' &&
                                 name.compare(0, reference.size(), reference) == 0);
}

bool refers_to(const std::vector<std::string>& references, const std::string& name) {
    return std::any_of(references.begin(), references.end(),
                       [&](const std::string& reference) { return refers_to(reference, name); });
}

namespace {

constexpr std::array<std::pair<LoadKind, const char*>, 7> load_words{{{LoadKind::Force, "force"},
                                                                      {LoadKind::Moment, "moment"},
                                                                      {LoadKind::Pressure, "pressure"},
                                                                      {LoadKind::Toward, "toward"},
                                                                      {LoadKind::Gravity, "gravity"},
                                                                      {LoadKind::Spin, "spin"},
                                                                      {LoadKind::Heat, "heat"}}};

} // namespace

const char* text(LoadKind kind) {
    return load_words[static_cast<std::size_t>(kind)].second;
}

const char* text(InfillCard::Cell cell) {
    switch (cell) {
    case InfillCard::Cell::Cubic:
        return "cubic";
    case InfillCard::Cell::Octet:
        return "octet";
    case InfillCard::Cell::Gyroid:
        break;
    }
    return "gyroid";
}

std::optional<LoadKind> load_kind(const std::string& word) {
    for (const auto& [kind, known] : load_words)
        if (word == known) return kind;
    return {};
}

const char* text(Component component) {
    constexpr std::array<const char*, 6> words{"size", "x", "y", "z", "r", "t"};
    return words[static_cast<std::size_t>(component)];
}

int axis_of(Component component) {
    if (component == Component::X || component == Component::R) return 0;
    return component == Component::Y || component == Component::T ? 1 : 2;
}

Study on_cells(Study study, double times) {
    study.mesh.size *= times;
    if (study.mesh.smallest) *study.mesh.smallest *= times;
    for (RefineCard& refine : study.mesh.refine) refine.size *= times;
    return study;
}

bool holds_in(const Study& study, const StaticCase& c, const std::string& support) {
    return std::any_of(study.supports.begin(), study.supports.end(), [&](const SupportCard& s) {
        return refers_to(support, s.name) && refers_to(c.supports, s.name);
    });
}

void require_known(const std::vector<std::string>& references, const std::vector<std::string>& known,
                   const std::string& kind, const Place& place) {
    for (const std::string& reference : references) {
        const bool found = std::any_of(known.begin(), known.end(),
                                       [&](const std::string& name) { return refers_to(reference, name); });
        if (!found)
            throw Error::input(place, "there is no " + kind + " \"" + reference + "\"",
                               known.empty() ? "The study has no " + kind + "; write a [[" + kind + "]]"
                                             : suggestion(reference, known));
    }
}

namespace {

template <class Cards> void require_unique(const Cards& cards, const std::string& kind) {
    std::map<std::string, Place> seen;
    for (const auto& card : cards) {
        const auto [first, fresh] = seen.emplace(card.name, card.place);
        if (!fresh)
            throw Error::input(card.place, "a second " + kind + " bears the name \"" + card.name + "\"",
                               "The first stands at " + first->second.text() + "; give each its own name");
    }
}

} // namespace

void check_names(const Study& study) {
    require_unique(study.materials, "material");
    require_unique(study.regions, "region");
    require_unique(study.finishes, "finish");
    require_unique(study.infills, "infill");
    require_unique(study.surfaces, "surface");
    require_unique(study.points, "point");
    require_unique(study.frames, "frame");
    require_unique(study.couplings, "coupling");
    require_unique(study.joints, "joint");
    require_unique(study.masses, "mass");
    require_unique(study.bonds, "bond");
    require_unique(study.supports, "support");
    require_unique(study.loads, "load");
    require_unique(study.cases, "case");
    require_unique(study.modal_cases, "case");
    for (const ModalCase& modal : study.modal_cases)
        for (const StaticCase& c : study.cases)
            if (refers_to(modal.name, c.name))
                throw Error::input(modal.place, "there are two cases \"" + modal.name + "\"",
                                   "Give each a name of its own");
    require_unique(study.responses, "response");

    const std::vector<std::string> surfaces = names_of(study.surfaces);
    std::vector<std::string> places = surfaces;
    for (const std::string& point : names_of(study.points)) {
        if (std::find(surfaces.begin(), surfaces.end(), point) != surfaces.end())
            for (const PointCard& card : study.points)
                if (card.name == point)
                    throw Error::input(card.place, "a surface already bears the name \"" + point + "\"",
                                       "Loads and supports refer to both; give the point another name");
        places.push_back(point);
    }
    for (const CouplingCard& card : study.couplings) {
        if (std::find(places.begin(), places.end(), card.name) != places.end())
            throw Error::input(card.place, "a surface or point already bears the name \"" + card.name + "\"",
                               "Loads and supports refer to all of them; give the coupling another name");
    }
    for (const std::string& coupling : names_of(study.couplings)) places.push_back(coupling);
    std::vector<std::string> painted;
    for (const RegionCard& region : study.regions) {
        require_known(region.within, painted, "region (painted before \"" + region.name + "\")",
                      region.place);
        if (const Skin* skin = std::get_if<Skin>(&region.extent)) {
            std::vector<std::string> coverable = painted;
            coverable.insert(coverable.end(), surfaces.begin(), surfaces.end());
            require_known(skin->of, coverable, "earlier region or surface", region.place);
        }
        if (const HoleRing* ring = std::get_if<HoleRing>(&region.extent);
            ring != nullptr && !ring->around.empty())
            require_known(ring->around, painted, "earlier region", region.place);
        painted.push_back(region.name);
    }
    for (const RegionCard& finish : study.finishes)
        if (const Skin* stock = std::get_if<Skin>(&finish.extent))
            require_known(stock->of, surfaces, "surface", finish.place);
    for (const SurfaceCard& surface : study.surfaces)
        require_known(surface.of, names_of(study.regions), "region", surface.place);
    for (const PointCard& point : study.points)
        if (const std::string* of = std::get_if<std::string>(&point.at))
            require_known({*of}, surfaces, "surface", point.at_place);
    for (const SupportCard& support : study.supports)
        require_known(support.on, places, "surface, point or coupling", support.on_place);
    for (const LoadCard& load : study.loads) {
        if (load.on.empty()) continue;
        require_known(load.on, places, "surface, point or coupling", load.on_place);
        if (std::holds_alternative<PressureLoad>(load.kind))
            require_known(load.on, surfaces, "surface", load.on_place);
    }
    for (const MassCard& mass : study.masses)
        require_known(mass.on, places, "surface, point or coupling", mass.on_place);
}

} // namespace upright
