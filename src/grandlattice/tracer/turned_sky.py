"""A sky with an image that lightings turn in several ways about its pole, lit for all of them at once.

A direction serves every way the sky is turned: what it shows of each is a reading of the same two rows of
the image, so many columns further on.  The readings of one path are worked out sixteen ways at a time, where
everything else is worked out for sixteen paths.  They are added to sums of their own, the ways of a path
side by side (see `WORDS`); the sun of each way is drawn and added apart, see `direct_lighting`.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from grandlattice.tracer.company import MOST_SIGHTS, Company, LightSums
from grandlattice.tracer.kernel_memory import Pinned, float32s, int32s, load, record, store, table
from grandlattice.tracer.lanes import (
    LANES,
    all_lanes,
    bits_of,
    inner,
    lowest_bit,
    number_in,
    to_floats,
    to_ints,
    where,
)
from grandlattice.tracer.path_state import CAPACITY, COLUMN, HIDDEN, LINE, SHARES
from grandlattice.tracer.sampling import combine
from grandlattice.tracer.sky_steps import (
    Place,
    Turns,
    places_of,
    read_sorted,
    sorted_image,
    steps_of,
    texel_of_sorted,
    turns_of,
)

# mypy: disable-error-code="no-untyped-def"

SKY = np.dtype(
    [
        ("count", "i8"),  # of its sums, a multiple of 16
        ("begin", "i8"),  # where its sums begin among those of a path
        ("texels", "i8"), ("height", "i8"), ("width", "i8"),  # (height, width + 1, 3) float32, the image
        # Of each sum: how many columns further on its image is read, and parts of one; the bit of its sight.
        ("offsets", "i8"), ("fractions", "i8"), ("bits", "i8"),
        ("axes", "i8"), ("cosines", "i8"),  # where its sun is, and the cosine of the sun's radius
        ("sun_from", "f8"), ("sun_to", "f8"),  # texture coordinates v between which there is a sun
        # The image sorted by steps, 0 where it is read as it is, see `sky_steps`: numbers of a column for
        # each channel, numbers of a line; steps there are, rounded up to 16; whether a step is whole columns;
        # for each column where it is in a line, and what is left over; for each sum at which part its step
        # begins.
        ("steps", "i8"), ("lanes", "i8"), ("run", "i8"), ("padded", "i8"), ("parts", "i8"), ("is_even", "i8"),
        ("bases", "i8"), ("left_over", "i8"), ("begins_at", "i8"),
    ],
    align=True,
)  # fmt: skip

sky_at = record(SKY)
_SIZE = SKY.itemsize
_ANY_HIDDEN = HIDDEN * ((1 << MOST_SIGHTS) - 1)


class TurnedSkies:
    """The turned skies of a company, ready for the kernel.

    Parameters
    ----------
    company : of lightings.
    lights : the light table.
    images : lamp → its image (H, W, 3) float32 with the first column again behind the last.
    steps_of : may keep what it returned for an image before.

    Attributes
    ----------
    lamps : that are such skies.
    words : how many numbers a path has for them.
    """

    def __init__(
        self, company: Company, lights: NDArray, images: dict[int, NDArray[np.float32]],
        steps_of: Callable[[Turns, NDArray[np.float32]], NDArray[np.float32]] = steps_of,
    ) -> None:  # fmt: skip
        sums, self.lamps, self._steps_of = company.sums, sorted(images), steps_of
        self.words, self._held = 0, list[object]()
        self._numbers: list[tuple[NDArray[np.int64], NDArray[np.float32]]] = []
        self._rows = table(SKY, len(self.lamps))
        for k, lamp in enumerate(self.lamps):
            first = int(lights["others"][lamp])
            rows = [lamp, *range(first, first + int(lights["versions"][lamp]) - 1)]
            self._fill(self._rows[k], lights, rows, sums, images[lamp])

    def _fill(
        self, sky: NDArray, lights: NDArray, rows: Sequence[int], sums: LightSums, image: NDArray
    ) -> None:  # fmt: skip
        entries = [(n, e) for n, row in enumerate(rows) for e in range(sums.first[row], sums.first[row + 1])]
        height, width = image.shape[0], image.shape[1] - 1
        turns = turns_of([float(lights["turn"][row]) for row in rows], width)
        places, is_sorted = places_of(turns, [n for n, _ in entries], height)
        count = -(-(max(places, default=0) + 1) // LANES) * LANES
        offsets, fractions = np.zeros(count, np.int32), np.zeros(count, np.float32)
        weights = np.zeros((3, count), np.float32)
        bits, numbers = np.zeros(count, np.int32), np.full(count, -1, np.int64)
        axes, cosines = np.zeros((3, count), np.float32), np.full(count, 2.0, np.float32)
        for j, (n, entry) in zip(places, entries, strict=True):
            row = rows[n]
            offsets[j], fractions[j] = turns.wholes[n], turns.rest[n]
            weights[:, j] = lights["radiance"][row] * sums.weights[entry, :3]
            bits[j], numbers[j] = sums.bits[entry], sums.sums[entry]
            axes[:, j], cosines[j] = lights["sun_axis"][row], lights["sun_cosine"][row]
        told = {
            "texels": np.ascontiguousarray(image, np.float32),
            "offsets": offsets, "fractions": fractions, "bits": bits, "axes": axes, "cosines": cosines,
            **_band_of_sun(lights[rows[0]]),
            **(sorted_image(turns, self._steps_of(turns, image), count) if is_sorted else {}),
        }  # fmt: skip
        pinned = Pinned(SKY, count=count, begin=self.words, height=height, width=width, **told)
        for name in SKY.names or ():
            sky[name] = pinned.record[name]
        self._held.append(pinned)
        self._numbers.append((numbers, weights))
        self.words += 3 * count

    def are_all_of(self, company: Company) -> bool:
        """Whether every turned sky of a company is here."""
        return set(self.lamps) == set(company.turned_skies)

    @property
    def have_suns(self) -> bool:
        """Whether any has a sun that is drawn apart."""
        return bool((self._rows["sun_from"] <= 1.0).any())

    @property
    def options(self) -> dict[str, object]:
        """Fields of the kernel's options."""
        return {"skies": self._rows, "sky_words": self.words}

    def add_to(self, light: NDArray[np.float32], sky: NDArray[np.float32]) -> None:
        """Add sums of skies (H, W, words) to light sums (sums, H, W, 3)."""
        at = 0
        for numbers, weights in self._numbers:
            count, there = len(numbers), np.flatnonzero(numbers >= 0)
            weight, into = weights.T[there, None, :], numbers[there]
            is_distinct = len(np.unique(into)) == len(into)
            for line in range(len(sky)):  # a line fits a processor's cache
                part = sky[line, :, at : at + 3 * count].reshape(-1, 3, count)
                shown = part.transpose(2, 0, 1)[there] * weight  # (sums, W, 3)
                if is_distinct:
                    light[into, line] += shown
                else:
                    for n, number in enumerate(into.tolist()):
                        light[number, line] += shown[n]
            at += 3 * count


