#include "compare/sweep_points.hpp"

#include "base/error.hpp"

#include <algorithm>
#include <cmath>
#include <cstdlib>
#include <fmt/format.h>

namespace upright {

namespace {

std::string stripped(const std::string& text) {
    const auto from = text.find_first_not_of(" \t");
    if (from == std::string::npos) return {};
    return text.substr(from, text.find_last_not_of(" \t") - from + 1);
}

std::vector<std::string> parted(const std::string& text) {
    std::vector<std::string> out(1);
    int depth = 0;
    char quote = 0;
    for (const char c : text) {
        if (quote != 0) {
            if (c == quote) quote = 0;
        } else if (c == '"' || c == '\'') {
            quote = c;
        } else if (c == '[' || c == '{') {
            ++depth;
        } else if (c == ']' || c == '}') {
            --depth;
        } else if (c == ',' && depth == 0) {
            out.emplace_back();
            continue;
        }
        out.back() += c;
    }
    return out;
}

// "1.5 kN" as a number and what stands behind it.
struct Amounts {
    double number = 0.0;
    std::string unit;
};
Amounts amount_of(const std::string& text, const std::string& words) {
    const std::string clean = stripped(text);
    char* end = nullptr;
    Amounts out;
    out.number = std::strtod(clean.c_str(), &end);
    if (end == clean.c_str() || !std::isfinite(out.number))
        throw Error::usage("--vary " + words + ": \"" + clean +
                               "\" is no number that a range could begin or end with",
                           "Write it as values.lift=1 kN..2 kN in 5");
    out.unit = stripped(end);
    return out;
}

std::vector<std::string> range_of(const std::string& text, std::size_t dots, const std::string& words) {
    const auto in = text.rfind(" in ");
    if (in == std::string::npos || in < dots)
        throw Error::usage("--vary " + words + " does not say how many",
                           "Write it as values.lift=1 kN..2 kN in 5");
    const Amounts from = amount_of(text.substr(0, dots), words);
    const Amounts to = amount_of(text.substr(dots + 2, in - dots - 2), words);
    const std::string number = stripped(text.substr(in + 4));
    char* end = nullptr;
    const long count = std::strtol(number.c_str(), &end, 10);
    if (end == number.c_str() || *end != 0 || count < 2 || count > 999)
        throw Error::usage("--vary " + words + ": \"" + number + "\" is no number of values",
                           "Write 2 to 999 behind \"in\"");
    if (!from.unit.empty() && !to.unit.empty() && from.unit != to.unit)
        throw Error::usage("--vary " + words + ": the ends of a range have one unit",
                           "Write both in " + from.unit);
    const std::string unit = to.unit.empty() ? from.unit : to.unit;
    std::vector<std::string> out;
    for (long k = 0; k < count; ++k) {
        const double share = static_cast<double>(k) / static_cast<double>(count - 1);
        double value = (1.0 - share) * from.number + share * to.number;
        if (std::abs(value) < 1e-14 * std::max(std::abs(from.number), std::abs(to.number))) value = 0.0;
        out.push_back(fmt::format("{:.10g}{}{}", value, unit.empty() ? "" : " ", unit));
    }
    return out;
}

std::string short_path(const std::string& path) {
    const auto last = path.rfind('.');
    if (last == std::string::npos || last == 0) return path;
    const auto before = path.rfind('.', last - 1);
    const std::string out = before == std::string::npos ? path : path.substr(before + 1);
    return out.compare(0, 7, "values.") == 0 ? out.substr(7) : out;
}

} // namespace

Varied read_varied(const std::string& words) {
    const auto equals = words.find('=');
    if (equals == std::string::npos || equals == 0)
        throw Error::usage("--vary " + words + " has no values",
                           "Write --vary response.budget.max=0.4,0.3,0.2");
    Varied out;
    out.path = stripped(words.substr(0, equals));
    const std::string text = words.substr(equals + 1);
    // A range has dots outside of lists and quotes.
    const auto dots = text.find("..");
    if (dots != std::string::npos && text.find_first_of("[{\"'") == std::string::npos &&
        text.find(',') == std::string::npos)
        out.values = range_of(text, dots, words);
    else
        for (const std::string& value : parted(text)) out.values.push_back(stripped(value));
    for (std::size_t k = 0; k < out.values.size(); ++k) {
        if (out.values[k].empty())
            throw Error::usage("--vary " + words + ": a value is missing",
                               "Write values with commas between them");
        if (std::find(out.values.begin(), out.values.begin() + static_cast<std::ptrdiff_t>(k),
                      out.values[k]) != out.values.begin() + static_cast<std::ptrdiff_t>(k))
            throw Error::usage("--vary " + words + ": " + out.values[k] + " is there twice", "Write it once");
    }
    return out;
}

std::vector<SweepPoint> sweep_points(const std::vector<Varied>& varied, bool together, std::size_t most) {
    for (std::size_t i = 0; i < varied.size(); ++i)
        for (std::size_t j = 0; j < i; ++j)
            if (varied[i].path == varied[j].path)
                throw Error::usage("--vary " + varied[i].path + " is there twice",
                                   "Write all its values in one");
    if (varied.empty())
        throw Error::usage("nothing is varied", "Write --vary response.budget.max=0.4,0.3,0.2");
    std::size_t count = 1;
    for (const Varied& v : varied) {
        if (together && v.values.size() != varied.front().values.size())
            throw Error::usage(fmt::format("--together: {} has {} values and {} has {}", varied.front().path,
                                           varied.front().values.size(), v.path, v.values.size()),
                               "Give all as many");
        count = together ? v.values.size() : count * v.values.size();
        if (count > most)
            throw Error::usage(fmt::format("these are more than {} runs", most),
                               "Vary less, or use --together");
    }
    std::vector<SweepPoint> out(count);
    for (std::size_t p = 0; p < count; ++p) {
        std::size_t rest = p;
        std::vector<std::size_t> which(varied.size(), p);
        if (!together)
            for (std::size_t v = varied.size(); v-- > 0; rest /= varied[v].values.size())
                which[v] = rest % varied[v].values.size();
        for (std::size_t v = 0; v < varied.size(); ++v) {
            const std::string& value = varied[v].values[which[v]];
            out[p].settings.push_back(varied[v].path + "=" + value);
            out[p].label += (v == 0 ? "" : ", ") + short_path(varied[v].path) + "=" + value;
        }
    }
    return out;
}

} // namespace upright
