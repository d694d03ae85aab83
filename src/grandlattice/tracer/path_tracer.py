"""The embedded renderer: a snapshot and a sensor in, a film out.

Tiles of the picture are traced by threads of this process; Embree and the kernel leave Python
alone meanwhile.  Each pixel has one writer, so the number of threads changes no byte.
"""

from __future__ import annotations

import math
import time
from collections import deque
from collections.abc import Callable, Iterator, Mapping, Sequence
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
from grandlattice.tracer.adaptive_sampling import (
    Round,
    Rounds,
    Tile,
    Unfinished,
)
from grandlattice.tracer.batches import FILM
from grandlattice.tracer.company import Company, Lighting
from grandlattice.tracer.film import Film
from grandlattice.tracer.film_making import FilmMaker, sums_of
from grandlattice.tracer.film_sums import FilmSums
from grandlattice.tracer.integrator import OPTIONS
from grandlattice.tracer.kernel import kernel, load_kernels
from grandlattice.tracer.kernel_memory import Pinned, aligned_words
from grandlattice.tracer.lens import Sensor, make_lens
from grandlattice.tracer.light_mixing import Mixing, mixing_of
from grandlattice.tracer.light_passes import CLOSED, LUX, OwnPass, SharePlan
from grandlattice.tracer.path_state import branches_of, room_for
from grandlattice.tracer.pilot import Pilot, tile_record, usual_light
from grandlattice.tracer.scattering import albedo_tables
from grandlattice.tracer.scene_arrays import Images, SceneBuilder, TraceScene
from grandlattice.tracer.trace_settings import TraceSettings, traced_window

_HALVINGS = 1  # how often paths part in two where they are scattered first


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
    keep : called with how far a picture came that a time limit ended; what it is given goes on changing.
    added_up : called when all of a company is traced with its sums, how films are mixed of them, and the
        samples of each pixel.
    """

    progress: Callable[[float], None] | None = None
    stop: StopSignal | None = None
    begun: Unfinished | None = None
    keep: Callable[[Unfinished], None] | None = None
    added_up: Callable[[FilmSums, Mixing, NDArray[np.int32]], None] | None = None

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
        self._seen: tuple[str, Pilot] | None = None  # the last company that has a name

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
        return next(self.trace_films(company, snapshot, images, sensor, settings, passes, own, control))

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
    ) -> Iterator[Film]:
        """Trace the wanted films of a company: one view in several lightings.

        Parameters
        ----------
        company : the lightings; with more than one nothing may catch shadows.  The lights of the snapshot
            and the clamp of the settings are not looked at.

        Returns
        -------
        A film for each wanted lighting, with all passes, each made when it is asked for.  Seconds and rays
        are divided equally among them.

        Raises
        ------
        TracerError
            As `trace` does.
        ValueError
            For several lightings of what must be traced one by one.
        """
        own, control = own or {}, control or TraceControl()
        catches = snapshot.catches_shadow
        if not company.is_one and catches:
            raise ValueError("lightings are traced together where nothing catches shadow")
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
        many, mixing, usual = None if company.is_one else company, None, [0.0]
        if many is not None:
            mixing = mixing_of(many, shares)
            if company.varies or settings.noise is not None:
                seen = self._pilot(company, snapshot, images, sensor, settings)
                mixing = replace(mixing, thresholds=seen.thresholds_for(company) if company.varies else None)
                usual = [seen.usual[k] for k in company.wanted[: company.made]]
        scene = self._builder.build(snapshot, images, shares.groups, shares.glowing, many)
        how = _how(company, settings, scene)
        if many is None and settings.noise is not None:
            usual = [usual_light(scene, lens, Pinned(OPTIONS, **how), sensor)]
        window = traced_window(sensor, settings)
        skies = scene.skies if scene.skies is not None and not len(shares.table) else None
        words = 0 if skies is None else skies.words
        sums = sums_of(window, settings, passes, shares, mixing, words, catches)
        rounds = Rounds(
            FilmSums(sums, mixing, skies), settings.samples, settings.noise, usual, settings.seconds,
            control.begun, started,
        )  # fmt: skip
        options = Pinned(
            OPTIONS,
            **how,
            occlusion=shares.asks(CLOSED),
            illuminance=shares.asks(LUX),
            albedo="albedo" in sums,
            firsts=any(name in sums for name in ("depth", "depth_soft", "objects", "looks")),
            shares=shares.table,
            share_count=len(shares.table),
            **({"sums_from": len(shares.table)} if mixing is None else mixing.options(skies)),
            **(skies.options if skies is not None and words else {}),
        )
        self._trace_rounds(scene, lens, options, rounds, window[:2], control)
        seconds = rounds.seconds_before + time.perf_counter() - started
        if not rounds.is_whole() and control.keep is not None:
            control.keep(rounds.unfinished(seconds))
        rounds.films.fold()
        if control.added_up is not None and mixing is not None and rounds.is_whole():
            control.added_up(rounds.films, mixing, rounds.counts())
        return FilmMaker(rounds, shares, snapshot, sensor, settings, tuple(passes), seconds).films()

    def _pilot(
        self, company: Company, snapshot: Snapshot, images: Images, sensor: Sensor, settings: TraceSettings
    ) -> Pilot:
        """A small picture of every lighting of a company."""
        if self._seen is not None and company.name and self._seen[0] == company.name:
            return self._seen[1]
        pilot = company.for_pilot()
        mixing = mixing_of(pilot, SharePlan((), [v.light for v in pilot.versions], snapshot.glowing, {}, 1.0))
        shown = replace(snapshot, lights=tuple(version.light for version in pilot.versions))
        scene = self._builder.build(shown, images, company=pilot)
        assert scene.skies is not None
        skies = scene.skies if scene.skies.words else None
        of_skies = {} if skies is None else skies.options
        options = Pinned(OPTIONS, **_how(pilot, settings, scene), **mixing.options(skies), **of_skies)
        seen = Pilot(scene, make_lens(sensor), options, sensor, mixing)
        self._seen = company.name, seen
        return seen

    def _trace_rounds(self, scene, lens, options, rounds, corner, control):  # type: ignore[no-untyped-def]
        """Trace round after round, until the picture has its samples, its quality or its time."""
        every = rounds.films.sums
        height, width, _ = every["beauty"].shape
        apart = ("beauty", "half", "light_sums", "light_half", "sky", "sky_half")
        held = {name: sums for name, sums in every.items() if name not in apart}
        where = {"width": width, "pixels": width * height, "left": corner[0], "top": corner[1]}
        # Light of every other round is added up apart.
        tables = [
            Pinned(
                FILM, **where, **held, beauty=every[name],
                light_sums=every.get(light, 0), sky=every.get(sky, 0),
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
            of_tile = tile_record(tile[:4], this.first, this.samples, options)
            rays = trace_tile(
                scene.scene.address, room.ctypes.data, lens.address, options.address,
                tables[this.number % 2].address, of_tile.address,
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


def warm_up() -> None:
    """Have the kernels ready: compile them, or load them from the cache of an earlier compile."""
    load_kernels()
    albedo_tables()


def _diagonal(corners: NDArray[np.float64]) -> float:
    return float(np.linalg.norm(corners[1] - corners[0])) or 1.0
