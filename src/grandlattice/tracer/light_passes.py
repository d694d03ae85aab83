"""Parts of the beauty: by how often light was scattered, by how, and by where it came from.

Every contribution to a path's light is credited to each part that asks for it; a set of parts that
leaves nothing out adds up to the beauty.  What is diffuse and what specular is decided by the first
scattering a path had; what the camera sees through something clear is transmission.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from grandlattice.scene_records import Light
from grandlattice.tracer.kernel_memory import float32s, int32s
from grandlattice.tracer.lanes import any_of, bits_of, inner, lowest_bit, number_in, where
from grandlattice.tracer.path_state import CAPACITY, FIRST_LUX, HIDDEN, SHARES, keep, kept, share_of
from grandlattice.tracer.vectors import largest, scale

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

    @property
    def sources(self) -> dict[str, list[int]]:
        """See `Film.sources`."""
        bits = np.concatenate([self.groups, self.glowing[self._glows]])
        of = {name: int(self.table[self.places[name][0], 1]) for name in self.lights}
        return {"": list(range(len(bits)))} | {
            name: np.flatnonzero(bits & bit).tolist() for name, bit in sorted(of.items())
        }

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


class Arriving(NamedTuple):
    """Light on its way to the camera, a lane each."""

    value: Any
    scattered: Any  # how often, on its way to the camera
    matt: Any  # diffuse fraction of the first bounce, 0..1
    through: Any  # whether the camera saw it through something clear
    groups: Any  # bits of where it came from
    row: Any  # of the light table
    times: Any  # what it is multiplied by after it is limited: it may stand for light that was not traced


@inner
def _part_of(what, bits, light):
    """What share of light belongs to a part of the beauty, 0..1."""
    part = where(light.scattered <= 1, 1.0, 0.0 * light.matt)
    if what == INDIRECT:
        part = 1.0 - part
    elif what == DIFFUSE:
        part = where((light.scattered > 0) & ~light.through, light.matt, 0.0)
    elif what == SPECULAR:
        part = where((light.scattered > 0) & ~light.through, 1.0 - light.matt, 0.0)
    elif what == TRANSMISSION:
        part = where(light.through, 1.0, 0.0 * light.matt)
    elif what == EMISSION:
        part = where((light.scattered > 0) | light.through, 0.0 * light.matt, 1.0)
    elif what == LIGHT_GROUP:
        part = where((light.groups & bits) != 0, 1.0, 0.0 * light.matt)
    return part


@inner
def credit(room, options, path, active, light):
    """Add light to the parts it belongs to; what is hidden from the camera counts for illuminance only."""
    wanted, in_sight = int32s(options.shares), (path.state & HIDDEN) == 0
    for k in range(options.share_count):
        what, bits = wanted[2 * k], wanted[2 * k + 1]
        if what == LUX and any_of(active & (light.scattered > 1)):
            # Scattered twice and more: the light of the first vertex's own lamps is counted by `credit_lux`.
            arrived = 0.0 * light.matt
            for channel in range(3):
                arrived += light.value[channel] * kept(room, FIRST_LUX + channel * CAPACITY, path)
            _add_to(room, k, 0, path, active & (light.scattered > 1), arrived)
        if what >= AIMED:
            continue
        part = _part_of(what, bits, light)
        here = active & in_sight & (part > 0.0)
        if any_of(here):
            for channel in range(3):
                _add_to(room, k, channel, path, here, light.value[channel] * part)


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


# --- many lightings at once ----------------------------------------------------------------------------


@inner
def _entries_of(options, rows, left):
    """The first row of the lanes that are left: its lanes, and where its entries begin and end."""
    row = number_in(rows, lowest_bit(bits_of(left)))
    first = int32s(options.first)
    return left & (rows == row), first[row], first[row + 1]


@inner
def is_wanted(options, rows):
    """Whether any film has light of these rows of the light table."""
    first = int32s(options.first)
    return first[rows] < first[rows + 1]


@inner
def row_is_wanted(options, row):
    """`is_wanted` of one row."""
    first = int32s(options.first)
    return first[row] < first[row + 1]


@inner
def _weighted(options, entry, value):
    """Light as it counts for an entry of the light sums."""
    weights = float32s(options.weights)
    return (
        value[0] * weights[4 * entry], value[1] * weights[4 * entry + 1], value[2] * weights[4 * entry + 2],
    )  # fmt: skip


@inner
def spread(room, options, path, active, light, later, sights):
    """Add light to the sums of every film it is in, and to their parts.

    Parameters
    ----------
    light : unlimited; that of surfaces that glow has the row `own_row`.
    later : lanes whose light is limited.
    sights : bits of the sights that are meant, as in a path's state.
    """
    left = active
    while any_of(left):
        here, first, last = _entries_of(options, light.row, left)
        left = left & ~here
        for entry in range(first, last):
            number, bit = int32s(options.sums)[entry], int32s(options.bits)[entry]
            if (bit & sights) == 0:
                continue
            value, most = _weighted(options, entry, light.value), float32s(options.weights)[4 * entry + 3]
            if most < 1e38:
                value = limited(value, most * share_of(path, options.halvings), later)
            value = scale(value, light.times)
            in_sight = here & ((path.state & bit) == 0)
            for channel in range(3):
                _add_to(room, options.sums_from + number, channel, path, in_sight, value[channel])
            if options.share_count > 0:
                _credit_sum(room, options, path, here, in_sight, light, value, number)


@inner
def _credit_sum(room, options, path, active, in_sight, light, value, number):
    """Add light to the parts of a light sum."""
    wanted, pairs = int32s(options.shares), int32s(options.pairs)
    for k in range(options.share_count):
        what, bits = wanted[2 * k], wanted[2 * k + 1]
        field = pairs[k * options.sum_count + number]
        if field < 0:
            continue
        if what == LUX:
            for channel in range(3):
                arrived = value[channel] * kept(room, FIRST_LUX + channel * CAPACITY, path)
                _add_to(room, field, channel, path, active & (light.scattered > 1), arrived)
        if what < AIMED:
            part = _part_of(what, bits, light)
            for channel in range(3):
                _add_to(room, field, channel, path, in_sight & (part > 0.0), value[channel] * part)


@inner
def spread_lux(room, options, path, active, row, lux):
    """Add light that arrives at what the camera sees, straight from lamps, to every film it is in.

    Parameters
    ----------
    lux : illuminance of each channel, whose sum is what is seen.
    """
    wanted, pairs, left = int32s(options.shares), int32s(options.pairs), active
    while any_of(left):
        here, first, last = _entries_of(options, row, left)
        left = left & ~here
        for entry in range(first, last):
            number, value = int32s(options.sums)[entry], _weighted(options, entry, lux)
            for k in range(options.share_count):
                field = pairs[k * options.sum_count + number]
                if wanted[2 * k] == LUX and field >= 0:
                    for channel in range(3):
                        _add_to(room, field, channel, path, here, value[channel])


@inner
def spread_shadow(room, options, path, active, light, share):
    """Add light that was aimed at to the passes of shadow of every film it is in, see `credit_shadow`."""
    wanted, pairs, left = int32s(options.shares), int32s(options.pairs), active
    while any_of(left):
        here, first, last = _entries_of(options, light.row, left)
        left = left & ~here
        for entry in range(first, last):
            number, value = int32s(options.sums)[entry], _weighted(options, entry, light.value)
            value = scale(value, light.times)
            for k in range(options.share_count):
                what, field = wanted[2 * k], pairs[k * options.sum_count + number]
                if ((what == AIMED) | (what == BLOCKED)) and field >= 0:
                    for channel in range(3):
                        part = 1.0 - share[channel] if what == BLOCKED else 0.0 * share[channel] + 1.0
                        _add_to(room, field, channel, path, here, value[channel] * part)


@inner
def covered(room, options, path, test, amount, among):
    """Alpha of paths with an amount more, in every sight in which no light hides what is there.

    Parameters
    ----------
    among : bits of the sights that are meant.
    """
    if options.sights <= 1:
        return where(test, path.alpha + amount, path.alpha)
    for k in range(1, options.sights):
        if (among >> k) & 1:
            free = (path.state & (HIDDEN << k)) == 0
            _add_to(room, options.alphas + k - 1, 0, path, test & free, amount)
    if (among & 1) == 0:
        return path.alpha
    return where(test & ((path.state & HIDDEN) == 0), path.alpha + amount, path.alpha)


@inner
def cover_in_sight(room, options, path, test, amount, sight):
    """Alpha of paths with an amount more, in one sight alone."""
    if sight > 0:
        _add_to(room, options.alphas + sight - 1, 0, path, test, amount)
        return path.alpha
    return where(test, path.alpha + amount, path.alpha)


@inner
def limited(light, most, applies):
    """Light scaled down where it `applies` and its largest part is more than `most`."""
    brightest = largest(light)
    return scale(light, where(applies & (brightest > most), most / max(brightest, 1e-30), 1.0))
