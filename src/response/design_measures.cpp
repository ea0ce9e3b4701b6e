#include "response/design_measures.hpp"

#include "base/blocks.hpp"
#include "design/interpolation.hpp"

#include <algorithm>
#include <chrono>
#include <cmath>
#include <fmt/format.h>

namespace upright {

namespace {

constexpr double pi = 3.14159265358979323846;
constexpr double norm_power = 8.0; // of the aggregate of stress
// Grayness from which on the aggregate of stress is corrected towards the relaxed stress alone: while cells
// are half dense the stress of their solid material would hold fast what should become void.
constexpr double gray_stress = 0.06;
constexpr double sharpest_mean = 30.0; // of the aggregate of displacements
constexpr double adapt_share = 0.5;    // of what a correction misses, made good each time
constexpr int modes_together = 3;      // above the lowest one wanted: they may swap, or share a frequency

using Clock = std::chrono::steady_clock;

double since(Clock::time_point t) {
    return std::chrono::duration<double>(Clock::now() - t).count();
}

bool strength(Measure m) {
    return m == Measure::Stress || m == Measure::Safety;
}

// The part of a gradient that comes from loads that act on the material: v' df/drho.
void add_body_loads(const StaticAnalysis& analysis, const ModelCase& c, const Eigen::VectorXd& v,
                    double factor, const std::vector<double>& slope, std::vector<double>& gradient) {
    const Model& model = analysis.model();
    const int d = model.mesh.dimension();
    std::vector<Vec3> parts;
    for (const auto& [l, share] : c.loads) {
        const ModelLoad& load = model.loads[l];
        if (!load.of_body()) continue;
        for (std::size_t e = 0; e < gradient.size(); ++e) {
            const auto id = static_cast<ElementId>(e);
            model.body_force(load, id, parts);
            const NodeRange ids = model.mesh.nodes_of(id);
            double work = 0.0;
            for (std::size_t i = 0; i < ids.size(); ++i)
                work +=
                    v.segment(static_cast<Eigen::Index>(model.freedom(ids[i], 0)), d).dot(parts[i].head(d));
            gradient[e] += factor * share * work;
        }
    }
    const std::vector<double> heat = analysis.unit_heat_work(c, v);
    for (std::size_t e = 0; e < heat.size(); ++e) gradient[e] += factor * slope[e] * heat[e];
}

} // namespace

double stress_share(double density) {
    const double cube = density * density * density;
    return cube * std::sqrt(density) / (cube + 1e-3);
}

double stress_share_slope(double density) {
    if (density <= 0.0) return 0.0;
    const double cube = density * density * density;
    const double top = cube * std::sqrt(density);
    const double below = cube + 1e-3;
    return 3.5 * top / density / below - top * 3.0 * density * density / (below * below);
}

std::vector<Column> columns(const Study& study) {
    std::vector<Column> out;
    for (std::size_t r = 0; r < study.responses.size(); ++r) {
        const ResponseCard& card = study.responses[r];
        if (of_material(card.measure) || card.measure == Measure::Compliance) {
            out.push_back({r, -1, card.name});
            continue;
        }
        const std::size_t first = out.size();
        const auto add = [&](const Card& c, std::size_t number) {
            if (card.in_case.empty() || refers_to(card.in_case, c.name))
                out.push_back({r, static_cast<int>(number), card.name + "@" + c.name});
        };
        if (card.measure == Measure::Frequency)
            for (std::size_t c = 0; c < study.modal_cases.size(); ++c) add(study.modal_cases[c], c);
        else
            for (std::size_t c = 0; c < study.cases.size(); ++c)
                if (card.measure != Measure::Reaction || holds_in(study, study.cases[c], card.at))
                    add(study.cases[c], c);
        if (out.size() == first + 1) out.back().name = card.name;
    }
    return out;
}

void judge(Reading& reading) {
    reading.excess = -1e300;
    const auto take = [&](double over, double bound) {
        reading.excess = std::max(reading.excess, over / std::max(std::abs(bound), 1e-300));
    };
    if (reading.max) take(reading.value - *reading.max, *reading.max);
    if (reading.min) take(*reading.min - reading.value, *reading.min);
    // A bound of zero knows no share: whatever exceeds it breaks it.
    reading.holds = reading.excess <= bound_tolerance;
}

DesignMeasures::DesignMeasures(const Study& study, StaticAnalysis& statics)
    : study_(study), model_(statics.model()), statics_(statics), columns_(upright::columns(study)) {
    for (std::size_t e = 0; e < model_.mesh.elements(); ++e)
        design_.push_back(model_.role(static_cast<ElementId>(e)) == Role::Design);
    for (std::size_t r = 0; r < study.responses.size(); ++r) {
        const ResponseCard& card = study.responses[r];
        if (of_material(card.measure)) linear_[r] = linear_weights(model_, card);
        if (card.measure == Measure::Displacement) {
            motions_[r] = motions(model_, card);
            if (motions_[r].empty())
                throw Error::input(card.place, "\"" + card.name + "\" finds no node to read");
        }
        if (!strength(card.measure)) continue;
        StressPart part;
        part.relative = card.measure == Measure::Safety || card.max_share.has_value();
        const std::vector<bool> out_of = left_out(model_, card.except);
        for (std::size_t e = 0; e < out_of.size(); ++e) {
            const ModelRegion& region = model_.regions[index(model_.mesh.region[e])];
            if (out_of[e] || (!card.of.empty() && !refers_to(card.of, region.name))) continue;
            const Material& m = model_.material(static_cast<ElementId>(e));
            double limit = 1.0;
            if (part.relative) {
                const bool ultimate = card.max_share && card.max_share->ultimate;
                const std::optional<double>& own = ultimate ? m.ultimate : m.yield;
                if (!own) continue;
                limit = *own;
            }
            part.elements.push_back(e);
            part.limit.push_back(limit);
        }
        if (part.elements.empty())
            throw Error::input(card.place,
                               part.relative ? "no material of \"" + card.name +
                                                   "\" has the strength that it is measured by"
                                             : "nothing is left for \"" + card.name + "\" to measure",
                               part.relative ? "Write yield (or ultimate) in the [[material]]"
                                             : "Except less, or name other regions");
        stress_[r] = std::move(part);
    }
    for (std::size_t c = 0; c < columns_.size(); ++c) {
        const ResponseCard& card = study.responses[columns_[c].response];
        if (card.measure == Measure::Reaction)
            reactions_[c] =
                reaction_fields(model_, model_.cases[static_cast<std::size_t>(columns_[c].in_case)], card);
    }
    modal_wanted_.assign(model_.modal_cases.size(), false);
    for (const Column& c : columns_)
        if (study.responses[c.response].measure == Measure::Frequency)
            modal_wanted_[static_cast<std::size_t>(c.in_case)] = true;
    if (std::any_of(modal_wanted_.begin(), modal_wanted_.end(), [](bool b) { return b; }))
        modal_.emplace(model_, statics.options());
}

void DesignMeasures::analyse(const std::vector<double>& density, double penalty,
                             const MeasureAccuracy& accuracy) {
    copy_by_blocks(density, density_);
    accuracy_ = accuracy.statics;
    gray_ = upright::grayness(density, design_);
    interpolate_stiffness(density, penalty, stiffness_, slope_);
    statics_.solve(stiffness_, density, accuracy.statics, cases_);
    for (std::string& note : statics_.take_notes()) notes_.push_back(std::move(note));
    von_mises_.clear();
    if (!stress_.empty())
        for (std::size_t c = 0; c < cases_.size(); ++c)
            von_mises_.push_back(statics_.von_mises_stress(cases_[c].displacement, &model_.cases[c]));
    adjoint_seconds_ = 0.0;
    modal_seconds_ = 0.0;
    if (!modal_) return;
    const auto start = Clock::now();
    mass_ = modal_mass_share(density);
    mass_slope_ = modal_mass_slope(density);
    modals_.clear();
    for (std::size_t c = 0; c < model_.modal_cases.size(); ++c) {
        modals_.emplace_back();
        if (!modal_wanted_[c]) continue;
        modals_.back() = modal_->solve(model_.modal_cases[c], stiffness_, mass_, accuracy.modals);
        for (const std::string& note : modals_.back().notes) notes_.push_back(note);
    }
    modal_seconds_ = since(start);
}

std::vector<std::string> DesignMeasures::take_notes() {
    std::vector<std::string> out;
    out.swap(notes_);
    return out;
}

double DesignMeasures::compliance_of(const ResponseCard& r, std::string* where) const {
    double sum = 0.0;
    double most = 0.0;
    for (std::size_t c = 0; c < cases_.size(); ++c) {
        const ModelCase& card = model_.cases[c];
        if (!r.in_case.empty() && !refers_to(r.in_case, card.name)) continue;
        sum += (r.in_case.empty() ? card.weight : 1.0) * cases_[c].compliance;
        if (cases_[c].compliance > most && where != nullptr && r.worst) *where = card.name;
        most = std::max(most, cases_[c].compliance);
    }
    return r.worst ? most : sum;
}

Reading DesignMeasures::displacement_reading(const ResponseCard& r, std::size_t response,
                                             std::size_t c) const {
    Reading out;
    out.min = r.min;
    out.max = r.max;
    const bool plane = model_.mesh.dimension() == 2;
    bool any = false;
    double least = 0.0;
    double most = 0.0;
    Vec3 at_least = Vec3::Zero();
    Vec3 at_most = Vec3::Zero();
    for (const Motion& m : motions_.at(response)) {
        const double value = component_of(study_, r, m.of(cases_[c].displacement), m.at);
        if (!any || value < least) at_least = m.at;
        if (!any || value > most) at_most = m.at;
        least = any ? std::min(least, value) : value;
        most = any ? std::max(most, value) : value;
        any = true;
    }
    const bool low = reads_lowest(r, least, most);
    out.value = low ? least : most;
    if (motions_.at(response).size() > 1) out.where = place_text(low ? at_least : at_most, plane);
    return out;
}

Reading DesignMeasures::stress_reading(const ResponseCard& r, std::size_t response, std::size_t c) const {
    const StressPart& part = stress_.at(response);
    Reading out;
    out.min = r.min;
    out.max = r.max;
    double worst = -1.0;
    std::size_t at = 0;
    for (int pass = 0; pass < 2 && worst < 0.0; ++pass) // where nothing is dense yet, all counts
        for (std::size_t i = 0; i < part.elements.size(); ++i) {
            const std::size_t e = part.elements[i];
            if (pass == 0 && density_[e] <= counted_density) continue;
            const double use = von_mises_[c][e] / part.limit[i];
            if (use > worst) {
                worst = use;
                at = i;
            }
        }
    const std::size_t e = part.elements[at];
    if (r.measure == Measure::Safety) {
        out.value = worst > 0.0 ? 1.0 / worst : 1e300;
    } else {
        out.value = von_mises_[c][e];
        if (r.max_share) out.max = r.max_share->share * part.limit[at];
    }
    out.where = place_text(model_.mesh.centers[e], model_.mesh.dimension() == 2);
    return out;
}

Vec3 DesignMeasures::reaction_force(std::size_t column) const {
    const auto c = static_cast<std::size_t>(columns_[column].in_case);
    const Eigen::VectorXd rest = statics_.residual(cases_[c], model_.cases[c], stiffness_, density_);
    Vec3 out = Vec3::Zero();
    for (int a = 0; a < 3; ++a) out[a] = reactions_.at(column)[static_cast<std::size_t>(a)].dot(rest);
    return out;
}

Reading DesignMeasures::reaction_reading(const ResponseCard& r, std::size_t column) const {
    Reading out;
    out.min = r.min;
    out.max = r.max;
    out.value = component_of(study_, r, reaction_force(column), Vec3::Zero());
    return out;
}

std::size_t DesignMeasures::mode_of(const ResponseCard& r, std::size_t column,
                                    const ModalResult& result) const {
    const auto number = static_cast<std::size_t>(r.mode) - 1;
    if (number >= result.modes.size())
        throw Error::numerics(
            fmt::format("\"{}\" asks for mode {} and the case \"{}\" has {} below its limit", r.name, r.mode,
                        model_.modal_cases[static_cast<std::size_t>(columns_[column].in_case)].name,
                        result.modes.size()),
            "Raise modes or up_to in that case");
    const auto shape = followed_.find(column);
    if (!r.track || shape == followed_.end()) return number;
    // The mode most like the one followed; both are of unit mass, so the product under the mass tells.
    const bool lumped = model_.modal_cases[static_cast<std::size_t>(columns_[column].in_case)].lumped;
    const Eigen::VectorXd along = modal_->mass_times(shape->second, mass_, lumped);
    std::size_t best = number;
    double most = -1.0;
    for (std::size_t m = 0; m < result.modes.size(); ++m) {
        const double like = std::abs(result.modes[m].shape.dot(along));
        if (like <= most) continue;
        most = like;
        best = m;
    }
    return best;
}

std::vector<Reading> DesignMeasures::readings() const {
    std::vector<Reading> out;
    for (std::size_t k = 0; k < columns_.size(); ++k) {
        const Column& column = columns_[k];
        const ResponseCard& r = study_.responses[column.response];
        const auto c = static_cast<std::size_t>(std::max(0, column.in_case));
        Reading one;
        one.min = r.min;
        one.max = r.max;
        if (of_material(r.measure)) {
            one.value = weighted_sum(linear_.at(column.response), density_);
        } else if (r.measure == Measure::Compliance) {
            one.value = compliance_of(r, &one.where);
        } else if (r.measure == Measure::Displacement) {
            one = displacement_reading(r, column.response, c);
        } else if (r.measure == Measure::Reaction) {
            one = reaction_reading(r, k);
        } else if (r.measure == Measure::Frequency) {
            one.value = modals_[c].modes[mode_of(r, k, modals_[c])].frequency;
        } else {
            one = stress_reading(r, column.response, c);
        }
        judge(one);
        out.push_back(std::move(one));
    }
    return out;
}

void DesignMeasures::add_compliance(std::size_t c, double weight, std::vector<double>& gradient) const {
    const Eigen::VectorXd& adjoint = cases_[c].adjoint();
    statics_.unit_energy(cases_[c].displacement, &adjoint, energy_);
#pragma omp parallel for simd schedule(static)
    for (std::size_t e = 0; e < energy_.size(); ++e) gradient[e] -= weight * slope_[e] * energy_[e];
    const bool of_material =
        std::any_of(model_.cases[c].loads.begin(), model_.cases[c].loads.end(), [&](const auto& load) {
            return model_.loads[load.first].of_body() || model_.loads[load.first].heat != 0.0;
        });
    if (!of_material) return;
    add_body_loads(statics_, model_.cases[c], cases_[c].displacement + adjoint, weight, slope_, gradient);
}

void DesignMeasures::smooth_compliance(std::size_t column, std::vector<Smooth>& out, bool gradients) const {
    const ResponseCard& r = study_.responses[columns_[column].response];
    const auto fresh = [&] {
        Smooth one;
        one.column = column;
        one.min = r.min;
        one.max = r.max;
        if (gradients) one.gradient.assign(density_.size(), 0.0);
        return one;
    };
    Smooth sum = fresh();
    for (std::size_t c = 0; c < cases_.size(); ++c) {
        const ModelCase& card = model_.cases[c];
        if (!r.in_case.empty() && !refers_to(r.in_case, card.name)) continue;
        const double weight = r.worst || !r.in_case.empty() ? 1.0 : card.weight;
        if (weight == 0.0) continue;
        if (r.worst) {
            Smooth one = fresh();
            one.value = cases_[c].compliance;
            if (gradients) add_compliance(c, 1.0, one.gradient);
            out.push_back(std::move(one));
            continue;
        }
        sum.value += weight * cases_[c].compliance;
        if (gradients) add_compliance(c, weight, sum.gradient);
    }
    if (!r.worst) out.push_back(std::move(sum));
}

void DesignMeasures::smooth_displacement(std::size_t column, std::vector<Pending>& out, bool adapt) {
    const Column& place = columns_[column];
    const ResponseCard& r = study_.responses[place.response];
    const auto c = static_cast<std::size_t>(place.in_case);
    const std::vector<Motion>& all = motions_.at(place.response);
    const bool is_goal = study_.goal && study_.goal->response == r.name;
    const bool largest = r.max || !r.min;
    const bool lowest = r.min.has_value();
    // Component or size of each place, and its derivative by the displacement there.
    std::vector<double> values;
    std::vector<Vec3> slopes;
    for (const Motion& m : all) {
        const Vec3 u = m.of(cases_[c].displacement);
        const std::optional<Vec3> along = direction(study_, r, m.at);
        const double size = along ? along->dot(u) : u.norm();
        values.push_back(size);
        slopes.push_back(along ? *along : size > 0.0 ? Vec3(u / size) : Vec3::Zero());
    }
    // log(sum(exp)) of sign * value, corrected to the largest one; with `both` of the values and their
    // opposites.
    const auto aggregate = [&](double sign, bool both, const std::string& key) {
        Pending p;
        p.in_case = place.in_case;
        p.smooth.column = column;
        p.load = Eigen::VectorXd::Zero(static_cast<Eigen::Index>(model_.freedoms()));
        double most = -1e300;
        double size = 0.0;
        for (const double v : values) {
            most = std::max(most, both ? std::abs(v) : sign * v);
            size = std::max(size, std::abs(v));
        }
        // What the exponents are measured by is the size when last adapted: the function is the same around.
        const auto [scale_at, first] = corrections_.emplace(key + " size", size);
        if (adapt && !first) scale_at->second = size;
        const double scale = scale_at->second;
        const double sharp = sharpest_mean / std::max(scale, 1e-300);
        double sum = 0.0;
        std::vector<double> weight(values.size(), 0.0); // signed
        for (std::size_t i = 0; i < values.size(); ++i)
            for (const double s : both ? std::vector<double>{1.0, -1.0} : std::vector<double>{sign}) {
                const double w = std::exp(sharp * (s * values[i] - most));
                sum += w;
                weight[i] += s * w;
            }
        for (std::size_t i = 0; i < values.size(); ++i)
            for (std::size_t a = 0; a < 3; ++a)
                for (const Term& t : all[i].along[a])
                    p.load[static_cast<Eigen::Index>(t.freedom)] += (both ? 1.0 : sign) * weight[i] / sum *
                                                                    slopes[i][static_cast<Eigen::Index>(a)] *
                                                                    t.factor;
        const double mean = most + std::log(sum) / sharp;
        // The correction is a share of the size, so that it shrinks with it.
        const double wanted = scale > 0.0 ? (mean - most) / scale : 0.0;
        auto [at, fresh] = corrections_.emplace(key, wanted);
        if (adapt && !fresh) at->second += adapt_share * (wanted - at->second);
        p.smooth.value = (both ? 1.0 : sign) * (mean - at->second * scale);
        return p;
    };
    const auto single = [&] {
        Pending p;
        p.in_case = place.in_case;
        p.smooth.column = column;
        p.smooth.value = values.front();
        p.load = Eigen::VectorXd::Zero(static_cast<Eigen::Index>(model_.freedoms()));
        for (std::size_t a = 0; a < 3; ++a)
            for (const Term& t : all.front().along[a])
                p.load[static_cast<Eigen::Index>(t.freedom)] +=
                    slopes.front()[static_cast<Eigen::Index>(a)] * t.factor;
        return p;
    };
    if (all.size() == 1) {
        out.push_back(single());
        out.back().smooth.min = r.min;
        out.back().smooth.max = r.max;
        return;
    }
    if (largest) {
        const bool maximized = is_goal && study_.goal->maximize;
        const bool both = !r.min && !r.max && r.component != "size" && !maximized;
        out.push_back(aggregate(1.0, both, place.name + " high"));
        out.back().smooth.max = r.max;
    }
    if (lowest) {
        out.push_back(aggregate(-1.0, false, place.name + " low"));
        out.back().smooth.min = r.min;
    }
}

void DesignMeasures::smooth_stress(std::size_t column, std::vector<Pending>& out, bool gradients,
                                   bool adapt) {
    const Column& place = columns_[column];
    const ResponseCard& r = study_.responses[place.response];
    const auto c = static_cast<std::size_t>(place.in_case);
    const StressPart& part = stress_.at(place.response);
    const bool safety = r.measure == Measure::Safety;
    const std::size_t n = part.elements.size();
    const Eigen::VectorXd& u = cases_[c].displacement;
    const double rise = statics_.rise(model_.cases[c]);
    const int layers = statics_.stress_layers();
    // Use of the strength (or stress), with soft cells counting less.
    std::vector<double> use(n * static_cast<std::size_t>(layers));
    double most = 0.0;
#pragma omp parallel for schedule(static) reduction(max : most)
    for (std::size_t i = 0; i < n; ++i) {
        const std::size_t e = part.elements[i];
        const double share = stress_share(density_[e]) / part.limit[i];
        if (layers == 1) {
            use[i] = share * von_mises_[c][e];
            most = std::max(most, use[i]);
            continue;
        }
        const auto sizes = statics_.von_mises_at(static_cast<ElementId>(e), u, rise, nullptr);
        for (std::size_t l = 0; l < 2; ++l) {
            use[2 * i + l] = share * sizes[l];
            most = std::max(most, use[2 * i + l]);
        }
    }
    Pending p;
    p.in_case = place.in_case;
    p.smooth.column = column;
    p.load = Eigen::VectorXd::Zero(static_cast<Eigen::Index>(model_.freedoms()));
    if (gradients) p.smooth.gradient.assign(density_.size(), 0.0);
    most = std::max(most, 1e-300);
    double sum = 0.0;
    for (const double v : use) sum += std::pow(v / most, norm_power);
    const double norm = most * std::pow(sum, 1.0 / norm_power);
    // What is reported: the largest of the dense elements, as it is.
    const Reading reading = stress_reading(r, place.response, c);
    double found = reading.value;
    if (safety) found = 1.0 / reading.value;
    if (r.max_share) found = reading.value / (*reading.max / r.max_share->share);
    const double soft = std::min(1.0, gray_ / gray_stress);
    found = std::pow(most, soft) * std::pow(std::max(found, 1e-300), 1.0 - soft);
    const double wanted = found / norm;
    auto [at, fresh] = corrections_.emplace(place.name, wanted);
    if (adapt && !fresh) at->second += adapt_share * (wanted - at->second);
    const double factor = at->second;
    p.smooth.value = factor * norm;
    if (gradients) {
        // d(norm) = sum (use / norm)^(p - 1) d(use)
        const int per = model_.mesh.freedoms();
        constexpr std::size_t chunk = 4096;
        std::vector<Eigen::VectorXd> parts(chunk);
        for (std::size_t from = 0; from < n; from += chunk) {
            const std::size_t to = std::min(n, from + chunk);
#pragma omp parallel for schedule(static)
            for (std::size_t i = from; i < to; ++i) {
                const std::size_t e = part.elements[i];
                const double share = stress_share(density_[e]) / part.limit[i];
                const double share_slope = stress_share_slope(density_[e]) / part.limit[i];
                Eigen::MatrixXd slopes;
                const auto sizes = statics_.von_mises_at(static_cast<ElementId>(e), u, rise, &slopes);
                Eigen::VectorXd& mine = parts[i - from];
                mine = Eigen::VectorXd::Zero(slopes.rows());
                double by_density = 0.0;
                for (int l = 0; l < layers; ++l) {
                    const auto k = static_cast<std::size_t>(l);
                    const double weight =
                        factor *
                        std::pow(use[i * static_cast<std::size_t>(layers) + k] / norm, norm_power - 1.0);
                    mine += weight * share * slopes.col(l);
                    by_density += weight * share_slope * sizes[k];
                }
                p.smooth.gradient[e] = by_density;
            }
            for (std::size_t i = from; i < to; ++i) {
                const NodeRange ids = model_.mesh.nodes_of(static_cast<ElementId>(part.elements[i]));
                for (std::size_t k = 0; k < ids.size(); ++k)
                    p.load.segment(static_cast<Eigen::Index>(model_.freedom(ids[k], 0)), per) +=
                        parts[i - from].segment(static_cast<Eigen::Index>(k) * per, per);
            }
        }
    }
    if (safety) {
        p.smooth.inverse = true;
        if (r.min) p.smooth.max = 1.0 / *r.min;
        if (r.max) p.smooth.min = 1.0 / *r.max;
    } else {
        p.smooth.max = r.max_share ? std::optional<double>(r.max_share->share) : r.max;
        p.smooth.min = r.min;
    }
    out.push_back(std::move(p));
}

void DesignMeasures::smooth_reaction(std::size_t column, std::vector<Pending>& out) const {
    const Column& place = columns_[column];
    const ResponseCard& r = study_.responses[place.response];
    const Vec3 force = reaction_force(column);
    const std::optional<Vec3> along = direction(study_, r, Vec3::Zero());
    const double size = along ? along->dot(force) : force.norm();
    const Vec3 by_force = along ? *along : size > 0.0 ? Vec3(force / size) : Vec3::Zero();
    Eigen::VectorXd w = Eigen::VectorXd::Zero(static_cast<Eigen::Index>(model_.freedoms()));
    for (int a = 0; a < 3; ++a) w += by_force[a] * reactions_.at(column)[static_cast<std::size_t>(a)];
    Pending p;
    p.in_case = place.in_case;
    p.smooth.column = column;
    p.smooth.value = size;
    p.smooth.min = r.min;
    p.smooth.max = r.max;
    // R = w'(K u - f): dR = w'(dK u - df) + (K w)' du.
    p.load = statics_.stiffness_times(w, stiffness_);
    p.minus = std::move(w);
    out.push_back(std::move(p));
}

void DesignMeasures::smooth_frequency(std::size_t column, std::vector<Smooth>& out, bool gradients) const {
    const Column& place = columns_[column];
    const ResponseCard& r = study_.responses[place.response];
    const auto c = static_cast<std::size_t>(place.in_case);
    const std::vector<Mode>& modes = modals_[c].modes;
    const std::size_t own = mode_of(r, column, modals_[c]);
    // A lower bound (or a goal to raise) is one on every mode from there on: the few nearest can swap.
    const bool raised = r.min || (study_.goal && study_.goal->response == r.name && study_.goal->maximize);
    const std::size_t last =
        r.track || !raised ? own
                           : std::min(modes.size() - 1, own + static_cast<std::size_t>(modes_together) - 1);
    for (std::size_t m = own; m <= last; ++m) {
        Smooth one;
        one.column = column;
        one.value = modes[m].frequency;
        one.min = r.min;
        if (m == own) one.max = r.max;
        if (gradients) {
            const bool lumped = model_.modal_cases[c].lumped;
            const ModalAnalysis::UnitEnergies unit = modal_->unit_energies(modes[m].shape, lumped);
            const double lambda = std::pow(2.0 * pi * modes[m].frequency, 2);
            const double factor = 1.0 / (8.0 * pi * pi * std::max(modes[m].frequency, 1e-300));
            one.gradient.resize(density_.size());
            for (std::size_t e = 0; e < density_.size(); ++e)
                one.gradient[e] =
                    factor * (slope_[e] * unit.strain[e] - lambda * mass_slope_[e] * unit.kinetic[e]);
        }
        out.push_back(std::move(one));
    }
}

void DesignMeasures::finish(std::vector<Pending>& pending, std::vector<Smooth>& out, bool gradients) {
    if (gradients && !pending.empty()) {
        const auto start = Clock::now();
        std::vector<AdjointLoad> loads;
        for (Pending& p : pending) loads.push_back({static_cast<std::size_t>(p.in_case), std::move(p.load)});
        std::vector<Eigen::VectorXd> answers = statics_.solve_adjoints(loads, accuracy_);
        adjoint_seconds_ += since(start);
        for (std::size_t i = 0; i < pending.size(); ++i) {
            Pending& p = pending[i];
            const auto c = static_cast<std::size_t>(p.in_case);
            Eigen::VectorXd& v = answers[i];
            if (p.minus.size() > 0) v -= p.minus;
            std::vector<double>& gradient = p.smooth.gradient;
            gradient.resize(density_.size(), 0.0);
            statics_.unit_energy(cases_[c].displacement, &v, energy_);
#pragma omp parallel for simd schedule(static)
            for (std::size_t e = 0; e < energy_.size(); ++e) gradient[e] -= slope_[e] * energy_[e];
            add_body_loads(statics_, model_.cases[c], v, 1.0, slope_, gradient);
        }
    }
    for (Pending& p : pending) out.push_back(std::move(p.smooth));
}

std::vector<Smooth> DesignMeasures::smooth(const std::vector<bool>& wanted, bool gradients, bool adapt) {
    std::vector<Smooth> out;
    std::vector<Pending> pending;
    for (std::size_t k = 0; k < columns_.size(); ++k) {
        const ResponseCard& r = study_.responses[columns_[k].response];
        if (adapt && r.measure == Measure::Frequency && r.track) {
            const ModalResult& result = modals_[static_cast<std::size_t>(columns_[k].in_case)];
            followed_[k] = result.modes[mode_of(r, k, result)].shape;
        }
        if (!wanted[k]) continue;
        if (of_material(r.measure)) {
            Smooth one;
            one.column = k;
            one.min = r.min;
            one.max = r.max;
            const std::vector<double>& w = linear_.at(columns_[k].response);
            one.value = weighted_sum(w, density_);
            if (gradients) one.gradient = w;
            out.push_back(std::move(one));
        } else if (r.measure == Measure::Compliance) {
            smooth_compliance(k, out, gradients);
        } else if (r.measure == Measure::Frequency) {
            smooth_frequency(k, out, gradients);
        } else if (r.measure == Measure::Displacement) {
            smooth_displacement(k, pending, adapt);
        } else if (r.measure == Measure::Reaction) {
            smooth_reaction(k, pending);
        } else {
            smooth_stress(k, pending, gradients, adapt);
        }
    }
    finish(pending, out, gradients);
    std::stable_sort(out.begin(), out.end(),
                     [](const Smooth& a, const Smooth& b) { return a.column < b.column; });
    return out;
}

namespace {

void put(DesignMeasures::Memory& memory, const std::string& name, const std::vector<Eigen::MatrixXd>& all) {
    for (std::size_t i = 0; i < all.size(); ++i) {
        if (all[i].size() == 0) continue;
        std::vector<double>& flat = memory[name + "." + std::to_string(i)];
        flat.assign(all[i].data(), all[i].data() + all[i].size());
        flat.push_back(static_cast<double>(all[i].cols()));
    }
}

std::vector<Eigen::MatrixXd> get(const DesignMeasures::Memory& memory, const std::string& name,
                                 std::size_t count) {
    std::vector<Eigen::MatrixXd> out(count);
    for (std::size_t i = 0; i < count; ++i) {
        const auto at = memory.find(name + "." + std::to_string(i));
        if (at == memory.end() || at->second.size() < 2) continue;
        const auto cols = static_cast<Eigen::Index>(at->second.back());
        const auto rows = static_cast<Eigen::Index>(at->second.size() - 1) / cols;
        out[i] = Eigen::Map<const Eigen::MatrixXd>(at->second.data(), rows, cols);
    }
    return out;
}

} // namespace

void DesignMeasures::keep(Memory& memory) const {
    for (const auto& [name, value] : corrections_) memory["correction." + name] = {value};
    for (const auto& [column, shape] : followed_)
        memory["followed." + std::to_string(column)] = {shape.data(), shape.data() + shape.size()};
    put(memory, "warm-static", statics_.warm_state());
    if (modal_) put(memory, "warm-modal", modal_->warm_state());
}

void DesignMeasures::take_up(const Memory& memory) {
    const std::string prefix = "correction.";
    for (const auto& [name, value] : memory)
        if (name.rfind(prefix, 0) == 0) corrections_[name.substr(prefix.size())] = value.front();
    for (std::size_t k = 0; k < columns_.size(); ++k) {
        const auto at = memory.find("followed." + std::to_string(k));
        if (at != memory.end())
            followed_[k] = Eigen::Map<const Eigen::VectorXd>(at->second.data(),
                                                             static_cast<Eigen::Index>(at->second.size()));
    }
    statics_.set_warm_state(get(memory, "warm-static", statics_.warm_state().size()));
    if (modal_) modal_->set_warm_state(get(memory, "warm-modal", model_.modal_cases.size()));
}

} // namespace upright
