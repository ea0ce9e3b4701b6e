// Inner loops compiled for several instruction sets, of which the loader picks the best.
#pragma once

// By levels of the instruction set, not by names of processors: those match the one processor alone.
#if defined(__x86_64__) && defined(__GNUC__) && !defined(__clang__) && !defined(__SANITIZE_ADDRESS__)
#define UPRIGHT_CLONES __attribute__((target_clones("arch=x86-64-v4", "arch=x86-64-v3", "default")))
#else
#define UPRIGHT_CLONES
#endif

namespace upright {

// Eight doubles, sixteen floats at any address. Name the type where one is pointed to: `auto` loses its
// alignment.
typedef double Eight __attribute__((vector_size(64), aligned(8), may_alias));
typedef float Sixteen __attribute__((vector_size(64), aligned(4), may_alias));

} // namespace upright
