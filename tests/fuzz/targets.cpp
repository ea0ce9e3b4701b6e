#include "fuzz/targets.hpp"

#include "base/files.hpp"
#include "compare/subject.hpp"
#include "geometry/file_body.hpp"
#include "mesh/generators.hpp"
#include "model/storage.hpp"
#include "optimize/run.hpp"
#include "response/case_report.hpp"
#include "store/analysis_folder.hpp"
#include "store/run_folder.hpp"
#include "store/run_numbers.hpp"
#include "store/vtu.hpp"
#include "support/h5_arrays.hpp"
#include "support/silent.hpp"
#include "support/studies.hpp"

#include <cmath>
#include <cstdio>
#include <cstdlib>
#include <limits>
#include <numeric>

namespace upright::fuzz {

namespace {

namespace fs = std::filesystem;

const test::TemporaryFolder& room() {
    static const test::TemporaryFolder folder;
    return folder;
}

fs::path file_of(const std::string& name, const std::string& bytes) {
    const fs::path out = room().path() / name;
    std::ofstream(out, std::ios::binary | std::ios::trunc)
        .write(bytes.data(), static_cast<long>(bytes.size()));
    return out;
}

// Errors of ours are a good end; their sentence is for users. What it quotes is theirs.
template <class Work> void ends_well(const std::string& bytes, const Work& work) {
    const std::string of_programs = "std::";
    try {
        work();
    } catch (const Error& bad) {
        const std::string says = bad.what();
        const bool quoted = bytes.find(of_programs) != std::string::npos;
        if (says.empty() || (!quoted && says.find(of_programs) != std::string::npos))
            throw std::logic_error("says: " + says);
    }
}

std::vector<std::string> texts_of(const fs::path& folder, const std::string& ending, std::size_t largest) {
    std::vector<std::string> out;
    for (const auto& one : fs::recursive_directory_iterator(folder))
        if (one.path().extension() == ending && one.file_size() <= largest)
            out.push_back(read_text(one.path()));
    return out;
}

// ---- Studies.

void take_study(const std::string& bytes) {
    ends_well(bytes, [&] { load_study_text(bytes, room().path() / "fuzz.toml"); });
}

// ---- Bodies and meshes.

void take_body(const std::string& name, const std::string& bytes) {
    const fs::path file = file_of(name, bytes);
    ends_well(bytes, [&] {
        for (const auto& body : read_bodies(file, {}, 1.0, 1e-3, false).bodies)
            if (!std::isfinite(body->volume()) || !(body->volume() > 0.0))
                throw std::logic_error("a body without a volume");
    });
}

std::string cube_stl() {
    std::string out = "solid cube\n";
    const auto corner = [](int k) {
        return std::to_string(9 * (k & 1)) + " " + std::to_string(9 * (k >> 1 & 1)) + " " +
               std::to_string(9 * (k >> 2));
    };
    const int quads[6][4] = {{0, 2, 3, 1}, {4, 5, 7, 6}, {0, 1, 5, 4},
                             {2, 6, 7, 3}, {0, 4, 6, 2}, {1, 3, 7, 5}};
    for (const auto& q : quads)
        for (const auto& t : {std::array<int, 3>{q[0], q[1], q[2]}, std::array<int, 3>{q[0], q[2], q[3]}}) {
            out += "facet normal 0 0 0\nouter loop\n";
            for (const int k : t) out += "vertex " + corner(k) + "\n";
            out += "endloop\nendfacet\n";
        }
    return out + "endsolid\n";
}

std::string cube_obj() {
    std::string out;
    for (int k = 0; k < 8; ++k)
        out += "v " + std::to_string(9 * (k & 1)) + " " + std::to_string(9 * (k >> 1 & 1)) + " " +
               std::to_string(9 * (k >> 2)) + "\n";
    return out + "f 1 3 4 2\nf 5 6 8 7\nf 1 2 6 5\nf 3 7 8 4\nf 1 5 7 3\nf 2 4 8 6\n";
}

// As a mesh of solids or of shells, as its bytes fall: each reading is a process of its own, which takes the
// time.
void take_vtu(const std::string& bytes) {
    const fs::path file = file_of("fuzz.vtu", bytes);
    const auto sum = std::accumulate(bytes.begin(), bytes.end(), 0U, [](unsigned so_far, char c) {
        return so_far + static_cast<unsigned char>(c);
    });
    const ElementFamily family = sum % 2 == 0 ? ElementFamily::Solid : ElementFamily::Shell;
    ends_well(bytes, [&] { read_mesh_file(file, {}, 1.0, family); });
}

std::vector<std::string> vtu_seeds() {
    const Model model = build_model(test::study_from(test::block_study()));
    VtuField field{"part", 1, std::vector<double>(model.mesh.elements(), 1.0)};
    write_vtu(room().path() / "seed.vtu", model.mesh, {}, {field});
    return {read_text(room().path() / "seed.vtu"),
            R"(<VTKFile type="UnstructuredGrid" version="0.1" byte_order="LittleEndian"><UnstructuredGrid>
<Piece NumberOfPoints="9" NumberOfCells="2"><Points><DataArray type="Float64" NumberOfComponents="3" format="ascii">
0 0 0 1 0 0 1 1 0 0 1 0 0 0 1 1 0 1 1 1 1 0 1 1 2 0 0</DataArray></Points><Cells>
<DataArray type="Int64" Name="connectivity" format="ascii">0 1 2 3 4 5 6 7 1 8 2 6</DataArray>
<DataArray type="Int64" Name="offsets" format="ascii">8 12</DataArray>
<DataArray type="UInt8" Name="types" format="ascii">12 10</DataArray></Cells>
<CellData><DataArray type="Float64" Name="region" format="ascii">1 2</DataArray></CellData>
</Piece></UnstructuredGrid></VTKFile>
)"};
}

// ---- Files of arrays: bytes are a list of changes to the arrays of a whole file, four numbers each.

class Changes {
  public:
    explicit Changes(const std::string& bytes) : bytes_(bytes) {}
    bool more() const { return at_ < bytes_.size(); }
    std::size_t next(std::size_t below) {
        std::size_t value = 0;
        for (int k = 0; k < 3; ++k)
            value = value << 8U | (at_ < bytes_.size() ? static_cast<unsigned char>(bytes_[at_++]) : 0U);
        return below == 0 ? 0 : value % below;
    }

