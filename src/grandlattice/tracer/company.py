"""Lightings of one view that are traced together: which lights they have in common, and how the film of
each is mixed from the light sums that are traced.

The paths of a view do not depend on light, so one path can be lit in many ways.  A lamp that differs
between lightings in radiance alone is one light, traced once and weighted for each.  A lamp that stands
elsewhere, or has another shape or image, has a *version* for each way it stands; the versions of a lamp are
chosen together, as one light would be, and each casts a shadow ray of its own.

What is chosen, and how often, is decided by the whole company.  Which films are wanted decides only what
is added up, so that a film has the same bytes whichever others are traced with it.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from grandlattice.scene_records import Light
from grandlattice.tracer.path_state import HIDDEN

HIDDEN_BITS = tuple(HIDDEN << sight for sight in range(11))
"""Bits of a path's state, one for each way in which the shapes of lights hide things from the camera."""
MOST_SIGHTS = len(HIDDEN_BITS)
"""How many such ways one trace can tell apart."""


@dataclass(frozen=True, eq=False)
class Lighting:
    """One way of lighting a view.

    Attributes
    ----------
    lights : those that shine.
    clamp : the most, in nits, that light scattered more than once adds to a pixel at a time; None is exact.
    """

    lights: tuple[Light, ...]
    clamp: float | None = None


@dataclass(frozen=True)
class Version:
    """One way a lamp stands.

    Attributes
    ----------
    lamp : the number of the lamp it belongs to.
    light : how it stands, with the greatest radiance of all lightings in each channel.
    power : sum of its radiance over the channels, on average over all lightings.
    """

    lamp: int
    light: Light
    power: float


def shape_of(light: Light) -> tuple[object, ...]:
    """All of a light but its radiance; equal for two that can be traced as one."""
    # A dome without an image is the same whichever way it is turned.
    is_even = light.kind == "dome" and light.texture is None
    stands = None if is_even else (light.to_world.tobytes(), _bytes(light.track))
    return *_unturned(light), stands


def _unturned(light: Light) -> tuple[object, ...]:
    """All of a light but its radiance and how it stands."""
    return (
        light.path, light.kind, light.size, light.texture, light.shaping, light.diffuse, light.specular,
        _bytes(light.reaches), _bytes(light.shadowed_by), light.seen, light.matte,
    )  # fmt: skip


def _bytes(array: NDArray | None) -> bytes | None:
    return None if array is None else np.asarray(array).tobytes()


Sight = frozenset[tuple[object, ...]]


def sight_of(lighting: Lighting) -> Sight:
    """What decides alpha: the shapes that hide something from the camera, and whether there is a sky."""
    shapes = {shape_of(light) for light in lighting.lights if light.hides}
    return frozenset(shapes | ({("sky",)} if _has_sky(lighting) else set()))


def _has_sky(lighting: Lighting) -> bool:
    return any(light.kind == "dome" for light in lighting.lights)


def _lamps_of(lightings: Sequence[Lighting], *, apart: bool) -> dict[str, dict[tuple[object, ...], Light]]:
    """The lamps of some lightings, each with the ways it stands.

    Lights that never shine together are one lamp that stands in several ways, unless they are to be kept
    `apart`: each film has one of them, and should not pay for the others with noise.  A sky that is turned
    stays by itself, since it is looked up in all ways at once.
    """
    found: dict[str, dict[tuple[object, ...], Light]] = {}
    shines: dict[str, set[int]] = {}
    for k, lighting in enumerate(lightings):
        for light in lighting.lights:
            found.setdefault(light.path, {}).setdefault(shape_of(light), light)
            shines.setdefault(light.path, set()).add(k)
    lamps: dict[str, dict[tuple[object, ...], Light]] = {}
    for path, versions in found.items():
        turned = len({_unturned(light) for light in versions.values()}) < len(versions)
        free = () if apart or turned else lamps
        joined = next((other for other in free if shines[other].isdisjoint(shines[path])), None)
        if joined is None:
            lamps[path] = dict(versions)
            shines[path] = set(range(len(lightings))) if turned else shines[path]  # nothing joins it
        else:
            lamps[joined] |= versions
            shines[joined] |= shines[path]
    return lamps


