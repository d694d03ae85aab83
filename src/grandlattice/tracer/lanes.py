"""Sixteen numbers at a time: what kernels are written with.

A kernel written with floats, ints and masks reads like one for a single path, and shades sixteen of
them.  Arithmetic, comparisons, `min`, `max`, `abs`, `math.sqrt` and `math.floor` work on lanes, and
plain numbers spread over all of them.  What a branch was for one path is a choice between two values,
`where(test, a, b)`; a real branch asks `any_of(test)`.  What the words mean stands in
`compiling.lane_types`.

How lanes come from memory and go back is in `kernel_memory`.  Lanes that are switched off still compute:
their indices must be in range.  No lane ever looks at its neighbour, so a path is the same whichever path
travels beside it.
"""

from __future__ import annotations

from grandlattice.tracer.deferred_symbols import inner as inner, words

LANES = 16

all_lanes, any_of, bits_of, count_of, lane_numbers, logarithm = words(
    "lane_types", "all_lanes any_of bits_of count_of lane_numbers logarithm"
)
lowest_bit, mask_of, number_in, power, to_floats, to_ints, where = words(
    "lane_types", "lowest_bit mask_of number_in power to_floats to_ints where"
)
