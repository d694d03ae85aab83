"""A sky with an image that lightings turn in several ways about its pole, lit for all of them at once.

A direction serves every way the sky is turned: what it shows of each is a reading of the same two rows of
the image, so many columns further on.  The readings of one path are worked out sixteen ways at a time, where
everything else is worked out for sixteen paths.  They are added to sums of their own, the ways of a path
side by side (see `WORDS`); the sun of each way is drawn and added apart, see `direct_lighting`.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from grandlattice.tracer.company import Company, LightSums
from grandlattice.tracer.kernel_memory import Pinned, float32s, int32s, load, record, store, table
from grandlattice.tracer.lanes import (
    LANES,
    all_lanes,
    any_of,
    bits_of,
    inner,
    lowest_bit,
    number_in,
    to_ints,
    where,
)
from grandlattice.tracer.path_state import CAPACITY, COLUMN, LINE, SHARES, share_of

# mypy: disable-error-code="no-untyped-def"

SKY = np.dtype(
    [
        ("count", "i8"),  # of its sums, a multiple of 16
        ("begin", "i8"),  # where its sums begin among those of a path
        ("texels", "i8"), ("height", "i8"), ("width", "i8"),  # (height, width + 1, 3) float32, the image
        # Of each sum: how many columns further on its image is read, and parts of one; what its light is
        # multiplied by, three numbers one behind the other; what it is limited to; the bit of its sight.
        ("offsets", "i8"), ("fractions", "i8"), ("weights", "i8"), ("limits", "i8"), ("bits", "i8"),
        ("axes", "i8"), ("cosines", "i8"),  # where its sun is, and the cosine of the sun's radius
    ],
    align=True,
)  # fmt: skip

sky_at = record(SKY)
_SIZE = SKY.itemsize


class TurnedSkies:
    """The turned skies of a company, ready for the kernel.

    Parameters
    ----------
    company : of lightings.
    lights : the light table.
    images : lamp → its image (H, W, 3) float32 with the first column again behind the last.

    Attributes
    ----------
    lamps : that are such skies.
    words : how many numbers a path has for them.
    """

    def __init__(
        self, company: Company, lights: NDArray, images: dict[int, NDArray[np.float32]]
    ) -> None:  # fmt: skip
        sums, self.lamps = company.sums, sorted(images)
        self.words, self._held, self._numbers = 0, list[object](), list[NDArray]()
        self._rows = table(SKY, len(self.lamps))
        for k, lamp in enumerate(self.lamps):
            first = int(lights["others"][lamp])
            rows = [lamp, *range(first, first + int(lights["versions"][lamp]) - 1)]
            self._fill(self._rows[k], lights, rows, sums, images[lamp])

    def _fill(
        self, sky: NDArray, lights: NDArray, rows: Sequence[int], sums: LightSums, image: NDArray
    ) -> None:  # fmt: skip
        entries = [(row, e) for row in rows for e in range(sums.first[row], sums.first[row + 1])]
        count = -(-max(len(entries), 1) // LANES) * LANES
        height, width = image.shape[0], image.shape[1] - 1
        offsets, fractions = np.zeros(count, np.int32), np.zeros(count, np.float32)
        weights, limits = np.zeros((3, count), np.float32), np.full(count, np.inf, np.float32)
        bits, numbers = np.zeros(count, np.int32), np.full(count, -1, np.int64)
        axes, cosines = np.zeros((3, count), np.float32), np.full(count, 2.0, np.float32)
        for j, (row, entry) in enumerate(entries):
            columns = float(lights["turn"][row]) * width
            whole = round(columns) if abs(columns - round(columns)) < 1e-4 else math.floor(columns)
            offsets[j], fractions[j] = whole % width, max(columns - whole, 0.0)
            weights[:, j] = lights["radiance"][row] * sums.weights[entry, :3]
            limits[j], bits[j], numbers[j] = sums.weights[entry, 3], sums.bits[entry], sums.sums[entry]
            axes[:, j], cosines[j] = lights["sun_axis"][row], lights["sun_cosine"][row]
        told = {
            "texels": np.ascontiguousarray(image, np.float32),
            "offsets": offsets, "fractions": fractions, "weights": weights,
            "limits": limits, "bits": bits, "axes": axes, "cosines": cosines,
        }  # fmt: skip
        pinned = Pinned(SKY, count=count, begin=self.words, height=height, width=width, **told)
        for name in SKY.names or ():
            sky[name] = pinned.record[name]
        self._held.append(pinned)
        self._numbers.append(numbers)
        self.words += 3 * count

    @property
    def options(self) -> dict[str, object]:
        """Fields of the kernel's options."""
        return {"skies": self._rows, "sky_words": self.words}

    def add_to(self, light: NDArray[np.float32], sky: NDArray[np.float32]) -> None:
        """Add sums of skies (H, W, words) to light sums (sums, H, W, 3)."""
        at = 0
        for numbers in self._numbers:
            count = len(numbers)
            for line in range(len(sky)):  # a line fits a processor's cache
                part = sky[line, :, at : at + 3 * count].reshape(-1, 3, count)
                for j in np.flatnonzero(numbers >= 0):
                    light[numbers[j], line] += part[:, :, j]
            at += 3 * count


