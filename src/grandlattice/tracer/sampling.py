"""Low-discrepancy samples from a hash, and the warps that turn them into directions.

Every random number is a function of (seed, pixel, sample, dimension) and nothing else, which is
why any number of workers gives the same bytes.  Each *dimension* is an independent pair: the
first two Sobol dimensions, shuffled and Owen-scrambled by a hash (Burley, "Practical Hash-based
Owen Scrambling", JCGT 9(4), 2020, with Vegdahl's improved Laine–Karras permutation).
"""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from grandlattice.tracer.lanes import all_lanes, inner, to_floats, to_ints, where
from grandlattice.tracer.vectors import frame, to_world

# mypy: disable-error-code="no-untyped-def"

FILTER_STEPS = 4096
_TO_UNIT = 1.0 / 16777216.0  # single precision holds 24 bits of a number in [0, 1)


@inner
def _mix(x):
    """A 32-bit finaliser with full avalanche (the lowbias32 constants)."""
    x = (x ^ (x >> 16)) * 0x7FEB352D
    x = (x ^ (x >> 15)) * 0x846CA68B
    return x ^ (x >> 16)


@inner
def combine(a, b):
    """A hash of two words."""
    return _mix((a * 0x9E3779B9) ^ _mix(b + 0x85EBCA6B))


@inner
def _reverse(x):
    x = ((x >> 1) & 0x55555555) | ((x & 0x55555555) << 1)
    x = ((x >> 2) & 0x33333333) | ((x & 0x33333333) << 2)
    x = ((x >> 4) & 0x0F0F0F0F) | ((x & 0x0F0F0F0F) << 4)
    x = ((x >> 8) & 0x00FF00FF) | ((x & 0x00FF00FF) << 8)
    return (x >> 16) | (x << 16)


@inner
def _permute(x, seed):
    x = (x ^ (x * 0x3D20ADEA)) + seed
    x = x * ((seed >> 16) | 1)
    x = x ^ (x * 0x05526C56)
    return x ^ (x * 0x53A22864)


@inner
def _pascal(x):
    """The second Sobol generator matrix (Pascal's triangle modulo 2) applied in five steps."""
    x = x ^ ((x >> 1) & 0x55555555)
    x = x ^ ((x >> 2) & 0x33333333)
    x = x ^ ((x >> 4) & 0x0F0F0F0F)
    x = x ^ ((x >> 8) & 0x00FF00FF)
    return x ^ ((x >> 16) & 0x0000FFFF)


@inner
def pair(pixel_seed, sample, dimension):
    """Two numbers in [0, 1) for the samples of pixels in a dimension; all are ints."""
    seed = combine(pixel_seed, dimension)
    index = _reverse(_permute(_reverse(sample), seed))
    first = _reverse(_permute(index, _mix(seed ^ 0xA511E9B3)))
    second = _reverse(_permute(_pascal(index), _mix(seed ^ 0x63D83595)))
    return to_floats(first >> 8) * _TO_UNIT, to_floats(second >> 8) * _TO_UNIT


@inner
def pixel_seed(seed, x, y):
    """The hash every sample of a pixel starts from; `x`, `y` count from the picture's corner."""
    return combine(combine(all_lanes(seed), x), y)


@inner
def sine_and_cosine(turns):
    """Sine and cosine of an angle given in full turns, |turns| below 1000; error below 2e-7.

    Taylor's series within an eighth of a turn of the nearest quarter.
    """
    quarters = math.floor(4.0 * turns + 0.5)
    angle = (4.0 * turns - quarters) * (0.5 * math.pi)
    z = angle * angle
    sine = -1.0 / 6.0 + z * (1.0 / 120.0 + z * (-1.0 / 5040.0 + z * (1.0 / 362880.0)))
    sine = angle * (1.0 + z * sine)
    cosine = 1.0 + z * (-0.5 + z * (1.0 / 24.0 + z * (-1.0 / 720.0 + z * (1.0 / 40320.0))))
    quadrant = to_ints(quarters)
    swapped = (quadrant & 1) == 1
    a, b = where(swapped, cosine, sine), where(swapped, sine, cosine)
    low = (quadrant & 2) == 2
    left = ((quadrant + 1) & 2) == 2
    return where(low, -a, a), where(left, -b, b)


@inner
def angle_of(y, x):
    """The angle of (x, y) from the x axis in radians, −π … π; error below 3e-7.

    Odd polynomial of S. Moshier's `atanf` (Cephes) within an eighth of a turn.
    """
    steep = abs(y) > abs(x)
    low, high = where(steep, abs(x), abs(y)), where(steep, abs(y), abs(x))
    ratio = low / max(high, 1e-30)
    wide = ratio > 0.41421356
    t = where(wide, (ratio - 1.0) / (ratio + 1.0), ratio)
    z = t * t
    curve = ((8.05374449538e-2 * z - 1.38776856032e-1) * z + 1.99777106478e-1) * z - 3.33329491539e-1
    angle = t + t * z * curve + where(wide, 0.25 * math.pi, 0.0)
    angle = where(steep, 0.5 * math.pi - angle, angle)
    angle = where(x < 0.0, math.pi - angle, angle)
    return where(y < 0.0, -angle, angle)


@inner
def on_disk(u, v):
    """A point of the unit disk, area-preserving (Shirley and Chiu, 1997)."""
    a, b = 2.0 * u - 1.0, 2.0 * v - 1.0
    flat = abs(a) > abs(b)
    radius = where(flat, a, b)
    eighths = where(flat, b, a) / where(radius == 0.0, 1.0, radius)
    turns = 0.125 * eighths
    sine, cosine = sine_and_cosine(where(flat, turns, 0.25 - turns))
    return radius * cosine, radius * sine


@inner
def cosine_direction(u, v):
    """A direction about +Z with density cos θ / π."""
    x, y = on_disk(u, v)
    return (x, y, math.sqrt(max(0.0, 1.0 - x * x - y * y)))


@inner
def cone_direction(axis, one_minus_cos, u, v):
    """A direction in the cone about `axis`, density 1 / (2π · one_minus_cos)."""
    drop = u * one_minus_cos  # 1 − cos θ, kept apart from 1 for very narrow cones
    sine = math.sqrt(max(0.0, drop * (2.0 - drop)))
    up, along = sine_and_cosine(v)
    s, t = frame(axis)
    return to_world((sine * along, sine * up, 1.0 - drop), s, t, axis)


def filter_table(radius: float = 1.5) -> NDArray[np.float32]:
    """Offsets from the pixel's centre that sample the Blackman–Harris filter in one direction.

    A sample is placed by drawing from the filter rather than weighted by it, so that each
    sample belongs to one pixel alone (Ernst et al., "Filter importance sampling", 2006).

    Returns
    -------
    (FILTER_STEPS,) float32 offsets in pixels, −radius … radius: the inverse of the filter's integral in
    the middle of equal steps.
    """
    x = np.linspace(-1.0, 1.0, 16385)
    phase = np.pi * (x + 1.0)
    weight = 0.35875 - 0.48829 * np.cos(phase) + 0.14128 * np.cos(2 * phase)
    weight -= 0.01168 * np.cos(3 * phase)
    integral = np.concatenate(([0.0], np.cumsum(0.5 * (weight[1:] + weight[:-1]))))
    steps = (np.arange(FILTER_STEPS) + 0.5) / FILTER_STEPS
    return (np.interp(steps, integral / integral[-1], x) * radius).astype(np.float32)


@inner
def filter_offset(table, u):
    """An offset in pixels from `filter_table` (a pointer to it)."""
    return table[to_ints(u * FILTER_STEPS)]
