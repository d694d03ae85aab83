"""How kernels are compiled: the only room that knows the compiler.

`backend` chooses between two ways to compile, `fast` and `plain`; `native` asks LLVM without compiling.

Read in this order: `lane_types` (sixteen numbers at a time, as types of numba), `pointer_types` (how
they come from memory), `pipeline` (how a function is taken in), `machine_code` (how machine code is
made of all of them, with the help of `code_writers`).  Nothing here is loaded but to compile; kernels
are written with the words of `lanes` and `kernel_memory`.
"""