class Company:
    """The lightings of one view.

    Parameters
    ----------
    lightings : of the company, in an order that does not depend on who asks; at least one.
    wanted : numbers of those whose films are to be made; None is all.
    by_lamp : the light of every lamp is added up apart, and lamps are chosen without regard to how strong
        they are, so that they can have other strengths afterwards.
    beside : lightings by the same lamps that are added up, too, where lamps are told apart, and of which no
        film is made.
    name : of these lightings in this view; a tracer looks once at a company that has one, however many
        traces its films are divided among.

    Attributes
    ----------
    versions : rows of the light table: the first version of each lamp, then all others.
    lamp_count : how many lamps there are.
    made : how many films are made: the first of those that are wanted.
    weights : (films, versions + 1, 3) radiance of each version in each wanted film, over that in the light
        table; the last is light of surfaces that glow, 1 everywhere.
    """

    def __init__(
        self, lightings: Sequence[Lighting], wanted: Sequence[int] | None = None, *, by_lamp: bool = False,
        beside: Sequence[Lighting] = (), name: str = "",
    ) -> None:  # fmt: skip
        self._own, self.by_lamp, self.name = tuple(lightings), by_lamp, name
        self.lightings = (*self._own, *beside)
        chosen = tuple(range(len(self._own)) if wanted is None else wanted)
        self.made = len(chosen)
        self.wanted = (*chosen, *range(len(self._own), len(self.lightings)))
        lamps = _lamps_of(self.lightings, apart=by_lamp)
        firsts = [next(iter(versions.items())) for versions in lamps.values()]
        others = [
            (k, *each) for k, versions in enumerate(lamps.values()) for each in list(versions.items())[1:]
        ]
        rows = [(k, *each) for k, each in enumerate(firsts)] + others
        number = {shape: row for row, (_, shape, _) in enumerate(rows)}
        radiance = np.zeros((len(self.lightings), len(rows) + 1, 3))
        for k, lighting in enumerate(self.lightings):
            for light in lighting.lights:
                radiance[k, number[shape_of(light)]] = light.radiance
        radiance[:, -1] = 1.0
        most = radiance.max(axis=0)
        self.lamp_count = len(firsts)
        self._weights = np.divide(radiance, most, out=np.zeros_like(radiance), where=most > 0.0)
        self.weights = self._weights[list(self.wanted)].astype(np.float32)
        # Summed as the light table's numbers are, in single precision, for a company of one.
        single = radiance.astype(np.float32)
        power = ((single[..., 0] + single[..., 1]) + single[..., 2]).mean(axis=0, dtype=np.float64)
        self.versions = tuple(
            Version(lamp, _with_radiance(light, most[row]), 1.0 if by_lamp else float(np.float32(power[row])))
            for row, (lamp, _, light) in enumerate(rows)
        )

    @property
    def is_one(self) -> bool:
        """Whether there is nothing to share: one lighting, whose lamps are added up together."""
        return len(self.lightings) == 1 and not self.by_lamp

    @cached_property
    def turned_skies(self) -> frozenset[int]:
        """Lamps that are one sky with an image, turned in several ways, and are sampled as one.

        What a limit of light takes away depends on how often a direction is drawn: with one each way is
        sampled as it is alone.
        """
        if self._clamps:
            return frozenset()
        found: dict[int, set[tuple[object, ...]]] = {}
        for version in self.versions:
            found.setdefault(version.lamp, set()).add(_unturned(version.light))
        counts = np.bincount([version.lamp for version in self.versions], minlength=1)
        return frozenset(
            lamp for lamp, kinds in found.items()
            if counts[lamp] > 1 and len(kinds) == 1 and self.versions[lamp].light.kind == "dome"
            and self.versions[lamp].light.texture is not None
            and all(version.light.track is None for version in self.versions if version.lamp == lamp)
        )  # fmt: skip

    @property
    def varies(self) -> bool:
        """Whether any lamp stands in several ways."""
        return len(self.versions) > self.lamp_count

    def for_pilot(self) -> Company:
        """The same lightings, all wanted, without limits and without shapes that hide anything."""
        return Company([
            Lighting(tuple(replace(light, seen=False, matte=False) for light in lighting.lights))
            for lighting in self._own
        ])  # fmt: skip

    @cached_property
    def sights(self) -> NDArray[np.int32]:
        """(films,) for each wanted film the number of the way in which shapes of lights hide things."""
        seen = [sight_of(self.lightings[k]) for k in self.wanted]
        numbers = {sight: n for n, sight in enumerate(dict.fromkeys(seen))}
        return np.array([numbers[sight] for sight in seen], np.int32)

    @property
    def skies(self) -> int:
        """Bits of the sights in which there is a sky: without one the camera sees nothing behind things."""
        bits = 0
        for k, sight in zip(self.wanted, self.sights.tolist(), strict=True):
            bits |= _has_sky(self.lightings[k]) << sight
        return bits

    @cached_property
    def in_sight(self) -> NDArray[np.int32]:
        """(versions,) bits of the sights in which each version stands."""
        bits = np.zeros(len(self.versions), np.int32)
        for film, sight in enumerate(self.sights.tolist()):
            here = (self._stands[self.wanted[film]]).astype(np.int32)
            bits |= here << sight
        return bits

    @cached_property
    def _stands(self) -> NDArray[np.bool_]:
        """(lightings, versions) whether a version shines in a lighting."""
        found = np.zeros((len(self.lightings), len(self.versions)), bool)
        number = {shape_of(version.light): row for row, version in enumerate(self.versions)}
        for k, lighting in enumerate(self.lightings):
            found[k, [number[shape_of(light)] for light in lighting.lights]] = True
        return found

    @cached_property
    def sums(self) -> LightSums:
        """What is added up for the wanted films."""
        return _of_films(self) if self._clamps else _of_weights(self)

    @property
    def _clamps(self) -> bool:
        """Whether light is limited, which can only be done film by film."""
        return any(lighting.clamp is not None for lighting in self.lightings)


