"""The sums of a trace, and what each of its films has of them.

Films of one trace differ in noise: a tile of one may have enough samples while the trace goes on for others.
It is *settled* then, put aside as it is, so that the film has the same bytes whichever others are traced
with it.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from grandlattice.tracer.light_mixing import Mixing

if TYPE_CHECKING:
    from grandlattice.tracer.turned_sky import TurnedSkies

Pixels = tuple[slice, slice]

_WHOLE: Pixels = (slice(None), slice(None))
_OF_LIGHT = ("beauty", "half", "shares", "light_sums", "light_half", "sky", "sky_half")
_STACKED = ("shares", "light_sums", "light_half")  # (N, H, W, 3)


class FilmSums:
    """What a trace adds up, and the sums of each film.

    Parameters
    ----------
    sums : the buffers that are added to, see `film.empty_sums`; light of every other round is in those
        called half.
    mixing : how films are mixed from light sums; None where there is one film.
    skies : those that are turned, whose light has sums of its own.
    """

    def __init__(
        self, sums: dict[str, NDArray], mixing: Mixing | None = None, skies: TurnedSkies | None = None
    ) -> None:  # fmt: skip
        self.sums, self._mixing, self._skies = sums, mixing, skies
        self._settled: dict[tuple[int, int], tuple[Pixels, dict[str, NDArray]]] = {}
        self.count = 1 if mixing is None else mixing.company.made

    @property
    def data(self) -> dict[str, NDArray]:
        """The buffers that no light is in."""
        return {name: sums for name, sums in self.sums.items() if name not in _OF_LIGHT}

    def lights(
        self, films: Iterable[int], pixels: Pixels = _WHOLE
    ) -> Iterator[tuple[NDArray[np.float32], NDArray[np.float32]]]:
        """Sums of the beauty of some films, (H, W, 4), over the rounds of odd number and over the others."""
        halves = ("half", "light_half", "sky_half"), ("beauty", "light_sums", "sky")
        if self._mixing is None:
            yield self.sums["half"][pixels], self.sums["beauty"][pixels]
            return
        alphas = [self.sums[beauty][pixels][..., 3:] for beauty, _, _ in halves]
        light = [self._light(sums, sky, pixels) for _, sums, sky in halves]
        for film in films:
            odd, even = (self._mixing.beauty(film, light[k], alphas[k]) for k in range(2))
            yield odd, even

    def _light(self, name: str, sky: str, pixels: Pixels) -> NDArray[np.float32]:
        """Light sums, those of turned skies in them."""
        light = self.sums[name][:, *pixels]
        if sky in self.sums and self._skies is not None:
            light = light.copy()
            self._skies.add_to(light, self.sums[sky][pixels])
        return light

    def fold(self) -> None:
        """Add the sums of turned skies to the light sums, once, when all is traced."""
        if self._skies is not None:
            for light, sky in (("light_sums", "sky"), ("light_half", "sky_half")):
                if sky in self.sums:
                    self._skies.add_to(self.sums[light], self.sums.pop(sky))

    def settle(self, films: Iterable[int], tile: int, pixels: Pixels) -> None:
        """Put a tile of some films aside: what is added from here on is not theirs."""
        chosen = list(films)
        data = {name: sums[pixels].copy() for name, sums in self.data.items()}
        for film, (odd, even) in zip(chosen, self.lights(chosen, pixels), strict=True):
            kept = {**data, "half": odd, "beauty": even}
            if "shares" in self.sums:
                kept["shares"] = self._parts(film, pixels)
            self._settled[film, tile] = pixels, kept

    def of_film(self, film: int) -> dict[str, NDArray]:
        """Every buffer as a film has it: `beauty` (even rounds) and `half` (odd ones), (H, W, 4), `shares`
        (parts, H, W, 3), and data; not to be written to."""
        ((odd, even),) = self.lights([film])
        made = self.data
        own = {"beauty", "half", "shares"}
        if "shares" in self.sums:
            made["shares"] = self._parts(film, _WHOLE)
        made |= {"beauty": even, "half": odd}
        for (number, _), (pixels, kept) in self._settled.items():
            for name in kept if number == film else ():
                if name not in own:
                    made[name] = made[name].copy()
                    own.add(name)
                at = (slice(None), *pixels) if name in _STACKED else pixels
                made[name][at] = kept[name]
        return made

    def _parts(self, film: int, pixels: Pixels) -> NDArray[np.float32]:
        shares: NDArray[np.float32] = self.sums["shares"][:, *pixels]
        return shares if self._mixing is None else self._mixing.parts(film, shares)

    # --- put away, to be taken further --------------------------------------------------------------

    @property
    def settled(self) -> dict[str, NDArray]:
        """What was put aside, under ``film tile name``."""
        return {
            f"{film} {tile} {name}": kept
            for (film, tile), (_, of_tile) in self._settled.items()
            for name, kept in of_tile.items()
        }

    def begin_with(
        self, sums: Mapping[str, NDArray], settled: Mapping[str, NDArray], tiles: Mapping[int, Pixels]
    ) -> None:  # fmt: skip
        """Begin with sums that were put away.

        Parameters
        ----------
        tiles : the pixels of each tile.
        """
        for name in self.sums:
            self.sums[name][...] = sums[name]
        for key, kept in settled.items():
            film, tile, name = key.split(" ")
            place = int(film), int(tile)
            self._settled.setdefault(place, (tiles[int(tile)], {}))[1][name] = kept


def part_of_sums(sums: Mapping[str, NDArray], pixels: Pixels) -> dict[str, NDArray]:
    """Some pixels of every buffer."""
    return {name: buffer[:, *pixels] if name in _STACKED else buffer[pixels] for name, buffer in sums.items()}
