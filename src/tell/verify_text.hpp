// What became of the bounds of a study on the carved part, for people.
#pragma once

#include "verify/verification.hpp"

#include <string>
#include <vector>

namespace upright {

std::string verify_table(const std::vector<VerifyRow>& rows, bool black_and_white);
// What was cut or taken, and its mesh.
std::string verified_part_text(const Verified& verified);
// Surfaces that are not whole; empty where all are.
std::string surfaces_left_text(const Verified& verified);
// What the rounds of ever finer meshes came to.
std::string rounds_text(const Verified& verified);
// Why the numbers may be other than they are: marks of stress, error of the mesh, the design against the
// part, what the analyses say of themselves.
std::string verify_doubts_text(const Verified& verified);
// "VERIFIED: ..." or "NOT VERIFIED: ...", with what to ask of the optimiser where a bound is nearly held;
// `offer`: names --mend.
std::string verdict_text(const Verified& verified, bool offer);

} // namespace upright