class SkyLook(NamedTuple):
    """Directions in a turned sky, a lane each."""

    seen: Any  # `light_sampling.SkySeen`: where they lie in the sky as it is turned first
    direction: Any
    light: Any  # what radiance is multiplied by on its way to the camera, a triple
    sights: Any  # bits of the sights that are meant, as in a path's state; one number


@inner
def sky_words_of(room, options, number):
    """The place of a path's sums of skies."""
    return SHARES + 3 * fields_of(options) * CAPACITY + number * options.sky_words


@inner
def fields_of(options):
    """How many fields of three numbers a path's results have behind the others: parts, light sums, alphas."""
    return options.sums_from + options.sum_count + max(options.sights - 1, 0)


@inner
def add_sky(room, options, number, active, path, looks, later):
    """Add what a sky shows in directions, but for its sun, in each way it is turned.

    Parameters
    ----------
    number : of the sky.
    later : lanes whose light is limited.
    """
    seen, direction, light = looks.seen, looks.direction, looks.light
    sky, results = sky_at(options.skies + _SIZE * number), float32s(room)
    across, down = 1.0 * sky.width, 1.0 * sky.height
    x, y = seen.u * across - 0.5, seen.v * down - 0.5
    left_edge, top_edge = math.floor(x), math.floor(y)
    part, below = x - left_edge, y - top_edge
    left, top = to_ints(left_edge), to_ints(top_edge)
    line = sky.width + 1
    high, low = max(top, 0) * (3 * line), min(top + 1, sky.height - 1) * (3 * line)
    most = share_of(path, options.halvings)
    bits = bits_of(active)
    limits = any_of(active & later)
    while bits != 0:
        lane = lowest_bit(bits)
        bits = bits & (bits - 1)
        at = sky_words_of(room, options, number_in(path.number, lane)) + sky.begin
        a, b = number_in(part, lane), number_in(below, lane)
        column, upper, lower = number_in(left, lane), number_in(high, lane), number_in(low, lane)
        x, y, z = number_in(direction[0], lane), number_in(direction[1], lane), number_in(direction[2], lane)
        red, green, blue = number_in(light[0], lane), number_in(light[1], lane), number_in(light[2], lane)
        state = number_in(path.state, lane)
        for j in range(0, sky.count, LANES):
            f = load(float32s(sky.fractions), j) + a
            over = f >= 1.0
            f = where(over, f - 1.0, f)
            k = load(int32s(sky.offsets), j) + column + where(over, 1, 0)
            k = where(k < 0, k + sky.width, k)
            k = where(k >= sky.width, k - sky.width, k) * 3
            in_sun = x * load(float32s(sky.axes), j) + y * load(float32s(sky.axes), j + sky.count)
            in_sun = in_sun + z * load(float32s(sky.axes), j + 2 * sky.count)
            sight = load(int32s(sky.bits), j)
            shows = in_sun <= load(float32s(sky.cosines), j)
            shows = shows & ((sight & state) == 0) & ((sight & looks.sights) != 0)
            weights = float32s(sky.weights)
            reads = _read(sky, 0, k, upper, lower, f, b) * (load(weights, j) * red)
            greens = _read(sky, 1, k, upper, lower, f, b) * (load(weights, j + sky.count) * green)
            blues = _read(sky, 2, k, upper, lower, f, b) * (load(weights, j + 2 * sky.count) * blue)
            if limits:
                limit = load(float32s(sky.limits), j) * number_in(most, lane)
                brightest = max(reads, max(greens, blues))
                too_much = (brightest > limit) & (number_in(where(later, 1, 0), lane) == 1)
                down_by = where(too_much, limit / max(brightest, 1e-30), 1.0)
                reads, greens, blues = reads * down_by, greens * down_by, blues * down_by
            store(results, at + j, load(results, at + j) + where(shows, reads, 0.0))
            place = at + j + sky.count
            store(results, place, load(results, place) + where(shows, greens, 0.0))
            place = at + j + 2 * sky.count
            store(results, place, load(results, place) + where(shows, blues, 0.0))


@inner
def _read(sky, channel, k, upper, lower, f, b):
    """A channel of the image, bilinear: between the texels at `k` and the next ones, and two lines."""
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
