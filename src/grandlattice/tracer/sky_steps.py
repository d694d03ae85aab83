"""The image of a sky that is turned by even steps, sorted so that what all steps show of a direction stands
side by side.

Turned by k of n steps, a sky shows in column x of its image what stands at x + k W/n, W its width.  Sorted is
the image by the place behind the beginning of a step first, and by steps then: sixteen ways of turning it
are read as sixteen neighbours, where they would be picked from all over two lines of the image.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from grandlattice.tracer.kernel_memory import float32s, int32s, load
from grandlattice.tracer.lanes import LANES, inner, where

# mypy: disable-error-code="no-untyped-def"

_MOST_PARTS, _FEWEST = 144, 8
_MOST_BYTES = 1 << 28  # of a sorted image
_MOST_EMPTY = 1.5  # lanes for each way that is wanted: with more the image is read as it is
_NEAR = 2e-3  # parts of a column that a turn may differ from a step


class Turns(NamedTuple):
    """Ways a sky is turned, in columns of its image.

    Attributes
    ----------
    width : columns of the image.
    parts : how many even steps make a whole turn; 0 where there are none.
    wholes, rest : whole columns and parts of one that each way is turned by.
    step : the step each way is turned by.
    """

    width: int
    parts: int
    wholes: NDArray[np.int64]
    rest: NDArray[np.float32]
    step: NDArray[np.int64]


class Place(NamedTuple):
    """Where a direction of one path lies in the image; numbers, not lanes."""

    column: Any
    upper: Any  # where the two lines begin
    lower: Any
    left_over: Any  # parts of a column, at which a step begins
    across: Any  # part of a column
    down: Any  # part of a line


def turns_of(turns: Sequence[float], width: int) -> Turns:
    """Ways a sky is turned, exactly where they are multiples of an even step.

    Parameters
    ----------
    turns : 0..1, of all ways there are.
    """
    columns = np.asarray(turns, np.float64) * width
    for parts in range(_FEWEST, _MOST_PARTS + 1):
        steps = np.round(columns * parts / width)
        if np.abs(columns - steps * width / parts).max() < _NEAR:
            step = steps.astype(np.int64) % parts
            at = step * width
            return Turns(width, parts, at // parts, ((at % parts) / parts).astype(np.float32), step)
    near = np.round(columns)
    wholes = np.where(np.abs(columns - near) < 1e-4, near, np.floor(columns))
    rest = np.maximum(columns - wholes, 0.0).astype(np.float32)
    return Turns(width, 0, wholes.astype(np.int64) % width, rest, np.zeros(len(columns), np.int64))


def places_of(turns: Turns, ways: Sequence[int], height: int) -> tuple[list[int], bool]:
    """A place among a path's sums for each of some ways, and whether the image is read sorted.

    A way that is wanted several times has a place in as many rows of steps.
    """
    rows: dict[int, int] = {}
    places = []
    for step in turns.step[list(ways)].tolist():
        places.append(rows.get(step, 0) * _padded(turns.parts) + step)
        rows[step] = rows.get(step, 0) + 1
    lanes = _padded(turns.parts) * max(rows.values(), default=0)
    few = -(-len(places) // LANES) * LANES
    if not turns.parts or lanes > _MOST_EMPTY * few or _bytes(turns, height) > _MOST_BYTES:
        return list(range(len(places))), False
    return places, True


def _padded(parts: int) -> int:
    return -(-parts // LANES) * LANES


def _depth(turns: Turns) -> int:
    """How many columns a step may reach into, with those it is mixed with."""
    return -(-turns.width // turns.parts) + 3


def _bytes(turns: Turns, height: int) -> int:
    return height * _depth(turns) * 3 * (turns.parts + _padded(turns.parts)) * 4


def steps_of(turns: Turns, image: NDArray[np.float32]) -> NDArray[np.float32]:
    """An image (H, W or more, 3) sorted by steps: (H, columns of a step, 3, steps and some again)."""
    columns = np.arange(turns.parts + _padded(turns.parts))[None, :] * turns.width // turns.parts
    columns = (columns + np.arange(_depth(turns))[:, None] - 1) % turns.width
    found = np.empty((len(image), len(columns), 3, columns.shape[1]), np.float32)
    for channel in range(3):
        found[:, :, channel] = np.ascontiguousarray(image[..., channel])[:, columns]
    return found


def sorted_image(turns: Turns, steps: NDArray[np.float32], count: int) -> dict[str, object]:
    """Fields of a sky whose image is read sorted, see `turned_sky.SKY`.

    Parameters
    ----------
    steps : the image, see `steps_of`.
    count : of a path's sums.
    """
    parts, width, depth = turns.parts, turns.width, _depth(turns)
    lanes = parts + _padded(parts)
    at = np.arange(width)
    step = (at * parts + parts - 1) // width  # the last that begins at a column or before it
    step -= (step * width) // parts > at
    behind = at - (step * width) // parts
    of_sum = np.arange(count) % _padded(parts)
    return {
        "steps": steps, "lanes": lanes, "run": depth * 3 * lanes, "padded": _padded(parts), "parts": parts,
        "is_even": int(width % parts == 0),
        "bases": ((behind + 1) * 3 * lanes + step).astype(np.int32),
        "left_over": ((step * width) % parts).astype(np.int32),
        "begins_at": ((of_sum * width) % parts).astype(np.int32),
    }  # fmt: skip


@inner
def texel_of_sorted(sky, channel, place, j, over):
    """A channel of the texel in a place of a sorted image, for sums `j` and the fifteen behind it."""
    first = channel * sky.lanes + (j - (j // sky.padded) * sky.padded)
    column, texels, at = 3 * sky.lanes, float32s(sky.steps), place.upper + first
    texel = load(texels, at)
    if sky.is_even == 0:
        early = load(int32s(sky.begins_at), j) + place.left_over >= sky.parts
        texel = where(early & ~over, load(texels, at - column), texel)
        texel = where(over & ~early, load(texels, at + column), texel)
    return texel


@inner
def read_sorted(sky, channel, place, j, over, f):
    """A channel of a sorted image, bilinear, for sums `j` and the fifteen behind it.

    Parameters
    ----------
    place : of a direction; its lines begin with its step and the columns behind the step's beginning.
    over : where the parts of columns add up to one.
    f : part of a column, for each sum.
    """
    first = channel * sky.lanes + (j - (j // sky.padded) * sky.padded)
    column, texels = 3 * sky.lanes, float32s(sky.steps)
    above, below = place.upper + first, place.lower + first
    upper, upper_next = load(texels, above), load(texels, above + column)
    lower, lower_next = load(texels, below), load(texels, below + column)
    if sky.is_even == 0:
        early = load(int32s(sky.begins_at), j) + place.left_over >= sky.parts
        back, ahead = early & ~over, over & ~early
        upper_left = where(back, load(texels, above - column), where(ahead, upper_next, upper))
        upper_next = where(back, upper, where(ahead, load(texels, above + 2 * column), upper_next))
        lower_left = where(back, load(texels, below - column), where(ahead, lower_next, lower))
        lower_next = where(back, lower, where(ahead, load(texels, below + 2 * column), lower_next))
        upper, lower = upper_left, lower_left
    upper = upper + f * (upper_next - upper)
    lower = lower + f * (lower_next - lower)
    return upper + place.down * (lower - upper)
