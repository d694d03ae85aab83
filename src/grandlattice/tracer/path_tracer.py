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
from dataclasses import dataclass, replace
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
from grandlattice.tracer.company import Company, Lighting
from grandlattice.tracer.denoise import adding_up, can_denoise, denoised
from grandlattice.tracer.film import Film, developed, empty_sums
from grandlattice.tracer.integrator import OPTIONS
from grandlattice.tracer.kernel import kernel, load_kernels
from grandlattice.tracer.kernel_memory import Pinned, aligned_words
from grandlattice.tracer.lanes import LANES
from grandlattice.tracer.lens import Sensor, make_lens
from grandlattice.tracer.light_mixing import Mixing, mixing_of
from grandlattice.tracer.light_passes import CLOSED, LUX, OwnPass, SharePlan
from grandlattice.tracer.motion import motion
from grandlattice.tracer.path_state import BATCH, branches_of, room_for
from grandlattice.tracer.scattering import albedo_tables
from grandlattice.tracer.scene_arrays import Images, SceneBuilder, TraceScene

_SMALL_BATCH = 512  # paths at a time where each has many sums, so that they fit a processor's cache
_HALVINGS = 1  # how often paths part in two where they are scattered first
_PILOT_LINES = 24  # of a picture that tell how bright each lighting is
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
        company = Company([Lighting(snapshot.lights, settings.clamp)])
        return self.trace_films(company, snapshot, images, sensor, settings, passes, own, control)[0]

    def trace_films(
        self,
        company: Company,
        snapshot: Snapshot,
        images: Images,
        sensor: Sensor,
        settings: TraceSettings,
        passes: Sequence[str] = ("beauty",),
        own: Mapping[str, OwnPass] | None = None,
        control: TraceControl | None = None,
    ) -> list[Film]:
        """Trace the wanted films of a company: one view in several lightings.

        Parameters
        ----------
        company : the lightings; with more than one `settings.noise` and `settings.seconds` cannot be used,
            and nothing may catch shadows.  The lights of the snapshot and the clamp of the settings are not
            looked at.

        Returns
        -------
        A film for each wanted lighting, with all passes.  Seconds and rays are divided equally among them.

        Raises
        ------
        TracerError
            As `trace` does.
        ValueError
            For several lightings of what must be traced one by one.
        """
        own, control = own or {}, control or TraceControl()
        catches = any(item.catches for item in snapshot.items)
        if not company.is_one and (settings.noise or settings.seconds or catches):
            raise ValueError("lightings are traced together without noise, seconds and what catches shadow")
        snapshot = replace(snapshot, lights=tuple(version.light for version in company.versions))
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
        many = None if company.is_one else company
        mixing = None if many is None else mixing_of(many, shares)
        if mixing is not None and company.varies:
            thresholds = self._thresholds(company, snapshot, images, sensor, settings)
            mixing = replace(mixing, thresholds=thresholds)
        scene = self._builder.build(snapshot, images, shares.groups, shares.glowing, many)
        window, usual = sensor.window, 0.0
        if settings.noise is None:
            window = whole_packets(window, sensor.width, sensor.height)
        else:
            window = whole_tiles(window, sensor.width, sensor.height)
        left, top, right, bottom = window
        guides = ("albedo", "normal") if settings.denoise else ()
        film = empty_sums(
            right - left, bottom - top, (*passes, *guides),
            len(shares.table) if mixing is None else mixing.sums_from,
            0 if mixing is None else mixing.planes,
        )  # fmt: skip
        words = 0 if scene.skies is None or len(shares.table) else scene.skies.words
        for name in ("sky", "sky_half") if words else ():
            film[name] = np.zeros((bottom - top, right - left, words), np.float32)
        if catches:
            film["caught"] = np.zeros((bottom - top, right - left, 3), np.float32)
        how = _how(company, settings, scene)
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
            **({"sums_from": len(shares.table)} if mixing is None else mixing.options),
            **(scene.skies.options if words and scene.skies is not None else {}),
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
        if words and scene.skies is not None:
            scene.skies.add_to(film["light_sums"], film.pop("sky"))
            scene.skies.add_to(film["light_half"], film.pop("sky_half"))
        noise = _noise_of(rounds, mixing)
        film = film | {"beauty": film["beauty"] + film["half"]}
        if mixing is not None:
            film["light_sums"] = film["light_sums"] + film.pop("light_half")
        film = {name: sums[:, *part] if name in _STACKED else sums[part] for name, sums in film.items()}
        counts = rounds.counts()[part]
        names = {
            "object-id": [item.geometry.path for item in snapshot.items],
            "material-id": [material.path for material in snapshot.materials],
        }  # fmt: skip
        cleaned = settings.denoise and can_denoise()
        shared = developed(film, counts, names, snapshot.camera)
        if "motion" in passes:
            shared["motion"] = motion(film, lens, snapshot, sensor)
        shared["seconds"] = rounds.seconds()[part][..., None] / np.float32(len(company.wanted))
        films = []
        for number in range(len(company.wanted)):
            made = dict(shared)
            parts = film.get("shares", np.zeros(0, np.float32))
            if mixing is not None:
                parts = mixing.parts(number, film)
                per_sample = (1.0 / np.maximum(counts, 1)).astype(np.float32)[..., None]
                made["beauty"] = mixing.beauty(number, film, "light_sums") * per_sample
            made |= {name: shares.developed(name, parts, counts[..., None]) for name in shares.places}
            films.append(made)
        if cleaned:
            _clean(films, passes, shares)
        return [
            Film(
                passes={name: made[name] for name in passes},
                samples=round(float(counts.mean())),
                rays=rounds.rays // len(films),
                seconds=seconds / len(films),
                denoised=cleaned,
                noise=noise[number],
                unfinished=not rounds.is_whole,
                names={name: names[name] for name in passes if name in names},
            )
            for number, made in enumerate(films)
        ]

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

    def _thresholds(
        self, company: Company, snapshot: Snapshot, images: Images, sensor: Sensor, settings: TraceSettings
    ) -> NDArray[np.float32]:
        """What each row of the light table adds to a pixel from which on its shadow rays are all traced.

        A small picture of every lighting says how bright the light of each version is on average: light
        that is fainter than a part of that is looked at in part of the cases.
        """
        pilot = company.for_pilot()
        mixing = mixing_of(pilot, SharePlan((), [v.light for v in pilot.versions], snapshot.glowing, {}, 1.0))
        shown = replace(snapshot, lights=tuple(version.light for version in pilot.versions))
        scene = self._builder.build(shown, images, company=pilot)
        assert scene.skies is not None
        options = Pinned(OPTIONS, **_how(pilot, settings, scene), **mixing.options, **scene.skies.options)
        lens, width, words = make_lens(sensor), sensor.width, scene.skies.words
        room = aligned_words(room_for(mixing.sums_from + mixing.planes, words))
        every, lines = max(1, sensor.height // _PILOT_LINES), 0
        light = np.zeros(mixing.planes)
        for line in range(every // 2, sensor.height, every):
            sums = empty_sums(width, 1, (), mixing.sums_from, mixing.planes)
            del sums["light_half"]
            sums["sky"] = np.zeros((1, width, words), np.float32)
            table = Pinned(FILM, width=width, pixels=width, top=line, **sums)
            kernel("trace_tile")(
                scene.scene.address, room.ctypes.data, lens.address, options.address, table.address,
                0, 0, width, 1, 0, 1, *_batches(1, options),
            )  # fmt: skip
            scene.skies.add_to(sums["light_sums"], sums["sky"])
            light += sums["light_sums"].mean(axis=(1, 2, 3), dtype=np.float64)
            lines += 1
        return mixing.thresholds_for(company, light / max(lines, 1))

    def _trace_rounds(self, scene, lens, options, rounds, corner, control):  # type: ignore[no-untyped-def]
        """Trace round after round, until the picture has its samples, its quality or its time."""
        height, width, _ = rounds.sums["beauty"].shape
        apart = ("beauty", "half", "light_sums", "light_half", "sky", "sky_half")
        held = {name: sums for name, sums in rounds.sums.items() if name not in apart}
        where = {"width": width, "pixels": width * height, "left": corner[0], "top": corner[1]}
        # Light of every other round is added up apart.
        tables = [
            Pinned(
                FILM, **where, **held, beauty=rounds.sums[name],
                light_sums=rounds.sums.get(light, 0), sky=rounds.sums.get(sky, 0),
            )
            for name, light, sky in (("beauty", "light_sums", "sky"), ("half", "light_half", "sky_half"))
        ]  # fmt: skip
        record = options.record
        fields = int(record["sums_from"]) + int(record["sum_count"]) + max(int(record["sights"]) - 1, 0)
        words = room_for(fields, int(record["sky_words"]))
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


_STACKED = ("shares", "light_sums")  # (N, H, W, 3)


def _how(company: Company, settings: TraceSettings, scene: TraceScene) -> dict[str, object]:
    """The kernel's options that do not depend on passes; the clamp of a single lighting."""
    clamp, halvings = company.lightings[0].clamp, _HALVINGS if settings.bounces > 1 else 0
    return {
        "seed": settings.seed & 0xFFFFFFFF,
        "bounces": max(settings.bounces, 0),
        "show_background": settings.show_background,
        "sky": company.skies,
        "clamp": math.inf if clamp is None else clamp,
        "halvings": halvings,
        "branches": branches_of(halvings, scene.scene.record["clear"] != 0),
    }


def _noise_of(rounds: Rounds, mixing: Mixing | None) -> list[float | None]:
    """The relative error of each wanted film."""
    if mixing is None:
        return [rounds.noise]
    halves = [
        [mixing.beauty(k, rounds.sums, light) for light in ("light_half", "light_sums")]
        for k in range(len(mixing.company.wanted))
    ]
    return [rounds.noise_of(*each) for each in halves]


def _clean(films: Sequence[dict[str, NDArray]], passes: Sequence[str], shares: SharePlan) -> None:
    """Free beauty and shares of lights of their noise; shares that leave nothing out add up to the beauty."""
    light = ["beauty", *(name for name in passes if name in shares.lights)]
    noisy = {f"{k} {name}": made[name] for k, made in enumerate(films) for name in light}
    found = denoised(noisy, films[0]["albedo"], films[0]["normal"])
    for k, made in enumerate(films):
        made |= {name: found[f"{k} {name}"] for name in light}
        if shares.whole(light):
            made |= adding_up(made["beauty"], {name: made[name] for name in light[1:]})


def warm_up() -> None:
    """Have the kernels ready: compile them, or load them from the cache of an earlier compile."""
    load_kernels()
    albedo_tables()


def _batches(samples: int, options: Pinned) -> tuple[int, int]:
    """Places of a pixel with so many samples in a batch, and how many pixels one has."""
    batch = _SMALL_BATCH if options.record["sky_words"] else BATCH
    stride, places = stride_of(samples), batch // int(options.record["branches"]) // LANES * LANES
    return stride, places // stride


def _diagonal(corners: NDArray[np.float64]) -> float:
    return float(np.linalg.norm(corners[1] - corners[0])) or 1.0
