"""Rounds: how the samples of a picture follow each other, and when a picture has enough of them.

A picture is traced in rounds over its tiles, the first of one sample, so that there is something of
every pixel soon; the later ones of sixteen.  A tile's rounds come in one order whatever else
happens, so a picture that is taken further has the same bytes as one that was never interrupted.

Light of every other round is kept apart: the two halves of a picture differ by its noise.  With a
and b their means over n and m samples, |a − b| √(n m)/(n + m) is as far off as the mean of all.
Absolute values, not squares: one bright speck does not speak for a picture.

Whether a tile is clean depends on nothing but the tile and one number of the whole picture, so that a
part of a picture has as many samples as the whole has there.  Where several films come of one trace each is
judged by itself, and the trace goes on until all of them are clean.
"""

from __future__ import annotations

import math
import time
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from grandlattice.tracer.film_sums import FilmSums
from grandlattice.tracer.lanes import LANES

TILE = 32
_FIRST = (1, 1, 2, 4, 8)  # samples of the first rounds …
_USUAL = 16  # … and of all others
_ENOUGH_TO_JUDGE = 5  # rounds before a tile may be called clean
_DARK = 0.05  # share of the usual light that counts as light in a dark tile


Window = tuple[int, int, int, int]


class Tile(NamedTuple):
    """A rectangle of pixels, and its place among the tiles."""

    left: int
    top: int
    right: int
    bottom: int
    number: int

    @property
    def pixels(self) -> tuple[slice, slice]:
        return slice(self.top, self.bottom), slice(self.left, self.right)

    @property
    def size(self) -> int:
        return (self.right - self.left) * (self.bottom - self.top)


class Round(NamedTuple):
    """Samples `first` … `first + samples` of every pixel, the `number`-th time."""

    number: int
    first: int
    samples: int


def rounds_of(samples: int) -> list[Round]:
    """The rounds that make up a number of samples."""
    made: list[Round] = []
    first = 0
    while first < samples:
        usual = _FIRST[len(made)] if len(made) < len(_FIRST) else _USUAL
        made.append(Round(len(made), first, min(usual, samples - first)))
        first += made[-1].samples
    return made


def tiles_of(width: int, height: int) -> list[Tile]:
    """The tiles of a picture, those that follow each other far apart: wherever a round is cut
    short, what it left out is spread."""
    corners = [(x, y) for y in range(0, height, TILE) for x in range(0, width, TILE)]
    order = np.argsort(np.arange(len(corners)) * 0.6180339887498949 % 1.0, kind="stable")
    return [
        Tile(x, y, min(x + TILE, width), min(y + TILE, height), k)
        for k, (x, y) in enumerate(corners[i] for i in order)
    ]


