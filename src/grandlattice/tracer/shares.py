"""Parts of the beauty: by how often light was scattered, by how, and by where it came from.

Every contribution to a path's light is credited to each part that asks for it; a set of parts that
leaves nothing out adds up to the beauty.  What is diffuse and what specular is decided by the first
scattering a path had; what the camera sees through something clear is transmission.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from grandlattice.snapshot import Light
from grandlattice.tracer.lanes import inner, where
from grandlattice.tracer.memory import float32s, int32s, scatter_to
from grandlattice.tracer.stream import CAPACITY, SHARES

# mypy: disable-error-code="no-untyped-def"

(
    DIRECT, INDIRECT, DIFFUSE, SPECULAR, TRANSMISSION, EMISSION, LIGHT_GROUP, AIMED, BLOCKED,
) = range(9)  # fmt: skip
SPLITS = {
    "direct": DIRECT, "indirect": INDIRECT, "diffuse": DIFFUSE, "specular": SPECULAR,
    "transmission": TRANSMISSION, "emission": EMISSION,
}  # fmt: skip
SURFACES = "surfaces"  # the light pass of everything that glows
_MOST_GROUPS = 30


class SharePlan:
    """Which parts a picture wants, and which lights count for which.

    Parameters
    ----------
    passes : names; those that are no parts are not looked at.
    lights : of the snapshot, in its order.

    Attributes
    ----------
    table : (N, 2) int32, what each part is of, and for a light's the bit that lights of it have.
    groups : (lights + 1,) int32, the bits of each light; the last are those of what glows.
    places : pass → the numbers of its parts.
    """

    def __init__(self, passes: Sequence[str], lights: Sequence[Light]) -> None:
        rows: list[tuple[int, int]] = []
        self.places: dict[str, tuple[int, ...]] = {}
        self.groups = np.zeros(len(lights) + 1, np.int32)
        bit = 0
        for name in passes:
            if name in SPLITS:
                self.places[name] = (len(rows),)
                rows.append((SPLITS[name], 0))
            elif name == "shadow":
                self.places[name] = (len(rows), len(rows) + 1)
                rows += [(AIMED, 0), (BLOCKED, 0)]
            elif name.startswith("light."):
                wanted = name.removeprefix("light.")
                self.groups[[light_name(light) == wanted for light in lights] + [wanted == SURFACES]] |= (
                    1 << bit
                )
                self.places[name] = (len(rows),)
                rows.append((LIGHT_GROUP, 1 << bit))
                bit = min(bit + 1, _MOST_GROUPS)
        self.table: NDArray[np.int32] = np.array(rows, np.int32).reshape(-1, 2)

    def developed(self, name: str, shares: NDArray, counts: NDArray) -> NDArray[np.float32]:
        """A pass from its sums, (H, W, 3).

        Parameters
        ----------
        shares : (N, H, W, 3) sums over samples; counts : (H, W, 1) samples.
        """
        first = shares[self.places[name][0]]
        if name == "shadow":
            blocked = shares[self.places[name][1]]
            return np.divide(blocked, first, out=np.zeros_like(blocked), where=first > 0.0)
        return np.asarray(first / np.maximum(counts, 1), np.float32)


def light_name(light: Light) -> str:
    """How a light is called in the names of passes: as its prim."""
    return light.path.rpartition("/")[2]


@inner
def credit(room, options, number, active, value, scattered, matt, through, groups):
    """Add light to the parts it belongs to.

    Parameters
    ----------
    scattered : how often it was scattered on its way to the camera.
    matt : what of its first scattering was diffuse, 0..1.
    through : whether the camera saw it through something clear.
    groups : bits of where it came from.
    """
    sums, wanted = float32s(room), int32s(options.shares)
    for k in range(options.share_count):
        what, bits = wanted[2 * k], wanted[2 * k + 1]
        if what >= AIMED:
            continue
        part = where(scattered <= 1, 1.0, 0.0 * matt)
        if what == INDIRECT:
            part = 1.0 - part
        elif what == DIFFUSE:
            part = where((scattered > 0) & ~through, matt, 0.0)
        elif what == SPECULAR:
            part = where((scattered > 0) & ~through, 1.0 - matt, 0.0)
        elif what == TRANSMISSION:
            part = where(through, 1.0, 0.0 * matt)
        elif what == EMISSION:
            part = where((scattered > 0) | through, 0.0 * matt, 1.0)
        elif what == LIGHT_GROUP:
            part = where((groups & bits) != 0, 1.0, 0.0 * matt)
        for channel in range(3):
            at = number + (SHARES + (3 * k + channel) * CAPACITY)
            scatter_to(sums, at, sums[at] + value[channel] * part, active)


@inner
def credit_shadow(room, options, number, active, value, share):
    """Add light that was aimed at, as if nothing were in its way, and what of it is blocked."""
    sums, wanted = float32s(room), int32s(options.shares)
    for k in range(options.share_count):
        what = wanted[2 * k]
        if what >= AIMED:
            part = 1.0 - share if what == BLOCKED else 0.0 * share + 1.0
            for channel in range(3):
                at = number + (SHARES + (3 * k + channel) * CAPACITY)
                scatter_to(sums, at, sums[at] + value[channel] * part, active)
