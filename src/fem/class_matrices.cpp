#include "fem/class_matrices.hpp"

#include "fem/element.hpp"

#include <Eigen/Dense>
#include <array>

namespace upright {

namespace {

template <int Nodes> using Gradient = Eigen::Matrix<double, 3, Nodes>;

constexpr ElementKind kind_of(int nodes) {
    return nodes == 4 ? ElementKind::Tet4 : ElementKind::Tet10;
}

// The derivatives of the interpolation by natural coordinates at the points of the rule, and in the middle.
template <int Nodes> struct Natural {
    std::vector<Gradient<Nodes>> at;
    std::vector<double> weight;
    Gradient<Nodes> middle;

    static const Natural& get() {
        static const Natural natural(kind_of(Nodes));
        return natural;
    }
    static const Natural& few() {
        static const Natural natural(ElementKind::Tet4); // of degree 2
        return natural;
    }

  private:
    explicit Natural(ElementKind rule) {
        Eigen::VectorXd values;
        Eigen::MatrixXd gradient;
        for (const RulePoint& p : integration_rule(rule)) {
            interpolate(kind_of(Nodes), p.at, values, gradient);
            at.emplace_back(gradient);
            weight.push_back(p.weight);
        }
        interpolate(kind_of(Nodes), natural_center(kind_of(Nodes)), values, gradient);
        middle = gradient;
    }
};

// Gradients in space at a place, and the determinant.
template <int Nodes>
double to_space(const Gradient<Nodes>& x, const Gradient<Nodes>& natural, Gradient<Nodes>& out) {
    const Mat3 J = x * natural.transpose();
    const Vec3 a = J.col(1).cross(J.col(2));
    const Vec3 b = J.col(2).cross(J.col(0));
    const Vec3 c = J.col(0).cross(J.col(1));
    const double det = J.col(0).dot(a);
    Mat3 turned; // the inverse, transposed
    turned << a, b, c;
    turned /= det;
    out.noalias() = turned * natural;
    return det;
}

// A ten-node tetrahedron with straight edges: the interpolation by the four linear functions L of the
// corners. The derivative of a node's function by L_i is a sum of linear functions of L.
class StraightTetrahedron {
  public:
    // d N / d L_corner = slope * L_of + constant.
    struct Part {
        int corner = 0, of = 0;
        double slope = 0.0, constant = 0.0;
    };
    // The integral over a unit volume of a product of two parts.
    struct Pair {
        int i = 0, j = 0; // corners
        double integral = 0.0;
    };
    std::array<std::array<int, 2>, 10> ends{}; // of each node: its corner twice, or its edge's
    std::array<std::array<std::vector<Pair>, 10>, 10> pairs{}; // of nodes a and b

    static const StraightTetrahedron& get() {
        static const StraightTetrahedron straight;
        return straight;
    }

    bool is(const Gradient<10>& x) const {
        const double size = (x.col(1) - x.col(0)).squaredNorm() + (x.col(2) - x.col(0)).squaredNorm();
        for (int n = 4; n < 10; ++n) {
            const Vec3 off = x.col(n) - 0.5 * (x.col(ends[static_cast<std::size_t>(n)][0]) +
                                               x.col(ends[static_cast<std::size_t>(n)][1]));
            if (off.squaredNorm() > 1e-22 * size) return false;
        }
        return true;
    }

