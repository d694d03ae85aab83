"""Light shares: what each lamp adds to a picture, kept so that other strengths and tints need no trace.

Light adds up: a picture is the sum of what each lamp adds to it, multiplied by how much stronger the lamp is
than it was.  What hides behind the shapes of lamps differs with which of them are on, so shares are kept in
every *sight*, see `company`.

Numbers are kept in half precision, each picture of a share by a power of two as large as they bear, so that
every number that counts has eleven binary digits.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence, Set
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from grandlattice.tracer.company import MOST_SIGHTS, Company, Lighting, Sight, shape_of, sight_of
from grandlattice.tracer.film_sums import FilmSums
from grandlattice.tracer.light_mixing import Mixing
from grandlattice.tracer.light_passes import CLOSED, LIT
from grandlattice.tracer.share_index import SKY, Lamp, ShareIndex, sight_name

GLOWING = "surfaces that glow"
_LARGEST = 32768.0  # half precision ends at 65504


@dataclass(frozen=True, eq=False)
class LightShares:
    """The light shares of one view.

    Attributes
    ----------
    planes : half precision, (H, W, 3) means over samples: ``sight/lamp/part`` the light of a lamp in a part
        of the beauty, ``sight/lamp/`` in all of it, ``sight//alpha``, and ``//part`` what no lamp decides.
    scales : what each plane was multiplied by.
    data : the buffers of other passes, as they were added up.
    counts : (H, W) samples of each pixel.
    """

    index: ShareIndex
    planes: Mapping[str, NDArray[np.float16]]
    scales: Mapping[str, float]
    data: Mapping[str, NDArray]
    counts: NDArray[np.int32]

    def plane(self, name: str) -> NDArray[np.float32]:
        """(H, W, 3) a share as it was; nought where no light came that way."""
        if name not in self.planes:
            return np.zeros((*self.counts.shape, 3), np.float32)
        return self.planes[name].astype(np.float32) / np.float32(self.scales[name])


def with_lamps_off(lightings: Sequence[Lighting]) -> list[Lighting]:
    """The lightings with one lamp off that hides something, or the sky: as far as one trace can tell what is
    seen then apart."""
    found: dict[tuple[Sight, Sight], Lighting] = {}
    seen = {sight_of(lighting) for lighting in lightings}
    for lighting in lightings:
        hiding = [light for light in lighting.lights if light.hides]
        domes = [light for light in lighting.lights if light.kind == "dome"]
        for off in (*([light] for light in hiding), domes):
            others = tuple(light for light in lighting.lights if not any(light is each for each in off))
            made = replace(lighting, lights=others)
            sight = sight_of(made)
            if off and (sight in seen or len(seen) < MOST_SIGHTS):
                seen.add(sight)
                found.setdefault((sight, frozenset(map(shape_of, others))), made)
    return list(found.values())


def shares_of(
    films: FilmSums, mixing: Mixing, lamps_of: Sequence[Sequence[Lamp]], counts: NDArray[np.int32],
    passes: Iterable[str], traced: float,
) -> LightShares:  # fmt: skip
    """The light shares of a trace that added up by lamp.

    Parameters
    ----------
    lamps_of : for each lighting of the company its lamps, in the order of its lights.
    """
    company, sums = mixing.company, films.sums
    names = _names(company, lamps_of)
    radiance = {name: version.light.radiance for name, version in zip(names, company.versions, strict=False)}
    sights = {int(s): sight_name(lamps_of[k]) for k, s in zip(company.wanted, company.sights, strict=True)}
    light = sums["light_sums"] + sums["light_half"]
    per_sample = (1.0 / np.maximum(counts, 1)).astype(np.float32)[..., None]
    made: dict[str, NDArray[np.float32]] = {}
    for number, (row, sight) in enumerate(company.sums.origins):
        made[f"{sights[sight]}/{names[row]}/"] = light[number]
        for part, key in _parts(mixing):
            pair = int(mixing.pairs[part, number])
            if pair >= 0:
                made[f"{sights[sight]}/{names[row]}/{key}"] = sums["shares"][pair]
    alphas = {0: np.repeat((sums["beauty"] + sums["half"])[..., 3:], 3, axis=-1)}
    alphas |= {s: light[company.sums.count + s - 1] for s in sights if s}
    made |= {f"{sights[s]}//alpha": alpha for s, alpha in alphas.items()}
    made |= {f"//{key}": sums["shares"][part] for part, key in _parts(mixing, of_lamps=False)}
    planes, scales = {}, {}
    for name, plane in made.items():
        mean = np.nan_to_num(plane * per_sample)
        largest = float(np.abs(mean).max(initial=0.0))
        if largest > 0.0 or name.endswith("alpha"):
            scales[name] = 2.0 ** np.floor(np.log2(_LARGEST / max(largest, 1e-30)))
            planes[name] = (mean * np.float32(scales[name])).astype(np.float16)
    lit = {name: value for name, value in radiance.items() if max(value) > 0.0}
    held: dict[str, set[str]] = {name: set() for name in sights.values()}
    for row, sight in company.sums.origins:
        held[sights[sight]].add(names[row])
    index = ShareIndex(
        lit, {sight: frozenset(lamps) for sight, lamps in held.items()},
        frozenset(_unseen(made, held)), frozenset(passes), traced,
    )  # fmt: skip
    return LightShares(index, planes, scales, films.data, counts)


def _names(company: Company, lamps_of: Sequence[Sequence[Lamp]]) -> list[str]:
    """The name of the lamp of each version, and of surfaces that glow."""
    name_of = {
        shape_of(light): lamp.name
        for lighting, lamps in zip(company.lightings, lamps_of, strict=True)
        for light, lamp in zip(lighting.lights, lamps, strict=True)
    }
    return [*(name_of[shape_of(version.light)] for version in company.versions), GLOWING]


def _parts(mixing: Mixing, of_lamps: bool = True) -> Iterator[tuple[int, str]]:
    """Numbers and names of the parts of the beauty that lamps have shares in, or of all others."""
    for name, places in mixing.shares.places.items():
        for k, part in enumerate(places):
            if (mixing.shares.table[part, 0] not in (CLOSED, LIT)) == of_lamps:
                yield part, f"{name} {k}"


def _unseen(planes: Mapping[str, NDArray], held: Mapping[str, Set[str]]) -> Iterator[str]:
    """Names of lamps without which the picture is the same but for their own light.

    Parameters
    ----------
    held : sight → the lamps whose light was added up in it.
    """
    for ours, lamps in held.items():
        for theirs in held:
            gone = set(ours.split()) - set(theirs.split())
            if len(gone) != 1 or SKY in gone or not set(theirs.split()) < set(ours.split()):
                continue
            (name,) = gone
            # Only where the light of all others is known with it and without it.
            if lamps - gone <= held[theirs] and all(
                np.array_equal(plane, planes[f"{theirs}/{key.partition('/')[2]}"])
                for key, plane in planes.items()
                if key.partition("/")[0] == ours and key.split("/")[1] != name
            ):
                yield name


@dataclass(eq=False)
class Filled:
    """Sums of films that are mixed from kept shares; they take the place of what is traced in rounds."""

    films: FilmSums
    shares: LightShares
    rays: int = 0

    def counts(self, film: int) -> NDArray[np.int32]:
        return self.shares.counts

    def seconds(self) -> NDArray[np.float32]:
        return np.zeros(self.shares.counts.shape, np.float32)

    def is_whole(self, film: int | None = None) -> bool:
        return True

    def noise_of(self, film: int, half: NDArray[np.float32], other: NDArray[np.float32]) -> float | None:
        return None


def filled(
    sums: dict[str, NDArray], mixing: Mixing, shares: LightShares, lamps_of: Sequence[Sequence[Lamp]]
) -> Filled:
    """The sums of films, filled from kept shares.

    Parameters
    ----------
    sums : empty, for a company by lamp whose lightings are all wanted.
    """
    company, index = mixing.company, shares.index
    names = _names(company, lamps_of)
    counts = shares.counts.astype(np.float32)[..., None]
    shown = {int(s): sight_name(lamps_of[k]) for k, s in zip(company.wanted, company.sights, strict=True)}
    for name in shares.data:
        sums[name] = shares.data[name]
    for number, (row, sight) in enumerate(company.sums.origins):
        name = names[row]
        if name == GLOWING:
            stronger = np.ones(3, np.float32)
        else:
            old, new = np.array(index.lamps[name]), np.array(company.versions[row].light.radiance)
            stronger = np.divide(new, old, out=np.zeros(3), where=old > 0.0).astype(np.float32)
        key = f"{index.sight_like(shown[sight], name)}/{name}/"
        sums["light_sums"][number] = shares.plane(key) * counts * stronger
        for part, part_key in _parts(mixing):
            pair = int(mixing.pairs[part, number])
            if pair >= 0:
                sums["shares"][pair] = shares.plane(key + part_key) * counts * stronger
    for sight, looks in shown.items():
        alpha = shares.plane(f"{index.sight_like(looks)}//alpha") * counts
        if sight:
            sums["light_sums"][company.sums.count + sight - 1] = alpha
        else:
            sums["beauty"][..., 3] = alpha[..., 0]
    for part, part_key in _parts(mixing, of_lamps=False):
        sums["shares"][part] = shares.plane(f"//{part_key}") * counts
    return Filled(FilmSums(sums, mixing), shares)
