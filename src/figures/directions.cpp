#include "figures/directions.hpp"

#include "fem/constrained_solver.hpp"
#include "fem/elasticity.hpp"
#include "fem/stress.hpp"
#include "figures/scene.hpp"

#include <Eigen/Eigenvalues>
#include <algorithm>
#include <cmath>
#include <fmt/format.h>

namespace upright {

namespace {

constexpr Color tension{0.84, 0.27, 0.00};
constexpr Color compression{0.00, 0.45, 0.70};
constexpr double least_shown = 0.05; // of the largest
constexpr double longest = 0.95;     // sizes of the mesh

} // namespace

void draw_directions(const Model& model, const ModelCase& c, const std::vector<bool>& shown,
                     const std::vector<double>& displacement, const std::string& state,
                     const FigureOptions& options, const std::filesystem::path& png) {
    const Mesh& mesh = model.mesh;
    if (mesh.shell())
        throw Error::usage("--what directions serves solids and plane models", "Plot the stress of a shell");
    const StaticAnalysis analysis(model, solver_options(model.run));
    Eigen::VectorXd u = Eigen::VectorXd::Zero(static_cast<Eigen::Index>(model.freedoms()));
    for (std::size_t n = 0; n < mesh.nodes.size(); ++n)
        for (int a = 0; a < mesh.dimension(); ++a)
            u[static_cast<Eigen::Index>(model.freedom(static_cast<NodeId>(n), a))] =
                displacement[3 * n + static_cast<std::size_t>(a)];
    std::vector<Vec3> along(mesh.elements(), Vec3::Zero()); // times the stress
    std::vector<double> stress(mesh.elements(), 0.0);
#pragma omp parallel for schedule(static)
    for (std::size_t e = 0; e < mesh.elements(); ++e) {
        if (!shown[e]) continue;
        const auto id = static_cast<ElementId>(e);
        const std::vector<Vec3>& points = stress_points(mesh.kind(id));
        Voigt mean = Voigt::Zero();
        for (const Voigt& s : stress_at(analysis, c, u, id, points))
            mean += s / static_cast<double>(points.size());
        const Eigen::SelfAdjointEigenSolver<Eigen::Matrix3d> main(stress_tensor(mean));
        const Vec3 values = main.eigenvalues();
        Eigen::Index most = 0;
        values.cwiseAbs().maxCoeff(&most);
        stress[e] = values[most];
        along[e] = main.eigenvectors().col(most);
    }
    double largest = 0.0;
    for (const double s : stress) largest = std::max(largest, std::abs(s));
    Figure figure(with_unit(options, model), mesh.dimension() == 2,
                  fmt::format("{}: main directions of stress, case {}", model.title, c.name),
                  fmt::format("in the middle of each element, longer where it is larger; at most {:.4g} {}{}",
                              largest, model.units.text(dimension::stress), state));
    Skinned skin = skin_of_elements(model, shown);
    if (skin.element.empty())
        throw Error::input({}, "nothing is dense enough to be shown", "Write a lower threshold with --at");
    skin.patch.color = Color{0.75, 0.77, 0.80};
    skin.patch.opacity = mesh.dimension() == 2 ? 0.45 : 0.16;
    for (const Affine& image : images(mesh)) figure.add(transformed(skin.patch, image));
    Segments pulled;
    Segments pushed;
    for (std::size_t e = 0; e < mesh.elements(); ++e) {
        if (std::abs(stress[e]) < least_shown * largest || largest <= 0.0) continue;
        const double half = 0.5 * longest * mesh.size * std::sqrt(std::abs(stress[e]) / largest);
        const Vec3 way = half * along[e];
        (stress[e] > 0.0 ? pulled : pushed).emplace_back(mesh.center(e) - way, mesh.center(e) + way);
    }
    for (const Affine& image : images(mesh)) {
        figure.add_lines(transformed(pulled, image), tension, 2.0);
        figure.add_lines(transformed(pushed, image), compression, 2.0);
    }
    figure.add_legend('-', tension, "tension");
    figure.add_legend('-', compression, "compression");
    add_block_outline(figure, model, color::faint);
    figure.add_legend('-', color::faint, "original space");
    add_loads(figure, model, c, Extent::Whole);
    add_supports(figure, model, c.supports, Extent::Whole);
    figure.write(png);
}

} // namespace upright