  private:
    const std::string& bytes_;
    std::size_t at_ = 0;
};

template <class T> T odd_number(std::size_t which) {
    if constexpr (std::is_same_v<T, double>) {
        static const std::vector<double> odd{0.0,
                                             -1.0,
                                             1e308,
                                             -1e308,
                                             5e-324,
                                             1e30,
                                             1e-30,
                                             0.5,
                                             2147483648.0,
                                             std::numeric_limits<double>::quiet_NaN(),
                                             std::numeric_limits<double>::infinity()};
        return odd[which % odd.size()];
    } else if constexpr (std::is_same_v<T, std::int64_t>) {
        static const std::vector<std::int64_t> odd{0,
                                                   -1,
                                                   1,
                                                   2,
                                                   7,
                                                   255,
                                                   2147483647,
                                                   2147483648,
                                                   -2147483648LL - 1,
                                                   std::numeric_limits<std::int64_t>::max(),
                                                   std::numeric_limits<std::int64_t>::min(),
                                                   100000};
        return odd[which % odd.size()];
    } else {
        static const std::vector<std::string> odd{
            "", "x", "/", "stepper/merits", std::string(5000, 'a'), "\xff\xfe", "whole"};
        return odd[which % odd.size()];
    }
}

void change(std::map<std::string, test::H5Array>& arrays, const std::string& bytes) {
    Changes changes(bytes);
    for (int count = 0; changes.more() && count < 8 && !arrays.empty(); ++count) {
        const auto one = std::next(arrays.begin(), static_cast<long>(changes.next(arrays.size())));
        const std::size_t way = changes.next(10);
        const std::size_t where = changes.next(1U << 24U);
        const std::size_t what = changes.next(1U << 24U);
        if (way == 0) {
            arrays.erase(one);
        } else if (way == 1) {
            one->second = std::next(arrays.begin(), static_cast<long>(what % arrays.size()))->second;
        } else {
            std::visit(
                [&](auto& values) {
                    using T = typename std::decay_t<decltype(values)>::value_type;
                    if (way == 2)
                        values.clear();
                    else if (way == 3)
                        values.resize(where % (values.size() + 1));
                    else if (way == 4)
                        values.resize(values.size() + 1 + where % 5, odd_number<T>(what));
                    else if (way == 5)
                        values.assign(values.size(), odd_number<T>(what));
                    else if (!values.empty())
                        values[where % values.size()] =
                            way == 6 ? values[what % values.size()] : odd_number<T>(what);
                },
                one->second);
        }
    }
}

std::vector<std::string> few_changes() {
    std::vector<std::string> out{std::string(12, '\0')};
    for (char k = 1; k < 10; ++k) out.push_back({0, 0, static_cast<char>(3 * k), 0, 0, k, 0, 0, k, 0, 0, k});
    return out;
}

const std::string& stored_study() {
    static const std::string text = test::block_study(R"(
[[point]]
name = "eye"
at = [9, 2, 2]
[[coupling]]
name = "lug"
surface = "tip"
at = "eye"
kind = "rigid"
[[mass]]
name = "hook"
on = "lug"
value = 1e-6
[run]
iterations = 3
)");
    return text;
}

void take_model(const std::string& bytes) {
    static const fs::path file = [] {
        save_model(room().path() / "model.h5", build_model(test::study_from(stored_study())), stored_study());
        return room().path() / "model.h5";
    }();
    static const auto whole = test::arrays_of(file);
    auto arrays = whole;
    change(arrays, bytes);
    ends_well(bytes, [&] {
        test::write_arrays(room().path() / "fuzz.h5", arrays);
        StoredModel back = load_model(room().path() / "fuzz.h5");
        take_asked(back.model, load_study_text(back.study, room().path() / "fuzz.h5"));
        if (back.model.mesh.elements() > 2000) return;
        analyze(back.model, AnalysisWish{});
    });
}

void take_checkpoint(const std::string& bytes) {
    static const Model model = build_model(test::study_from(stored_study()));
    static const RunFolder folder = RunFolder::create(room().path() / "kept.run", Existing::Refuse);
    static const auto whole = [] {
        class Two final : public OptimizeObserver {
          public:
            void iteration(OptimizerState& state) override {
                folder.write_checkpoint(state);
                ++done_;
            }
            void note(const std::string& /*sentence*/) override {}
            bool stop_requested() const override { return done_ >= 2; }

          private:
            int done_ = 0;
        } two;
        StaticAnalysis analysis(model, {});
        optimize(analysis, two);
        return test::arrays_of(folder.path() / "steps" / "checkpoint.h5");
    }();
    auto arrays = whole;
    change(arrays, bytes);
    ends_well(bytes, [&] {
        test::write_arrays(folder.path() / "steps" / "checkpoint.h5", arrays);
        const OptimizerState from = folder.read_checkpoint();
        StaticAnalysis analysis(model, {});
        test::Silent observer;
        RunStart start;
        start.from = &from;
        optimize(analysis, observer, start);
    });
}

// ---- Texts of runs.

const char* history_text = "iteration,goal,change,grayness,seconds,stiffness@bend,budget\n"
                           "1,5.5,1,0.9,0.1,5.5,0.5\n2,4.25,0.2,0.8,0.1,4.25,0.5\n";
const char* run_json =
    R"({"status":"converged","feasible":true,"goal":{"name":"stiffness","sense":"minimize","value":4.25,"unit":"N*mm"},
"responses":[{"name":"budget","measure":"volume-fraction","case":null,"value":0.5,"unit":"1","min":null,"max":0.5,"holds":true}],
"cases":[{"name":"bend","kind":"static","compliance":4.25,"largest_displacement":{"value":1.5,"place":[1,2,3]}}],
"mass":{"design":1.5,"all":1.5,"unit":"t"},"iterations":2,"design_of":2,"grayness":0.1,"decided_by":"black-and-white",
"model":{"elements":128,"symmetry_copies":1},"study":{"units":["mm","N","s"],"title":"x"},"cost":{"seconds":1.5}})";
const char* part_json =
    R"({"mass":1.5,"pieces":1,"thinnest":{"across":1.5},"thickest":{"across":3},"making":[{"rule":"x","holds":true}]})";
