#define UPRIGHT_ISA baseline
#define UPRIGHT_NAME "baseline"
#define UPRIGHT_TABLE kernels_baseline
#define UPRIGHT_VECTOR 16
#include "solve/grid/kernels_impl.hpp"
