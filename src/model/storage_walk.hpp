// Ways between a model and its file, for storage.cpp: one walk over the model serves both, with a Writer that
// stores what it is shown or a Reader that fills it.
#pragma once

#include "base/h5_file.hpp"
#include "model/model.hpp"
#include "model/soundness.hpp"

#include <cmath>
#include <fmt/format.h>
#include <limits>
#include <string>
#include <vector>

namespace upright::storage {

using Numbers = std::vector<double>;
using Integers = std::vector<std::int64_t>;
using Texts = std::vector<std::string>;

inline void add(Numbers& out, const Vec3& v) {
    out.insert(out.end(), {v.x(), v.y(), v.z()});
}

inline Vec3 vec(const Numbers& in, std::size_t i) {
    return {in.at(3 * i), in.at(3 * i + 1), in.at(3 * i + 2)};
}

// One walk over the model for both ways: a Writer stores what it is shown, a Reader fills it.
class Writer {
  public:
    static constexpr bool reading = false;
    explicit Writer(const H5File& file) : file_(file) {}
    static bool has(const std::string& /*name*/) { return true; }
    void numbers(const std::string& name, Numbers& v, std::size_t columns = 1, bool /*gaps*/ = false) const {
        file_.put(name, v, columns);
    }
    void integers(const std::string& name, Integers& v, std::size_t columns = 1) const {
        file_.put(name, v, columns);
    }
    void texts(const std::string& name, Texts& v) const { file_.put(name, v); }

  private:
    const H5File& file_;
};

class Reader {
  public:
    static constexpr bool reading = true;
    explicit Reader(const H5File& file) : file_(file) {}
    bool has(const std::string& name) const { return file_.has(name); }
    // With `gaps` some may be no numbers, which stands for none.
    void numbers(const std::string& name, Numbers& v, std::size_t columns = 1, bool gaps = false) const {
        v = file_.numbers(name);
        if (v.size() % columns != 0) throw Damage("a row that is not complete, in " + name);
        if (gaps) return;
        for (const double number : v)
            if (!std::isfinite(number)) throw Damage("what is no number, in " + name);
    }
    void integers(const std::string& name, Integers& v, std::size_t columns = 1) const {
        v = file_.integers(name);
        if (v.size() % columns != 0) throw Damage("a row that is not complete, in " + name);
    }
    void texts(const std::string& name, Texts& v) const { v = file_.texts(name); }

