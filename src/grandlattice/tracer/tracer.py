"""The embedded renderer: a snapshot and a sensor in, a film out.

Tiles of the picture are traced by threads of this process; Embree and the kernel leave Python
alone meanwhile.  Each pixel has one writer, so the number of threads changes no byte.
"""

from __future__ import annotations

import math
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from threading import Event, Lock, local

import numpy as np
from numpy.typing import NDArray

from grandlattice.errors import TracerError
from grandlattice.snapshot import Snapshot
from grandlattice.tracer import embree
from grandlattice.tracer.denoise import can_denoise, denoise
from grandlattice.tracer.film import PASSES, Film
from grandlattice.tracer.integrator import OPTIONS
from grandlattice.tracer.kernel import trace_tile
from grandlattice.tracer.lens import Sensor, make_lens
from grandlattice.tracer.memory import Pinned, aligned_words
from grandlattice.tracer.scene import Images, SceneBuilder, TraceScene
from grandlattice.tracer.stream import FILM, ROOM

_TILE = 32
_CHUNK = 16  # samples a pixel takes in one go; fixed, so that sums are rounded the same way
_MOST_PIXELS = 400_000_000


@dataclass(frozen=True)
class TraceSettings:
    """How a picture is traced.

    Attributes
    ----------
    samples : samples of each pixel.
    seed : of the random numbers; the same seed gives the same noise.
    bounces : most vertices of a path.
    show_background : whether the camera sees the dome; otherwise alpha is 0 there.
    clamp : the most, in nits, that light scattered more than once adds to a pixel at a time; keeps
        away bright specks at few samples, and loses the light they stand for.  None is exact.
    denoise : clean the beauty; without the optional package it stays as traced.
    occlusion_radius : how far the occlusion pass looks, scene units; None is a tenth of the
        scene's diagonal.
    seconds : of tracing after which a picture ends, with the samples it has by then; None is never.
        It ends between two rounds of 16 samples, where that is nearest to the limit.
    """

    samples: int = 64
    seed: int = 0
    bounces: int = 8
    show_background: bool = True
    clamp: float | None = None
    denoise: bool = False
    occlusion_radius: float | None = None
    seconds: float | None = None


@dataclass(frozen=True, eq=False)
class Unfinished:
    """A picture as far as it was traced, to be taken further.

    Attributes
    ----------
    sums : every buffer of the film, as it is added up.
    samples, rays, seconds : so far.
    """

    sums: Mapping[str, NDArray[np.float32]]
    samples: int
    rays: int
    seconds: float


class Stopped(Exception):
    """The trace was told to stop before it was done."""


