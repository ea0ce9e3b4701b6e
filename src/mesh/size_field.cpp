#include "mesh/size_field.hpp"

#include <cmath>
#include <queue>

namespace upright {

namespace {
constexpr double most_places = 6e6;
constexpr int most_levels = 10;

// Numbers of places of the finest lattice stay below 2^21.
std::uint64_t packed(const std::array<int, 3>& at) {
    return static_cast<std::uint64_t>(at[0]) | static_cast<std::uint64_t>(at[1]) << 21U |
           static_cast<std::uint64_t>(at[2]) << 42U;
}

std::array<int, 3> unpacked(std::uint64_t key) {
    constexpr std::uint64_t mask = (1U << 21U) - 1;
    return {static_cast<int>(key & mask), static_cast<int>(key >> 21U & mask),
            static_cast<int>(key >> 42U & mask)};
}
} // namespace

SizeField::SizeField(const Bounds& box, double size, double spacing) : size_(size), spacing_(spacing) {
    const auto places = [&] {
        const Vec3 n = box.size() / spacing_ + Vec3::Constant(3.0);
        return n.prod();
    };
    while (places() > most_places) spacing_ *= 1.2;
    low_ = box.low - Vec3::Constant(spacing_);
    for (int a = 0; a < 3; ++a)
        count_[static_cast<std::size_t>(a)] = static_cast<int>(std::ceil(box.size()[a] / spacing_)) + 3;
    values_.assign(index(0, 0, count_[2]), size);
}

// The cell of a lattice that holds a place; those of the first one end at its border.
SizeField::Place SizeField::cell_of(const Vec3& p, int level) const {
    const double step = spacing_ / (1 << level);
    Place out{};
    for (int a = 0; a < 3; ++a) {
        const auto i = static_cast<std::size_t>(a);
        out[i] = std::clamp(static_cast<int>(std::floor((p[a] - low_[a]) / step)), 0,
                            ((count_[i] - 1) << level) - 1);
    }
    return out;
}

double& SizeField::value(const Place& at, int level) {
    if (level == 0) return values_[index(at[0], at[1], at[2])];
    return finer_[static_cast<std::size_t>(level - 1)].values.emplace(packed(at), size_).first->second;
}

// Puts the places of the next lattice on a cell.
void SizeField::divide(const Place& cell, int level) {
    if (static_cast<std::size_t>(level) == finer_.size()) finer_.emplace_back();
    if (level == 0) {
        if (divided_.empty()) divided_.assign(values_.size(), -1);
        std::int32_t& mark = divided_[index(cell[0], cell[1], cell[2])];
        if (mark >= 0) return;
        mark = 0;
    } else if (!finer_[static_cast<std::size_t>(level)].cells.insert(packed(cell)).second) {
        return;
    }
    for (int c = 0; c < 27; ++c)
        value({2 * cell[0] + c % 3, 2 * cell[1] + c / 3 % 3, 2 * cell[2] + c / 9}, level + 1);
}

void SizeField::ask(const Vec3& p, double size) {
    int level = 0;
    const int most_count = std::max({count_[0], count_[1], count_[2]});
    // Cells no larger than the size, in blocks one cell wide on each lattice: a small size that lies on the
    // first one reaches a cell or two of it too far.
    while (spacing_ / (1 << level) > size && level < most_levels && most_count << (level + 1) < 1 << 21) {
        const Place at = cell_of(p, level);
        for (int c = 0; c < 27; ++c) {
            const Place cell{at[0] + c % 3 - 1, at[1] + c / 3 % 3 - 1, at[2] + c / 9 - 1};
            bool inside = true;
            for (std::size_t a = 0; a < 3; ++a)
                inside = inside && cell[a] >= 0 && cell[a] < ((count_[a] - 1) << level);
            if (inside && (level == 0 || holds(cell, level))) divide(cell, level);
        }
        ++level;
    }
    const Place low = cell_of(p, level);
    for (int c = 0; c < 8; ++c) {
        double& v = value({low[0] + (c & 1), low[1] + ((c >> 1) & 1), low[2] + (c >> 2)}, level);
        v = std::min(v, size);
    }
}

// Whether a cell of a finer lattice is one of those that the cells before it were divided into.
bool SizeField::holds(const Place& cell, int level) const {
    return divided({cell[0] / 2, cell[1] / 2, cell[2] / 2}, level - 1);
}

// Shortest ways over all lattices, from the smallest value on (Dijkstra 1959): neighbours in a lattice, and
// places that two lattices share.
void SizeField::limit_finer(double gradient) {
    struct Step {
        double value;
        std::int32_t level;
        Place at;
        bool operator<(const Step& o) const { return value > o.value; }
    };
    std::priority_queue<Step> queue;
    const auto known = [&](const Place& at, int level) -> double* {
        for (std::size_t a = 0; a < 3; ++a)
            if (at[a] < 0 || at[a] > (count_[a] - 1) << level) return nullptr;
        if (level == 0) return &values_[index(at[0], at[1], at[2])];
        auto& values = finer_[static_cast<std::size_t>(level - 1)].values;
        const auto found = values.find(packed(at));
        return found == values.end() ? nullptr : &found->second;
    };
    const auto lower = [&](const Place& at, int level, double to) {
        double* v = known(at, level);
        if (v == nullptr || to >= *v - 1e-9 * size_) return;
        *v = to;
        queue.push({to, level, at});
    };
    for (std::size_t level = 1; level <= finer_.size(); ++level)
        for (const auto& [key, v] : finer_[level - 1].values)
            if (v < size_) queue.push({v, static_cast<std::int32_t>(level), unpacked(key)});
    for (int k = 0; k < count_[2]; ++k)
        for (int j = 0; j < count_[1]; ++j)
            for (int i = 0; i < count_[0]; ++i)
                if (const double v = values_[index(i, j, k)]; v < size_) queue.push({v, 0, {i, j, k}});
    while (!queue.empty()) {
        const Step s = queue.top();
        queue.pop();
        const double* here = known(s.at, s.level);
        if (here == nullptr || s.value > *here) continue;
        const double step = spacing_ / (1 << s.level);
        for (int c = 0; c < 27; ++c) {
            const Place d{c % 3 - 1, c / 3 % 3 - 1, c / 9 - 1};
            lower({s.at[0] + d[0], s.at[1] + d[1], s.at[2] + d[2]}, s.level,
                  s.value + gradient * step *
                                std::sqrt(static_cast<double>(d[0] * d[0] + d[1] * d[1] + d[2] * d[2])));
        }
        if (s.level > 0 && s.at[0] % 2 == 0 && s.at[1] % 2 == 0 && s.at[2] % 2 == 0)
            lower({s.at[0] / 2, s.at[1] / 2, s.at[2] / 2}, s.level - 1, s.value);
        if (static_cast<std::size_t>(s.level) < finer_.size())
            lower({2 * s.at[0], 2 * s.at[1], 2 * s.at[2]}, s.level + 1, s.value);
    }
}

void SizeField::limit(double gradient) {
    if (!finer_.empty()) {
        limit_finer(gradient);
        make_blocks();
        return;
    }
    // Sweeps in both senses until nothing changes (a few suffice).
    for (int round = 0; round < 20; ++round) {
        bool changed = false;
        for (const int sense : {1, -1}) {
            const auto sweep = [&](int n, int i) { return sense > 0 ? i : n - 1 - i; };
            for (int k = 0; k < count_[2]; ++k)
                for (int j = 0; j < count_[1]; ++j)
                    for (int i = 0; i < count_[0]; ++i) {
                        const int x = sweep(count_[0], i);
                        const int y = sweep(count_[1], j);
                        const int z = sweep(count_[2], k);
                        double& v = values_[index(x, y, z)];
                        for (int c = 1; c < 14; ++c) {
                            // Half of the 26 neighbours: those swept before.
                            const int d = 13 + c;
                            const int dx = (d % 3) - 1;
                            const int dy = (d / 3 % 3) - 1;
                            const int dz = (d / 9) - 1;
                            const int nx = x - sense * dx;
                            const int ny = y - sense * dy;
                            const int nz = z - sense * dz;
                            if (nx < 0 || ny < 0 || nz < 0 || nx >= count_[0] || ny >= count_[1] ||
                                nz >= count_[2])
                                continue;
                            const double reach =
                                values_[index(nx, ny, nz)] +
                                gradient * spacing_ *
                                    std::sqrt(static_cast<double>(dx * dx + dy * dy + dz * dz));
                            if (reach < v - 1e-9 * size_) {
                                v = reach;
                                changed = true;
                            }
                        }
                    }
        }
        if (!changed) return;
    }
}

void SizeField::make_blocks() {
    blocks_.clear();
    for (int k = 0; k + 1 < count_[2]; ++k)
        for (int j = 0; j + 1 < count_[1]; ++j)
            for (int i = 0; i + 1 < count_[0]; ++i)
                if (divided_[index(i, j, k)] >= 0) divided_[index(i, j, k)] = make_block({i, j, k}, 0);
}

// The block of a cell of a lattice, and those of its own cells.
std::int32_t SizeField::make_block(const Place& cell, int level) {
    const auto number = static_cast<std::int32_t>(blocks_.size());
    blocks_.emplace_back();
    const auto at = static_cast<std::size_t>(level);
    for (int c = 0; c < 27; ++c)
        blocks_.back().value[static_cast<std::size_t>(c)] = finer_[at].values.at(
            packed(Place{2 * cell[0] + c % 3, 2 * cell[1] + c / 3 % 3, 2 * cell[2] + c / 9}));
    for (int c = 0; c < 8 && at + 1 < finer_.size(); ++c) {
        const Place part{2 * cell[0] + (c & 1), 2 * cell[1] + ((c >> 1) & 1), 2 * cell[2] + (c >> 2)};
        if (finer_[at + 1].cells.count(packed(part)) == 0) continue;
        const std::int32_t made = make_block(part, level + 1);
        blocks_[static_cast<std::size_t>(number)].child[static_cast<std::size_t>(c)] = made;
    }
    return number;
}

bool SizeField::divided(const Place& cell, int level) const {
    if (level == 0) return !divided_.empty() && divided_[index(cell[0], cell[1], cell[2])] >= 0;
    const auto at = static_cast<std::size_t>(level);
    return at < finer_.size() && finer_[at].cells.count(packed(cell)) != 0;
}

// On the finest lattice that covers the place, before there are blocks.
double SizeField::unlimited_at(const Vec3& p) const {
    int level = 0;
    while (divided(cell_of(p, level), level)) ++level;
    const Place low = cell_of(p, level);
    const Vec3 t = ((p - low_) * (1 << level) / spacing_ - Vec3(low[0], low[1], low[2]))
                       .cwiseMax(Vec3::Zero())
                       .cwiseMin(Vec3::Ones());
    double out = 0.0;
    for (int c = 0; c < 8; ++c) {
        const Place at{low[0] + (c & 1), low[1] + ((c >> 1) & 1), low[2] + (c >> 2)};
        double v = level == 0 ? values_[index(at[0], at[1], at[2])]
                              : finer_[static_cast<std::size_t>(level - 1)].values.at(packed(at));
        for (int a = 0; a < 3; ++a) v *= (c >> a & 1) != 0 ? t[a] : 1.0 - t[a];
        out += v;
    }
    return out;
}

double SizeField::at(const Vec3& p) const {
    if (blocks_.empty() && !finer_.empty()) return unlimited_at(p);
    const Place low = cell_of(p, 0);
    Vec3 t;
    for (int a = 0; a < 3; ++a)
        t[a] = std::clamp((p[a] - low_[a]) / spacing_ - low[static_cast<std::size_t>(a)], 0.0, 1.0);
    // A weighted mean of the corners of a cell whose values lie `x`, `y` and `z` apart.
    const auto mean = [&](const double* first, std::size_t x, std::size_t y, std::size_t z) {
        double out = 0.0;
        for (std::size_t c = 0; c < 8; ++c) {
            const double w = ((c & 1U) != 0 ? t.x() : 1 - t.x()) * ((c >> 1U & 1U) != 0 ? t.y() : 1 - t.y()) *
                             ((c >> 2U) != 0 ? t.z() : 1 - t.z());
            out += w * first[(c & 1U) * x + (c >> 1U & 1U) * y + (c >> 2U) * z];
        }
        return out;
    };
    const std::size_t here = index(low[0], low[1], low[2]);
    std::int32_t block = blocks_.empty() ? -1 : divided_[here];
    if (block < 0)
        return mean(&values_[here], 1, static_cast<std::size_t>(count_[0]),
                    static_cast<std::size_t>(count_[0]) * static_cast<std::size_t>(count_[1]));
    while (true) {
        std::size_t child = 0;
        std::size_t first = 0;
        std::size_t step = 1;
        for (int a = 0; a < 3; ++a, step *= 3) {
            const bool upper = t[a] >= 0.5;
            t[a] = 2.0 * t[a] - (upper ? 1.0 : 0.0);
            if (!upper) continue;
            child |= std::size_t{1} << static_cast<unsigned>(a);
            first += step;
        }
        const Block& b = blocks_[static_cast<std::size_t>(block)];
        if (b.child[child] < 0) return mean(&b.value[first], 1, 3, 9);
        block = b.child[child];
    }
}

double SizeField::smallest() const {
    double out = *std::min_element(values_.begin(), values_.end());
    for (const Finer& lattice : finer_)
        for (const auto& [key, v] : lattice.values) out = std::min(out, v);
    return out;
}

} // namespace upright