def _band_of_sun(light: NDArray) -> dict[str, float]:
    """Between which texture coordinates v there is a sun; between none without one."""
    if light["sun_count"] == 0:
        return {"sun_from": 2.0, "sun_to": 2.0}
    height = np.dot(light["sun_axis"].astype(np.float64), light["upward"].astype(np.float64))
    middle, radius = math.acos(np.clip(height, -1.0, 1.0)), math.acos(np.clip(light["sun_cosine"], -1.0, 1.0))
    return {"sun_from": (middle - radius) / math.pi - 1e-4, "sun_to": (middle + radius) / math.pi + 1e-4}


class SkyLook(NamedTuple):
    """Directions in a turned sky, a lane each."""

    seen: Any  # `light_sampling.SkySeen`: where they lie in the sky as it is turned first
    direction: Any
    light: Any  # what radiance is multiplied by on its way to the camera, a triple
    sights: Any  # bits of the sights that are meant, as in a path's state; one number
    whole: Any  # 1 where its sun is shown, too, else 0; one number
    sharp: Any  # where the image is read between its texels, and not at one of them


@inner
def sky_words_of(room, options, number):
    """The place of a path's sums of skies."""
    return SHARES + 3 * fields_of(options) * CAPACITY + number * options.sky_words


@inner
def fields_of(options):
    """How many fields of three numbers a path's results have behind the others: parts, light sums, alphas."""
    return options.sums_from + options.sum_count + max(options.sights - 1, 0)


