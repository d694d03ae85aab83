"""Point instancers: which shapes are their prototypes, and where each of these stands, how often."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from pxr import Usd, UsdGeom

from grandlattice.stage.shapes import is_shape

_DEEPEST = 8  # instancers within instancers; a prototype that holds itself ends there


@dataclass(frozen=True, eq=False)
class Link:
    """A point instancer and one of its prototypes, by number and root prim."""

    instancer: Usd.Prim
    number: int
    root: Usd.Prim


Chain = tuple[Link, ...]
"""Instancers from the outermost to the one a shape is a prototype of."""


def chain_of(instancer: Usd.Prim, outer: Chain = ()) -> Iterator[tuple[Usd.Prim, Chain]]:
    """Every shape that an instancer repeats, with the instancers it is repeated by."""
    stage = instancer.GetStage()
    if len(outer) >= _DEEPEST:
        return
    targets = UsdGeom.PointInstancer(instancer).GetPrototypesRel().GetForwardedTargets()
    for number, path in enumerate(targets):
        root = stage.GetPrimAtPath(path)
        if not root:
            continue
        chain = (*outer, Link(instancer, number, root))
        prims = iter(Usd.PrimRange(root, Usd.TraverseInstanceProxies()))
        for prim in prims:
            if prim.IsA(UsdGeom.PointInstancer):
                yield from chain_of(prim, chain)
                prims.PruneChildren()
            elif is_shape(prim) and is_drawn(prim):
                yield prim, chain


def is_drawn(prim: Usd.Prim) -> bool:
    """Whether a prim is for pictures, and not a proxy or a guide."""
    purpose = UsdGeom.Imageable(prim).ComputePurpose()
    return purpose in (UsdGeom.Tokens.default_, UsdGeom.Tokens.render)


def chain_varies(chain: Chain) -> bool:
    """Whether instances of a chain move, come or go over time."""
    return any(
        attribute.ValueMightBeTimeVarying()
        for link in chain
        for attribute in link.instancer.GetAuthoredAttributes()
    )


def copies_of(
    shape: Usd.Prim, chain: Chain, time: Usd.TimeCode, transforms: UsdGeom.XformCache
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Where a shape of a chain stands: the outermost instancer's matrix, and its copies (N, 4, 4).

    A copy goes from the shape to its prototype's root, by the instance, and outwards through the
    instancers around; masked instances, and those that are not finite, are left out.
    """
    copies = np.eye(4)[None]
    below = shape
    for link in reversed(chain):
        inner = np.array(transforms.ComputeRelativeTransform(below, link.root)[0])
        copies = copies @ inner
        placed = _placed(link, time)
        copies = (copies[:, None] @ placed[None]).reshape(-1, 4, 4)
        below = link.instancer
    to_world = np.array(transforms.GetLocalToWorldTransform(chain[0].instancer))
    return to_world, copies[np.isfinite(copies).all(axis=(1, 2))]


def _placed(link: Link, time: Usd.TimeCode) -> NDArray[np.float64]:
    """Where the instances of a link's prototype stand in its instancer, (N, 4, 4)."""
    instancer = UsdGeom.PointInstancer(link.instancer)
    numbers = np.array(instancer.GetProtoIndicesAttr().Get(time) or (), np.int64)
    found = instancer.ComputeInstanceTransformsAtTime(
        time, time, UsdGeom.PointInstancer.IncludeProtoXform, UsdGeom.PointInstancer.IgnoreMask
    )
    matrices = np.array(found, np.float64).reshape(-1, 4, 4)
    if len(matrices) != len(numbers):
        return np.zeros((0, 4, 4))
    mask = instancer.ComputeMaskAtTime(time)
    chosen = numbers == link.number
    if mask is not None and len(mask) == len(numbers):
        chosen &= np.array(mask, bool)
    return matrices[chosen]
