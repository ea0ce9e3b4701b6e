// The mesher of fitted tetrahedra: its way from a boundary to a mesh.
#include "mesh/fitted/mesher.hpp"

namespace upright::fitting {

FittedTets FittedMesher::run() {
    std::vector<std::pair<Vec3, double>> finer; // places where the last attempt failed
    for (int attempt = 0;; ++attempt) {
        make_sizes(finer);
        samples_.clear();
        segments_.clear();
        bad_places_.clear();
        labelled_.clear();
        label_.clear();
        sample_curves();
        sample_patches();
        sample_inside();
        triangulate();
        if (refine()) break;
        // Many bad places are no accident of the places chosen.
        if (attempt + 1 >= attempts || bad_places_.size() > most_retried + samples_.size() / 100 ||
            only_wedges()) {
            accept();
            break;
        }
        for (const Vec3& p : bad_places_) finer.emplace_back(p, 0.6 * std::min(size(p), options_.size));
    }
    return optimised();
}

// Whether what cannot be covered lies at wedges alone, where no other sizes would help.
bool FittedMesher::only_wedges() const {
    for (const Vec3& p : bad_places_) {
        bool at_wedge = false;
        for (const Wedge& w : wedges_)
            at_wedge = at_wedge || (p - w.place).norm() < 0.5 * w.length + 1.5 * size(p);
        if (!at_wedge) return false;
    }
    return true;
}

} // namespace upright::fitting

namespace upright {

namespace {

using namespace fitting;

// The same boundary with no edge longer than `longest`: slivers as long as the body make trees of boxes slow.
FittedInput subdivided(const FittedInput& input, double longest) {
    FittedInput out = input;
    for (bool split = true; split;) {
        split = false;
        std::unordered_map<std::uint64_t, std::int32_t> middle;
        const auto cut = [&](std::int32_t a, std::int32_t b) {
            const Vec3& p = out.points[static_cast<std::size_t>(a)];
            const Vec3& q = out.points[static_cast<std::size_t>(b)];
            if ((p - q).norm() <= longest) return -1;
            const auto [at, fresh] =
                middle.emplace(edge_key(a, b), static_cast<std::int32_t>(out.points.size()));
            if (fresh) out.points.push_back(0.5 * (p + q));
            return at->second;
        };
        std::vector<std::array<std::int32_t, 3>> triangles;
        std::vector<std::int32_t> faces;
        std::vector<std::array<std::int32_t, 2>> regions;
        for (std::size_t t = 0; t < out.triangles.size(); ++t) {
            const auto c = out.triangles[t];
            const std::array<std::int32_t, 3> m{cut(c[0], c[1]), cut(c[1], c[2]), cut(c[2], c[0])};
            const auto add = [&](std::int32_t a, std::int32_t b, std::int32_t d) {
                triangles.push_back({a, b, d});
                faces.push_back(out.face_of[t]);
                regions.push_back(out.regions[t]);
            };
            const int cuts = (m[0] >= 0 ? 1 : 0) + (m[1] >= 0 ? 1 : 0) + (m[2] >= 0 ? 1 : 0);
            split = split || cuts > 0;
            if (cuts == 0) add(c[0], c[1], c[2]);
            if (cuts == 3) {
                add(c[0], m[0], m[2]);
                add(m[0], c[1], m[1]);
                add(m[2], m[1], c[2]);
                add(m[0], m[1], m[2]);
            }
            for (std::size_t i = 0; i < 3 && cuts < 3; ++i) {
                const std::int32_t a = c[i];
                const std::int32_t b = c[(i + 1) % 3];
                const std::int32_t d = c[(i + 2) % 3];
                if (cuts == 1 && m[i] >= 0) {
                    add(a, m[i], d);
                    add(m[i], b, d);
                }
                if (cuts == 2 && m[i] < 0) {
                    // The edges at d are cut.
                    add(m[(i + 2) % 3], m[(i + 1) % 3], d);
                    add(a, b, m[(i + 1) % 3]);
                    add(a, m[(i + 1) % 3], m[(i + 2) % 3]);
                }
            }
        }
        out.triangles = std::move(triangles);
        out.face_of = std::move(faces);
        out.regions = std::move(regions);
    }
    return out;
}

} // namespace

FittedTets make_fitted_tets(const FittedInput& input, const FittedOptions& options) {
    const FittedInput fine = subdivided(input, 3.0 * options.size);
    FittedTets best;
    // Where a bad angle is an accident of the places chosen, other places do better.
    for (unsigned seed = 0; seed < 4; ++seed) {
        FittedTets tets = FittedMesher(fine, options, seed).run();
        const double gain = tets.smallest_dihedral - best.smallest_dihedral;
        if (seed == 0 || gain > 0.0) best = std::move(tets);
        // Angles that are the shape's own come again.
        if (best.smallest_dihedral >= 20.0 || best.forced || best.tets.size() * (seed + 1) > 400000) break;
    }
    return best;
}

} // namespace upright
