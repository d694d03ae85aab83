"""The embedded tracer as a renderer: compose a cell, read the scene at a frame, trace it.

The scene is opened once; task after task only what differs is read again.
"""

from __future__ import annotations

import time
from collections.abc import Iterator, Mapping, Sequence
from concurrent.futures import Future, ThreadPoolExecutor, wait
from dataclasses import replace
from functools import partial
from pathlib import Path
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray
from pxr import Ar

from grandlattice.errors import ImageError, Place, SceneError
from grandlattice.images import range_of, read_image
from grandlattice.plan import Cell, CellSettings
from grandlattice.plan.schema import OwnLight, OwnOcclusion
from grandlattice.runs.camera_facts import CameraFacts, camera_facts
from grandlattice.runs.cell_snapshots import CellSnapshots
from grandlattice.runs.compositions import lamps_of
from grandlattice.runs.kept_shares import KeptShares, answering
from grandlattice.runs.tasks import Task
from grandlattice.runs.unfinished_pictures import UnfinishedPictures
from grandlattice.runs.work_order import Rendered, Taken, Told, WorkOrder
from grandlattice.scene_records import Light, Material, Snapshot
from grandlattice.stage import Scene, SnapshotDigests, read_asset
from grandlattice.stage.prim_facts import packed_facts, prim_facts
from grandlattice.tracer import (
    Company,
    FilmSums,
    Lamp,
    Lighting,
    LightShares,
    Mixing,
    OwnPass,
    Sensor,
    StopSignal,
    TraceControl,
    Tracer,
    TraceSettings,
    Unfinished,
    can_denoise,
    denoised,
    image_files,
    pixel_pitch,
    relit_film,
    shares_of,
    split,
    with_lamps_off,
)

_PROBE_WIDTH = 128  # pixels
_MEASURED_AT = 5  # frames of a cell that are looked at for the range of a pass
_MOST_IMAGES = 1 << 30  # bytes of images kept for cells to come


def make(order: WorkOrder, scene: Scene, name: str, version: str | None) -> EmbeddedRenderer:
    """The embedded tracer, for the entry point ``tracer``."""
    return EmbeddedRenderer(order, scene)