  private:
    const H5File& file_;
};

// A whole number of a file as one of ours. Throws Damage where it does not fit.
template <class T> T whole(std::int64_t number, const std::string& name) {
    if constexpr (std::is_enum_v<T>) {
        return static_cast<T>(whole<std::underlying_type_t<T>>(number, name));
    } else {
        const bool low = std::is_unsigned_v<T>
                             ? number < 0
                             : number < static_cast<std::int64_t>(std::numeric_limits<T>::min());
        const bool high = sizeof(T) < 8 && number > static_cast<std::int64_t>(std::numeric_limits<T>::max());
        if (low || high) throw Damage(fmt::format("the number {}, in {}", number, name));
        return static_cast<T>(number);
    }
}

// A member of every item, as one array.
template <class Io, class T, class Get>
void texts_of(const Io& io, const std::string& name, std::vector<T>& items, const Get& get) {
    Texts values;
    if constexpr (!Io::reading)
        for (T& item : items) values.push_back(get(item));
    io.texts(name, values);
    if constexpr (Io::reading)
        for (std::size_t i = 0; i < items.size(); ++i) get(items[i]) = values.at(i);
}
template <class Io, class T, class Get>
void numbers_of(const Io& io, const std::string& name, std::vector<T>& items, const Get& get) {
    Numbers values;
    if constexpr (!Io::reading)
        for (T& item : items) values.push_back(static_cast<double>(get(item)));
    io.numbers(name, values);
    if constexpr (Io::reading)
        for (std::size_t i = 0; i < items.size(); ++i)
            get(items[i]) = static_cast<std::decay_t<decltype(get(items[i]))>>(values.at(i));
}
template <class Io, class T, class Get>
void integers_of(const Io& io, const std::string& name, std::vector<T>& items, const Get& get) {
    Integers values;
    if constexpr (!Io::reading)
        for (T& item : items) values.push_back(static_cast<std::int64_t>(get(item)));
    io.integers(name, values);
    if constexpr (Io::reading)
        for (std::size_t i = 0; i < items.size(); ++i)
            get(items[i]) = whole<std::decay_t<decltype(get(items[i]))>>(values.at(i), name);
}
template <class Io, class T, class Get>
void vectors_of(const Io& io, const std::string& name, std::vector<T>& items, const Get& get) {
    Numbers values;
    if constexpr (!Io::reading)
        for (T& item : items) add(values, get(item));
    io.numbers(name, values, 3);
    if constexpr (Io::reading)
        for (std::size_t i = 0; i < items.size(); ++i) get(items[i]) = vec(values, i);
}

// How many items a group has, known by its names.
template <class Io, class T> void sized(const Io& io, const std::string& group, std::vector<T>& items) {
    Integers count{static_cast<std::int64_t>(items.size())};
    io.integers(group + "/count", count);
    if constexpr (Io::reading) {
        Texts names;
        io.texts(group + "/name", names);
        if (static_cast<std::int64_t>(names.size()) != count.at(0))
            throw Damage("another number of " + group);
        items.resize(names.size());
    }
}

template <class Io> void terms(const Io& io, const std::string& name, std::vector<Term>& items) {
    Integers freedoms;
    Numbers factors;
    if constexpr (!Io::reading)
        for (const Term& t : items) {
            freedoms.push_back(static_cast<std::int64_t>(t.freedom));
            factors.push_back(t.factor);
        }
    io.integers(name + "/freedom", freedoms);
    io.numbers(name + "/factor", factors);
    if constexpr (Io::reading) {
        items.resize(freedoms.size());
        for (std::size_t i = 0; i < items.size(); ++i)
            items[i] = {whole<std::size_t>(freedoms[i], name), factors.at(i)};
    }
}

template <class Io> void equations(const Io& io, const std::string& name, std::vector<Equation>& items) {
    Integers starts{0};
    Numbers values;
    std::vector<Term> all;
    if constexpr (!Io::reading)
        for (const Equation& e : items) {
            all.insert(all.end(), e.terms.begin(), e.terms.end());
            starts.push_back(static_cast<std::int64_t>(all.size()));
            values.push_back(e.value);
        }
    io.integers(name + "/start", starts);
    io.numbers(name + "/value", values);
    terms(io, name, all);
    if constexpr (Io::reading) {
        items.resize(values.size());
        for (std::size_t i = 0; i < items.size(); ++i) {
            items[i].value = values[i];
            const auto from = whole<std::size_t>(starts.at(i), name);
            const auto to = whole<std::size_t>(starts.at(i + 1), name);
            if (from > to || to > all.size()) throw Damage("an equation without its terms, in " + name);
            items[i].terms.assign(all.begin() + static_cast<long>(from), all.begin() + static_cast<long>(to));
        }
    }
}

template <class Io> void nodes(const Io& io, const std::string& name, std::vector<NodeId>& items) {
    Integers values;
    if constexpr (!Io::reading)
        for (const NodeId n : items) values.push_back(static_cast<std::int64_t>(n));
    io.integers(name, values);
    if constexpr (Io::reading) {
        items.clear();
        for (const std::int64_t v : values) items.push_back(whole<NodeId>(v, name));
    }
}

template <class Io, std::size_t N>
void fixed(const Io& io, const std::string& name, std::array<double, N>& v) {
    Numbers values(v.begin(), v.end());
    io.numbers(name, values);
    if constexpr (Io::reading)
        for (std::size_t i = 0; i < N; ++i) v[i] = values.at(i);
}

inline std::string part(const char* group, std::size_t i) {
    return fmt::format("{}/{:04d}", group, i);
}

// An identifier among so many.
template <class Id> Id among(std::int64_t number, std::size_t size) {
    if (number < 0 || static_cast<std::size_t>(number) >= size)
        throw Damage(fmt::format("the number {} for one of {}", number, size));
    return static_cast<Id>(number);
}
template <class Id> std::vector<Id> ids(const Integers& numbers, std::size_t size) {
    std::vector<Id> out;
    for (const std::int64_t number : numbers) out.push_back(among<Id>(number, size));
    return out;
}
template <class Id> Integers numbers_of_ids(const std::vector<Id>& ids) {
    Integers out;
    for (const Id id : ids) out.push_back(static_cast<std::int64_t>(id));
    return out;
}

} // namespace upright::storage
