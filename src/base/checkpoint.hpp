// What goes on from step to step, to be kept and taken up again: typed values by name, in parts. One function
// walks over the members of an object for both ways:
//     void walk(Walk& w) { w("scale", scale_); w("merits", merits_); Walk p = w.part("asymptotes"); p("low",
//     low_); }
#pragma once

#include <Eigen/Core>

#include <cstdint>
#include <map>
#include <string>
#include <variant>
#include <vector>

namespace upright {

struct Checkpoint {
    using Value = std::variant<std::int64_t, double, std::vector<double>, Eigen::MatrixXd>;
    std::map<std::string, Value> values; // by "part/name"
};

class Walk {
  public:
    // Writes what it is shown into `to`.
    explicit Walk(Checkpoint& to) : to_(&to) {}
    // Fills what it is shown from `from`. What is not there stays as it is; what is of another type throws
    // Error (Input): the file is damaged.
    explicit Walk(const Checkpoint& from) : from_(&from) {}

    bool reading() const { return from_ != nullptr; }
    Walk part(const std::string& name) const {
        Walk out = *this;
        out.at_ += name + "/";
        return out;
    }
    // The names of values in this part, those of parts below it with them.
    std::vector<std::string> names() const;

    void operator()(const std::string& name, double& value) const;
    void operator()(const std::string& name, int& value) const;
    void operator()(const std::string& name, bool& value) const;
    void operator()(const std::string& name, std::vector<double>& value) const;
    void operator()(const std::string& name, Eigen::MatrixXd& value) const;
    // Several, by number; as many come back as were kept.
    void operator()(const std::string& name, std::vector<Eigen::MatrixXd>& values) const;
    // Writes what nobody else needs, without a copy.
    void give(const std::string& name, std::vector<Eigen::MatrixXd>&& values) const;
    // By name.
    template <class T> void operator()(const std::string& name, std::map<std::string, T>& values) const {
        const Walk inner = part(name);
        if (reading())
            for (const std::string& key : inner.names()) inner(key, values[key]);
        else
            for (auto& [key, value] : values) inner(key, value);
    }

  private:
    template <class Stored, class T> void one(const std::string& name, T& value) const;

    Checkpoint* to_ = nullptr;
    const Checkpoint* from_ = nullptr;
    std::string at_;
};

} // namespace upright
