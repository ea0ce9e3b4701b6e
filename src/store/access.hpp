// How folders of results are opened.
#pragma once

namespace upright {

// What becomes of an earlier one.
enum class Existing { Refuse, Replace };
// To look at, or locked for a run to go on in it.
enum class Access { Reading, Running };

} // namespace upright
