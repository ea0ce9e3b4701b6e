#define UPRIGHT_ISA avx512
#define UPRIGHT_NAME "avx512"
#define UPRIGHT_TABLE kernels_avx512
#define UPRIGHT_VECTOR 64
#include "solve/grid/kernels_impl.hpp"
