#include "fem/reduced_system.hpp"

#include <algorithm>

namespace upright {

namespace {

bool plain(const Transform& t, const std::vector<std::size_t>& freedoms) {
    return std::all_of(freedoms.begin(), freedoms.end(),
                       [&](std::size_t f) { return !t.dependent(f) || t.terms(f).empty(); });
}

} // namespace

void ReducedSystem::add_plain(const Transform& t, const std::vector<std::size_t>& freedoms) {
    for (const std::size_t f : freedoms) system_.dofs.push_back(t.unknown_of(f));
    system_.starts.push_back(system_.dofs.size());
}

void ReducedSystem::add(const Transform& t, const std::vector<std::size_t>& freedoms,
                        const MadeMatrices& source, std::size_t number) {
    if (!plain(t, freedoms)) {
        Eigen::MatrixXd passing;
        source.make(number, passing);
        const Eigen::MatrixXd& whole = passing; // what is kept is the reduced one
        add(t, freedoms, whole);
        return;
    }
    system_.unknowns = t.unknowns();
    system_.made = &source;
    add_plain(t, freedoms);
    system_.matrix_of.push_back(nullptr);
    system_.number_of.resize(system_.matrix_of.size(), 0);
    system_.number_of.back() = static_cast<std::uint32_t>(number);
}

void ReducedSystem::add(const Transform& t, const std::vector<std::size_t>& freedoms,
                        Eigen::MatrixXd&& matrix) {
    if (plain(t, freedoms)) {
        reduced_.push_back(std::move(matrix));
        add(t, freedoms, reduced_.back());
    } else {
        const Eigen::MatrixXd& passing = matrix; // what is kept is the reduced one
        add(t, freedoms, passing);
    }
}

void ReducedSystem::add(const Transform& t, const std::vector<std::size_t>& freedoms,
                        const Eigen::MatrixXd& matrix) {
    system_.unknowns = t.unknowns();
    if (plain(t, freedoms)) {
        add_plain(t, freedoms);
        system_.matrix_of.push_back(&matrix);
        return;
    }
    std::vector<std::int32_t> unknowns;
    for (const std::size_t f : freedoms)
        if (!t.dependent(f))
            unknowns.push_back(t.unknown_of(f));
        else
            for (const Term& term : t.terms(f)) unknowns.push_back(static_cast<std::int32_t>(term.freedom));
    std::sort(unknowns.begin(), unknowns.end());
    unknowns.erase(std::unique(unknowns.begin(), unknowns.end()), unknowns.end());
    const auto column = [&](std::int32_t u) {
        return std::lower_bound(unknowns.begin(), unknowns.end(), u) - unknowns.begin();
    };
    Eigen::MatrixXd T = Eigen::MatrixXd::Zero(static_cast<Eigen::Index>(freedoms.size()),
                                              static_cast<Eigen::Index>(unknowns.size()));
    for (std::size_t i = 0; i < freedoms.size(); ++i) {
        const auto row = static_cast<Eigen::Index>(i);
        if (!t.dependent(freedoms[i]))
            T(row, column(t.unknown_of(freedoms[i]))) = 1.0;
        else
            for (const Term& term : t.terms(freedoms[i]))
                T(row, column(static_cast<std::int32_t>(term.freedom))) = term.factor;
    }
    const Eigen::MatrixXd reduced = T.transpose() * matrix * T;
    reduced_.push_back(0.5 * (reduced + reduced.transpose()));
    system_.dofs.insert(system_.dofs.end(), unknowns.begin(), unknowns.end());
    system_.starts.push_back(system_.dofs.size());
    system_.matrix_of.push_back(&reduced_.back());
}

void ReducedSystem::append(const ReducedSystem& other) {
    for (std::size_t e = 0; e < other.system_.elements(); ++e) {
        const auto from = static_cast<std::ptrdiff_t>(other.system_.starts[e]);
        const auto to = static_cast<std::ptrdiff_t>(other.system_.starts[e + 1]);
        system_.dofs.insert(system_.dofs.end(), other.system_.dofs.begin() + from,
                            other.system_.dofs.begin() + to);
        system_.starts.push_back(system_.dofs.size());
        const Eigen::MatrixXd* matrix = other.system_.matrix_of[e];
        if (matrix == nullptr) { // of another source: kept
            reduced_.emplace_back();
            other.system_.made->make(other.system_.number_of[e], reduced_.back());
            matrix = &reduced_.back();
        }
        system_.matrix_of.push_back(matrix);
    }
    if (system_.made != nullptr) system_.number_of.resize(system_.matrix_of.size(), 0);
}

SparseMatrix assembled(const ElementSystem& system, const std::vector<double>& scale) {
    // Column by column: what elements give to each, then added up. A list of all entries would take several
    // times the memory.
    const auto n = static_cast<std::size_t>(system.unknowns);
    const auto each = [&](const auto& visit) {
        for (std::size_t e = 0; e < system.elements(); ++e) {
            const std::int32_t* at = system.dofs.data() + system.starts[e];
            for (std::size_t c = 0; c < system.width(e); ++c)
                if (at[c] >= 0) visit(e, at, c);
        }
    };
    // The elements at each column, and which of their columns it is.
    std::vector<std::size_t> starts(n + 1, 0);
    each([&](std::size_t, const std::int32_t* at, std::size_t c) {
        ++starts[static_cast<std::size_t>(at[c]) + 1];
    });
    for (std::size_t k = 0; k < n; ++k) starts[k + 1] += starts[k];
    std::vector<std::pair<std::uint32_t, std::uint32_t>> from(starts[n]);
    std::vector<std::size_t> next(starts.begin(), starts.end() - 1);
    each([&](std::size_t e, const std::int32_t* at, std::size_t c) {
        from[next[static_cast<std::size_t>(at[c])]++] = {static_cast<std::uint32_t>(e),
                                                         static_cast<std::uint32_t>(c)};
    });
    std::vector<double> value(n, 0.0);
    std::vector<char> there(n, 0);
    std::vector<double> made;
    std::vector<std::int32_t> rows;
    SparseMatrix out(static_cast<Eigen::Index>(n), static_cast<Eigen::Index>(n));
    out.reserve(static_cast<Eigen::Index>(40 * n));
    for (std::size_t k = 0; k < n; ++k) {
        rows.clear();
        for (std::size_t f = starts[k]; f < starts[k + 1]; ++f) {
            const auto [e, c] = from[f];
            const std::int32_t* at = system.dofs.data() + system.starts[e];
            const std::size_t width = system.width(e);
            const double* column = nullptr;
            std::size_t stride = 1;
            if (const Eigen::MatrixXd* kept = system.matrix_of[e]; kept != nullptr) {
                column = kept->data() + c * width;
            } else { // by symmetry from the rows of the column's node
                made.resize(3 * width);
                system.made->make_rows(system.number_of[e], c / 3, made.data());
                column = made.data() + c % 3;
                stride = 3;
            }
            for (std::size_t r = 0; r < width; ++r) {
                const double v = column[r * stride];
                if (at[r] < 0 || v == 0.0) continue;
                const auto row = static_cast<std::size_t>(at[r]);
                if (there[row] == 0) {
                    there[row] = 1;
                    rows.push_back(at[r]);
                }
                value[row] += scale[e] * v;
            }
        }
        std::sort(rows.begin(), rows.end());
        out.startVec(static_cast<Eigen::Index>(k));
        for (const std::int32_t row : rows) {
            const auto r = static_cast<std::size_t>(row);
            out.insertBack(row, static_cast<Eigen::Index>(k)) = value[r];
            value[r] = 0.0;
            there[r] = 0;
        }
    }
    out.finalize();
    return out;
}

void add_elements(ReducedSystem& system, const Model& model, const Transform& transform,
                  const ShapeClasses& classes, const ClassMatrices& matrices) {
    for (std::size_t e = 0; e < model.mesh.elements(); ++e) {
        const auto id = static_cast<ElementId>(e);
        if (matrices.made(classes.of[e])) {
            system.add(transform, model.freedoms_of(id), matrices, classes.of[e]);
            continue;
        }
        const Eigen::MatrixXd& own = matrices.kept()[classes.of[e]];
        if (classes.turn(id) == nullptr)
            system.add(transform, model.freedoms_of(id), own);
        else
            system.add(transform, model.freedoms_of(id), classes.turned(id, own));
    }
}

} // namespace upright
