#include "model/constraints.hpp"

#include <algorithm>
#include <cmath>
#include <limits>
#include <map>

namespace upright {

Transform::Transform(std::vector<double> scale_of_freedom)
    : scale_(std::move(scale_of_freedom)), dependent_(scale_.size(), false), rows_(scale_.size()),
      users_(scale_.size()) {}

void Transform::add(const Equation& equation, const std::string& who, const Place& place) {
    std::map<std::size_t, double> sum;
    double value = equation.value;
    double largest = 0.0;
    for (const Term& t : equation.terms) {
        largest = std::max(largest, std::abs(t.factor) * scale_[t.freedom]);
        if (!dependent_[t.freedom]) {
            sum[t.freedom] += t.factor;
            continue;
        }
        const Row& row = rows_[t.freedom];
        for (const Term& inner : row.terms) sum[inner.freedom] += t.factor * inner.factor;
        value -= t.factor * row.constant;
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
    Row row;
    const double p = sum[pivot];
    for (const auto& [freedom, factor] : sum)
        if (freedom != pivot) {
            row.terms.push_back({freedom, -factor / p});
            users_[freedom].push_back(pivot);
        }
    row.constant = value / p;
    moves_ = moves_ || row.constant != 0.0;
    dependent_[pivot] = true;
    // Whoever was expressed by the pivot is so no more.
    for (const std::size_t user : users_[pivot]) {
        Row& other = rows_[user];
        const auto at = std::find_if(other.terms.begin(), other.terms.end(),
                                     [&](const Term& t) { return t.freedom == pivot; });
        if (at == other.terms.end()) continue;
        const double factor = at->factor;
        other.terms.erase(at);
        other.constant += factor * row.constant;
        for (const Term& t : row.terms) {
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
    users_[pivot].clear();
    rows_[pivot] = std::move(row);
}

void Transform::finish() {
    if (rows_.size() > static_cast<std::size_t>(std::numeric_limits<std::int32_t>::max()))
        throw Error::numerics("the model has more than 2147483647 displacements", "Write a larger cell size");
    unknown_of_.assign(rows_.size(), -1);
    for (std::size_t i = 0; i < rows_.size(); ++i)
        if (dependent_[i])
            all_dependent_.push_back(i);
        else
            unknown_of_[i] = static_cast<std::int32_t>(unknown_count_++);
    for (Row& row : rows_)
        for (Term& t : row.terms) t.freedom = static_cast<std::size_t>(unknown_of_[t.freedom]);
    users_.clear();
    users_.shrink_to_fit();
}

Eigen::VectorXd Transform::expand(const Eigen::Ref<const Eigen::VectorXd>& q, bool with_constant) const {
    Eigen::VectorXd out;
    expand(q, with_constant, out);
    return out;
}

void Transform::expand(const Eigen::Ref<const Eigen::VectorXd>& q, bool with_constant,
                       Eigen::VectorXd& out) const {
    out.resize(static_cast<Eigen::Index>(rows_.size()));
#pragma omp parallel for schedule(static)
    for (std::size_t i = 0; i < rows_.size(); ++i)
        out[static_cast<Eigen::Index>(i)] = unknown_of_[i] >= 0 ? q[unknown_of_[i]] : 0.0;
    for (const std::size_t i : all_dependent_) {
        double value = with_constant ? rows_[i].constant : 0.0;
        for (const Term& t : rows_[i].terms) value += t.factor * q[static_cast<Eigen::Index>(t.freedom)];
        out[static_cast<Eigen::Index>(i)] = value;
    }
}

Eigen::VectorXd Transform::gather(const Eigen::VectorXd& f) const {
    Eigen::VectorXd out(static_cast<Eigen::Index>(unknown_count_));
#pragma omp parallel for schedule(static)
    for (std::size_t i = 0; i < rows_.size(); ++i)
        if (unknown_of_[i] >= 0) out[unknown_of_[i]] = f[static_cast<Eigen::Index>(i)];
    for (const std::size_t i : all_dependent_)
        for (const Term& t : rows_[i].terms)
            out[static_cast<Eigen::Index>(t.freedom)] += t.factor * f[static_cast<Eigen::Index>(i)];
    return out;
}

} // namespace upright