class Tracer:
    """Keeps what it built for the last scene, so that the next picture starts sooner.

    Parameters
    ----------
    threads : threads that trace; 1 or more.
    """

    def __init__(self, threads: int = 1) -> None:
        self.threads = max(1, threads)
        self._builder = SceneBuilder()

    def trace(
        self,
        snapshot: Snapshot,
        images: Images,
        sensor: Sensor,
        settings: TraceSettings,
        passes: Sequence[str] = ("beauty",),
        progress: Callable[[float], None] | None = None,
        stop: Event | None = None,
        begun: Unfinished | None = None,
        keep: Callable[[Unfinished], None] | None = None,
    ) -> Film:
        """Trace one picture.

        Parameters
        ----------
        snapshot : the scene.
        images : file → (H, W, C) uint8 or float32 of every texture; None where it is missing.
        sensor : camera and size in pixels.
        passes : names from `film.PASSES`.
        progress : called with the share done, 0..1, from the threads that trace.
        stop : set it to end the trace soon; `Stopped` is then raised.
        begun : the same picture as far as it was traced before; the result has the same bytes as if
            it had never been interrupted.
        keep : told how far a picture came that a time limit ended.

        Raises
        ------
        TracerError
            For an unknown pass, a camera without a picture, or a picture too large to hold.
        """
        unknown = [name for name in passes if name not in PASSES]
        if unknown:
            raise TracerError(f"The tracer makes no pass called {unknown[0]}.")
        started = time.perf_counter()
        embree.library()
        lens = make_lens(sensor)
        film = _empty_film(sensor.width, sensor.height)
        if any(item.catches for item in snapshot.items):
            film["caught"] = np.zeros((sensor.height, sensor.width, 3), np.float32)
        rounds = _Rounds(film, settings, begun)
        scene = self._builder.build(snapshot, images)
        radius = settings.occlusion_radius or 0.0
        if "occlusion" in passes and settings.occlusion_radius is None:
            radius = _diagonal(scene) * 0.1
        options = Pinned(
            OPTIONS,
            seed=settings.seed & 0xFFFFFFFF,
            bounces=max(settings.bounces, 0),
            show_background=settings.show_background,
            occlusion="occlusion" in passes,
            clamp=math.inf if settings.clamp is None else settings.clamp,
            occlusion_radius=radius,
        )
        self._trace_rounds(scene, lens, options, rounds, progress, stop)
        seconds = rounds.seconds_before + time.perf_counter() - started
        unfinished = rounds.samples < settings.samples
        if unfinished and keep is not None:
            keep(Unfinished(rounds.sums, rounds.samples, rounds.rays, seconds))
        made = _developed(film, rounds.samples)
        cleaned = settings.denoise and can_denoise()
        if cleaned:
            made["beauty"] = denoise(made["beauty"], made["albedo"], made["normal"])
        return Film(
            passes={name: made[name] for name in passes},
            samples=rounds.samples,
            rays=rounds.rays,
            seconds=seconds,
            denoised=cleaned,
            noise=rounds.noise,
            unfinished=unfinished,
        )

    def _trace_rounds(self, scene, lens, options, rounds, progress, stop):  # type: ignore[no-untyped-def]
        """Trace round after round of the whole picture, until it has its samples or its time."""
        height, width = rounds.sums["depth"].shape
        film_table = Pinned(FILM, width=width, **{k: v for k, v in rounds.sums.items() if k != "half"})
        tiles = [
            (x, y, min(x + _TILE, width), min(y + _TILE, height))
            for y in range(0, height, _TILE)
            for x in range(0, width, _TILE)
        ]
        lock, done, total = Lock(), [0, 0], len(tiles) * rounds.count
        own = local()

        def work(tile: tuple[int, int, int, int], first: int, count: int) -> None:
            if stop is not None and stop.is_set():
                return
            if not hasattr(own, "room"):
                own.room = aligned_words(ROOM)
            rays = trace_tile(
                scene.scene.record, own.room.ctypes.data, lens.record, options.record,
                film_table.record, tile, first, count,
            )  # fmt: skip
            with lock:
                done[0] += rays
                done[1] += 1
                if progress is not None:
                    progress(min(1.0, max(done[1] / total, rounds.time_share)))

        # A pixel's rounds are added in order: one of the whole picture after the other.
        with ThreadPoolExecutor(self.threads) as pool:
            for first, count in rounds:
                list(pool.map(lambda tile, at=(first, count): work(tile, *at), tiles))
                if stop is not None and stop.is_set():
                    raise Stopped
                rounds.end(count, done[0])
                done[0] = 0


