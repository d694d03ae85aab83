"""A glance at a picture before it is traced: some of its lines, one sample of each pixel.

It says how much light a film has on average, by which dark tiles are judged, and how bright the light of each
version of a lamp is: shadow rays towards what is fainter than a part of that are traced in part of the cases.
"""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

from grandlattice.tracer.batches import FILM, TILE, stride_of
from grandlattice.tracer.company import Company
from grandlattice.tracer.film import empty_sums
from grandlattice.tracer.kernel import kernel
from grandlattice.tracer.kernel_memory import Pinned, aligned_words
from grandlattice.tracer.lanes import LANES
from grandlattice.tracer.lens import Sensor
from grandlattice.tracer.light_mixing import Mixing
from grandlattice.tracer.path_state import BATCH, room_for
from grandlattice.tracer.scene_arrays import TraceScene

_SMALL_BATCH = 512  # paths at a time where each has many sums, so that they fit a processor's cache
_LINES, _FEW_LINES = 48, 24  # of a picture that tell how bright it is, and how bright each lighting is
_MEANS = 7  # of those lines; the one in the middle counts, so that a bright speck moves only its own


class Pilot:
    """What some lines of a picture say of every lighting of a company.

    Parameters
    ----------
    scene : lit by the company without its limits, see `Company.for_pilot`.
    options : of the kernel.
    mixing : of that company.

    Attributes
    ----------
    usual : for each lighting its light on average.
    """

    def __init__(
        self, scene: TraceScene, lens: Pinned, options: Pinned, sensor: Sensor, mixing: Mixing
    ) -> None:  # fmt: skip
        assert scene.skies is not None
        self._mixing, aimed, whole = mixing, list[NDArray[np.float32]](), list[NDArray[np.float32]]()
        for sums in _lines(scene, lens, options, sensor, _FEW_LINES, mixing):
            aimed.append(sums["light_sums"][:, 0].mean(axis=-1))  # without what a turned sky shows of itself
            if "sky" in sums:
                scene.skies.add_to(sums["light_sums"], sums["sky"])
            whole.append(sums["light_sums"][:, 0].mean(axis=-1))
        light = np.stack(whole)  # (lines, planes, width)
        weights = np.zeros((len(mixing.company.lightings), light.shape[1]), np.float32)
        for film, mix in enumerate(mixing.company.sums.mix):
            for k, weight in mix:
                weights[film, k] = sum(weight) / 3.0
        films = np.einsum("lpw,fp->flw", light, weights)
        self._light = light.mean(axis=(0, 2), dtype=np.float64)
        self.usual = [_middle(of_film) for of_film in films.mean(axis=-1, dtype=np.float64)]
        self._faint = _faint(np.stack(aimed), self._light, weights, films, mixing.several)

    def thresholds_for(self, company: Company) -> NDArray[np.float32]:
        """What each row of a company's light table adds to a pixel from which on its shadow rays are all
        traced."""
        return self._mixing.thresholds_for(company, self._faint * self._light)


_OF_A_RAY = 0.2  # what a shadow ray costs beside a path with all its vertices, about
_FAINTNESS = (0.0, 0.25, 0.5, 1.0, 2.0)


def _faint(
    aimed: NDArray[np.float32], mean: NDArray[np.float64], weights: NDArray[np.float32],
    films: NDArray[np.float32], several: NDArray[np.int64],
) -> float:  # fmt: skip
    """How many times the mean light of a version is so faint that shadow rays are left out below it.

    A ray that is left out in part of the cases makes noise: light c, counted as t with chance c/t, has the
    variance c (t - c) more.  Chosen is what makes error × rays least, by what lines of the picture say; how
    noisy a film is anyway is told by how neighbours differ.

    Parameters
    ----------
    aimed : (lines, planes, width) light of the versions that rays are aimed at; mean : (planes,) on average.
    weights : (films, planes) how films are mixed.
    films : (films, lines, width) their light.
    several : numbers of the planes that versions of lamps have which stand in several ways.
    """
    noise = 0.5 * np.square(np.diff(films, axis=-1)).mean(axis=(1, 2), dtype=np.float64)
    costs = []
    for faint in _FAINTNESS:
        more, rays = np.zeros(len(films)), 0.0
        for k in several.tolist():
            light, least = aimed[:, k], faint * mean[k]
            rays += float(np.minimum(light / least, 1.0).mean() if least > 0.0 else (light > 0.0).mean())
            more += weights[:, k] ** 2 * float(np.maximum(light * (least - light), 0.0).mean())
        error = 1.0 + np.divide(more, noise, out=np.zeros_like(more), where=noise > 0.0)
        costs.append(float(error.mean()) * (1.0 + _OF_A_RAY * rays))
    return _FAINTNESS[int(np.argmin(costs))]


def usual_light(scene: TraceScene, lens: Pinned, options: Pinned, sensor: Sensor) -> float:
    """Light of a whole picture on average."""
    lines = _lines(scene, lens, options, sensor, _LINES)
    return _middle([float(sums["beauty"][0, :, :3].mean(dtype=np.float64)) for sums in lines])


def _middle(lines: NDArray[np.float64] | list[float]) -> float:
    """Lines are taken in turns into some means, and the one in the middle counts."""
    return float(np.median([np.mean(lines[k::_MEANS]) for k in range(min(_MEANS, len(lines)))]))


def _lines(
    scene: TraceScene, lens: Pinned, options: Pinned, sensor: Sensor, count: int, mixing: Mixing | None = None
) -> Iterator[dict[str, NDArray]]:
    """Sums of lines that are spread over a picture."""
    words = 0 if mixing is None or scene.skies is None else scene.skies.words
    fields, planes = (0, 0) if mixing is None else (mixing.sums_from, mixing.planes)
    width, room = sensor.width, aligned_words(room_for(fields + planes, words))
    every = max(1, sensor.height // count)
    for line in range(every // 2, sensor.height, every):
        sums = empty_sums(width, 1, (), fields, planes)
        sums.pop("light_half", None)
        if words:
            sums["sky"] = np.zeros((1, width, words), np.float32)
        table = Pinned(FILM, width=width, pixels=width, top=line, **sums)
        tile = tile_record((0, 0, width, 1), 0, 1, options)
        kernel("trace_tile")(
            scene.scene.address, room.ctypes.data, lens.address, options.address, table.address, tile.address
        )
        yield sums


def tile_record(
    rectangle: tuple[int, int, int, int], first: int, samples: int, options: Pinned
) -> Pinned:  # fmt: skip
    """What a kernel is told of a tile.

    Parameters
    ----------
    rectangle : its left, top, right and bottom, pixels.
    first, samples : the number of its first sample, and how many there are.
    """
    batch = _SMALL_BATCH if options.record["sky_words"] else BATCH
    stride, places = stride_of(samples), batch // int(options.record["branches"]) // LANES * LANES
    left, top, right, bottom = rectangle
    return Pinned(
        TILE, left=left, top=top, right=right, bottom=bottom, first=first, count=samples, stride=stride,
        at_once=places // stride,
    )  # fmt: skip