def whole_tiles(window: Window, width: int, height: int) -> Window:
    """The tiles of a picture that a part of it touches, as left, top, right, bottom."""
    left, top, right, bottom = window
    left, top = left // TILE * TILE, top // TILE * TILE
    return left, top, min(-(-right // TILE) * TILE, width), min(-(-bottom // TILE) * TILE, height)


def whole_packets(window: Window, width: int, height: int) -> Window:
    """What of a picture must be traced for a part of it to have the very pixels it has in the whole.

    Rays from the camera travel in packets of sixteen pixels of a line of a tile.  Embree does not promise
    that a ray meets the same of two touching triangles whatever else is in its packet, so a region is
    traced in the packets of the whole picture.  Where the width is no multiple of sixteen, the packets of
    the last tiles in a line go round corners, and whole tiles are traced.
    """
    left, top, right, bottom = window
    across = LANES
    if right > width // TILE * TILE and width % LANES:
        across = TILE
        top, bottom = top // TILE * TILE, min(-(-bottom // TILE) * TILE, height)
    return left // across * across, top, min(-(-right // across) * across, width), bottom


@dataclass(frozen=True, eq=False)
class Unfinished:
    """The films of a trace as far as it came, to be taken further.

    Attributes
    ----------
    sums : every buffer, as it is added up.
    settled : what was put aside of films that needed no more, see `FilmSums.settled`.
    taken : (tiles,) how many rounds each tile has had.
    ended : (films, tiles) how many of them count for each film; −1 where all do.
    number : of the round under way.
    rays, seconds : so far.
    """

    sums: Mapping[str, NDArray]
    settled: Mapping[str, NDArray]
    taken: NDArray[np.int32]
    ended: NDArray[np.int32]
    number: int
    rays: int
    seconds: float


class Rounds:
    """The rounds of one trace, and what they add up to.

    Parameters
    ----------
    films : the sums that are added to.
    samples : of each pixel at most.
    noise : relative error at which a tile of a film is clean; None traces all samples.
    usual : light of each film on average, that dark tiles are judged by.
    seconds : after which no tile begins that has a sample already; None is never.
    started : when the seconds began, by `time.perf_counter`; None is with the first round.
    begun : the same films as far as they were traced before.
    """

    def __init__(
        self, films: FilmSums, samples: int, noise: float | None = None,
        usual: Sequence[float] = (), seconds: float | None = None, begun: Unfinished | None = None,
        started: float | None = None,
    ) -> None:  # fmt: skip
        self.films, self._limit, self._target = films, seconds, noise
        self._dark = [_DARK * light for light in usual]
        height, width = self._shape = films.sums["beauty"].shape[:2]
        self.tiles, self.rounds = tiles_of(width, height), rounds_of(samples)
        self._bands = _bands_of(self.tiles)
        self.taken = np.zeros(len(self.tiles), np.int32)
        self.ended = np.full((films.count, len(self.tiles)), -1, np.int32)
        self.number = self.rays = 0
        self.seconds_before = 0.0
        if begun is not None:
            films.begin_with(begun.sums, begun.settled, {tile.number: tile.pixels for tile in self.tiles})
            self.taken[:], self.ended[:] = begun.taken, begun.ended
            self.number, self.rays, self.seconds_before = begun.number, begun.rays, begun.seconds
        self._started, self._since = math.inf, started
        self.tile_seconds = np.zeros(len(self.tiles))
        self._whole = sum(r.samples for r in self.rounds) * width * height
        self._done = int(sum(self._samples_of(self.taken[t.number]) * t.size for t in self.tiles))

    # --- one after the other -----------------------------------------------------------------------

    def __iter__(self) -> Iterator[tuple[Round, list[Tile]]]:
        """Rounds with the tiles that have still to be traced in each; ends when time is up."""
        self._started = time.perf_counter() if self._since is None else self._since
        while self.number < len(self.rounds):
            left = self._left(self.tiles)
            if left:
                yield self.rounds[self.number], left
            if self._left(left):
                return  # time was up before they were all begun
            self.number += 1
            self._judge()
            if self._clean.all() or (self.number and self.is_late):
                return

    @property
    def _clean(self) -> NDArray[np.bool_]:
        """(tiles,) whether no film needs more of a tile."""
        return np.asarray((self.ended >= 0).all(axis=0))

    def _left(self, tiles: Iterable[Tile]) -> list[Tile]:
        """Those that have still to be traced in this round."""
        waits = ~self._clean & (self.taken == self.number)
        return [tile for tile in tiles if waits[tile.number]]

    @property
    def is_late(self) -> bool:
        """Whether the time is up."""
        return self._limit is not None and time.perf_counter() - self._started >= self._limit

    def may_begin(self, tile: Tile) -> bool:
        """Whether a tile should be traced now; each has its first sample whatever the time."""
        return self.taken[tile.number] == 0 or not self.is_late

    def after(self, tile: Tile, rays: int, seconds: float) -> None:
        """A tile is traced; one at a time says so."""
        self.tile_seconds[tile.number] += seconds
        self.taken[tile.number] += 1
        self.rays += rays
        self._done += self.rounds[self.number].samples * tile.size

    @property
    def share(self) -> float:
        """How much is done, 0..1, of the samples or of the time, whichever is more."""
        late = (time.perf_counter() - self._started) / self._limit if self._limit else 0.0
        return min(1.0, max(self._done / max(self._whole, 1), late))

    # --- what there is -----------------------------------------------------------------------------

    def _samples_of(self, taken: int) -> int:
        return self.rounds[taken - 1].first + self.rounds[taken - 1].samples if taken else 0

    def _taken_by(self, film: int) -> NDArray[np.int32]:
        """(tiles,) how many rounds count for a film."""
        return np.where(self.ended[film] >= 0, self.ended[film], self.taken)

    def counts(self, film: int | None = None) -> NDArray[np.int32]:
        """(H, W) samples of each pixel of a film, or of all that was traced."""
        every = self.taken if film is None else self._taken_by(film)
        samples = np.array([self._samples_of(taken) for taken in every.tolist()], np.int32)
        return np.broadcast_to(self._spread(samples), self._shape)

    def seconds(self) -> NDArray[np.float32]:
        """(H, W) seconds each pixel took, the same within a tile."""
        each = np.zeros(len(self.tiles), np.float32)
        for tile in self.tiles:
            each[tile.number] = self.tile_seconds[tile.number] / tile.size
        return np.broadcast_to(self._spread(each), self._shape)

    def is_whole(self, film: int | None = None) -> bool:
        """Whether no pixel of a film, or of any, needs more samples."""
        clean = self._clean if film is None else self.ended[film] >= 0
        return bool((clean | (self.taken == len(self.rounds))).all())

    def unfinished(self, seconds: float) -> Unfinished:
        """What is needed to take the films further."""
        films = self.films
        return Unfinished(
            films.sums, films.settled, self.taken, self.ended, self.number, self.rays, seconds
        )  # fmt: skip

    def noise_of(self, film: int, half: NDArray[np.float32], other: NDArray[np.float32]) -> float | None:
        """Relative error of a film: its mean over the mean light; None below two rounds.

        Parameters
        ----------
        half, other : sums of the beauty over the odd rounds, and over the even ones, (H, W, 3 or 4).
        """
        taken = self._taken_by(film)
        if taken.min() < 2:
            return None
        error, light = self._errors(half, other, [self._spread(part) for part in self._scales(taken)])
        mean = float(np.mean(light, dtype=np.float64))
        return float(np.mean(error, dtype=np.float64)) / mean if mean > 0.0 else 0.0

    def _scales(self, taken: NDArray[np.int32]) -> list[NDArray[np.float32]]:
        """What errors, the odd rounds, the even ones and the light of both are multiplied by, for so many
        rounds each."""
        odd, even = np.zeros(len(self.rounds) + 1), np.zeros(len(self.rounds) + 1)
        for r in self.rounds:
            odd[r.number + 1] = odd[r.number] + (r.samples if r.number % 2 else 0)
            even[r.number + 1] = even[r.number] + (0 if r.number % 2 else r.samples)
        n, m = odd[taken], even[taken]
        found = np.sqrt(n * m) / (3.0 * (n + m)), 1.0 / n, 1.0 / m, 1.0 / (3.0 * (n + m))
        return [part.astype(np.float32) for part in found]

    @staticmethod
    def _errors(odd_sums: NDArray, even_sums: NDArray, scales: Sequence[NDArray]) -> tuple[NDArray, NDArray]:
        """Error and light of each pixel, (H, W) each; the scales are those of its tile."""
        scale, of_half, of_other, of_all = scales
        apart, light = (np.zeros(odd_sums.shape[:2], np.float32) for _ in range(2))
        for k in range(3):
            half, other = odd_sums[..., k], even_sums[..., k]
            apart += np.abs(half * of_half - other * of_other)
            light += half + other
        return apart * scale, light * of_all

    def _spread(self, of_tiles: NDArray) -> NDArray:
        """Numbers of tiles over their pixels; one number where all are the same."""
        if (of_tiles == of_tiles[0]).all():
            return of_tiles[0]
        found = np.empty(self._shape, of_tiles.dtype)
        for tile in self.tiles:
            found[tile.pixels] = of_tiles[tile.number]
        return found

    def _judge(self) -> None:
        """Call tiles of films clean whose error is small enough beside their light."""
        if self._target is None or self.number < _ENOUGH_TO_JUDGE:
            return
        for band in self._bands:
            numbers = np.array([tile.number for tile in band])
            open_to = (self.ended[:, numbers] < 0) & (self.taken[numbers] == self.number)
            films = np.flatnonzero(open_to.any(axis=1)).tolist()
            if not films:
                continue
            lefts, widths = [tile.left for tile in band], [tile.right - tile.left for tile in band]
            # Tiles of which nothing is judged may have had fewer rounds; what comes of them is not looked at.
            scales = [np.repeat(part, widths) for part in self._scales(np.maximum(self.taken[numbers], 2))]
            rows = slice(band[0].top, band[0].bottom), slice(None)
            for film, (odd, even) in zip(films, self.films.lights(films, rows), strict=True):
                error, light = (
                    np.add.reduceat(part.sum(axis=0, dtype=np.float64), lefts) / [t.size for t in band]
                    for part in self._errors(odd, even, scales)
                )
                is_clean = open_to[film] & (error <= self._target * (light + self._dark[film]))
                self.ended[film, numbers[is_clean]] = self.number
            for tile in band:
                settled = np.flatnonzero(self.ended[:, tile.number] == self.number).tolist()
                if settled and (self.ended[:, tile.number] < 0).any():
                    self.films.settle(settled, tile.number, tile.pixels)


def _bands_of(tiles: Iterable[Tile]) -> list[list[Tile]]:
    """Tiles that lie beside each other, from left to right."""
    rows: dict[int, list[Tile]] = {}
    for tile in sorted(tiles, key=lambda tile: (tile.top, tile.left)):
        rows.setdefault(tile.top, []).append(tile)
    return list(rows.values())