class _Rounds:
    """The rounds of samples of one picture, and what they add up to.

    Every other round is kept apart too: the two halves of a picture differ by its noise.
    """

    def __init__(
        self, film: dict[str, np.ndarray], settings: TraceSettings, begun: Unfinished | None
    ) -> None:
        self.sums = film
        self._wanted, self._limit = settings.samples, settings.seconds
        self.samples = self.rays = 0
        self.seconds_before = 0.0
        self._halved = settings.samples > _CHUNK
        if self._halved:
            film["half"] = np.zeros_like(film["beauty"])
        if begun is not None:
            for name in film:
                film[name][...] = begun.sums[name]
            self.samples, self.rays, self.seconds_before = begun.samples, begun.rays, begun.seconds
        self._started = time.perf_counter()
        self._before: np.ndarray | None = None

    @property
    def count(self) -> int:
        """How many rounds there are at most."""
        return max(1, -(-(self._wanted - self.samples) // _CHUNK))

    @property
    def time_share(self) -> float:
        """How much of the time is over, 0..1; 0 where there is no limit."""
        return 0.0 if self._limit is None else (time.perf_counter() - self._started) / self._limit

    def __iter__(self) -> Iterator[tuple[int, int]]:
        spent = lasted = 0.0
        self._started = time.perf_counter()
        while self.samples < self._wanted:
            if self._limit is not None and lasted and spent + 0.5 * lasted > self._limit:
                return
            if self._halved and self._is_odd:
                self._before = self.sums["beauty"].copy()
            yield self.samples, min(_CHUNK, self._wanted - self.samples)
            now = time.perf_counter() - self._started
            spent, lasted = now, now - spent

    @property
    def _is_odd(self) -> bool:
        return bool(self.samples // _CHUNK % 2)

    def end(self, count: int, rays: int) -> None:
        """A round is traced."""
        if self._before is not None:
            self.sums["half"] += self.sums["beauty"] - self._before
            self._before = None
        self.samples += count
        self.rays += rays

    @property
    def noise(self) -> float | None:
        """Relative error of the beauty: its mean over the mean light; None below two rounds.

        With a and b the means of two independent halves, (a - b) / 2 is as far off as the mean of
        both.  Absolute values, not squares: one bright speck does not speak for a picture.
        """
        if not self._halved or self.samples <= _CHUNK:
            return None
        odd = sum(min(_CHUNK, self.samples - k) for k in range(_CHUNK, self.samples, 2 * _CHUNK))
        a = self.sums["half"][..., :3] / odd
        b = (self.sums["beauty"][..., :3] - self.sums["half"][..., :3]) / (self.samples - odd)
        light = float(np.mean(np.abs(a + b), dtype=np.float64))
        return float(np.mean(np.abs(a - b), dtype=np.float64)) / light if light > 0.0 else 0.0


def warm_up() -> None:
    """Compile the kernel, or load it from the cache of an earlier compile, by tracing 1 pixel."""
    from grandlattice.snapshot import Camera

    camera = Camera("", np.eye(4), (1.0, 1.0))
    Tracer().trace(Snapshot((), (), (), camera), {}, Sensor(camera, 1, 1), TraceSettings(samples=1))


def _empty_film(width: int, height: int) -> dict[str, np.ndarray]:
    if width < 1 or height < 1:
        raise TracerError(f"A picture of {width}×{height} pixels has nothing in it.")
    if width * height > _MOST_PIXELS:
        gigabytes = width * height * 12 * 4 / 1e9
        raise TracerError(
            f"A picture of {width}×{height} pixels needs {gigabytes:.0f} GB to trace.",
            cure="ask for a smaller size, or a scale below 100%",
        )
    shape = (height, width)
    return {
        "beauty": np.zeros((*shape, 4), np.float32),
        "albedo": np.zeros((*shape, 3), np.float32),
        "occlusion": np.zeros(shape, np.float32),
        "depth": np.full(shape, np.inf, np.float32),
        "normal": np.zeros((*shape, 3), np.float32),
    }


def _developed(film: dict[str, np.ndarray], samples: int) -> dict[str, np.ndarray]:
    share = np.float32(1.0 / max(samples, 1))
    beauty = film["beauty"] * share
    if "caught" in film:
        cover, lit, dark = np.moveaxis(film["caught"], -1, 0)
        shadow = np.divide(dark, lit, out=np.zeros_like(dark), where=lit > 0.0)
        beauty[..., 3] += cover * shadow * share
    return {
        "beauty": beauty,
        "albedo": film["albedo"] * share,
        "occlusion": (film["occlusion"] * share)[..., None],
        "depth": film["depth"][..., None],
        "normal": film["normal"],
    }


def _diagonal(scene: TraceScene) -> float:
    return float(np.linalg.norm(scene.bounds[1] - scene.bounds[0])) or 1.0
