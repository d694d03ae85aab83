"""The embedded renderer: a snapshot and a sensor in, a film out.

Tiles of the picture are traced by threads of this process; Embree and the kernel leave Python
alone meanwhile.  Each pixel has one writer, so the number of threads changes no byte.
"""

from __future__ import annotations

import math
import time
from collections import deque
from collections.abc import Callable, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from functools import partial
from threading import Lock
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from grandlattice.errors import TracerError
from grandlattice.scene_records import Snapshot
from grandlattice.tables.passes import is_pass
from grandlattice.tracer.adaptive_sampling import Round, Rounds, Tile, Unfinished, whole_packets, whole_tiles
from grandlattice.tracer.batches import FILM, stride_of
from grandlattice.tracer.denoise import adding_up, can_denoise, denoised
from grandlattice.tracer.film import Film, developed, empty_sums
from grandlattice.tracer.integrator import OPTIONS
from grandlattice.tracer.kernel import kernel, load_kernels
from grandlattice.tracer.kernel_memory import Pinned, aligned_words
from grandlattice.tracer.lanes import LANES
from grandlattice.tracer.lens import Sensor, make_lens
from grandlattice.tracer.light_passes import CLOSED, LUX, OwnPass, SharePlan
from grandlattice.tracer.motion import motion
from grandlattice.tracer.path_state import BATCH, branches_of, room_for
from grandlattice.tracer.scattering import albedo_tables
from grandlattice.tracer.scene_arrays import Images, SceneBuilder

_HALVINGS = 1  # how often paths part in two where they are scattered first
_LINES, _MEANS = 48, 7  # lines of a picture that tell how bright it is, and how many means of them


@dataclass(frozen=True)
class TraceSettings:
    """How a picture is traced.

    Attributes
    ----------
    samples : samples of each pixel, at most.
    noise : relative error at which a part of the picture has enough samples; None traces all.
    seed : of the random numbers; the same seed gives the same noise.
    bounces : most vertices of a path.
    show_background : whether the camera sees the dome; otherwise alpha is 0 there.
    clamp : the most, in nits, that light scattered more than once adds to a pixel at a time; keeps
        away bright specks at few samples, and loses the light they stand for.  None is exact.
    denoise : clean the beauty; without the optional package it stays as traced.
    occlusion_radius : how far the occlusion pass looks, scene units; None is a tenth of the
        scene's diagonal.
    seconds : of tracing after which a picture ends, with the samples it has by then; None is never.
        Each pixel has one sample at least.
    """

    samples: int = 64
    noise: float | None = None
    seed: int = 0
    bounces: int = 8
    show_background: bool = True
    clamp: float | None = None
    denoise: bool = False
    occlusion_radius: float | None = None
    seconds: float | None = None


class StopSignal(Protocol):
    """Says whether to stop; an event of threads or of processes."""

    def is_set(self) -> bool: ...


class Stopped(Exception):
    """The trace was told to stop before it was done."""


@dataclass(frozen=True)
class TraceControl:
    """How a trace is followed, stopped and gone on with.

    Attributes
    ----------
    progress : called with the share done, 0..1, from the threads that trace.
    stop : set it to end the trace soon; `Stopped` is then raised.
    begun : the same picture as far as it was traced before; the result has the same bytes as if it had
        never been interrupted.
    keep : called with how far a picture came that a time limit ended.
    """

    progress: Callable[[float], None] | None = None
    stop: StopSignal | None = None
    begun: Unfinished | None = None
    keep: Callable[[Unfinished], None] | None = None

    @property
    def is_stopped(self) -> bool:
        """Whether the trace is to end."""
        return self.stop is not None and self.stop.is_set()


