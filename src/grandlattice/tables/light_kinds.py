"""Every kind of light the tracer knows: a UsdLux prim, what its size is made of, what may be laid on it.

A new kind is one record here, its area in `stage.light_reading`, and its shape for kernels in
`tracer.light_table` and `tracer.light_sampling`; tests prove that all of them are there.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass


@dataclass(frozen=True)
class LightKind:
    """A kind of light.

    Attributes
    ----------
    name : as plans and records have it.
    number : as kernels have it.
    prims : types of UsdLux prims that are one; the first is what a plan's `light` makes.
    size : attributes, without ``inputs:``, that say how large it is; two numbers at most.
    has_image : whether an image may be laid on it.
    is_shaped : whether `ShapingAPI` narrows it.
    """

    name: str
    number: int
    prims: tuple[str, ...]
    size: tuple[str, ...] = ()
    has_image: bool = False
    is_shaped: bool = True


LIGHT_KINDS: Mapping[str, LightKind] = {
    each.name: each
    for each in (
        LightKind("dome", 0, ("DomeLight", "DomeLight_1"), has_image=True, is_shaped=False),
        LightKind("distant", 1, ("DistantLight",), ("angle",), is_shaped=False),
        LightKind("rect", 2, ("RectLight",), ("width", "height"), has_image=True),
        LightKind("disk", 3, ("DiskLight",), ("radius", "radius")),
        LightKind("sphere", 4, ("SphereLight",), ("radius", "radius")),
        LightKind("cylinder", 5, ("CylinderLight",), ("radius", "length")),
    )
}

KIND_OF_PRIM: Mapping[str, LightKind] = {prim: each for each in LIGHT_KINDS.values() for prim in each.prims}
"""Type of a UsdLux prim → its kind."""