const char* verify_json =
    R"({"verified":true,"rows":[{"name":"all","measure":"mass","unit":"t","part":1.5,"min":null,"max":null,"holds":true}]})";

const RunFolder& text_run() {
    static const RunFolder folder = [] {
        RunFolder out = RunFolder::create(room().path() / "text.run", Existing::Refuse);
        write_text(out.study_file(), test::block_study());
        out.write_step(1, {{0.5}, {0.5}, 3.0, 0.0});
        out.write_step(2, {{0.5}, {0.5}, 3.0, 0.0});
        fs::create_directories(out.path() / "verify");
        return out;
    }();
    return folder;
}

void take_history(const std::string& bytes) {
    const RunFolder& run = text_run();
    write_text(run.report_file(), run_json);
    write_text(run.history_file(), bytes);
    ends_well(bytes, [&] { run.read_history(); });
    ends_well(bytes, [&] { read_subject(run.path().string() + "@2"); });
}

// The first byte says which of the files it is.
void take_json(const std::string& bytes) {
    const RunFolder& run = text_run();
    if (bytes.empty()) return;
    const std::string text = bytes.substr(1);
    write_text(run.history_file(), history_text);
    write_text(run.report_file(), bytes[0] == '0' ? text : run_json);
    write_text(run.path() / "part.json", bytes[0] == '1' ? text : part_json);
    write_text(run.path() / "verify" / "verify.json", bytes[0] == '2' ? text : verify_json);
    ends_well(bytes, [&] { read_subject(run.path().string()); });
    ends_well(bytes, [&] { read_subject(run.path().string() + "@first"); });
    ends_well(bytes, [&] { read_subject((run.path() / "verify").string()); });
    ends_well(bytes, [&] {
        const RunNumbers numbers(run.report_file());
        numbers.response("budget", "");
        numbers.of_case("bend", "compliance");
        numbers.of_case("bend", "largest_displacement");
    });
    ends_well(bytes, [&] {
        run.outcome();
        run.frequencies("bend");
        run.threshold();
        run.read_step(run.result_iteration());
    });
}

} // namespace