class EmbeddedRenderer:
    """Draws with the embedded tracer.

    Parameters
    ----------
    order : what the tasks have in common.
    scene : opened.
    """

    def __init__(self, order: WorkOrder, scene: Scene) -> None:
        self._order = order
        self._snapshots = CellSnapshots(scene, order.model, order.folder)
        self._stage = self._snapshots.stage
        self._tracer = Tracer(order.threads)
        self._shares = KeptShares(order.store, order.plan_name)
        self._unfinished = UnfinishedPictures(order.store, order.plan_name)
        self._digests = SnapshotDigests()
        self._notes: tuple[str, ...] = ()
        self._lit: tuple[str, tuple[_Lit, ...]] = ("", ())  # the films of the last company
        self._measured: dict[object, tuple[tuple[float, float], ...]] = {}
        self._images: dict[str, tuple[float, NDArray | None]] = {}
        self._readers = ThreadPoolExecutor(max(order.threads, 2))
        self._on_their_way: dict[str, Future[NDArray | None]] = {}

    @property
    def accepts_nan(self) -> bool:
        return False

    @property
    def notes(self) -> tuple[str, ...]:
        return self._notes

    def render(
        self, task: Task, progress: Told | None = None, stop: StopSignal | None = None
    ) -> Iterator[Rendered]:
        several = self._lit_for(task) if len(task.films) > 1 else ()
        cell, frame = task.films[task.wanted[0]]
        settings = cell.settings
        snapshot = self.snapshot(cell, frame, later="motion" in task.passes)
        lit = several or (self._lit_by(snapshot.lights, snapshot, settings),)
        lightings = [each.lighting for each in lit]
        self._notes = tuple(dict.fromkeys(note for number in task.wanted for note in lit[number].notes))
        own = self.own(cell, snapshot, task.passes)
        how = replace(
            _how(settings, snapshot), seconds=None if self._order.further else settings.seconds,
            guides=any(_wants_guides(member.cell.settings) for member in task.members),
        )  # fmt: skip
        mixed = list(self._mixable(task, lit)) if task.shares and self._order.reuse else []
        for number, kept in mixed:
            film = relit_film(
                kept, lightings[number], lit[number].lamps, snapshot, _sensor(snapshot, settings), how,
                task.passes, own,
            )  # fmt: skip
            yield Rendered(number, film, camera=lit[number].camera, prims=self._prims(snapshot, lit[number]))
        left = [number for number in task.wanted if number not in dict(mixed)]
        if not left:
            return
        images = self._images_of(snapshot, lightings, cell)
        groups = list(self._groups(task, lightings, left))
        for k, (group, begun) in enumerate(groups):
            # What is seen with lamps off belongs to their shares.
            off = with_lamps_off([lightings[number] for number in group]) if task.shares else []
            lamps = [each.lamps for each in lit] + [lamps_of(self._digests, each.lights) for each in off]
            control = TraceControl(
                None if progress is None else partial(_part, progress, k, len(groups)), stop, begun,
                partial(self._unfinished.keep, task, group),
                partial(self._keep_shares, task, group[0], lamps) if task.shares else None,
            )  # fmt: skip
            # Each film has its seconds; those of one trace have them together.
            seconds = None if how.seconds is None else how.seconds * len(group)
            company = Company(
                lightings,
                group,
                by_lamp=bool(task.shares),
                beside=off,
                name=task.company and f"{task.company} {frame}",
            )
            films = self._tracer.trace_films(
                company, snapshot, images, _sensor(snapshot, settings), replace(how, seconds=seconds),
                task.passes, own, control,
            )  # fmt: skip
            for number, film in zip(group, films, strict=True):
                if number in left:
                    yield Rendered(
                        number, film, camera=lit[number].camera, prims=self._prims(snapshot, lit[number])
                    )

    def _prims(self, snapshot: Snapshot, lit: _Lit) -> str:
        """What is said of what a film shows; where pictures are kept that others take the place of."""
        if self._order.keep is None:
            return ""
        facts = prim_facts(snapshot.items, snapshot.materials, lit.lighting.lights, snapshot.camera)
        return packed_facts(facts)

    def _mixable(self, task: Task, lit: Sequence[_Lit]) -> Iterator[tuple[int, LightShares]]:
        """Films of a task that kept light shares answer."""
        read: dict[Path, LightShares | None] = {}
        known = self._shares.of_view(task.shares)
        for number in task.wanted:
            found = answering(known, lit[number].lamps, task.passes)
            if found is not None:
                path, _ = found
                if path not in read:
                    read = {path: self._shares.read(path)}
                kept = read[path]
                if kept is not None:
                    yield number, kept
        self._notes += tuple(
            f"the light shares in {name} cannot be read; traced anew" for name in self._shares.newly_broken()
        )

    def _keep_shares(
        self, task: Task, film: int, lamps: Sequence[Sequence[Lamp]], films: FilmSums, mixing: Mixing,
        counts: NDArray[np.int32],
    ) -> None:  # fmt: skip
        """Put the light of each lamp away, beside the others of the plan."""
        self._shares.keep(task, film, shares_of(films, mixing, lamps, counts, task.passes, time.time()))

    def done(self) -> None:
        pass  # nothing is left of a trace but its film

    def _lit_for(self, task: Task) -> tuple[_Lit, ...]:
        """How each film of a task's company is lit; kept for the next task of the same."""
        if self._lit[0] != task.company:
            self._lit = task.company, tuple(self._light(*shot) for shot in task.films)
        return self._lit[1]

    def _light(self, cell: Cell, frame: int) -> _Lit:
        snapshot = self.snapshot(cell, frame)
        # By path: it does not matter in which cell of a company a light comes first.
        lights = tuple(sorted(snapshot.lights, key=lambda light: light.path))
        return self._lit_by(lights, snapshot, cell.settings)

    def _lit_by(self, lights: tuple[Light, ...], snapshot: Snapshot, settings: CellSettings) -> _Lit:
        notes = tuple(f"{prim}: {what}" for prim, what, _ in self._stage.notes)
        camera, unit = snapshot.camera, snapshot.metres_per_unit
        facts = camera_facts(camera, pixel_pitch(_sensor(snapshot, settings)), unit)
        lamps = lamps_of(self._digests, lights) if settings.keep_light_shares else ()
        return _Lit(Lighting(lights, settings.clamp_nits(camera.stops)), notes, facts, lamps)

    # --- frames that a time limit ended ----------------------------------------------------------

    def _groups(
        self, task: Task, lightings: Sequence[Lighting], left: list[int]
    ) -> Iterator[tuple[list[int], Unfinished | None]]:
        """Films that are traced together; those that a time limit ended go on as they began."""
        for film in range(len(task.films)) if self._order.further else ():
            kept = self._unfinished.begun(task, film)
            if kept is not None and not set(left).isdisjoint(kept[0]):
                left = [number for number in left if number not in kept[0]]
                yield kept
        for group in split(lightings, left, len(left)):
            yield group, None

    def snapshot(self, cell: Cell, frame: int, *, later: bool = False) -> Snapshot:
        """A cell's edits laid over the scene, and the scene at a frame.

        Parameters
        ----------
        later : also where everything is at the next frame, for the pass of motion.
        """
        return self._snapshots.take(
            cell.settings, cell.edits, frame, address=cell.address, later=later, told=self._read_ahead
        )

    def probe(self, cell: Cell, frame: int) -> Taken:
        """What a cell takes here, from small pictures of different samples.

        What is read and built once, whatever comes after it, is not counted: the first picture is
        followed by one of the cell's next frame, as tasks follow each other.
        """
        settings = cell.settings
        size = settings.size.scaled(min(1.0, _PROBE_WIDTH / settings.size.width))
        few, more = min(2, settings.samples), min(8, settings.samples)
        pixels = size.width * size.height

        def seconds(snapshot: Snapshot, samples: int) -> float:
            sensor = replace(_sensor(snapshot, settings), width=size.width, height=size.height, region=None)
            cleans = bool(settings.denoise) and can_denoise()
            how = replace(_how(settings, snapshot), samples=samples, guides=cleans)
            images = self.images_for(snapshot, cell)
            film = self._tracer.trace(
                snapshot, images, sensor, how, settings.passes, own=self.own(cell, snapshot)
            )
            if cleans:
                denoised(film, [name for name in settings.passes if name in film.sources], settings.denoise)
            return film.seconds

        seconds(self.snapshot(cell, frame), few)
        started = time.perf_counter()
        snapshot = self.snapshot(cell, next((f for f in settings.frames if f > frame), frame))
        seconds(snapshot, few)
        both = time.perf_counter() - started
        # What a pixel costs besides its samples is about what one of them costs.
        sample = seconds(snapshot, more) / (more + 1)
        return max(0.0, both - sample * (few + 1)), sample / pixels, sample / pixels

    def glance(self, cell: Cell) -> NDArray[np.float64]:
        """The luminance of a tiny picture of a cell's first frame, (H, W), exposure in it; 1 is white.

        Where something catches shadow its alpha counts as light: such a picture is black by design.
        """
        settings = cell.settings
        snapshot = self.snapshot(cell, settings.frames[0])
        width = 64 if settings.size.width >= settings.size.height else 40
        height = max(8, min(80, round(width * settings.size.height / settings.size.width)))
        film = self._tracer.trace(
            snapshot, self.images_for(snapshot, cell),
            replace(_sensor(snapshot, settings), width=width, height=height, region=None),
            TraceSettings(samples=16, seed=settings.seed, bounces=min(settings.bounces, 4)),
        )  # fmt: skip
        beauty = film.passes["beauty"]
        luminance = np.asarray(beauty[..., :3] @ (0.2126, 0.7152, 0.0722), np.float64)
        luminance *= 2.0**settings.exposure * (
            2.0**snapshot.camera.stops if settings.camera_exposure else 1.0
        )
        if snapshot.catches_shadow:
            luminance = np.maximum(luminance, beauty[..., 3])
        return luminance

    def measure(self, cell: Cell, name: str, look: str) -> tuple[tuple[float, float], ...]:
        """The range of a pass over all frames of a cell, from small pictures of some of them.

        Parameters
        ----------
        look : what kind of data it is, see `images.show_pass`.
        """
        key = (cell.address, cell.settings.frames, name)
        if key not in self._measured:
            frames = cell.settings.frames
            chosen = np.unique(np.linspace(0, len(frames) - 1, min(_MEASURED_AT, len(frames))).astype(int))
            pictures = [self._small(cell, frames[k], name) for k in chosen]
            self._measured[key] = range_of(pictures, look)
        return self._measured[key]

    def _small(self, cell: Cell, frame: int, name: str) -> NDArray[np.float32]:
        """A pass of a small picture of a cell."""
        settings, snapshot = cell.settings, self.snapshot(cell, frame)
        size = settings.size.scaled(min(1.0, _PROBE_WIDTH / settings.size.width))
        sensor = replace(_sensor(snapshot, settings), width=size.width, height=size.height, region=None)
        how = replace(_how(settings, snapshot), samples=4, noise=None, seconds=None)
        images = self.images_for(snapshot, cell)
        return self._tracer.trace(
            snapshot, images, sensor, how, (name,), own=self.own(cell, snapshot)
        ).passes[name]

    def own(
        self, cell: Cell, snapshot: Snapshot, passes: Sequence[str] | None = None
    ) -> dict[str, OwnPass]:  # fmt: skip
        """The passes of the plan's own among some passes, those a cell asks for by default.

        Raises
        ------
        EditError
            When the lights of one cannot be found.
        """
        found: dict[str, OwnPass] = {}
        asked = cell.settings.passes if passes is None else passes
        wanted = {name: self._order.model.own_passes.get(name) for name in asked}
        for name, own in wanted.items():
            if isinstance(own, OwnOcclusion):
                found[name] = OwnPass("occlusion", radius=own.radius.in_units(snapshot.metres_per_unit))
            elif isinstance(own, OwnLight):
                found[name] = OwnPass("light", self._stage.lights_of(name, own, snapshot))
        return found

    def images_for(self, snapshot: Snapshot, cell: Cell) -> Mapping[str, NDArray | None]:
        """Every image a snapshot needs, None for those that are missing and may be."""
        return self._images_of(snapshot, [Lighting(snapshot.lights)], cell)

    def _images_of(
        self, snapshot: Snapshot, lightings: Sequence[Lighting], cell: Cell
    ) -> Mapping[str, NDArray | None]:  # fmt: skip
        """Every image a view needs in some lightings."""
        lights = [light for lighting in lightings for light in lighting.lights]
        images, wanted = {}, image_files(snapshot.materials, lights)
        coming = [self._coming(file) for file in wanted]
        wait(self._on_their_way.values())  # also for those of a cell that came to nothing
        self._on_their_way = {}
        read = [each.result() for each in coming]
        for (file, texture), image in zip(wanted.items(), read, strict=True):
            if image is None and not self._order.allow_missing:
                raise SceneError(
                    f"{cell.address} lacks the image {file or 'of this texture'}.",
                    place=Place(prim=texture.prim),
                    cure="put the file back, or allow its fallback colour with --allow-missing",
                )
            images[file] = image
        self._forget(set(images))
        return images

    def _read_ahead(self, materials: Sequence[Material]) -> None:
        """Begin to read the images of materials."""
        for file in image_files(materials):
            self._coming(file)

    def _coming(self, file: str) -> Future[NDArray | None]:
        """An image that is read, or will have been."""
        if file not in self._on_their_way:
            self._on_their_way[file] = self._readers.submit(self._image, file)
        return self._on_their_way[file]

    def _forget(self, needed: set[str]) -> None:
        """Let go of images that were not needed for longest, where there are too many."""
        for file in needed & self._images.keys():
            self._images[file] = self._images.pop(file)  # the last needed stand last
        held = sum(image.nbytes for _, image in self._images.values() if image is not None)
        for file in [name for name in self._images if name not in needed]:
            if held <= _MOST_IMAGES:
                return
            _, image = self._images.pop(file)
            held -= image.nbytes if image is not None else 0

    def _image(self, file: str) -> NDArray | None:
        """An image, kept until its file changes; None when it is missing or none."""
        outer = Path(Ar.SplitPackageRelativePathOuter(file)[0] if "[" in file else file)
        try:
            changed = outer.stat().st_mtime
        except OSError:
            return None
        known = self._images.get(file)
        if known is None or known[0] != changed:
            try:
                packaged = read_asset(file) if "[" in file else None
                image = read_image(file, packaged) if "[" not in file or packaged else None
            except ImageError:
                image = None
            self._images[file] = known = changed, image
        return known[1]


class _Lit(NamedTuple):
    """How a film is lit, and what there is to say of its cell."""

    lighting: Lighting
    notes: tuple[str, ...]
    camera: CameraFacts
    lamps: tuple[Lamp, ...]  # where their light shares are kept


def _part(progress: Told, number: int, count: int, share: float) -> None:
    """Tell how much is done when one of some equal parts is done so far."""
    progress((number + share) / count)


def _sensor(snapshot: Snapshot, settings: CellSettings) -> Sensor:
    return Sensor(
        snapshot.camera, settings.size.width, settings.size.height, settings.fit == "crop", settings.region,
        settings.projection, settings.eyes.in_units(snapshot.metres_per_unit),
    )  # fmt: skip


def _how(settings: CellSettings, snapshot: Snapshot) -> TraceSettings:
    return TraceSettings(
        samples=settings.samples,
        noise=settings.noise,
        seed=settings.seed,
        bounces=settings.bounces,
        clamp=settings.clamp_nits(snapshot.camera.stops),
        show_background=settings.background == "sky",
    )


def _wants_guides(settings: CellSettings) -> bool:
    return bool(settings.denoise) or settings.keep_noisy or settings.keep_light_shares
