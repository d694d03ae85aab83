"""Three-vectors as tuples, for kernels: the few operations shading needs.

The parts of a vector are lanes (see `lanes`), or plain numbers that are the same in all of them.
"""

from __future__ import annotations

import math

from grandlattice.tracer.lanes import inner, where

# Kernels are compiled by numba and typed there; their Python signatures stay bare.
# mypy: disable-error-code="no-untyped-def"


@inner
def add(a, b):
    return (a[0] + b[0], a[1] + b[1], a[2] + b[2])


@inner
def subtract(a, b):
    return (a[0] - b[0], a[1] - b[1], a[2] - b[2])


@inner
def scale(a, s):
    return (a[0] * s, a[1] * s, a[2] * s)


@inner
def multiply(a, b):
    return (a[0] * b[0], a[1] * b[1], a[2] * b[2])


@inner
def along(origin, direction, t):
    return (
        origin[0] + direction[0] * t,
        origin[1] + direction[1] * t,
        origin[2] + direction[2] * t,
    )


@inner
def dot(a, b):
    return a[0] * b[0] + a[1] * b[1] + a[2] * b[2]


@inner
def cross(a, b):
    return (
        a[1] * b[2] - a[2] * b[1],
        a[2] * b[0] - a[0] * b[2],
        a[0] * b[1] - a[1] * b[0],
    )


@inner
def normalized(a):
    """The unit vector along `a`; `a` itself where its length is zero."""
    squared = dot(a, a)
    return scale(a, where(squared > 0.0, 1.0 / math.sqrt(squared), 1.0))


@inner
def luminance(c):
    return 0.2126 * c[0] + 0.7152 * c[1] + 0.0722 * c[2]


@inner
def largest(a):
    return max(a[0], max(a[1], a[2]))


@inner
def frame(n):
    """Two unit vectors that make a right-handed frame with the unit normal `n`.

    Duff et al., "Building an Orthonormal Basis, Revisited", JCGT 6(1), 2017.
    """
    sign = where(n[2] < 0.0, -1.0, 1.0)
    a = -1.0 / (sign + n[2])
    b = n[0] * n[1] * a
    return (
        (1.0 + sign * n[0] * n[0] * a, sign * b, -sign * n[0]),
        (b, sign + n[1] * n[1] * a, -n[1]),
    )


@inner
def to_local(v, s, t, n):
    return (dot(v, s), dot(v, t), dot(v, n))


@inner
def to_world(v, s, t, n):
    return (
        v[0] * s[0] + v[1] * t[0] + v[2] * n[0],
        v[0] * s[1] + v[1] * t[1] + v[2] * n[1],
        v[0] * s[2] + v[1] * t[2] + v[2] * n[2],
    )


@inner
def choose(test, a, b):
    """In each lane the vector `a` where `test` holds, else `b`."""
    return (where(test, a[0], b[0]), where(test, a[1], b[1]), where(test, a[2], b[2]))


@inner
def negative(a):
    return (-a[0], -a[1], -a[2])


@inner
def triple(numbers, i):
    """Three neighbours of an array or pointer from place `i`, or from a place for each lane."""
    return (numbers[i], numbers[i + 1], numbers[i + 2])
