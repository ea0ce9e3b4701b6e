#include "geometry/file_body.hpp"

#include "geometry/step_apart.hpp"

#include "base/edge_key.hpp"
#include "base/sensible.hpp"
#include "geometry/cad_module.hpp"
#include "study/file_slot.hpp"

#include <vtkAlgorithm.h>
#include <vtkCellArray.h>
#include <vtkNew.h>
#include <vtkOBJReader.h>
#include <vtkPolyData.h>
#include <vtkSTLReader.h>
#include <vtkTriangleFilter.h>

#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <fstream>
#include <limits>
#include <map>
#include <mutex>
#include <stdexcept>
#include <tuple>
#include <unordered_map>

namespace upright {

namespace {

namespace fs = std::filesystem;

constexpr double step_deflection = 2e-4; // of the body's size

std::string lower(std::string text) {
    std::transform(text.begin(), text.end(), text.begin(),
                   [](unsigned char c) { return static_cast<char>(std::tolower(c)); });
    return text;
}

// The triangles of what a reader gives.
FacetMesh triangles_of(vtkAlgorithm* reader) {
    vtkNew<vtkTriangleFilter> triangles;
    triangles->SetInputConnection(reader->GetOutputPort());
    triangles->PassVertsOff();
    triangles->PassLinesOff();
    triangles->Update();
    vtkPolyData* poly = triangles->GetOutput();
    const vtkIdType points = poly->GetNumberOfPoints();
    if (points > std::numeric_limits<std::int32_t>::max())
        throw std::runtime_error("the file holds more than 2147483647 points");
    FacetMesh out;
    for (vtkIdType i = 0; i < points; ++i) {
        Vec3 p;
        poly->GetPoint(i, p.data());
        out.points.push_back(p);
    }
    vtkNew<vtkIdList> ids;
    vtkCellArray* cells = poly->GetPolys();
    for (vtkIdType c = 0; c < cells->GetNumberOfCells(); ++c) {
        cells->GetCellAtId(c, ids);
        for (vtkIdType k = 0; k < ids->GetNumberOfIds(); ++k)
            if (ids->GetId(k) < 0 || ids->GetId(k) >= points)
                throw std::runtime_error("a face names a point that the file does not have");
        for (vtkIdType k = 2; k < ids->GetNumberOfIds(); ++k)
            out.triangles.push_back({static_cast<std::int32_t>(ids->GetId(0)),
                                     static_cast<std::int32_t>(ids->GetId(k - 1)),
                                     static_cast<std::int32_t>(ids->GetId(k))});
    }
    return out;
}

FacetMesh read_stl(const fs::path& file) {
    vtkNew<vtkSTLReader> reader;
    reader->SetFileName(file.c_str());
    reader->MergingOff();
    return triangles_of(reader);
}

FacetMesh read_obj(const fs::path& file) {
    vtkNew<vtkOBJReader> reader;
    reader->SetFileName(file.c_str());
    return triangles_of(reader);
}

// Points nearer than `tolerance` become one; triangles that lose a corner, or come twice, go.
std::size_t weld(FacetMesh& mesh, double tolerance) {
    std::map<std::array<long, 3>, std::vector<std::int32_t>> cells;
    std::vector<std::int32_t> number(mesh.points.size());
    std::vector<Vec3> kept;
    for (std::size_t i = 0; i < mesh.points.size(); ++i) {
        const Vec3& p = mesh.points[i];
        std::array<long, 3> at{};
        for (std::size_t a = 0; a < 3; ++a)
            at[a] = std::lround(p[static_cast<Eigen::Index>(a)] / (4 * tolerance));
        std::int32_t found = -1;
        for (long x = -1; x <= 1 && found < 0; ++x)
            for (long y = -1; y <= 1 && found < 0; ++y)
                for (long z = -1; z <= 1 && found < 0; ++z) {
                    const auto cell = cells.find({at[0] + x, at[1] + y, at[2] + z});
                    if (cell == cells.end()) continue;
                    for (const std::int32_t n : cell->second)
                        if ((kept[static_cast<std::size_t>(n)] - p).norm() <= tolerance) found = n;
                }
        if (found < 0) {
            found = static_cast<std::int32_t>(kept.size());
            kept.push_back(p);
            cells[at].push_back(found);
        }
        number[i] = found;
    }
    mesh.points = std::move(kept);
    std::vector<std::array<std::int32_t, 3>> triangles;
    std::map<std::array<std::int32_t, 3>, int> seen;
    for (auto t : mesh.triangles) {
        for (std::int32_t& n : t) n = number[static_cast<std::size_t>(n)];
        if (t[0] == t[1] || t[1] == t[2] || t[2] == t[0]) continue;
        auto sorted = t;
        std::sort(sorted.begin(), sorted.end());
        if (seen[sorted]++ == 0) triangles.push_back(t);
    }
    const std::size_t dropped = mesh.triangles.size() - triangles.size();
    mesh.triangles = std::move(triangles);
    return dropped;
}

// Turns triangles until neighbours agree, component by component, and every shell outward (an inner shell
// inward). Returns the number turned.
std::size_t orient(FacetMesh& mesh, std::vector<int>& part) {
    std::unordered_map<std::uint64_t, std::vector<std::int32_t>> edges;
    for (std::size_t t = 0; t < mesh.triangles.size(); ++t)
        for (std::size_t i = 0; i < 3; ++i)
            edges[edge_key(mesh.triangles[t][i], mesh.triangles[t][(i + 1) % 3])].push_back(
                static_cast<std::int32_t>(t));
    part.assign(mesh.triangles.size(), -1);
    std::vector<bool> turned(mesh.triangles.size(), false);
    int parts = 0;
    const auto runs = [&](std::size_t t, std::int32_t a, std::int32_t b) {
        for (std::size_t i = 0; i < 3; ++i)
            if (mesh.triangles[t][i] == a && mesh.triangles[t][(i + 1) % 3] == b) return !turned[t];
        return static_cast<bool>(turned[t]);
    };
    std::vector<std::size_t> stack;
    for (std::size_t seed = 0; seed < mesh.triangles.size(); ++seed) {
        if (part[seed] >= 0) continue;
        part[seed] = parts;
        stack.push_back(seed);
        while (!stack.empty()) {
            const std::size_t t = stack.back();
            stack.pop_back();
            for (std::size_t i = 0; i < 3; ++i) {
                const std::int32_t a = mesh.triangles[t][i];
                const std::int32_t b = mesh.triangles[t][(i + 1) % 3];
                const auto& at = edges[edge_key(a, b)];
                if (at.size() != 2) continue;
                const auto other =
                    static_cast<std::size_t>(at[0] == static_cast<std::int32_t>(t) ? at[1] : at[0]);
                if (part[other] >= 0) continue;
                part[other] = parts;
                if (runs(t, a, b) == runs(other, a, b)) turned[other] = !turned[other];
                stack.push_back(other);
            }
        }
        ++parts;
    }
    std::size_t count = 0;
    for (std::size_t t = 0; t < turned.size(); ++t)
        if (turned[t]) {
            std::swap(mesh.triangles[t][1], mesh.triangles[t][2]);
            ++count;
        }
    return count;
}

double volume_of(const FacetMesh& mesh, const std::vector<std::size_t>& triangles) {
    double out = 0.0;
    for (const std::size_t t : triangles) {
        const auto& c = mesh.triangles[t];
        out +=
            mesh.points[static_cast<std::size_t>(c[0])].dot(mesh.points[static_cast<std::size_t>(c[1])].cross(
                mesh.points[static_cast<std::size_t>(c[2])])) /
            6.0;
    }
    return out;
}

FacetMesh part_of(const FacetMesh& mesh, const std::vector<std::size_t>& triangles) {
    FacetMesh out;
    std::unordered_map<std::int32_t, std::int32_t> number;
    for (const std::size_t t : triangles) {
        std::array<std::int32_t, 3> c{};
        for (std::size_t i = 0; i < 3; ++i) {
            const std::int32_t old = mesh.triangles[t][i];
            const auto [at, fresh] = number.emplace(old, static_cast<std::int32_t>(out.points.size()));
            if (fresh) out.points.push_back(mesh.points[static_cast<std::size_t>(old)]);
            c[i] = at->second;
        }
        out.triangles.push_back(c);
    }
    return out;
}

// Closes small holes: loops of open edges of at most `most` edges, a small part of the body round, get a fan
// about their middle.
std::size_t close_holes(FacetMesh& mesh, std::size_t most, double longest) {
    std::unordered_map<std::uint64_t, int> count;
    for (const auto& t : mesh.triangles)
        for (std::size_t i = 0; i < 3; ++i) ++count[edge_key(t[i], t[(i + 1) % 3])];
    std::map<std::int32_t, std::int32_t> next; // open edges, against the sense of their triangle
    for (const auto& t : mesh.triangles)
        for (std::size_t i = 0; i < 3; ++i)
            if (count[edge_key(t[i], t[(i + 1) % 3])] == 1 && !next.emplace(t[(i + 1) % 3], t[i]).second)
                return 0;
    std::size_t closed = 0;
    while (!next.empty()) {
        std::vector<std::int32_t> loop{next.begin()->first};
        while (true) {
            const auto at = next.find(loop.back());
            if (at == next.end()) return closed; // not a loop
            const std::int32_t to = at->second;
            next.erase(at);
            if (to == loop.front()) break;
            loop.push_back(to);
        }
        if (loop.size() < 3 || loop.size() > most) return closed;
        double around = 0.0;
        for (std::size_t i = 0; i < loop.size(); ++i)
            around += (mesh.points[static_cast<std::size_t>(loop[i])] -
                       mesh.points[static_cast<std::size_t>(loop[(i + 1) % loop.size()])])
                          .norm();
        if (around > longest) return closed;
        if (loop.size() == 3) {
            mesh.triangles.push_back({loop[0], loop[1], loop[2]});
        } else {
            Vec3 middle = Vec3::Zero();
            for (const std::int32_t n : loop) middle += mesh.points[static_cast<std::size_t>(n)];
            mesh.points.push_back(middle / static_cast<double>(loop.size()));
            const auto center = static_cast<std::int32_t>(mesh.points.size()) - 1;
            for (std::size_t i = 0; i < loop.size(); ++i)
                mesh.triangles.push_back({loop[i], loop[(i + 1) % loop.size()], center});
        }
        ++closed;
    }
    return closed;
}

// Throws Error (Input) unless every edge has two triangles.
void require_closed(const FacetMesh& mesh, const Place& at) {
    std::unordered_map<std::uint64_t, int> count;
    for (const auto& t : mesh.triangles)
        for (std::size_t i = 0; i < 3; ++i) ++count[edge_key(t[i], t[(i + 1) % 3])];
    std::size_t open = 0;
    std::size_t crowded = 0;
    Vec3 place = Vec3::Zero();
    for (const auto& [key, n] : count) {
        if (n == 2) continue;
        (n == 1 ? open : crowded) += 1;
        place = mesh.points[static_cast<std::size_t>(key >> 32U)];
    }
    if (open + crowded > 0)
        throw Error::input(
            at,
            fmt::format("the surface is not closed: {} open edges{}, one at ({:.4g}, {:.4g}, {:.4g})", open,
                        crowded > 0 ? fmt::format(" and {} edges with more than two triangles", crowded) : "",
                        place.x(), place.y(), place.z()),
            "Close it where it was made; a body must enclose a volume");
}

// Each connected surface as a body that its normals leave; `inverted` counts those that were turned for it.
std::vector<FacetBody> shells_of(const FacetMesh& mesh, const std::vector<int>& part, std::size_t& inverted) {
    const int parts = 1 + *std::max_element(part.begin(), part.end());
    std::vector<std::vector<std::size_t>> members(static_cast<std::size_t>(parts));
    for (std::size_t t = 0; t < part.size(); ++t) members[static_cast<std::size_t>(part[t])].push_back(t);
    std::vector<FacetBody> out;
    for (const auto& list : members) {
        FacetMesh shell = part_of(mesh, list);
        if (volume_of(mesh, list) < 0.0) {
            ++inverted;
            for (auto& t : shell.triangles) std::swap(t[1], t[2]);
        }
        shell.face_of.assign(shell.triangles.size(), 0);
        shell.faces.emplace_back();
        out.emplace_back("", std::move(shell));
    }
    return out;
}

// Outer shells with the cavities inside of them: a shell inside of another is its cavity.
std::vector<FacetMesh> nested(const std::vector<FacetBody>& shells, std::size_t& cavities) {
    std::vector<int> depth(shells.size(), 0);
    std::vector<int> parent(shells.size(), -1);
    for (std::size_t i = 0; i < shells.size(); ++i)
        for (std::size_t j = 0; j < shells.size(); ++j) {
            if (i == j || !shells[j].inside(shells[i].mesh().points.front())) continue;
            ++depth[i];
            if (parent[i] < 0 || shells[j].volume() < shells[static_cast<std::size_t>(parent[i])].volume())
                parent[i] = static_cast<int>(j);
        }
    std::vector<FacetMesh> out;
    for (std::size_t i = 0; i < shells.size(); ++i) {
        if (depth[i] % 2 == 1) {
            ++cavities;
            continue;
        }
        FacetMesh body = shells[i].mesh();
        for (std::size_t j = 0; j < shells.size(); ++j) {
            if (parent[j] != static_cast<int>(i) || depth[j] % 2 == 0) continue;
            const auto base = static_cast<std::int32_t>(body.points.size());
            const FacetMesh& inner = shells[j].mesh();
            body.points.insert(body.points.end(), inner.points.begin(), inner.points.end());
            for (auto t : inner.triangles) body.triangles.push_back({t[0] + base, t[2] + base, t[1] + base});
        }
        number_patches(body, 30.0);
        out.push_back(std::move(body));
    }
    return out;
}

// The bodies of a soup of triangles: shells that enclose material, with the cavities inside of them.
void split_bodies(BodyFile& out, const Place& at, const std::string& stem, FacetMesh& mesh) {
    Bounds box;
    double farthest = 0.0;
    for (const Vec3& p : mesh.points) {
        if (!p.allFinite())
            throw Error::input(at, "the file holds coordinates that are not numbers", "Export it again");
        box.include(p);
        farthest = std::max(farthest, p.cwiseAbs().maxCoeff());
    }
    if (mesh.triangles.empty() || box.empty() || box.diagonal() <= 0.0)
        throw Error::input(at, "the file holds no triangles", "Export it again");
    // Beyond these nothing is left of the digits that tell its points apart, or of its volume.
    if (farthest > 1e6 * box.diagonal() || farthest > largest_number || box.diagonal() < 1.0 / largest_number)
        throw Error::input(
            at,
            fmt::format("the file holds a body of size {:.3g} as far as {:.3g} from the origin",
                        box.diagonal(), farthest),
            "Export it again nearer to the origin, in a unit that suits it");
    const std::size_t dropped = weld(mesh, 1e-6 * box.diagonal());
    if (mesh.triangles.empty())
        throw Error::input(at, "the file holds no triangle with an area", "Export it again");
    if (dropped > 0)
        out.remarks.push_back(
            fmt::format("{} triangles without area, or there twice, were left out", dropped));
    const std::size_t holes = close_holes(mesh, 6, 0.1 * box.diagonal());
    if (holes > 0)
        out.remarks.push_back(
            fmt::format("{} small hole{} of at most six edges closed", holes, holes == 1 ? "" : "s"));
    require_closed(mesh, at);
    std::vector<int> part;
    const std::size_t turned = orient(mesh, part);
    if (turned > 0)
        out.remarks.push_back(fmt::format("{} triangles were turned to agree with their neighbours", turned));
    std::size_t inverted = 0;
    std::size_t cavities = 0;
    std::vector<FacetMesh> bodies = nested(shells_of(mesh, part, inverted), cavities);
    if (inverted > cavities) out.remarks.emplace_back("the surface was inside out and was turned");
    for (std::size_t i = 0; i < bodies.size(); ++i) {
        const std::string name = bodies.size() == 1 ? stem : fmt::format("{}-{}", stem, i + 1);
        out.bodies.push_back(std::make_shared<FacetBody>(name, std::move(bodies[i])));
        if (!(out.bodies.back()->volume() > 1e-12 * std::pow(box.diagonal(), 3)))
            throw Error::input(at, "the file holds a surface that is closed but encloses nothing",
                               "Close it where it was made; a body must enclose a volume");
    }
}

Place at_file(const fs::path& file, const Place& place) {
    return place.file.empty() ? Place{file.string()} : place;
}

} // namespace

BodyFile read_bodies(const fs::path& file, const Place& place, double scale, double length_si,
                     bool unit_given, double heal) {
    const Place at = at_file(file, place);
    const std::string named = place.file.empty() ? "" : file.string() + ": "; // where the place is a study's
    std::error_code ignored;
    if (!fs::is_regular_file(file, ignored)) throw Error::input(at, "there is no file " + file.string());
    if (!std::ifstream(file))
        throw Error::input(at, file.string() + " cannot be read", "Check its permissions");
    if (fs::file_size(file, ignored) == 0)
        throw Error::input(at, file.string() + " is empty", "Export it again");
    const std::string kind = lower(file.extension().string());
    BodyFile out;
    const bool step = kind == ".step" || kind == ".stp";
    if (heal > 0.0 && !step)
        throw Error::input(at, named + "heal mends the faces of CAD; this file has triangles",
                           "Leave it out");
    if (heal > 0.0 && unit_given)
        throw Error::input(at, named + "heal goes with the file's own unit, not with file_unit",
                           "Leave one of them out");
    if (step) {
        out.format = "STEP";
        cad::File read;
        try {
            read = read_step_apart(file, length_si, step_deflection, heal);
        } catch (const std::runtime_error& bad) {
            const bool healing = std::string(bad.what()).find("does not heal") != std::string::npos;
            throw Error::input(at, named + bad.what(),
                               healing ? "Write a smaller heal" : "Export it again as STEP AP214 or AP242");
        }
        out.unit = read.unit;
        out.unit_si = read.unit_si;
        out.remarks = read.remarks;
        for (cad::Body& body : read.bodies) {
            if (unit_given && read.unit_si > 0.0) {
                // The study says that the numbers of the file mean another unit.
                const double factor = scale * length_si / read.unit_si;
                for (Vec3& p : body.mesh.points) p *= factor;
                for (FacetFace& f : body.mesh.faces) {
                    f.radius *= factor;
                    f.axis_from *= factor;
                    f.axis_to *= factor;
                }
                measure_faces(body.mesh);
            }
            out.bodies.push_back(std::make_shared<FacetBody>(body.name, std::move(body.mesh)));
            const FacetBody& made = *out.bodies.back();
            if (!(made.volume() > 0.0) || !std::isfinite(made.volume()))
                throw Error::input(at,
                                   fmt::format("{}body \"{}\" encloses no volume: {}", named, made.name(),
                                               made.open_edges() > 0
                                                   ? "faces of it are missing or cannot be read"
                                                   : "it is flat, or its faces look inward"),
                                   "Look at it in the program that wrote it, and export it again");
        }
        return out;
    }
    if (kind != ".stl" && kind != ".obj")
        throw Error::input(at, "\"" + file.filename().string() + "\" is no kind of body file",
                           "Served: .step, .stp, .stl, .obj");
    out.format = kind == ".stl" ? "STL" : "OBJ";
    FacetMesh mesh;
    try {
        run_apart(
            file, {}, "the library for " + out.format + " files",
            [&] { mesh = kind == ".stl" ? read_stl(file) : read_obj(file); },
            [&](Handover& over) {
                over.many(mesh.points);
                over.many(mesh.triangles);
            });
    } catch (const std::runtime_error& bad) {
        throw Error::input(at, named + bad.what(), "Export it again");
    }
    for (Vec3& p : mesh.points) p *= scale;
    split_bodies(out, at, file.stem().string(), mesh);
    return out;
}

std::shared_ptr<const BodyFile> shared_bodies(const FileSlot& slot) {
    using Stamp = std::tuple<fs::path, fs::file_time_type, double, double, bool, double>;
    static std::mutex guard;
    static Stamp kept_as;
    static std::shared_ptr<const BodyFile> kept;
    std::error_code ignored;
    const Stamp stamp{slot.file,       fs::last_write_time(slot.file, ignored),
                      slot.scale,      slot.length_si,
                      slot.unit_given, slot.heal};
    const std::lock_guard<std::mutex> lock(guard);
    if (!kept || stamp != kept_as) {
        kept = std::make_shared<const BodyFile>(
            read_bodies(slot.file, slot.place, slot.scale, slot.length_si, slot.unit_given, slot.heal));
        kept_as = stamp;
    }
    return kept;
}

const FacetBody& file_body(const FileBody& body) {
    FileSlot& slot = *body.slot;
    std::call_once(slot.once, [&] {
        const std::shared_ptr<const BodyFile> shared = shared_bodies(slot);
        const BodyFile& read = *shared;
        slot.file_unit = read.unit;
        slot.file_unit_si = read.unit_si;
        slot.remarks = read.remarks;
        std::string names;
        for (const auto& b : read.bodies) {
            if (b->name() == slot.body || (slot.body.empty() && read.bodies.size() == 1)) slot.facets = b;
            names += (names.empty() ? "\"" : ", \"") + b->name() + "\"";
        }
        if (slot.facets) return;
        if (slot.body.empty())
            throw Error::input(slot.place, fmt::format("the file holds {} bodies", read.bodies.size()),
                               "Name one with body = …: " + names);
        throw Error::input(slot.place, "the file has no body \"" + slot.body + "\"", "It has " + names);
    });
    return *slot.facets;
}

FileBody made_body(std::shared_ptr<const FacetBody> facets) {
    FileBody out{std::make_shared<FileSlot>()};
    std::call_once(out.slot->once, [&] { out.slot->facets = std::move(facets); });
    return out;
}

} // namespace upright