@dataclass(frozen=True, eq=False)
class LightSums:
    """Light that is added up apart, and the films mixed from it.

    Attributes
    ----------
    first : (versions + 2,) int32, where the entries of each row of the light table begin; that of surfaces
        that glow stands behind those of the lamps.
    sums : (entries,) int32, the light sum each entry adds to.
    bits : (entries,) int32, the bit of its sight.
    weights : (entries, 4) float32, what light is multiplied by, and what it is limited to then.
    mix : for each film the sums it is mixed from, with a weight for each channel.
    origins : for each sum the first version whose light is in it, and its sight; one more than there are
        versions stands for surfaces that glow.
    skies_from : the first of those sums that have light of turned skies alone.
    """

    first: NDArray[np.int32]
    sums: NDArray[np.int32]
    bits: NDArray[np.int32]
    weights: NDArray[np.float32]
    mix: tuple[tuple[tuple[int, tuple[float, float, float]], ...], ...]
    origins: tuple[tuple[int, int], ...]
    skies_from: int

    @property
    def count(self) -> int:
        """How many sums there are."""
        return len(self.origins)

    def mix_into(self, made: NDArray[np.float32], film: int, sums: NDArray[np.float32]) -> None:
        """Write a film (H, W, 3) mixed from the light sums (sums, H, W, 3), the same whichever others there
        are."""
        for channel in range(3):  # three at a time would be slow: loops of three numbers
            into = made[..., channel]
            for k, (number, weight) in enumerate(self.mix[film]):
                if k == 0:
                    np.multiply(sums[number, ..., channel], np.float32(weight[channel]), out=into)
                else:
                    into += sums[number, ..., channel] * np.float32(weight[channel])
            if not self.mix[film]:
                into[:] = 0.0


_Entry = tuple[int, int, float, float, float, float]


