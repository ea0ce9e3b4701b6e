// The program with a measure, a making rule, a command and a part format more.
#include "own/own_program.hpp"
#include "own/own.hpp"

int main(int argc, char** argv) {
    using namespace upright;
    cli::Extras extras;
    extras.kinds.measures = {test::restlessness()};
    extras.kinds.making_rules = {test::leaning()};
    extras.kinds.part_formats = {test::corners_format()};
    extras.commands = {test::tally()};
    return cli::run_program(argc, argv, argv[0], extras);
}
