"""Parts of the beauty: by how often light was scattered, by how, and by where it came from.

Every contribution to a path's light is credited to each part that asks for it; a set of parts that
leaves nothing out adds up to the beauty.  What is diffuse and what specular is decided by the first
scattering a path had; what the camera sees through something clear is transmission.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from grandlattice.scene_records import Light
from grandlattice.tracer.kernel_memory import int32s
from grandlattice.tracer.lanes import any_of, inner, where
from grandlattice.tracer.path_state import CAPACITY, FIRST_LUX, HIDDEN, SHARES, keep, kept

# mypy: disable-error-code="no-untyped-def"

(
    DIRECT, INDIRECT, DIFFUSE, SPECULAR, TRANSMISSION, EMISSION, LIGHT_GROUP,
    AIMED, BLOCKED, LUX, LIT, CLOSED,
) = range(12)  # fmt: skip
SPLITS = {
    "direct": DIRECT, "indirect": INDIRECT, "diffuse": DIFFUSE, "specular": SPECULAR,
    "transmission": TRANSMISSION, "emission": EMISSION,
}  # fmt: skip
SURFACES = "surfaces"  # the light pass of everything that glows
_MOST_GROUPS = 30


@dataclass(frozen=True)
class OwnPass:
    """A pass that a plan defines.

    Attributes
    ----------
    of : ``light``, the share of some lights, or ``occlusion``, the openness within a distance.
    lights : paths of their prims, or of shapes that glow.
    radius : in scene units.
    """

    of: str
    lights: frozenset[str] = frozenset()
    radius: float = 0.0


class SharePlan:
    """Which parts a picture wants, and which lights count for which.

    Parameters
    ----------
    passes : names; those that are no parts are not looked at.
    lights : of the snapshot, in its order.
    items : of the snapshot, in its order: the path of each that glows, None for others.
    own : passes of the plan's own, by name.
    radius : of the occlusion pass, scene units.

    Attributes
    ----------
    table : (N, 2) int32, what each part is of; and for a light's the bit that lights of it have, for
        occlusion the bits of its radius in single precision.
    groups, glowing : (lights,) and (items,) int32, the bits of each light and of what glows.
    places : pass → the numbers of its parts.
    """

    def __init__(
        self, passes: Sequence[str], lights: Sequence[Light], items: Sequence[str | None],
        own: Mapping[str, OwnPass], radius: float,
    ) -> None:  # fmt: skip
        rows: list[tuple[int, int]] = []
        self.places: dict[str, tuple[int, ...]] = {}
        self.groups, self.glowing = np.zeros(len(lights), np.int32), np.zeros(len(items), np.int32)
        self._glows = np.array([path is not None for path in items], bool)
        self._closed: set[str] = set()
        bit = 0
        for name in passes:
            if name in SPLITS:
                self.places[name] = (len(rows),)
                rows.append((SPLITS[name], 0))
            elif name == "shadow":
                self.places[name] = (len(rows), len(rows) + 1)
                rows += [(AIMED, 0), (BLOCKED, 0)]
            elif name == "illuminance":
                self.places[name] = (len(rows), len(rows) + 1)
                rows += [(LUX, 0), (LIT, 0)]
            elif name == "occlusion" or (name in own and own[name].of == "occlusion"):
                far = np.float32(own[name].radius if name in own else radius)
                self.places[name] = (len(rows),)
                self._closed.add(name)
                rows.append((CLOSED, int(far.view(np.int32))))
            elif name.startswith("light.") or name in own:
                wanted = name.removeprefix("light.")
                members = own[name].lights if name in own else ()
                counted = [light_name(at) == wanted or at.path in members for at in lights]
                all_that_glow = wanted == SURFACES and name not in own
                self.groups[counted] |= 1 << bit
                glows = [path is not None and (all_that_glow or path in members) for path in items]
                self.glowing[glows] |= 1 << bit
                self.places[name] = (len(rows),)
                rows.append((LIGHT_GROUP, 1 << bit))
                bit = min(bit + 1, _MOST_GROUPS)
        self.table: NDArray[np.int32] = np.array(rows, np.int32).reshape(-1, 2)

    @property
    def lights(self) -> set[str]:
        """The passes that are shares of lights."""
        return {name for name, at in self.places.items() if self.table[at[0], 0] == LIGHT_GROUP}

    def whole(self, names: Sequence[str]) -> bool:
        """Whether the shares of lights among some passes leave nothing out and have nothing twice."""
        bits = [int(self.table[self.places[name][0], 1]) for name in names if name in self.lights]
        sources = np.concatenate([self.groups, self.glowing[self._glows]])
        counts = sum(((sources & bit) != 0).astype(int) for bit in bits)
        return bool(len(bits)) and bool((counts == 1).all())

    def asks(self, kind: int) -> bool:
        """Whether any part is of a kind."""
        return bool((self.table[:, 0] == kind).any())

    def developed(self, name: str, shares: NDArray, counts: NDArray) -> NDArray[np.float32]:
        """A pass from its sums, (H, W, 3), or (H, W, 1) for illuminance and occlusion.

        Parameters
        ----------
        shares : (N, H, W, 3) sums over samples; counts : (H, W, 1) samples.
        """
        first = shares[self.places[name][0]]
        if name in self._closed:
            return np.asarray(1.0 - first[..., :1] / np.maximum(counts, 1), np.float32)
        if name == "illuminance":
            lit = shares[self.places[name][1]][..., :1]
            return np.divide(first[..., :1], lit, out=np.zeros_like(lit), where=lit > 0.0)
        if name == "shadow":
            blocked = shares[self.places[name][1]]
            return np.divide(blocked, first, out=np.zeros_like(blocked), where=first > 0.0)
        return np.asarray(first / np.maximum(counts, 1), np.float32)


def light_name(light: Light) -> str:
    """How a light is called in the names of passes: as its prim."""
    return light.path.rpartition("/")[2]


@inner
def _add_to(room, part, channel, path, active, value):
    """Add to a channel of a part."""
    field = SHARES + (3 * part + channel) * CAPACITY
    keep(room, field, path, kept(room, field, path) + value, active)


@inner
def credit(room, options, path, active, value, scattered, matt, through, groups):
    """Add light to the parts it belongs to; what is hidden from the camera counts for illuminance only.

    Parameters
    ----------
    scattered : how often it was scattered on its way to the camera.
    matt : what of its first scattering was diffuse, 0..1.
    through : whether the camera saw it through something clear.
    groups : bits of where it came from.
    """
    wanted, in_sight = int32s(options.shares), (path.state & HIDDEN) == 0
    for k in range(options.share_count):
        what, bits = wanted[2 * k], wanted[2 * k + 1]
        if what == LUX and any_of(active & (scattered > 1)):
            # Scattered twice and more: the light of the first vertex's own lamps is counted by `credit_lux`.
            arrived = 0.0 * matt
            for channel in range(3):
                arrived += value[channel] * kept(room, FIRST_LUX + channel * CAPACITY, path)
            _add_to(room, k, 0, path, active & (scattered > 1), arrived)
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
        here = active & in_sight & (part > 0.0)
        if any_of(here):
            for channel in range(3):
                _add_to(room, k, channel, path, here, value[channel] * part)


@inner
def _credit_one(room, options, kind, path, active, value):
    """Add a number to the parts of a kind."""
    wanted = int32s(options.shares)
    for k in range(options.share_count):
        if wanted[2 * k] == kind:
            _add_to(room, k, 0, path, active, value)


@inner
def credit_lux(room, options, path, active, lux):
    """Add light that arrives at what the camera sees, straight from a lamp."""
    _credit_one(room, options, LUX, path, active, lux)


@inner
def credit_lit(room, options, path, active):
    """Count a path whose first vertex is where illuminance is asked for."""
    _credit_one(room, options, LIT, path, active, 0.0 * path.alpha + 1.0)


@inner
def credit_shadow(room, options, path, active, value, share):
    """Add light that was aimed at, as if nothing were in its way, and what of it is blocked."""
    wanted = int32s(options.shares)
    for k in range(options.share_count):
        what = wanted[2 * k]
        if (what == AIMED) | (what == BLOCKED):
            for channel in range(3):
                part = 1.0 - share[channel] if what == BLOCKED else 0.0 * share[channel] + 1.0
                _add_to(room, k, channel, path, active, value[channel] * part)