@inner
def add_sky(room, options, number, active, path, looks):
    """Add what a sky shows in directions, in each way it is turned.

    Where nothing sharp is seen, one of the four texels around a direction is drawn by its weight in the
    bilinear mean and speaks for them: a quarter of what is read otherwise, which is what takes the time.

    Parameters
    ----------
    number : of the sky.
    """
    sky, v = sky_at(options.skies + _SIZE * number), looks.seen.v
    x, y = looks.seen.u * (1.0 * sky.width) - 0.5, v * (1.0 * sky.height) - 0.5
    aside, along = _drawn_texel(looks.seen)
    x, y = where(looks.sharp, x, x + aside), where(looks.sharp, y, y + along)
    left_edge, top_edge = math.floor(x), math.floor(y)
    part, below = x - left_edge, y - top_edge
    left, top = to_ints(left_edge), to_ints(top_edge)
    line = sky.run if sky.steps != 0 else 3 * (sky.width + 1)
    high, low = min(max(top, 0), sky.height - 1) * line, min(top + 1, sky.height - 1) * line
    # Where nothing is hidden and no sun is near, all ways show what they have.
    free = (path.state & _ANY_HIDDEN) == 0
    if looks.whole == 0:
        free = free & ((v < sky.sun_from) | (v > sky.sun_to))
    bits, free_bits, sharp_bits = bits_of(active), bits_of(free), bits_of(looks.sharp)
    while bits != 0:
        lane, lowest = lowest_bit(bits), bits & (0 - bits)
        is_free = (free_bits & lowest) != 0 and looks.sights == -1
        is_sharp = (sharp_bits & lowest) != 0
        bits = bits & (bits - 1)
        column, left_over = number_in(left, lane), 0
        upper, lower = number_in(high, lane), number_in(low, lane)
        if sky.steps != 0:
            column = column + sky.width if column < 0 else column
            column = column - sky.width if column >= sky.width else column
            left_over, base = int32s(sky.left_over)[column], int32s(sky.bases)[column]
            upper, lower = upper + base, lower + base
        place = Place(column, upper, lower, left_over, number_in(part, lane), number_in(below, lane))
        at = sky_words_of(room, options, number_in(path.number, lane)) + sky.begin
        red, green, blue = looks.light
        light = number_in(red, lane), number_in(green, lane), number_in(blue, lane)
        if is_free and is_sharp:
            for j in range(0, sky.count, LANES):
                _add_shown(room, sky, at + j, _shown(sky, place, j), light)
        elif is_free:
            for j in range(0, sky.count, LANES):
                _add_shown(room, sky, at + j, _texels_of(sky, place, j), light)
        else:
            direction = looks.direction
            x, y, z = (
                number_in(direction[0], lane), number_in(direction[1], lane), number_in(direction[2], lane)
            )  # fmt: skip
            state = number_in(path.state, lane)
            for j in range(0, sky.count, LANES):
                in_sun = x * load(float32s(sky.axes), j) + y * load(float32s(sky.axes), j + sky.count)
                in_sun = in_sun + z * load(float32s(sky.axes), j + 2 * sky.count)
                sight = load(int32s(sky.bits), j)
                shows = in_sun <= load(float32s(sky.cosines), j) + 4.0 * looks.whole
                shows = shows & ((sight & state) == 0) & ((sight & looks.sights) != 0)
                red, green, blue = _shown(sky, place, j) if is_sharp else _texels_of(sky, place, j)
                colour = where(shows, red, 0.0), where(shows, green, 0.0), where(shows, blue, 0.0)
                _add_shown(room, sky, at + j, colour, light)