def _packed(
    company: Company, entries: Sequence[Sequence[_Entry]],
    mix: Sequence[Sequence[tuple[int, tuple[float, float, float]]]], origins: Sequence[tuple[int, int]],
    skies_from: int,
) -> LightSums:  # fmt: skip
    lamps = company.lamp_count
    entries = [*entries[:lamps], entries[-1], *entries[lamps:-1]]  # as the rows of the light table
    flat = [entry for row in entries for entry in row]
    return LightSums(
        first=np.concatenate([[0], np.cumsum([len(row) for row in entries])]).astype(np.int32),
        sums=np.array([entry[0] for entry in flat] or [0], np.int32),
        bits=np.array([HIDDEN_BITS[entry[1]] for entry in flat] or [0], np.int32),
        weights=np.array([entry[2:] for entry in flat] or [(0.0,) * 4], np.float32),
        mix=tuple(tuple(each) for each in mix), origins=tuple(origins), skies_from=skies_from,
    )  # fmt: skip


def _of_films(company: Company) -> LightSums:
    """One light sum for each film."""
    entries: list[list[_Entry]] = [[] for _ in range(len(company.versions) + 1)]
    for film, lighting in enumerate(company.wanted):
        clamp, sight = company.lightings[lighting].clamp, int(company.sights[film])
        for row, (r, g, b) in enumerate(company.weights[film].tolist()):
            if max(r, g, b) > 0.0:
                entries[row].append((film, sight, r, g, b, np.inf if clamp is None else clamp))
    mix = [[(film, (1.0, 1.0, 1.0))] for film in range(len(company.wanted))]
    origins = [(0, sight) for sight in company.sights.tolist()]
    return _packed(company, entries, mix, origins, len(origins))


def _of_weights(company: Company) -> LightSums:
    """One light sum for all versions that have the same weights in every lighting, in each sight."""
    groups: dict[bytes, int] = {}
    group_of = [
        groups.setdefault(b"%d" % row if company.by_lamp else company._weights[:, row].tobytes(), len(groups))
        for row in range(len(company.versions) + 1)
    ]
    entries: list[list[_Entry]] = [[] for _ in range(len(company.versions) + 1)]
    mix = []
    first_of = {group_of[row]: row for row in reversed(range(len(group_of)))}
    of_others = {
        group for row, group in enumerate(group_of)
        if row == len(company.versions) or company.versions[row].lamp not in company.turned_skies
    }  # fmt: skip
    shining = [
        (group_of[row], sight)
        for weights, sight in zip(company.weights, company.sights.tolist(), strict=True)
        for row in np.flatnonzero(weights.max(axis=1) > 0.0)
    ]
    shining = sorted(dict.fromkeys(shining), key=lambda each: each[0] not in of_others)
    numbers = {each: number for number, each in enumerate(shining)}
    skies_from = sum(group in of_others for group, _ in shining)
    for weights, sight in zip(company.weights, company.sights.tolist(), strict=True):
        of_film: dict[int, tuple[float, float, float]] = {}
        for row, (r, g, b) in enumerate(weights.tolist()):
            if max(r, g, b) > 0.0:
                number = numbers[group_of[row], sight]
                entry = (number, sight, 1.0, 1.0, 1.0, np.inf)
                if entry not in entries[row]:
                    entries[row].append(entry)
                of_film[number] = (r, g, b)
        # In the order of the whole company's rows, so that the sum is the same whatever else is wanted.
        mix.append(list(of_film.items()))
    return _packed(company, entries, mix, [(first_of[group], sight) for group, sight in shining], skies_from)


def _with_radiance(light: Light, radiance: NDArray) -> Light:
    r, g, b = (float(c) for c in radiance)
    return replace(light, radiance=(r, g, b))


def split(lightings: Sequence[Lighting], wanted: Sequence[int], most: int) -> Iterator[list[int]]:
    """Wanted films in groups that one trace can tell apart: at most so many, of at most `MOST_SIGHTS`."""
    group: list[int] = []
    sights: set[object] = set()
    for k in wanted:
        sight = sight_of(lightings[k])
        if group and (len(group) >= most or (sight not in sights and len(sights) >= MOST_SIGHTS)):
            yield group
            group, sights = [], set()
        group.append(k)
        sights.add(sight)
    if group:
        yield group