class Tracer:
    """Keeps what it built for the last scene, so that the next picture starts sooner.

    Parameters
    ----------
    threads : threads that trace; 1 or more.
    """

    def __init__(self, threads: int = 1) -> None:
        self.threads = max(1, threads)
        self._builder = SceneBuilder(threads)

    def trace(
        self,
        snapshot: Snapshot,
        images: Images,
        sensor: Sensor,
        settings: TraceSettings,
        passes: Sequence[str] = ("beauty",),
        own: Mapping[str, OwnPass] | None = None,
        control: TraceControl | None = None,
    ) -> Film:
        """Trace one picture.

        Parameters
        ----------
        snapshot : the scene.
        images : file → (H, W, C) uint8 or float32 of every texture; None where it is missing.
        sensor : camera and size in pixels.
        passes : names from `tables.passes.PASSES`.
        own : passes of the plan's own among `passes`.
        control : how it is followed, stopped and gone on with.

        Raises
        ------
        TracerError
            For an unknown pass, a camera without a picture, or a picture too large to hold.
        """
        own, control = own or {}, control or TraceControl()
        unknown = [name for name in passes if not is_pass(name) and name not in own]
        if unknown:
            raise TracerError(f"The tracer makes no pass called {unknown[0]}.")
        load_kernels()  # compiling is not part of the seconds of a picture
        started = time.perf_counter()
        lens = make_lens(sensor)
        bounds = self._builder.place(snapshot, images)
        radius = settings.occlusion_radius
        if radius is None:
            radius = 0.1 * _diagonal(bounds)
        shares = SharePlan(passes, snapshot.lights, snapshot.glowing, own, radius)
        scene = self._builder.build(snapshot, images, shares.groups, shares.glowing)
        window, usual = sensor.window, 0.0
        if settings.noise is None:
            window = whole_packets(window, sensor.width, sensor.height)
        else:
            window = whole_tiles(window, sensor.width, sensor.height)
        left, top, right, bottom = window
        guides = ("albedo", "normal") if settings.denoise else ()
        film = empty_sums(right - left, bottom - top, (*passes, *guides), len(shares.table))
        if any(item.catches for item in snapshot.items):
            film["caught"] = np.zeros((bottom - top, right - left, 3), np.float32)
        halvings = _HALVINGS if settings.bounces > 1 else 0
        # Without a sky the camera sees nothing behind things, and nothing is clear.
        has_sky = any(light.kind == "dome" for light in snapshot.lights)
        how = {
            "seed": settings.seed & 0xFFFFFFFF,
            "bounces": max(settings.bounces, 0),
            "show_background": settings.show_background,
            "sky": has_sky,
            "clamp": math.inf if settings.clamp is None else settings.clamp,
            "halvings": halvings,
            "branches": branches_of(halvings, scene.scene.record["clear"] != 0),
        }
        if settings.noise is not None:
            usual = self._usual_light(scene, lens, Pinned(OPTIONS, **how), sensor)
        rounds = Rounds(
            film, settings.samples, settings.noise, usual, settings.seconds, control.begun, started
        )
        options = Pinned(
            OPTIONS,
            **how,
            occlusion=shares.asks(CLOSED),
            illuminance=shares.asks(LUX),
            albedo="albedo" in film,
            firsts=any(name in film for name in ("depth", "depth_soft", "objects", "looks")),
            shares=shares.table,
            share_count=len(shares.table),
        )
        self._trace_rounds(scene, lens, options, rounds, (left, top), control)
        seconds = rounds.seconds_before + time.perf_counter() - started
        if not rounds.is_whole and control.keep is not None:
            control.keep(rounds.unfinished(seconds))
        # What was traced beyond the part that is wanted served for judging noise.
        part = (
            slice(sensor.window[1] - top, sensor.window[3] - top),
            slice(sensor.window[0] - left, sensor.window[2] - left),
        )
        film = film | {"beauty": film["beauty"] + film["half"]}
        film = {name: sums[:, *part] if name == "shares" else sums[part] for name, sums in film.items()}
        counts = rounds.counts()[part]
        names = {
            "object-id": [item.geometry.path for item in snapshot.items],
            "material-id": [material.path for material in snapshot.materials],
        }  # fmt: skip
        cleaned = settings.denoise and can_denoise()
        made = developed(film, counts, names, snapshot.camera)
        made |= {name: shares.developed(name, film["shares"], counts[..., None]) for name in shares.places}
        if "motion" in passes:
            made["motion"] = motion(film, lens, snapshot, sensor)
        made["seconds"] = rounds.seconds()[part][..., None]
        if cleaned:
            light = ["beauty", *(name for name in passes if name in shares.lights)]
            whole = shares.whole(light)
            made |= denoised({name: made[name] for name in light}, made["albedo"], made["normal"])
            if whole:
                made |= adding_up(made["beauty"], {name: made[name] for name in light[1:]})
        return Film(
            passes={name: made[name] for name in passes},
            samples=round(float(counts.mean())),
            rays=rounds.rays,
            seconds=seconds,
            denoised=cleaned,
            noise=rounds.noise,
            unfinished=not rounds.is_whole,
            names={name: names[name] for name in passes if name in names},
        )

    def _usual_light(self, scene, lens, options, sensor: Sensor) -> float:  # type: ignore[no-untyped-def]
        """Light of the whole picture on average, from one sample of each pixel of some of its lines.

        Lines are taken in turns into some means, and the one in the middle counts: a bright speck moves
        only the one it is in.
        """
        width, room = sensor.width, aligned_words(room_for(0))
        every = max(1, sensor.height // _LINES)
        means: list[float] = []
        for line in range(every // 2, sensor.height, every):
            sums = empty_sums(width, 1, (), 0)
            table = Pinned(FILM, width=width, pixels=width, top=line, **sums)
            kernel("trace_tile")(
                scene.scene.address, room.ctypes.data, lens.address, options.address, table.address,
                0, 0, width, 1, 0, 1, *_batches(1, options),
            )  # fmt: skip
            means.append(float(sums["beauty"][0, :, :3].mean(dtype=np.float64)))
        return float(np.median([np.mean(means[k::_MEANS]) for k in range(min(_MEANS, len(means)))]))

    def _trace_rounds(self, scene, lens, options, rounds, corner, control):  # type: ignore[no-untyped-def]
        """Trace round after round, until the picture has its samples, its quality or its time."""
        height, width, _ = rounds.sums["beauty"].shape
        held = {name: sums for name, sums in rounds.sums.items() if name not in ("beauty", "half")}
        where = {"width": width, "pixels": width * height, "left": corner[0], "top": corner[1]}
        # Light of every other round is added up apart.
        tables = [Pinned(FILM, **where, **held, beauty=rounds.sums[name]) for name in ("beauty", "half")]
        words = room_for(int(options.record["share_count"]))
        rooms = [aligned_words(words) for _ in range(self.threads)]
        lock, trace_tile = Lock(), kernel("trace_tile")

        def work(this: Round, waiting: deque[Tile], room: NDArray[np.float32]) -> None:
            while waiting and not control.is_stopped:
                try:
                    tile = waiting.popleft()
                except IndexError:
                    return  # another thread took the last
                if rounds.may_begin(tile):
                    trace(this, tile, room)

        def trace(this: Round, tile: Tile, room: NDArray[np.float32]) -> None:
            began = time.perf_counter()
            rays = trace_tile(
                scene.scene.address, room.ctypes.data, lens.address, options.address,
                tables[this.number % 2].address, *tile[:4], this.first, this.samples,
                *_batches(this.samples, options),
            )  # fmt: skip
            with lock:
                rounds.after(tile, rays, time.perf_counter() - began)
                if control.progress is not None:
                    control.progress(rounds.share)

        # A pixel's rounds are added in order: one of the whole picture after the other.
        with ThreadPoolExecutor(self.threads) as pool:
            for this, tiles in rounds:
                list(pool.map(partial(work, this, deque(tiles)), rooms))
                if control.is_stopped:
                    raise Stopped


def warm_up() -> None:
    """Have the kernels ready: compile them, or load them from the cache of an earlier compile."""
    load_kernels()
    albedo_tables()


def _batches(samples: int, options: Pinned) -> tuple[int, int]:
    """Places of a pixel with so many samples in a batch, and how many pixels one has."""
    stride, places = stride_of(samples), BATCH // int(options.record["branches"]) // LANES * LANES
    return stride, places // stride


def _diagonal(corners: NDArray[np.float64]) -> float:
    return float(np.linalg.norm(corners[1] - corners[0])) or 1.0