@inner
def _add_shown(room, sky, at, colour, light):
    """Add what sixteen ways show, times the light of a path, to its sums."""
    results = float32s(room)
    store(results, at, load(results, at) + colour[0] * light[0])
    store(results, at + sky.count, load(results, at + sky.count) + colour[1] * light[1])
    store(results, at + 2 * sky.count, load(results, at + 2 * sky.count) + colour[2] * light[2])


@inner
def _drawn_texel(seen):
    """Two numbers in [0, 1) that a texel beside a direction is drawn with, a hash of where it lies."""
    word = combine(to_ints(seen.u * 16777216.0), to_ints(seen.v * 16777216.0))
    return to_floats((word >> 16) & 0xFFFF) * (1.0 / 65536.0), to_floats(word & 0xFFFF) * (1.0 / 65536.0)


@inner
def _texels_of(sky, place, j):
    """The texel in a place for sums `j` and the fifteen behind it."""
    over = load(float32s(sky.fractions), j) + place.across >= 1.0
    if sky.steps != 0:
        red = texel_of_sorted(sky, 0, place, j, over)
        green = texel_of_sorted(sky, 1, place, j, over)
        blue = texel_of_sorted(sky, 2, place, j, over)
    else:
        k, texels = _columns(sky, place, j, over) + place.upper, float32s(sky.texels)
        red, green, blue = texels[k], texels[k + 1], texels[k + 2]
    return red, green, blue


@inner
def _columns(sky, place, j, over):
    """Where the columns that sums `j` and the fifteen behind it read begin in a line of the image."""
    k = load(int32s(sky.offsets), j) + place.column + where(over, 1, 0)
    k = where(k < 0, k + sky.width, k)
    return where(k >= sky.width, k - sky.width, k) * 3


@inner
def _shown(sky, place, j):
    """What the image shows in a place for sums `j` and the fifteen behind it, bilinear."""
    f = load(float32s(sky.fractions), j) + place.across
    over = f >= 1.0
    f = where(over, f - 1.0, f)
    if sky.steps != 0:
        red = read_sorted(sky, 0, place, j, over, f)
        green = read_sorted(sky, 1, place, j, over, f)
        blue = read_sorted(sky, 2, place, j, over, f)
    else:
        k = _columns(sky, place, j, over)
        red = _read(sky, 0, k, place.upper, place.lower, f, place.down)
        green = _read(sky, 1, k, place.upper, place.lower, f, place.down)
        blue = _read(sky, 2, k, place.upper, place.lower, f, place.down)
    return red, green, blue


@inner
def _read(sky, channel, k, upper, lower, f, b):
    """A channel of the image, between the texels at `k` and the next ones, and two lines."""
    texels = float32s(sky.texels)
    high, low = texels[k + (upper + channel)], texels[k + (lower + channel)]
    high = high + f * (texels[k + (upper + channel + 3)] - high)
    low = low + f * (texels[k + (lower + channel + 3)] - low)
    return high + b * (low - high)


@inner
def clear_skies(room, options, places):
    """Make the sums of skies of a batch nought."""
    results, first = float32s(room), sky_words_of(room, options, 0)
    for k in range(0, places * options.sky_words, LANES):
        store(results, first + k, all_lanes(0.0))


@inner
def develop_skies(room, film, options, pixels, stride, count):
    """Add the sums of skies of a batch to the film, a pixel's samples in order."""
    words, results, sums = int32s(room), float32s(room), float32s(film.sky)
    size, places = options.sky_words, pixels * stride
    for i in range(pixels):
        k = i * stride
        pixel = (words[LINE + k] - film.top) * film.width + words[COLUMN + k] - film.left
        for word in range(0, size, LANES):
            total = load(sums, pixel * size + word)
            for sample in range(k, k + count):
                at = sky_words_of(room, options, sample) + word
                whole = load(results, at)
                for branch in range(1, options.branches):
                    whole += load(results, at + branch * places * size)
                total += where(abs(whole) < 3e38, whole, 0.0)
            store(sums, pixel * size + word, total)
