#define UPRIGHT_ISA avx2
#define UPRIGHT_NAME "avx2"
#define UPRIGHT_TABLE kernels_avx2
#define UPRIGHT_VECTOR 32
#include "solve/grid/kernels_impl.hpp"
