#include "model/constraints.hpp"

#include <algorithm>
#include <cmath>
#include <limits>
#include <map>

namespace upright {

Transform::Transform(std::vector<double> scale_of_freedom)
    : links_(scale_of_freedom.size(), alone), scale_(std::move(scale_of_freedom)) {}

void Transform::add(const Equation& equation, const std::string& who, const Place& place) {
    std::map<std::size_t, double> sum;
    double value = equation.value;
    double largest = 0.0;
    for (const Term& t : equation.terms) {
        largest = std::max(largest, std::abs(t.factor) * scale_[t.freedom]);
        if (!dependent(t.freedom)) {
            sum[t.freedom] += t.factor;
            continue;
        }
        for (const Term& inner : terms(t.freedom)) sum[inner.freedom] += t.factor * inner.factor;
        value -= t.factor * constant(t.freedom);
    }
    for (auto it = sum.begin(); it != sum.end();)
        it = std::abs(it->second) * scale_[it->first] <= 1e-10 * largest ? sum.erase(it) : std::next(it);
    if (sum.empty()) {
        if (std::abs(value) > 1e-9 * std::max(std::abs(equation.value), 1e-300) &&
            std::abs(value) > 1e-12 * largest)
            throw Error::input(
                place, who + " contradicts another support or coupling: the same motion is given two values",
                "Hold or move it in one of them alone");
        return;
    }
    std::size_t pivot = sum.begin()->first;
    double best = 0.0;
    for (const auto& [freedom, factor] : sum)
        if (std::abs(factor) * scale_[freedom] > best * (1 + 1e-9)) {
            best = std::abs(factor) * scale_[freedom];
            pivot = freedom;
        }
    if (const auto first = sum.find(equation.terms.front().freedom);
        first != sum.end() && std::abs(first->second) * scale_[first->first] > 1e-6 * best)
        pivot = first->first;
    Row made;
    const double p = sum[pivot];
    for (const auto& [freedom, factor] : sum)
        if (freedom != pivot) {
            made.terms.push_back({freedom, -factor / p});
            users_[freedom].push_back(pivot);
        }
    made.constant = value / p;
    moves_ = moves_ || made.constant != 0.0;
    // Whoever was expressed by the pivot is so no more.
    for (const std::size_t user : users_[pivot]) {
        Row& other = row(user);
        const auto at = std::find_if(other.terms.begin(), other.terms.end(),
                                     [&](const Term& t) { return t.freedom == pivot; });
        if (at == other.terms.end()) continue;
        const double factor = at->factor;
        other.terms.erase(at);
        other.constant += factor * made.constant;
        for (const Term& t : made.terms) {
            const auto known = std::find_if(other.terms.begin(), other.terms.end(),
                                            [&](const Term& o) { return o.freedom == t.freedom; });
            if (known != other.terms.end()) {
                known->factor += factor * t.factor;
            } else {
                other.terms.push_back({t.freedom, factor * t.factor});
                users_[t.freedom].push_back(user);
            }
        }
    }
    users_.erase(pivot);
    links_[pivot] = first_row - static_cast<std::int32_t>(rows_.size());
    rows_.push_back(std::move(made));
}

void Transform::finish() {
    if (links_.size() > static_cast<std::size_t>(std::numeric_limits<std::int32_t>::max()))
        throw Error::numerics("the model has more than 2147483647 displacements", "Write a larger cell size");
    for (std::size_t i = 0; i < links_.size(); ++i)
        if (dependent(i))
            all_dependent_.push_back(i);
        else
            links_[i] = static_cast<std::int32_t>(unknown_count_++);
    for (Row& one : rows_)
        for (Term& t : one.terms) t.freedom = static_cast<std::size_t>(links_[t.freedom]);
    users_.clear();
    scale_.clear();
    scale_.shrink_to_fit();
}

Eigen::VectorXd Transform::expand(const Eigen::Ref<const Eigen::VectorXd>& q, bool with_constant) const {
    Eigen::VectorXd out;
    expand(q, with_constant, out);
    return out;
}

void Transform::expand(const Eigen::Ref<const Eigen::VectorXd>& q, bool with_constant,
                       Eigen::VectorXd& out) const {
    out.resize(static_cast<Eigen::Index>(links_.size()));
#pragma omp parallel for schedule(static)
    for (std::size_t i = 0; i < links_.size(); ++i)
        out[static_cast<Eigen::Index>(i)] = links_[i] >= 0 ? q[links_[i]] : 0.0;
    for (const std::size_t i : all_dependent_) {
        double value = with_constant ? constant(i) : 0.0;
        for (const Term& t : terms(i)) value += t.factor * q[static_cast<Eigen::Index>(t.freedom)];
        out[static_cast<Eigen::Index>(i)] = value;
    }
}

Eigen::VectorXd Transform::gather(const Eigen::VectorXd& f) const {
    Eigen::VectorXd out(static_cast<Eigen::Index>(unknown_count_));
#pragma omp parallel for schedule(static)
    for (std::size_t i = 0; i < links_.size(); ++i)
        if (links_[i] >= 0) out[links_[i]] = f[static_cast<Eigen::Index>(i)];
    for (const std::size_t i : all_dependent_)
        for (const Term& t : terms(i))
            out[static_cast<Eigen::Index>(t.freedom)] += t.factor * f[static_cast<Eigen::Index>(i)];
    return out;
}

} // namespace upright
