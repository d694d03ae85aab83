"""Low-discrepancy samples from a hash, and the warps that turn them into directions.

Every random number is a function of (seed, pixel, sample, dimension) and nothing else, which is
why any number of workers gives the same bytes.  Each *dimension* is an independent pair: the
first two Sobol dimensions, shuffled and Owen-scrambled by a hash (Burley, "Practical Hash-based
Owen Scrambling", JCGT 9(4), 2020, with Vegdahl's improved Laine–Karras permutation).
"""

from __future__ import annotations

import math

import numpy as np
from numba import njit
from numpy.typing import NDArray

from grandlattice.tracer.vectors import frame, to_world

# mypy: disable-error-code="no-untyped-def"

_u32 = np.uint32
FILTER_STEPS = 2048
_TO_UNIT = 1.0 / 4294967296.0


@njit(error_model="numpy")
def _mix(x):
    """A 32-bit finaliser with full avalanche (the lowbias32 constants)."""
    x = _u32(x ^ (x >> _u32(16)))
    x = _u32(x * _u32(0x7FEB352D))
    x = _u32(x ^ (x >> _u32(15)))
    x = _u32(x * _u32(0x846CA68B))
    return _u32(x ^ (x >> _u32(16)))


@njit(error_model="numpy")
def combine(a, b):
    """A hash of two words."""
    return _mix(_u32(_u32(a * _u32(0x9E3779B9)) ^ _mix(_u32(b + _u32(0x85EBCA6B)))))


@njit(error_model="numpy")
def _reverse(x):
    x = _u32(((x >> _u32(1)) & _u32(0x55555555)) | _u32((x & _u32(0x55555555)) << _u32(1)))
    x = _u32(((x >> _u32(2)) & _u32(0x33333333)) | _u32((x & _u32(0x33333333)) << _u32(2)))
    x = _u32(((x >> _u32(4)) & _u32(0x0F0F0F0F)) | _u32((x & _u32(0x0F0F0F0F)) << _u32(4)))
    x = _u32(((x >> _u32(8)) & _u32(0x00FF00FF)) | _u32((x & _u32(0x00FF00FF)) << _u32(8)))
    return _u32((x >> _u32(16)) | _u32(x << _u32(16)))


@njit(error_model="numpy")
def _permute(x, seed):
    x = _u32(x ^ _u32(x * _u32(0x3D20ADEA)))
    x = _u32(x + seed)
    x = _u32(x * _u32((seed >> _u32(16)) | _u32(1)))
    x = _u32(x ^ _u32(x * _u32(0x05526C56)))
    return _u32(x ^ _u32(x * _u32(0x53A22864)))


@njit(error_model="numpy")
def _pascal(x):
    """The second Sobol generator matrix (Pascal's triangle modulo 2) applied in five steps."""
    x = _u32(x ^ ((x >> _u32(1)) & _u32(0x55555555)))
    x = _u32(x ^ ((x >> _u32(2)) & _u32(0x33333333)))
    x = _u32(x ^ ((x >> _u32(4)) & _u32(0x0F0F0F0F)))
    x = _u32(x ^ ((x >> _u32(8)) & _u32(0x00FF00FF)))
    return _u32(x ^ ((x >> _u32(16)) & _u32(0x0000FFFF)))


@njit(error_model="numpy")
def pair(pixel_seed, sample, dimension):
    """Two numbers in [0, 1) for a pixel's sample in a dimension."""
    seed = combine(pixel_seed, _u32(dimension))
    index = _reverse(_permute(_reverse(_u32(sample)), seed))
    first = _reverse(_permute(index, _mix(_u32(seed ^ _u32(0xA511E9B3)))))
    second = _reverse(_permute(_pascal(index), _mix(_u32(seed ^ _u32(0x63D83595)))))
    return first * _TO_UNIT, second * _TO_UNIT


@njit(error_model="numpy")
def pixel_seed(seed, x, y):
    """The hash every sample of a pixel starts from; `x`, `y` count from the picture's corner."""
    return combine(combine(_u32(seed), _u32(x)), _u32(y))


@njit(error_model="numpy")
def on_disk(u, v):
    """A point of the unit disk, area-preserving (Shirley and Chiu, 1997)."""
    a, b = 2.0 * u - 1.0, 2.0 * v - 1.0
    if a == 0.0 and b == 0.0:
        return 0.0, 0.0
    if abs(a) > abs(b):
        radius, angle = a, 0.25 * math.pi * b / a
    else:
        radius, angle = b, 0.5 * math.pi - 0.25 * math.pi * a / b
    return radius * math.cos(angle), radius * math.sin(angle)


@njit(error_model="numpy")
def cosine_direction(u, v):
    """A direction about +Z with density cos θ / π."""
    x, y = on_disk(u, v)
    return (x, y, math.sqrt(max(0.0, 1.0 - x * x - y * y)))


@njit(error_model="numpy")
def cone_direction(axis, one_minus_cos, u, v):
    """A direction in the cone about `axis`, density 1 / (2π · one_minus_cos)."""
    drop = u * one_minus_cos  # 1 − cos θ, kept apart from 1 for very narrow cones
    sine = math.sqrt(max(0.0, drop * (2.0 - drop)))
    angle = 2.0 * math.pi * v
    s, t = frame(axis)
    return to_world((sine * math.cos(angle), sine * math.sin(angle), 1.0 - drop), s, t, axis)


def filter_table(radius: float = 1.5) -> NDArray[np.float64]:
    """Offsets from the pixel's centre that sample the Blackman–Harris filter in one direction.

    A sample is placed by drawing from the filter rather than weighted by it, so that each
    sample belongs to one pixel alone (Ernst et al., "Filter importance sampling", 2006).

    Returns
    -------
    (FILTER_STEPS + 1,) float64 offsets in pixels, −radius … radius: the inverse of the filter's integral
    at equal steps.
    """
    x = np.linspace(-1.0, 1.0, 16385)
    phase = np.pi * (x + 1.0)
    weight = 0.35875 - 0.48829 * np.cos(phase) + 0.14128 * np.cos(2 * phase)
    weight -= 0.01168 * np.cos(3 * phase)
    integral = np.concatenate(([0.0], np.cumsum(0.5 * (weight[1:] + weight[:-1]))))
    steps = np.linspace(0.0, 1.0, FILTER_STEPS + 1)
    return np.interp(steps, integral / integral[-1], x) * radius


@njit(error_model="numpy")
def filter_offset(table, u):
    """An offset in pixels from `filter_table` (a pointer to it)."""
    position = u * FILTER_STEPS
    i = min(int(position), FILTER_STEPS - 1)
    return table[i] + (table[i + 1] - table[i]) * (position - i)
