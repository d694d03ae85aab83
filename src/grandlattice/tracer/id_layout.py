"""Names as numbers of a picture: the open Cryptomatte layout.

A name's id is its 32-bit MurmurHash3, read as a float; the hashes that would be no normal numbers
have a bit of their exponent turned.  A pixel has its ids in the order of how much of it they cover.

References
----------
Friedman and Jones, "Fully automatic ID mattes with support for motion blur and transparency",
SIGGRAPH 2015, and the specification 1.2 of Cryptomatte.
"""

from __future__ import annotations

from collections.abc import Sequence

import mmh3
import numpy as np
from numpy.typing import NDArray


def hashes(names: Sequence[str]) -> NDArray[np.uint32]:
    """(N,) the hash of each name, as it stands in the file."""
    found = np.array([mmh3.hash(name, signed=False) for name in names], np.uint32)
    exponent = found >> np.uint32(23) & np.uint32(255)
    return np.where((exponent == 0) | (exponent == 255), found ^ np.uint32(1 << 23), found)


def ranked_ids(slots: NDArray[np.int32], names: Sequence[str], counts: NDArray) -> NDArray[np.float32]:
    """Ids with their coverage, the largest first.

    Parameters
    ----------
    slots : (H, W, R, 2) pairs of (number + 1, samples), (0, 0) where there is none.
    names : of the numbers.
    counts : (H, W) samples of each pixel.

    Returns
    -------
    (H, W, 2 R) float32.
    """
    of_number = np.concatenate([np.zeros(1, np.uint32), hashes(names)]).view(np.float32)
    coverage = slots[..., 1] / np.maximum(counts, 1)[..., None]
    order = np.argsort(-coverage, axis=-1, kind="stable")
    ids = np.take_along_axis(of_number[slots[..., 0]], order, axis=-1)
    coverage = np.take_along_axis(coverage, order, axis=-1)
    return np.stack([ids, coverage.astype(np.float32)], axis=-1).reshape(*slots.shape[:2], -1)
