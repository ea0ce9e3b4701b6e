// upright verify: the carved part analysed afresh, in every case, against every bound.
#include "cli/commands/commands.hpp"
#include "cli/commands/restarts.hpp"
#include "figures/analysis_figures.hpp"
#include "geometry/file_body.hpp"
#include "tell/verify_text.hpp"
#include "verify/verify_report.hpp"

#include <chrono>
#include <fmt/format.h>
#include <memory>
#include <omp.h>

namespace upright::cli {

namespace {

namespace fs = std::filesystem;

struct VerifyWish : FigureWish {
    std::string target, out, part, infill, blend;
    std::optional<double> at, error;
    std::optional<int> iteration, restart;
    bool no_figures = false, mend = false, refine = false;
};

constexpr double default_error = 0.05; // of the energy norm, that --refine goes for

InfillAs infill_as(const VerifyWish& in) {
    if (in.infill.empty()) return InfillAs::Auto;
    if (in.infill == "tetrahedra") return InfillAs::Tetrahedra;
    if (in.infill == "homogenised") return InfillAs::Homogenised;
    throw Error::usage("--infill " + in.infill + " is no way to analyse it",
                       "Write tetrahedra or homogenised");
}

void require_sense(const VerifyWish& in) {
    figure_options(in);
    threshold(in.at);
    if (!in.part.empty() && (in.at || in.mend || in.iteration || !in.blend.empty()))
        throw Error::usage(
            "--part takes a body as it is: --at, --blend, --mend and --iteration choose how to carve one",
            "Leave them out, or --part");
    infill_as(in);
    if (in.error && !in.refine) throw Error::usage("--error goes with --refine", "Write both");
    if (in.error && !(*in.error > 0.0 && *in.error < 1.0))
        throw Error::usage(fmt::format("--error {:g} is no share of the energy norm", *in.error),
                           "Write a number between 0 and 1, such as 0.05");
}

Verification verification_of(const VerifyWish& in, const RunFolder& folder, const Job& job,
                             Console& console) {
    DesignValues design = design_values(folder, job.model, in.iteration);
    if (!in.infill.empty() && job.model.infills.empty())
        throw Error::usage("--infill goes with a study that has an [[infill]]", "Leave it out");
    if (in.part.empty()) {
        const double at = in.at ? *in.at : design.threshold;
        return {job.study,
                job.model,
                folder,
                design,
                at,
                infill_as(in),
                blend_radius(in.blend, job.model, job.model.mesh.size)};
    }
    const BodyFile file = read_bodies(in.part, {}, 1.0, job.model.units.length_si, false);
    for (const std::string& remark : file.remarks) console.remark(remark);
    return {job.study, job.model, folder, design, file.bodies, in.part};
}

void say(Console& console, const std::string& text) {
    if (!text.empty()) console.result(text);
}

void look_for_threshold(Verification& v, Console& console) {
    v.mend([&](double t, double mass, bool holds) {
        console.remark(fmt::format("at {:.3f}: mass {}, {}", t, v.result().space.units.mass_text(mass, 5),
                                   holds ? "holds every bound" : "does not"));
    });
    const Verified& found = v.result();
    console.result(found.mended
                       ? fmt::format("--at {:.3f} mends it: every bound holds with {:+.1f} % of mass",
                                     *found.mended, 100.0 * (v.mended_mass() / found.part.mass - 1.0))
                       : "no lower threshold mends it");
}

void verify(const VerifyWish& in, Verification& v, Console& console) {
    waited(console, "making tetrahedra of the part", [&] { v.carve(); });
    const Verified& found = v.result();
    say(console, verified_part_text(found));
    waited(console, "analysing it", [&] { v.analyse(); });
    const auto finer = [&] {
        return waited(console, "analysing it with finer tetrahedra",
                      [&] { return v.analyse_finer(in.error.value_or(default_error)); });
    };
    while (in.refine && finer())
        console.remark(fmt::format("{} tetrahedra: error of the energy norm {:.1f} %",
                                   found.rounds.back().tets, 100.0 * found.error()));
    say(console, surfaces_left_text(found));
    for (const std::string& note : found.report.notes) console.remark(note);
    console.result("");
    console.result(verify_table(found.rows, found.run.black_and_white()));
    console.result("");
    say(console, rounds_text(found));
    say(console, verify_doubts_text(found));
    if (in.refine && found.error() > in.error.value_or(default_error))
        console.result(
            fmt::format("doubt: {:.1f} % were asked for and are not to be had: at edges and points "
                        "under load the error stays, or tetrahedra run out ({} at most)",
                        100.0 * in.error.value_or(default_error), most_second_order));
    console.result(verdict_text(found, !in.mend && v.nearly()));
    if (!found.passed() && in.mend && v.nearly()) look_for_threshold(v, console);
}

int run_verify(const VerifyWish& in, Session& session) {
    require_sense(in);
    Console& console = session.console;
    const auto begin = std::chrono::steady_clock::now();
    const RunFolder folder =
        RunFolder::open(restart_of(find_run(in.target, console), in.restart), Access::Reading);
    const Job job = load_run(session, folder);
    ::omp_set_num_threads(threads_of(solver_options(job.model.run)));
    Verification v = verification_of(in, folder, job, console);
    const fs::path path = in.out.empty() ? folder.path() / "verify" : fs::path(in.out);
    std::error_code ignored;
    const bool existed = fs::exists(path, ignored);
    // Before the work, so that a place that takes nothing is told at once; an earlier result stays until this
    // one is there.
    AnalysisFolder::require_place(path, Existing::Replace);
    for (const RegionCard& card : job.study.finishes)
        if (const Skin* stock = std::get_if<Skin>(&card.extent))
            console.result(fmt::format("stock {}: left out, since the {:.4g} {} are machined away", card.name,
                                       stock->depth, job.model.units.length));
    verify(in, v, console);
    const AnalysisFolder out = AnalysisFolder::create(path, Existing::Replace);
    try {
        const double seconds =
            std::chrono::duration<double>(std::chrono::steady_clock::now() - begin).count();
        write_verification(out, job.study, v.result(), seconds);
    } catch (...) {
        if (!existed) fs::remove_all(path, ignored); // nothing half-made stays behind
        throw;
    }
    if (!in.no_figures)
        beside_result(console, [&] {
            for (const fs::path& file :
                 draw_analysis(v.result().model, v.result().report, out, figure_options(in)))
                console.remark("figure: " + file.string());
        });
    console.result("verification: " + out.path().string());
    return v.result().passed() ? 0 : static_cast<int>(ExitCode::BoundBroken);
}

} // namespace

Command verify_command() {
    return {
        "verify", "The carved part analysed afresh: does it hold every bound?", [](Options& options) {
            auto in = std::make_shared<VerifyWish>();
            options.word("RUN", in->target, "The folder of the run", true);
            options.value("--at", "T", in->at,
                          "Density at which to cut (default: that of the black-and-white design, or 0.5)");
            options.value("--part", "FILE", in->part,
                          "A body that was edited elsewhere (STEP, or STL or OBJ in the study's unit of "
                          "length) instead of the carved one");
            options.value("--blend", "RADIUS", in->blend,
                          "Fillets where the free surface meets kept shapes, as of carve");
            options.value("--restart", "N", in->restart, "Run N of optimize --restarts (default: 1)");
            options.value("--iteration", "N", in->iteration, "A kept iteration (default: the last)");
            options.value("--out", "FOLDER", in->out, "The folder (default: verify in the run)");
            options.value("--infill", "WAY", in->infill,
                          "Of parts with infill: tetrahedra, or homogenised, solid material as stiff as the "
                          "lattice (default: tetrahedra up to a million)");
            options.flag("--refine", in->refine,
                         "Again on meshes that are finer where the estimated error is, until it is small");
            options.value("--error", "E", in->error,
                          "What --refine goes for: error of the energy norm (default: 0.05)");
            options.flag("--mend", in->mend,
                         "Where a bound fails by less than 20 %, look for a threshold that holds all");
            options.flag("--no-figures", in->no_figures, "Draw nothing");
            add_figure_options(options, *in);
            return [in](Session& session) { return run_verify(*in, session); };
        }};
}

} // namespace upright::cli
