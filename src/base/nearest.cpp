#include "base/nearest.hpp"

#include <algorithm>
#include <cctype>

namespace upright {

namespace {

std::string lower(const std::string& text) {
    std::string out = text;
    std::transform(out.begin(), out.end(), out.begin(),
                   [](unsigned char c) { return static_cast<char>(std::tolower(c)); });
    return out;
}

} // namespace

int edit_distance(const std::string& first, const std::string& second) {
    const std::string a = lower(first);
    const std::string b = lower(second);
    const std::size_t n = a.size();
    const std::size_t m = b.size();
    std::vector<std::vector<int>> d(n + 1, std::vector<int>(m + 1));
    for (std::size_t i = 0; i <= n; ++i) d[i][0] = static_cast<int>(i);
    for (std::size_t j = 0; j <= m; ++j) d[0][j] = static_cast<int>(j);
    for (std::size_t i = 1; i <= n; ++i) {
        for (std::size_t j = 1; j <= m; ++j) {
            const int change = a[i - 1] == b[j - 1] ? 0 : 1;
            d[i][j] = std::min({d[i - 1][j] + 1, d[i][j - 1] + 1, d[i - 1][j - 1] + change});
            if (i > 1 && j > 1 && a[i - 1] == b[j - 2] && a[i - 2] == b[j - 1])
                d[i][j] = std::min(d[i][j], d[i - 2][j - 2] + 1);
        }
    }
    return d[n][m];
}

std::optional<std::string> nearest(const std::string& word, const std::vector<std::string>& candidates) {
    std::optional<std::string> best;
    // A single letter is no word to guess from.
    int best_distance = word.size() < 2 ? 1 : 1 + static_cast<int>(std::max<std::size_t>(word.size(), 3)) / 3;
    for (const std::string& candidate : candidates) {
        int distance = edit_distance(word, candidate);
        // A prefix is what one types when one forgets the rest.
        if (word.size() >= 3 && lower(candidate).rfind(lower(word), 0) == 0) distance = std::min(distance, 1);
        if (distance < best_distance) {
            best_distance = distance;
            best = candidate;
        }
    }
    return best;
}

std::string suggestion(const std::string& word, const std::vector<std::string>& candidates,
                       std::size_t most) {
    if (candidates.empty()) return {};
    if (const auto near = nearest(word, candidates)) return "Did you mean \"" + *near + "\"?";
    std::string list;
    for (std::size_t i = 0; i < candidates.size() && i < most; ++i) list += (i ? ", " : "") + candidates[i];
    if (candidates.size() > most) list += ", …";
    return "Known: " + list;
}

} // namespace upright