const std::vector<Target>& targets() {
    static const fs::path examples = fs::path(UPRIGHT_REFERENCE).parent_path().parent_path() / "examples";
    static const std::vector<Target> all{
        {"study", [] { return texts_of(examples, ".toml", 1U << 20U); }, take_study},
        {"stl", [] { return std::vector<std::string>{cube_stl()}; },
         [](const std::string& b) { take_body("fuzz.stl", b); }},
        {"obj", [] { return std::vector<std::string>{cube_obj()}; },
         [](const std::string& b) { take_body("fuzz.obj", b); }},
        {"step", [] { return texts_of(UPRIGHT_TEST_BODIES, ".step", 30000); },
         [](const std::string& b) { take_body("fuzz.step", b); }},
        {"vtu", vtu_seeds, take_vtu},
        {"model", few_changes, take_model},
        {"checkpoint", few_changes, take_checkpoint},
        {"history", [] { return std::vector<std::string>{history_text}; }, take_history},
        {"json",
         [] {
             return std::vector<std::string>{std::string("0") + run_json, std::string("1") + part_json,
                                             std::string("2") + verify_json};
         },
         take_json},
    };
    return all;
}

const Target& target(const std::string& name) {
    for (const Target& one : targets())
        if (one.name == name) return one;
    std::fprintf(stderr, "there is no target %s\n", name.c_str());
    std::exit(2);
}

} // namespace upright::fuzz
