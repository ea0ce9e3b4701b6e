#include "base/checkpoint.hpp"

#include "base/error.hpp"

namespace upright {

namespace {

constexpr std::int64_t most_counted = 1000000000; // of anything: there is room for what is added to it

} // namespace

std::vector<std::string> Walk::names() const {
    std::vector<std::string> out;
    const Checkpoint& all = reading() ? *from_ : *to_;
    for (auto at = all.values.lower_bound(at_); at != all.values.end(); ++at) {
        if (at->first.compare(0, at_.size(), at_) != 0) break;
        out.push_back(at->first.substr(at_.size()));
    }
    return out;
}

template <class Stored, class T> void Walk::one(const std::string& name, T& value) const {
    if (!reading()) {
        to_->values[at_ + name] = static_cast<Stored>(value);
        return;
    }
    const auto at = from_->values.find(at_ + name);
    if (at == from_->values.end()) return;
    const Stored* stored = std::get_if<Stored>(&at->second);
    if (stored == nullptr)
        throw Error::input({}, "the checkpoint is damaged: \"" + at->first + "\" is of another type",
                           "Start afresh with --force");
    value = static_cast<T>(*stored);
}

void Walk::operator()(const std::string& name, double& value) const {
    one<double>(name, value);
}
void Walk::operator()(const std::string& name, int& value) const {
    std::int64_t number = value;
    one<std::int64_t>(name, number);
    if (number < -most_counted || number > most_counted)
        throw Error::input({}, "the checkpoint is damaged: \"" + at_ + name + "\" is beyond what is counted",
                           "Start afresh with --force");
    value = static_cast<int>(number);
}
void Walk::operator()(const std::string& name, bool& value) const {
    std::int64_t number = value ? 1 : 0;
    one<std::int64_t>(name, number);
    value = number != 0;
}
void Walk::operator()(const std::string& name, std::vector<double>& value) const {
    one<std::vector<double>>(name, value);
}
void Walk::operator()(const std::string& name, Eigen::MatrixXd& value) const {
    one<Eigen::MatrixXd>(name, value);
}

void Walk::operator()(const std::string& name, std::vector<Eigen::MatrixXd>& values) const {
    int count = static_cast<int>(values.size());
    const Walk inner = part(name);
    inner("count", count);
    if (count < 0 || static_cast<std::size_t>(count) > 1 + inner.names().size() + values.size())
        throw Error::input({}, "the checkpoint is damaged: \"" + name + "\" has no such count",
                           "Start afresh with --force");
    values.resize(static_cast<std::size_t>(count));
    for (std::size_t i = 0; i < values.size(); ++i)
        if (reading() || values[i].size() > 0) inner(std::to_string(i), values[i]);
}

void Walk::give(const std::string& name, std::vector<Eigen::MatrixXd>&& values) const {
    int count = static_cast<int>(values.size());
    const Walk inner = part(name);
    inner("count", count);
    for (std::size_t i = 0; i < values.size(); ++i)
        if (values[i].size() > 0) to_->values[inner.at_ + std::to_string(i)] = std::move(values[i]);
}

} // namespace upright
