"""The embedded renderer: a snapshot and a sensor in, a film out.

Tiles of the picture are traced by threads of this process; Embree and the kernel leave Python
alone meanwhile.  Each pixel has one writer, so the number of threads changes no byte.
"""

from __future__ import annotations

import math
import time
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from threading import Event, Lock, local

import numpy as np

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
_CHUNK = 64  # samples a pixel takes in one go; fixed, so that sums are rounded the same way
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
    """

    samples: int = 64
    seed: int = 0
    bounces: int = 8
    show_background: bool = True
    clamp: float | None = None
    denoise: bool = False
    occlusion_radius: float | None = None


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
        rays = self._trace_tiles(scene, lens, options, film, settings.samples, progress, stop)
        made = _developed(film, settings.samples)
        cleaned = settings.denoise and can_denoise()
        if cleaned:
            made["beauty"] = denoise(made["beauty"], made["albedo"], made["normal"])
        return Film(
            passes={name: made[name] for name in passes},
            samples=settings.samples,
            rays=rays,
            seconds=time.perf_counter() - started,
            denoised=cleaned,
        )

    def _trace_tiles(self, scene, lens, options, film, samples, progress, stop):  # type: ignore[no-untyped-def]
        height, width = film["depth"].shape
        film_table = Pinned(FILM, width=width, **film)
        chunks = [(s, min(_CHUNK, samples - s)) for s in range(0, samples, _CHUNK)]
        jobs = [
            ((x, y, min(x + _TILE, width), min(y + _TILE, height)), first, count)
            for first, count in chunks
            for y in range(0, height, _TILE)
            for x in range(0, width, _TILE)
        ]
        per_chunk = len(jobs) // max(len(chunks), 1)
        lock, total = Lock(), [0, 0]
        own = local()

        def work(job: tuple[tuple[int, int, int, int], int, int]) -> None:
            if stop is not None and stop.is_set():
                return
            if not hasattr(own, "room"):
                own.room = aligned_words(ROOM)
            rays = trace_tile(
                scene.scene.record, own.room.ctypes.data, lens.record, options.record,
                film_table.record, *job,
            )  # fmt: skip
            with lock:
                total[0] += rays
                total[1] += 1
                if progress is not None:
                    progress(total[1] / len(jobs))

        # A pixel's chunks are added in order: one chunk of the whole picture after the other.
        with ThreadPoolExecutor(self.threads) as pool:
            for start in range(0, len(jobs), max(per_chunk, 1)):
                list(pool.map(work, jobs[start : start + per_chunk]))
        if stop is not None and stop.is_set():
            raise Stopped
        return total[0]


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
    points = scene.points
    if not len(points):
        return 1.0
    return float(np.linalg.norm(points.max(0).astype(float) - points.min(0))) or 1.0
