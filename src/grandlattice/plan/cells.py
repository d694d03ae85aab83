"""One cell: what is laid over the scene for it, and how it is rendered and filed.

Precedence, the later one winning: defaults, the axes in the order written (an entry's takes
first), the rules in the order written, then the caller.  A bundle unrolls where it is named and
keys beside it win over it.  Edits add up in the same order.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field, replace
from typing import Any

from grandlattice.errors import Place, PlanError, nearest
from grandlattice.plan.edits import Edit
from grandlattice.plan.lattice import Lattice, Path, SceneFacts, unrolled_takes
from grandlattice.plan.reader import Document
from grandlattice.plan.schema import Bundle, MadeMaterial, PlanModel
from grandlattice.plan.settings import FileOptions, Settings
from grandlattice.plan.values import Size

DEFAULT_OUTPUT = "renders/{cell}.{frame:04d}.{ext}"


@dataclass(frozen=True)
class PlacedEdit:
    """An edit, who asked for it (``light=evening``, ``rule 2``) and where that stands."""

    edit: Edit
    source: str
    place: Place


@dataclass(frozen=True)
class CellSettings:
    """Every setting of a cell, decided.  `size` has the scale in it already."""

    camera: str | None = None
    size: Size = Size(1280, 720)
    frames: tuple[int, ...] = (1,)
    quality: str | None = None
    samples: int = 64
    seed: int = 0
    bounces: int = 8
    clamp: float | None = None
    passes: tuple[str, ...] = ("beauty",)
    format: tuple[str, ...] = ("exr",)
    files: FileOptions = field(default_factory=FileOptions)
    output: str = DEFAULT_OUTPUT
    exposure: float = 0.0
    display: str | None = None
    denoise: bool = False
    background: str = "sky"


@dataclass(frozen=True)
class Cell:
    """One cell of the run.

    Attributes
    ----------
    index : its place in the run, from 0.
    address : ``noon/brass/all/Wide``, or the name of an added cell.
    coordinates : axis → entry, axes in the order written.
    settings : decided.
    edits : what is laid over the scene, in order.
    origins : setting → where it was said.
    """

    index: int
    address: str
    coordinates: Mapping[str, str]
    settings: CellSettings
    edits: tuple[PlacedEdit, ...]
    origins: Mapping[str, Place] = field(default_factory=dict)
    name: str | None = None

    @property
    def file_name(self) -> str:
        """The address as part of a file name: ``noon-brass-all-Wide``."""
        return self.name or "-".join(self.coordinates.values()) or "cell"


Said = tuple[str, Bundle | Settings, Path]


class CellMaker:
    """Makes cells of one plan from their index.

    Parameters
    ----------
    overrides : settings that beat all others, as given by the caller.
    """

    def __init__(
        self,
        model: PlanModel,
        document: Document,
        lattice: Lattice,
        facts: SceneFacts,
        overrides: Settings | None = None,
    ) -> None:
        self._model, self._document = model, document
        self._lattice, self._facts = lattice, facts
        self._overrides = overrides or Settings()
        self._places: dict[tuple[Path, str | None], Place] = {}

    def __call__(self, index: int) -> Cell:
        """Cell `index` of the run."""
        entries = self._lattice.entries(index)
        chosen = {
            axis.name: axis.options[i].name for axis, i in zip(self._lattice.axes, entries, strict=True)
        }
        added = self._lattice.added_at(index)
        settings: dict[str, Any] = {}
        origins: dict[str, Place] = {}
        edits: list[PlacedEdit] = []
        for source, bundle, path in self._said(index, entries):
            self._lay(settings, origins, bundle, path)
            if isinstance(bundle, Bundle):
                edits += [
                    PlacedEdit(edit, source, self._place((*path, "edits", i)))
                    for i, edit in enumerate(bundle.edits)
                ]
        address = added.name if added is not None else "/".join(chosen.values())
        return Cell(
            index,
            address or "the one cell",
            chosen,
            self._decided(settings, origins, address),
            tuple(edits),
            origins,
            added.name if added is not None else None,
        )

    def _said(self, index: int, entries: tuple[int, ...]) -> Iterator[Said]:
        """Everything that speaks about a cell, weakest first."""
        model, document = self._model, self._document
        yield "defaults", model.defaults, ("defaults",)
        for axis, i in zip(self._lattice.axes, entries, strict=True):
            option = axis.options[i]
            source = f"{axis.name}={option.name}"
            if option.camera is not None:
                yield source, Settings(camera=option.camera), ("axes", axis.name)
            for bundle, path in unrolled_takes(option.bundle, option.path, model, document):
                yield source, bundle, path
        added = self._lattice.added_at(index)
        rules: list[tuple[int, Bundle]] = [
            (r.number, r.rule) for r in self._lattice.amendments if r.matches(entries)
        ]
        if added is not None:
            # An added cell exists from its own rule on: later rules amend it, earlier do not.
            rules = [rule for rule in rules if rule[0] > added.number]
            rules.insert(0, (added.number, added.rule))
        for number, rule in rules:
            for bundle, path in unrolled_takes(rule, ("rules", number), model, document):
                yield f"rule {number + 1}", bundle, path
        yield "the caller", self._overrides, ()

    def _place(self, path: Path, key: str | None = None) -> Place:
        """Where something stands, looked up once."""
        known = self._places.get((path, key))
        if known is None:
            known = self._places[path, key] = self._document.place(path, key)
        return known

    def _lay(self, settings: dict[str, Any], origins: dict[str, Place], said: Settings, path: Path) -> None:
        given = said.given()
        if "quality" in given:
            name = given["quality"]
            if name not in self._model.qualities:
                raise PlanError(
                    f"There is no quality {name}. {nearest(name, self._model.qualities)}",
                    place=self._place(path, "quality"),
                )
            self._lay(settings, origins, self._model.qualities[name], ("qualities", name))
        for key, value in given.items():
            if key == "passes" and value and value[0][0] in "+-":
                value = _amended(settings.get("passes", ["beauty"]), value)
            settings[key], origins[key] = value, self._place(path, key)

    def _decided(self, settings: dict[str, Any], origins: Mapping[str, Place], address: str) -> CellSettings:
        size = settings.get("size", CellSettings.size).scaled(settings.get("scale", 1.0))
        camera = settings.get("camera")
        if camera is None and len(self._facts.cameras) == 1:
            camera = self._facts.cameras[0].path
        known: dict[str, Any] = {
            key: settings[key]
            for key in (
                "quality", "samples", "seed", "bounces", "clamp", "files", "output", "exposure", "display",
                "denoise", "background",
            )
            if key in settings
        }  # fmt: skip
        for key in ("passes", "format"):
            if key in settings:
                known[key] = tuple(dict.fromkeys(settings[key]))
        return replace(
            CellSettings(), camera=camera, size=size, frames=self._frames(settings, origins), **known
        )

    def _frames(self, settings: Mapping[str, Any], origins: Mapping[str, Place]) -> tuple[int, ...]:
        scene = self._facts.frames
        frames = settings.get("frames")
        if frames is None:
            return (scene[0] if scene else 1,)
        if frames.numbers is not None:
            return tuple(frames.numbers)
        if scene is None:
            raise PlanError(
                "frames: scene asks for the scene's frames, and the scene names none.",
                place=origins.get("frames"),
                cure="write the frames, such as 1-48",
            )
        return tuple(range(scene[0], scene[1] + 1))


def _amended(passes: list[str], changes: list[str]) -> list[str]:
    amended = list(passes)
    for change in changes:
        name = change[1:]
        if change[0] == "+" and name not in amended:
            amended.append(name)
        elif change[0] == "-" and name in amended:
            amended.remove(name)
    return amended


__all__ = ["DEFAULT_OUTPUT", "Cell", "CellMaker", "CellSettings", "MadeMaterial", "PlacedEdit"]
