#include "part/solid/drafted.hpp"

#include <algorithm>
#include <cmath>
#include <limits>

namespace upright {

namespace {

constexpr double no_value = std::numeric_limits<double>::quiet_NaN();

// What a second difference adds to a one-sided one: the smaller in size of two, none where they differ in
// sign.
double smaller(double a, double b) {
    if (std::isnan(a) || std::isnan(b) || a * b <= 0.0) return 0.0;
    return std::abs(a) < std::abs(b) ? a : b;
}

// How fast the field falls from its middle value to one side, of five values in a row; zero where it rises.
double falls(double before, double middle, double next, double after_next) {
    if (std::isnan(next)) return 0.0;
    const double here = next - 2.0 * middle + before;
    const double there = after_next - 2.0 * next + middle;
    return std::max(0.0, middle - next + 0.5 * smaller(here, there));
}

// Of one layer after the other, going away from the parting.
class Sweep {
  public:
    Sweep(const DraftWish& wish, LayeredExcess& out)
        : wish_(wish), out_(out), below_(out.in_layer(), no_value), here_(out.in_layer(), no_value) {}

    void layer(int k) {
#pragma omp parallel for schedule(dynamic)
        for (int j = 0; j < out_.count(1); ++j)
            for (int i = 0; i < out_.count(0); ++i) {
                const Vec3 p = out_.place(i, j, k);
                double& here = here_[out_.index(i, j, 0)];
                here = no_value;
                if (wish_.place(p) != LayerPlace::Free) continue;
                const double value = wish_.field(p);
                here = value;
                const double below = at(i, j);
                if (!std::isnan(below))
                    here = std::min(value, below - wish_.lean * out_.rise() * steepness(i, j));
                out_.set(out_.index(i, j, k), value - here);
            }
        below_.swap(here_);
    }

  private:
    double at(int i, int j) const {
        if (i < 0 || j < 0 || i >= out_.count(0) || j >= out_.count(1)) return no_value;
        return below_[out_.index(i, j, 0)];
    }
    double steepness(int i, int j) const {
        const double c = at(i, j);
        const double x = std::max(falls(at(i - 1, j), c, at(i + 1, j), at(i + 2, j)),
                                  falls(at(i + 1, j), c, at(i - 1, j), at(i - 2, j)));
        const double y = std::max(falls(at(i, j - 1), c, at(i, j + 1), at(i, j + 2)),
                                  falls(at(i, j + 1), c, at(i, j - 1), at(i, j - 2)));
        return std::hypot(x, y) / out_.side();
    }

    const DraftWish& wish_;
    LayeredExcess& out_;
    std::vector<double> below_, here_; // NaN where there is no design
};

} // namespace

LayeredExcess drafted(const DraftWish& wish) {
    LayeredExcess out(wish.box, wish.up, wish.step, wish.step);
    const double layer_at = (wish.parting - out.bottom()) / out.rise();
    const int first = std::clamp(static_cast<int>(std::ceil(layer_at - 1e-9)), 0, out.count(2));
    // The first layer beyond the parting is as it is.
    Sweep up(wish, out);
    for (int k = first; k < out.count(2); ++k) up.layer(k);
    Sweep down(wish, out);
    for (int k = first - 1; wish.two && k >= 0; --k) down.layer(k);
    out.finish();
    return out;
}

} // namespace upright