  private:
    StraightTetrahedron() {
        const std::array<Vec3, 4> corner_places{Vec3(0, 0, 0), Vec3(1, 0, 0), Vec3(0, 1, 0), Vec3(0, 0, 1)};
        std::array<Vec3, 4> corner; // by local node
        Eigen::VectorXd N;
        Eigen::MatrixXd G;
        const auto node_at = [&](const Vec3& p) {
            interpolate(ElementKind::Tet10, p, N, G);
            Eigen::Index node = 0;
            N.maxCoeff(&node);
            return static_cast<std::size_t>(node);
        };
        for (const Vec3& p : corner_places) corner[node_at(p)] = p;
        std::array<std::vector<Part>, 10> parts;
        for (int p = 0; p < 4; ++p) {
            ends[static_cast<std::size_t>(p)] = {p, p};
            parts[static_cast<std::size_t>(p)] = {{p, p, 4.0, -1.0}};
            for (int q = p + 1; q < 4; ++q) {
                const std::size_t n = node_at(
                    0.5 * (corner[static_cast<std::size_t>(p)] + corner[static_cast<std::size_t>(q)]));
                ends[n] = {p, q};
                parts[n] = {{p, q, 4.0, 0.0}, {q, p, 4.0, 0.0}};
            }
        }
        for (std::size_t a = 0; a < 10; ++a)
            for (std::size_t b = 0; b < 10; ++b)
                for (const Part& f : parts[a])
                    for (const Part& g : parts[b])
                        pairs[a][b].push_back({f.corner, g.corner,
                                               f.slope * g.slope * (f.of == g.of ? 0.1 : 0.05) +
                                                   0.25 * (f.slope * g.constant + f.constant * g.slope) +
                                                   f.constant * g.constant});
    }
};

// The gradients of the linear functions of the corners, and the volume.
double corner_gradients(const Vec3& p0, const Vec3& p1, const Vec3& p2, const Vec3& p3, Gradient<4>& out) {
    const Vec3 a = p1 - p0;
    const Vec3 b = p2 - p0;
    const Vec3 c = p3 - p0;
    const Vec3 first = b.cross(c);
    const double det = a.dot(first);
    out.col(1) = first / det;
    out.col(2) = c.cross(a) / det;
    out.col(3) = a.cross(b) / det;
    out.col(0) = -(out.col(1) + out.col(2) + out.col(3));
    return det / 6.0;
}

// Values of the interpolation at the points of the rule, and the integrals of their products over a unit
// volume.
template <int Nodes> struct Products {
    std::vector<Eigen::Matrix<double, Nodes, 1>> values;
    Eigen::Matrix<double, Nodes, Nodes> of_volume = Eigen::Matrix<double, Nodes, Nodes>::Zero();

    static const Products& get() {
        static const Products products;
        return products;
    }

  private:
    Products() {
        Eigen::VectorXd N;
        Eigen::MatrixXd G;
        for (const RulePoint& p : integration_rule(kind_of(Nodes))) {
            interpolate(kind_of(Nodes), p.at, N, G);
            values.emplace_back(N);
            of_volume += 6.0 * p.weight * values.back() * values.back().transpose();
        }
    }
};

bool straight(const Gradient<4>& /*x*/) {
    return true;
}
bool straight(const Gradient<10>& x) {
    return StraightTetrahedron::get().is(x);
}

// Calls with gradients and the volume that each point of a rule stands for: the least one that is exact for
// the stiffness of straight edges, else that of the kind.
template <int Nodes, class Call> void each_point(const Gradient<Nodes>& x, Call&& call) {
    Gradient<Nodes> g;
    if constexpr (Nodes == 4) {
        const double volume = corner_gradients(x.col(0), x.col(1), x.col(2), x.col(3), g);
        call(g, volume);
    } else {
        const Natural<Nodes>& natural = straight(x) ? Natural<Nodes>::few() : Natural<Nodes>::get();
        for (std::size_t p = 0; p < natural.at.size(); ++p) {
            const double det = to_space<Nodes>(x, natural.at[p], g);
            call(g, natural.weight[p] * det);
        }
    }
}

Voigt strain_of(const Mat3& H) {
    Voigt out;
    out << H(0, 0), H(1, 1), H(2, 2), H(0, 1) + H(1, 0), H(1, 2) + H(2, 1), H(2, 0) + H(0, 2);
    return out;
}

Eigen::Matrix<double, 6, 3> strains_of(const Vec3& g) {
    Eigen::Matrix<double, 6, 3> out = Eigen::Matrix<double, 6, 3>::Zero();
    out(0, 0) = out(3, 1) = out(5, 2) = g[0];
    out(1, 1) = out(3, 0) = out(4, 2) = g[1];
    out(2, 2) = out(4, 1) = out(5, 0) = g[2];
    return out;
}

} // namespace

ClassMatrices::ClassMatrices(const Model& model, const ShapeClasses& classes, What what)
    : model_(model), classes_(classes), what_(what), kept_(classes.example.size()),
      laws_(model.materials.size()), law_of_(kept_.size(), 0), first_order_(kept_.size(), 0) {
    const Mesh& mesh = model.mesh;
    std::vector<bool> known(model.materials.size(), false);
    const bool lone = !mesh.on_grid() && classes.turn_of.empty();
    for (std::size_t number = 0; number < kept_.size(); ++number) {
        const ElementId id = classes.example[number];
        const ElementKind kind = mesh.kind(id);
        const MaterialId material = model.regions[index(mesh.region[index(id)])].material;
        const bool tetrahedron = kind == ElementKind::Tet4 || kind == ElementKind::Tet10;
        if (lone && tetrahedron && same_everywhere(model.material(id))) {
            law_of_[number] = static_cast<std::uint16_t>(index(material));
            first_order_[number] = kind == ElementKind::Tet4 ? 1 : 0;
            if (known[index(material)]) continue;
            known[index(material)] = true;
            Law& law = laws_[index(material)];
            law.D = elasticity(model, id);
            law.density = model.material(id).density;
            law.isotropic = !model.material(id).orthotropic;
            law.lambda = law.D(0, 1);
            law.mu = law.D(3, 3);
            continue;
        }
        const Element& element = element_for(kind);
        const Eigen::MatrixXd places = places_of(mesh, id);
        if (what == What::Stiffness) {
            kept_[number] =
                element.stiffness(places, elasticity(model, id), mesh.depth(id), model.formulation);
            continue;
        }
        kept_[number] = model.material(id).density * element.mass(places, mesh.depth(id));
        if (what == What::LumpedMass) kept_[number] = lumped(kept_[number], mesh.freedoms());
    }
}

template <int Nodes> Gradient<Nodes> ClassMatrices::places(std::size_t number) const {
    Gradient<Nodes> out;
    const NodeId* ids = model_.mesh.nodes_of(classes_.example[number]).begin();
    for (int i = 0; i < Nodes; ++i) out.col(i) = model_.mesh.nodes[index(ids[i])];
    return out;
}

const Eigen::MatrixXd& ClassMatrices::of(std::size_t number, Eigen::MatrixXd& room) const {
    if (!made(number)) return kept_[number];
    make(number, room);
    return room;
}

Eigen::MatrixXd ClassMatrices::copy_of(std::size_t number) const {
    Eigen::MatrixXd room;
    return of(number, room);
}

template <int Nodes>
void ClassMatrices::add_blocks(const Law& law, const Vec3& own, const Gradient<Nodes>& g, double volume,
                               double* out) {
    if (law.isotropic) {
        const double lambda = law.lambda * volume;
        const double mu = law.mu * volume;
        for (int b = 0; b < Nodes; ++b) {
            const double x = g(0, b);
            const double y = g(1, b);
            const double z = g(2, b);
            const double both = mu * (own[0] * x + own[1] * y + own[2] * z);
            double* block = out + 9 * b;
            for (int r = 0; r < 3; ++r) {
                const double l = lambda * own[r];
                const double m = mu * g(r, b);
                block[r] += l * x + m * own[0];
                block[3 + r] += l * y + m * own[1];
                block[6 + r] += l * z + m * own[2];
            }
            block[0] += both;
            block[4] += both;
            block[8] += both;
        }
        return;
    }
    const Eigen::Matrix<double, 3, 6> left = volume * (strains_of(own).transpose() * law.D);
    for (int b = 0; b < Nodes; ++b) Eigen::Map<Mat3>(out + 9 * b) += left * strains_of(g.col(b));
}

template <int Nodes> void ClassMatrices::rows(std::size_t number, std::size_t node, double* out) const {
    std::fill(out, out + 9 * Nodes, 0.0);
    const Law& law = this->law(number);
    const Gradient<Nodes> x = places<Nodes>(number);
    if constexpr (Nodes == 10) {
        const StraightTetrahedron& straight = StraightTetrahedron::get();
        if (straight.is(x)) {
            // Of the corners that the node's function leans on, blocks with all corners.
            Gradient<4> g;
            const double volume = corner_gradients(x.col(0), x.col(1), x.col(2), x.col(3), g);
            std::array<std::array<double, 36>, 2> of{};
            const std::array<int, 2>& ends = straight.ends[node];
            for (std::size_t k = 0; k < (ends[0] == ends[1] ? 1U : 2U); ++k)
                add_blocks<4>(law, g.col(ends[k]), g, volume, of[k].data());
            for (std::size_t b = 0; b < 10; ++b)
                for (const StraightTetrahedron::Pair& pair : straight.pairs[node][b]) {
                    const double* from = of[pair.i == ends[0] ? 0 : 1].data() + 9 * pair.j;
                    for (std::size_t n = 0; n < 9; ++n) out[9 * b + n] += pair.integral * from[n];
                }
            return;
        }
    }
    each_point<Nodes>(x, [&](const Gradient<Nodes>& g, double volume) {
        add_blocks<Nodes>(law, g.col(static_cast<Eigen::Index>(node)), g, volume, out);
    });
}

template <int Nodes> void ClassMatrices::blocks(std::size_t number, double* out) const {
    constexpr std::size_t row = 9 * static_cast<std::size_t>(Nodes);
    std::fill(out, out + row * Nodes, 0.0);
    const Law& law = this->law(number);
    const Gradient<Nodes> x = places<Nodes>(number);
    if constexpr (Nodes == 10) {
        if (straight(x)) {
            Gradient<4> g;
            const double volume = corner_gradients(x.col(0), x.col(1), x.col(2), x.col(3), g);
            std::array<std::array<double, 36>, 4> of{}; // of corners with corners
            for (std::size_t i = 0; i < 4; ++i)
                add_blocks<4>(law, g.col(static_cast<Eigen::Index>(i)), g, volume, of[i].data());
            const StraightTetrahedron& straight = StraightTetrahedron::get();
            for (std::size_t a = 0; a < 10; ++a)
                for (std::size_t b = a; b < 10; ++b) {
                    double* to = out + row * a + 9 * b;
                    for (const StraightTetrahedron::Pair& pair : straight.pairs[a][b]) {
                        const double* from = of[static_cast<std::size_t>(pair.i)].data() + 9 * pair.j;
                        for (std::size_t n = 0; n < 9; ++n) to[n] += pair.integral * from[n];
                    }
                    if (b == a) continue;
                    double* mirrored = out + row * b + 9 * a;
                    for (std::size_t c = 0; c < 3; ++c)
                        for (std::size_t r = 0; r < 3; ++r) mirrored[3 * c + r] = to[3 * r + c];
                }
            return;
        }
    }
    each_point<Nodes>(x, [&](const Gradient<Nodes>& g, double volume) {
        for (std::size_t a = 0; a < static_cast<std::size_t>(Nodes); ++a)
            add_blocks<Nodes>(law, g.col(static_cast<Eigen::Index>(a)), g, volume, out + row * a);
    });
}

void ClassMatrices::make_blocks(std::size_t number, double* out) const {
    const bool first = first_order_[number] != 0;
    if (what_ == What::Stiffness) {
        first ? blocks<4>(number, out) : blocks<10>(number, out);
        return;
    }
    const std::size_t nodes = first ? 4 : 10;
    for (std::size_t a = 0; a < nodes; ++a) make_rows(number, a, out + 9 * nodes * a);
}

// The consistent mass of a node with every node, along each direction; of lumped mass with itself alone
// (Hinton, Rock & Zienkiewicz 1976: lumped() in element.hpp).
template <int Nodes> void ClassMatrices::mass_row(std::size_t number, std::size_t node, double* out) const {
    const Gradient<Nodes> x = places<Nodes>(number);
    const double density = law(number).density;
    const Products<Nodes>& products = Products<Nodes>::get();
    Eigen::Matrix<double, Nodes, 1> row = Eigen::Matrix<double, Nodes, 1>::Zero();
    Eigen::Matrix<double, Nodes, 1> diagonal = row;
    double volume = 0.0;
    if (straight(x)) {
        volume =
            Vec3(x.col(1) - x.col(0)).dot(Vec3(x.col(2) - x.col(0)).cross(Vec3(x.col(3) - x.col(0)))) / 6.0;
        row = volume * products.of_volume.col(static_cast<Eigen::Index>(node));
        diagonal = volume * products.of_volume.diagonal();
    } else {
        const Natural<Nodes>& natural = Natural<Nodes>::get();
        for (std::size_t p = 0; p < natural.at.size(); ++p) {
            const double part = natural.weight[p] * Mat3(x * natural.at[p].transpose()).determinant();
            const Eigen::Matrix<double, Nodes, 1>& N = products.values[p];
            row += part * N[static_cast<Eigen::Index>(node)] * N;
            diagonal += part * N.cwiseProduct(N);
            volume += part;
        }
    }
    if (what_ == What::LumpedMass) {
        const double own = diagonal[static_cast<Eigen::Index>(node)] * volume / diagonal.sum();
        row.setZero();
        row[static_cast<Eigen::Index>(node)] = own;
    }
    for (std::size_t b = 0; b < static_cast<std::size_t>(Nodes); ++b)
        out[b] = density * row[static_cast<Eigen::Index>(b)];
}

void ClassMatrices::make_rows(std::size_t number, std::size_t node, double* out) const {
    const bool first = first_order_[number] != 0;
    if (what_ == What::Stiffness) {
        first ? rows<4>(number, node, out) : rows<10>(number, node, out);
        return;
    }
    double row[10];
    first ? mass_row<4>(number, node, row) : mass_row<10>(number, node, row);
    const std::size_t nodes = first ? 4 : 10;
    std::fill(out, out + 9 * nodes, 0.0);
    for (std::size_t b = 0; b < nodes; ++b)
        for (std::size_t c = 0; c < 3; ++c) out[9 * b + 4 * c] = row[b];
}

void ClassMatrices::make(std::size_t number, Eigen::MatrixXd& out) const {
    const bool first = first_order_[number] != 0;
    const Eigen::Index nodes = first ? 4 : 10;
    out.resize(3 * nodes, 3 * nodes);
    double three[9 * 10];
    for (Eigen::Index a = 0; a < nodes; ++a) {
        make_rows(number, static_cast<std::size_t>(a), three);
        out.middleRows<3>(3 * a) =
            Eigen::Map<const Eigen::Matrix<double, 3, Eigen::Dynamic>>(three, 3, 3 * nodes);
    }
}

double ClassMatrices::work(std::size_t number, const double* u, const double* v) const {
    const bool first = first_order_[number] != 0;
    if (what_ != What::Stiffness) {
        double found = 0.0;
        double row[10];
        const std::size_t nodes = first ? 4 : 10;
        for (std::size_t a = 0; a < nodes; ++a) {
            first ? mass_row<4>(number, a, row) : mass_row<10>(number, a, row);
            for (std::size_t b = 0; b < nodes; ++b)
                for (std::size_t c = 0; c < 3; ++c) found += v[3 * a + c] * row[b] * u[3 * b + c];
        }
        return found;
    }
    const Law& law = this->law(number);
    double out = 0.0;
    const auto sum = [&](const auto& x) {
        constexpr int nodes = std::decay_t<decltype(x)>::ColsAtCompileTime;
        const Eigen::Map<const Gradient<nodes>> one(u);
        const Eigen::Map<const Gradient<nodes>> two(v);
        each_point<nodes>(x, [&](const Gradient<nodes>& g, double volume) {
            const Mat3 a = one * g.transpose();
            const Mat3 b = u == v ? a : Mat3(two * g.transpose());
            if (law.isotropic)
                // Half the strains' double product: (H + H') : (H + H') / 2 = H : H + H : H'.
                out += volume * (law.lambda * a.trace() * b.trace() +
                                 law.mu * (a.cwiseProduct(b).sum() + a.cwiseProduct(b.transpose()).sum()));
            else
                out += volume * strain_of(b).dot(law.D * strain_of(a));
        });
    };
    first ? sum(places<4>(number)) : sum(places<10>(number));
    return out;
}

void ClassMatrices::times(std::size_t number, const double* u, double* out) const {
    const Law& law = this->law(number);
    const auto sum = [&](const auto& x) {
        constexpr int nodes = std::decay_t<decltype(x)>::ColsAtCompileTime;
        const Eigen::Map<const Gradient<nodes>> moved(u);
        Eigen::Map<Gradient<nodes>> forces(out);
        forces.setZero();
        each_point<nodes>(x, [&](const Gradient<nodes>& g, double volume) {
            const Mat3 H = moved * g.transpose();
            if (law.isotropic)
                forces += volume * (law.lambda * H.trace() * g + law.mu * (H + H.transpose()) * g);
            else
                forces += volume * stress_tensor(law.D * strain_of(H)) * g;
        });
    };
    first_order_[number] != 0 ? sum(places<4>(number)) : sum(places<10>(number));
}

Voigt ClassMatrices::stress(std::size_t number, const double* u) const {
    Voigt out;
    const auto find = [&](const auto& x) {
        constexpr int nodes = std::decay_t<decltype(x)>::ColsAtCompileTime;
        Gradient<nodes> g;
        to_space<nodes>(x, Natural<nodes>::get().middle, g);
        out = law(number).D * strain_of(Eigen::Map<const Gradient<nodes>>(u) * g.transpose());
    };
    const bool first = first_order_[number] != 0;
    first ? find(places<4>(number)) : find(places<10>(number));
    return out;
}

void ClassMatrices::stress_transposed(std::size_t number, const Voigt& by, double* out) const {
    const Mat3 tensor = stress_tensor(law(number).D * by);
    const auto find = [&](const auto& x) {
        constexpr int nodes = std::decay_t<decltype(x)>::ColsAtCompileTime;
        Gradient<nodes> g;
        to_space<nodes>(x, Natural<nodes>::get().middle, g);
        Eigen::Map<Gradient<nodes>> to(out);
        to.noalias() = tensor * g;
    };
    const bool first = first_order_[number] != 0;
    first ? find(places<4>(number)) : find(places<10>(number));
}

} // namespace upright
