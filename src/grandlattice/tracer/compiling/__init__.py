"""How kernels are compiled: the only room that knows the compiler.

Read in this order: `kinds` (sixteen numbers at a time, as types of numba), `places` (how they come from
memory), `pipeline` (how a function is taken in), `machine` (how machine code is made of all of them).
Nothing here is loaded but to compile; kernels are written with the words of `lanes` and `memory`.
"""
