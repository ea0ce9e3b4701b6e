#include "design/form.hpp"

#include "base/groups.hpp"

#include "design/middles.hpp"
#include "design/repeat_boxes.hpp"
#include "design/rules/plane_table.hpp"
#include "mesh/into_model.hpp"

#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <functional>
#include <map>
#include <numeric>
#include <unordered_map>

namespace upright {

bool maps_onto_itself(const Mesh& mesh, const std::vector<std::size_t>& elements,
                      const std::function<Vec3(const Vec3&)>& image) {
    const Middles middles(mesh, elements);
    std::size_t exact = 0;
    std::size_t near = 0;
    for (const std::size_t e : elements) {
        const Vec3 at = into_model(mesh, image(mesh.center(e)));
        if (middles.nearest(at, 1e-4 * mesh.size) >= 0)
            ++exact;
        else if (middles.nearest(at, 0.5 * mesh.size) >= 0)
            ++near;
    }
    return exact > near;
}

namespace {

constexpr double two_pi = 6.28318530717958647692;

using Image = std::function<Vec3(const Vec3&)>;

Vec3 turned(const FormRules::Sectors& sectors, const Vec3& p) {
    const Mat3 turn = Eigen::AngleAxisd(two_pi / sectors.count, sectors.frame.axes.col(2)).matrix();
    return sectors.frame.origin + turn * (p - sectors.frame.origin);
}
Vec3 mirrored_in(const FormRules::Sectors& sectors, const Vec3& p) {
    Vec3 local = sectors.frame.axes.transpose() * (p - sectors.frame.origin);
    local.y() = -local.y();
    return sectors.frame.origin + sectors.frame.axes * local;
}

std::vector<Image> generators(const Mesh& mesh, const std::vector<std::size_t>& elements,
                              const FormRules& rules) {
    std::vector<Image> out;
    for (const SymmetryPlane& plane : rules.mirror) {
        const bool cut_there =
            std::any_of(mesh.symmetry.begin(), mesh.symmetry.end(), [&](const SymmetryCut& cut) {
                return cut.axis == plane.axis && std::abs(cut.at - plane.at) < 1e-6 * mesh.size;
            });
        if (cut_there) continue; // the model is mirrored there anyway
        out.emplace_back([plane](Vec3 p) {
            p[plane.axis] = 2 * plane.at - p[plane.axis];
            return p;
        });
    }
    for (const FormCard::AnyPlane& plane : rules.oblique) {
        const Image image = [plane](const Vec3& p) { return reflected(plane, p); };
        // Others are links of the chain (rules/mirror.cpp).
        if (maps_onto_itself(mesh, elements, image)) out.push_back(image);
    }
    if (rules.sectors)
        out.emplace_back([sectors = *rules.sectors](const Vec3& p) { return turned(sectors, p); });
    if (rules.sectors && rules.sectors->mirrored)
        out.emplace_back([sectors = *rules.sectors](const Vec3& p) { return mirrored_in(sectors, p); });
    return out;
}

// Where an element's place falls when every rule folds it onto one share of the body.
Vec3 folded(const FormRules& rules, Vec3 p) {
    for (const SymmetryPlane& plane : rules.mirror)
        p[plane.axis] = plane.at - std::abs(p[plane.axis] - plane.at);
    if (rules.sectors) {
        const Frame& frame = rules.sectors->frame;
        const Vec3 local = frame.axes.transpose() * (p - frame.origin);
        const double sector = two_pi / rules.sectors->count;
        double angle = std::atan2(local.y(), local.x());
        angle -= sector * std::floor(angle / sector + 1e-9);
        if (rules.sectors->mirrored) angle = std::min(angle, sector - angle);
        const double r = std::hypot(local.x(), local.y());
        p = frame.origin + frame.axes * Vec3(r * std::cos(angle), r * std::sin(angle), local.z());
    }
    return p;
}

// Ties the elements of each column along an axis. Their middles lie above each other on meshes that are
// layered; elsewhere columns are as wide as an element.
void tie_columns(const Mesh& mesh, const std::vector<std::size_t>& elements, int axis, Groups& groups) {
    const auto columns = [&](double width, bool join) {
        std::map<std::pair<long, long>, std::size_t> first;
        for (std::size_t v = 0; v < elements.size(); ++v) {
            const Vec3& p = mesh.center(elements[v]);
            const int a = (axis + 1) % 3;
            const int b = (axis + 2) % 3;
            const std::pair<long, long> key{std::lround((p[a] - mesh.bounds.low[a]) / width),
                                            std::lround((p[b] - mesh.bounds.low[b]) / width)};
            const auto [at, fresh] = first.emplace(key, v);
            if (!fresh && join) groups.join(at->second, v);
        }
        return first.size();
    };
    const double fine = 1e-3 * mesh.size;
    const bool layered = mesh.on_grid() || static_cast<double>(columns(fine, false)) <
                                               0.7 * static_cast<double>(elements.size());
    columns(layered ? fine : mesh.size, true);
}

// Ties the elements of further regions to those of the first at the same place in their boxes. Returns how
// many found none; `exact` becomes false where the nearest one had to do.
std::size_t tie_repeats(const Model& model, const std::vector<std::size_t>& elements,
                        const FormCard::Repeat& repeat, const Middles& middles, Groups& groups, bool& exact) {
    const auto first = design_box(model, repeat.regions.front());
    if (!first) return 0;
    std::size_t alone = 0;
    for (std::size_t i = 1; i < repeat.regions.size(); ++i) {
        const auto box = design_box(model, repeat.regions[i]);
        if (!box) continue;
        for (std::size_t v = 0; v < elements.size(); ++v) {
            const std::size_t e = elements[v];
            if (!refers_to(repeat.regions[i], model.regions[index(model.mesh.region[e])].name)) continue;
            const Vec3 at = into_first(model.mesh.center(e), *first, *box, repeat.mirrored && i % 2 == 1);
            long other = middles.nearest(at, 1e-4 * model.mesh.size);
            if (other < 0) {
                other = middles.nearest(at, model.mesh.size);
                exact = false;
            }
            const bool there =
                other >= 0 &&
                refers_to(
                    repeat.regions.front(),
                    model.regions[index(model.mesh.region[elements[static_cast<std::size_t>(other)]])].name);
            if (there)
                groups.join(v, static_cast<std::size_t>(other));
            else
                ++alone;
        }
    }
    return alone;
}

} // namespace

std::vector<PatternImage> pattern_images(const Model& model, const FormRules& rules) {
    std::vector<PatternImage> out;
    const auto add = [&](const char* rule, const char* words, const Image& image) {
        out.push_back({rule, words, [image](const Vec3& p) { return std::optional<Vec3>(image(p)); }});
    };
    for (const SymmetryPlane& plane : rules.mirror)
        add("mirror", "mirrored", [plane](Vec3 p) {
            p[plane.axis] = 2.0 * plane.at - p[plane.axis];
            return p;
        });
    for (const FormCard::AnyPlane& plane : rules.oblique)
        add("mirror", "mirrored", [plane](const Vec3& p) { return reflected(plane, p); });
    if (rules.sectors) {
        add("sectors", "turned by a sector",
            [sectors = *rules.sectors](const Vec3& p) { return turned(sectors, p); });
        if (rules.sectors->mirrored)
            add("sectors", "mirrored in its sector",
                [sectors = *rules.sectors](const Vec3& p) { return mirrored_in(sectors, p); });
    }
    if (!rules.repeat) return out;
    const FormCard::Repeat& repeat = *rules.repeat;
    const auto first = design_box(model, repeat.regions.front());
    for (std::size_t i = 1; first && i < repeat.regions.size(); ++i) {
        const auto box = design_box(model, repeat.regions[i]);
        if (!box) continue;
        const double slack = 1e-6 * model.mesh.size;
        const bool mirrored = repeat.mirrored && i % 2 == 1;
        out.push_back({"repeat", "brought into the first region",
                       [first = *first, box = *box, slack, mirrored](const Vec3& p) -> std::optional<Vec3> {
                           if (((p - box.low).array() < -slack).any() ||
                               ((box.high - p).array() < -slack).any())
                               return {};
                           return into_first(p, first, box, mirrored);
                       }});
    }
    return out;
}

int pattern_copy(const Model& model, const FormRules& rules, const Vec3& p, RegionId region) {
    int out = 0;
    if (rules.sectors) {
        const Frame& frame = rules.sectors->frame;
        const Vec3 local = frame.axes.transpose() * (p - frame.origin);
        const double sector = two_pi / rules.sectors->count;
        double angle = std::atan2(local.y(), local.x());
        if (angle < 0.0) angle += two_pi;
        const int number = std::min(static_cast<int>(angle / sector + 1e-9), rules.sectors->count - 1);
        out = number;
        if (rules.sectors->mirrored) out = 2 * number + (angle - number * sector > 0.5 * sector ? 1 : 0);
    }
    const double slack = 1e-6 * model.mesh.size;
    for (const SymmetryPlane& plane : rules.mirror)
        out = 2 * out + (p[plane.axis] > plane.at + slack ? 1 : 0);
    for (const FormCard::AnyPlane& plane : rules.oblique)
        out = 2 * out + (plane.normal.dot(p - plane.point) < -slack ? 1 : 0);
    if (rules.repeat) {
        const std::vector<std::string>& names = rules.repeat->regions;
        int at = 0;
        for (std::size_t i = 1; i < names.size(); ++i)
            if (refers_to(names[i], model.regions[index(region)].name)) at = static_cast<int>(i);
        out = out * static_cast<int>(names.size()) + at;
    }
    return out;
}

FormMap::FormMap(const Model& model, const std::vector<std::size_t>& elements, const FormRules& rules) {
    if (!rules.any()) return;
    const Mesh& mesh = model.mesh;
    const std::size_t n = elements.size();
    Groups groups(n);
    const Middles middles(mesh, elements);
    const std::vector<Image> images = generators(mesh, elements, rules);
    // Exact partners first.
    std::vector<bool> missing(n, false);
    for (const Image& image : images)
        for (std::size_t v = 0; v < n; ++v) {
            const Vec3 at = into_model(mesh, image(mesh.center(elements[v])));
            const long other = middles.nearest(at, 1e-4 * mesh.size);
            if (other < 0)
                missing[v] = true;
            else
                groups.join(v, static_cast<std::size_t>(other));
        }
    alone_ = static_cast<std::size_t>(std::count(missing.begin(), missing.end(), true));
    // A design space without the symmetry leaves some alone; a mesh without it most.
    if (!images.empty() && alone_ > n / 2) {
        exact_ = false;
        alone_ = 0;
        groups = Groups(n);
        for (std::size_t v = 0; v < n; ++v) {
            const Vec3& own = mesh.center(elements[v]);
            const Vec3 at = into_model(mesh, folded(rules, own));
            if ((at - own).norm() < 1e-6 * mesh.size) continue;
            const long other = middles.nearest(at, 1.5 * mesh.size);
            if (other < 0) {
                ++alone_;
                continue;
            }
            // Its stand-in has to stand for itself.
            const Vec3& place = mesh.center(elements[static_cast<std::size_t>(other)]);
            if ((into_model(mesh, folded(rules, place)) - place).norm() < 1e-6 * mesh.size)
                groups.join(v, static_cast<std::size_t>(other));
            else
                ++alone_;
        }
    }
    if (rules.repeat) alone_ += tie_repeats(model, elements, *rules.repeat, middles, groups, exact_);
    if (rules.extrude) tie_columns(mesh, elements, *rules.extrude, groups);

    group_of_.resize(n);
    share_.resize(n);
    std::vector<std::size_t> number(n, n);
    for (std::size_t v = 0; v < n; ++v) {
        std::size_t& one = number[groups.root(v)];
        if (one == n) one = groups_++;
        group_of_[v] = one;
    }
    std::vector<double> volume(groups_, 0.0);
    for (std::size_t v = 0; v < n; ++v) volume[group_of_[v]] += mesh.volume(elements[v]);
    for (std::size_t v = 0; v < n; ++v) share_[v] = mesh.volume(elements[v]) / volume[group_of_[v]];
}

std::vector<double> FormMap::spread(const std::vector<double>& groups) const {
    if (!ties()) return groups;
    std::vector<double> out(group_of_.size());
    for (std::size_t v = 0; v < out.size(); ++v) out[v] = groups[group_of_[v]];
    return out;
}

std::vector<double> FormMap::sum(const std::vector<double>& elements) const {
    if (!ties()) return elements;
    std::vector<double> out(groups_, 0.0);
    for (std::size_t v = 0; v < group_of_.size(); ++v) out[group_of_[v]] += elements[v];
    return out;
}

std::vector<double> FormMap::mean(const std::vector<double>& elements) const {
    if (!ties()) return elements;
    std::vector<double> out(groups_, 0.0);
    for (std::size_t v = 0; v < group_of_.size(); ++v) out[group_of_[v]] += share_[v] * elements[v];
    return out;
}

std::vector<double> FormMap::mean_transpose(const std::vector<double>& groups) const {
    if (!ties()) return groups;
    std::vector<double> out(group_of_.size());
    for (std::size_t v = 0; v < out.size(); ++v) out[v] = share_[v] * groups[group_of_[v]];
    return out;
}

} // namespace upright
