"""Axes with their entries in order, those that write themselves written out.

What an axis asks of the scene (its cameras, lights, variants) comes in as `SceneFacts`; this room
knows no USD.
"""

from __future__ import annotations

import fnmatch
import unicodedata
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field
from functools import cached_property
from pathlib import Path as FilePath
from typing import Any

import numpy as np
from numpy.typing import NDArray
from pydantic import ValidationError

from grandlattice._support.filesystem import is_file
from grandlattice.errors import NoSuchCell, Place, PlanError, nearest
from grandlattice.plan.reader import Document
from grandlattice.plan.schema import Bundle, EachAxis, EachFile, EachVariant, PlanModel, SweepAxis
from grandlattice.plan.settings import Settings
from grandlattice.plan.sweeps import same_value
from grandlattice.plan.unfolding import own_bundle, substituted
from grandlattice.plan.validation import explained

RESERVED = frozenset(
    ["plan", "scene", "cell", "index", "pass", "frame", "take", "version", "date", "ext", "eye", "value"]
)

Path = tuple["str | int", ...]


@dataclass(frozen=True)
class PrimFact:
    """A camera or light of the scene as the plan room needs it."""

    path: str
    visible: bool = True


@dataclass(frozen=True)
class SceneFacts:
    """What planning needs to know of a scene, without any USD.

    `frames` is the scene's first and last frame; None where it says nothing.  `variants` are by
    prim path and set.  `matching` answers a path expression with prim paths.
    """

    cameras: tuple[PrimFact, ...] = ()
    frames: tuple[int, int] | None = None
    name: str = "scene"
    lights: tuple[PrimFact, ...] = ()
    variants: Mapping[str, Mapping[str, list[str]]] = field(default_factory=dict)
    matching: Callable[[str, Place], Iterable[str]] = field(default=lambda text, place: ())
    folder: FilePath = FilePath()


@dataclass(frozen=True)
class Option:
    """An entry of an axis: its name, its value, and what is said of it with its path in the plan."""

    name: str
    value: str
    said: tuple[tuple[Settings, Path], ...]


@dataclass(frozen=True)
class AxisTable:
    """An axis with its entries in order."""

    name: str
    options: tuple[Option, ...]
    place: Place

    @cached_property
    def index(self) -> Mapping[str, int]:
        return {option.name: i for i, option in enumerate(self.options)}

    def matching(self, patterns: Iterable[str], place: Place | None = None) -> NDArray[np.bool_]:
        """Which entries match one of the patterns (names, values or globs); none is an error."""
        mask = np.zeros(len(self.options), bool)
        for pattern in patterns:
            if pattern in self.index:
                mask[self.index[pattern]] = True
                continue
            found = [i for name, i in self.index.items() if fnmatch.fnmatchcase(name, pattern)]
            if not found:
                found = [i for i, option in enumerate(self.options) if same_value(pattern, option.value)]
            if not found:
                raise NoSuchCell(
                    f"{self.name} has no entry {pattern}. {nearest(pattern, self.index)}",
                    place=place,
                )
            mask[found] = True
        return mask


def axis_tables(model: PlanModel, document: Document, facts: SceneFacts) -> tuple[AxisTable, ...]:
    """The axes of a plan.

    Raises
    ------
    PlanError
        For names that cannot be, and axes that find nothing to be made of.
    """
    return tuple(_axis_table(name, model, document, facts) for name in model.axes)


def _axis_table(name: str, model: PlanModel, document: Document, facts: SceneFacts) -> AxisTable:
    place = document.place(["axes", name])
    if name in RESERVED or name in model.words:
        raise PlanError(
            f"An axis cannot be called {name}: "
            + (
                "it is one of the plan's words." if name in model.words else "output templates use that word."
            ),
            place=place,
            cure="give the axis another name",
        )
    if not name.replace("-", "_").isidentifier():
        raise PlanError(f"{name!r} is no name for an axis.", place=place, cure="use letters and digits")
    axis = model.axes[name]
    if isinstance(axis, EachAxis):
        options = _each(name, axis, model, document, facts, place)
    elif isinstance(axis, SweepAxis):
        options = [
            Option(entry.name, entry.value, ((axis.made[entry.name], ("axes", name)),))
            for entry in axis.sweep.entries()
        ]
    else:
        options = [Option(str(e), str(e), ((b, ("axes", name, str(e))),)) for e, b in axis.items()]
    if isinstance(axis, EachAxis | SweepAxis):
        options = _with_own(name, axis.with_, options, document)
    for option in options:
        _refuse_name(option.name, document.place(["axes", name, option.name]))
    return AxisTable(name, tuple(options), place)


def _refuse_name(entry: str, place: Place) -> None:
    wrong = set(entry) & set("/,*=[]?")
    if wrong or not entry.strip() or unicodedata.combining(entry[0]) or not entry.isprintable():
        raise PlanError(f"{entry!r} is no name for an entry.", place=place, cure="leave out / , * = [ ] ?")


def _with_own(
    axis: str, given: Mapping[str, Bundle], options: list[Option], document: Document
) -> list[Option]:
    """Options with what `with` says of single ones."""
    own: dict[str, list[tuple[Settings, Path]]] = {}
    for text, bundle in given.items():
        found = [o.name for o in options if o.name == text] or [
            o.name for o in options if same_value(text, o.value)
        ]
        if not found:
            raise PlanError(
                f"{axis} has no entry {text}. {nearest(text, [o.name for o in options])}",
                place=document.place(["axes", axis, "with"], text),
            )
        own.setdefault(found[0], []).append((bundle, ("axes", axis, "with", text)))
    return [Option(o.name, o.value, (*o.said, *own.get(o.name, ()))) for o in options]


Found = list[tuple[str, str, "Settings | None"]]  # name, value, settings it brings along


def _each(
    name: str, axis: EachAxis, model: PlanModel, document: Document, facts: SceneFacts, place: Place
) -> list[Option]:
    if isinstance(axis.each, EachVariant):
        found = _variants(axis.each, facts, place)
    elif isinstance(axis.each, EachFile):
        found = _files(axis.each.files, facts.folder, place)
    elif axis.each == "takes":
        found = [(take, take, Bundle(use=[take])) for take in model.takes]
    else:
        found = _prims(axis, facts, document.place(["axes", name], "among") if axis.among else place)
    if not found and axis.each == "cameras" and not facts.cameras:
        raise PlanError(
            "each: cameras finds none; the scene has no camera.",
            place=place,
            cure="add a camera to the scene; glat begin proposes one",
        )
    if not found:
        what = axis.each if isinstance(axis.each, str) else next(iter(type(axis.each).model_fields))
        raise PlanError(
            f"each: {what} finds none" + (f" among {axis.among}." if axis.among else "."),
            place=place,
            cure="look at what is there with glat survey",
        )
    raw = own_bundle(document.data["axes"][name])
    options = []
    for entry, value, implied in found:
        said: list[tuple[Settings, Path]] = [(implied, ("axes", name))] if implied is not None else []
        if raw:
            said.append((_own_bundle_of(name, raw, value, document), ("axes", name)))
        options.append(Option(entry, value, tuple(said)))
    return options


def _own_bundle_of(axis: str, raw: Mapping[str, Any], value: str, document: Document) -> Bundle:
    try:
        return Bundle.model_validate(substituted(raw, axis, value))
    except ValidationError as problem:
        error = problem.errors(include_url=False)[0]
        error["loc"] = ("axes", axis, *error["loc"])
        raise explained(error, document) from None


def _prims(axis: EachAxis, facts: SceneFacts, place: Place) -> Found:
    cameras = axis.each == "cameras"
    prims = facts.cameras if cameras else facts.lights
    if axis.among == "visible":
        prims = tuple(prim for prim in prims if prim.visible)
    elif axis.among is not None:
        inside = set(facts.matching(axis.among, place))
        prims = tuple(prim for prim in prims if prim.path in inside)
    names = distinct_names(prim.path for prim in prims)
    return [(name, path, Settings(camera=path) if cameras else None) for path, name in names.items()]


def _variants(each: EachVariant, facts: SceneFacts, place: Place) -> Found:
    sets = facts.variants.get(each.of)
    if sets is None:
        raise PlanError(f"{each.of} has no variants. {nearest(each.of, facts.variants)}", place=place)
    if each.variants not in sets:
        raise PlanError(
            f"{each.of} has no variant set {each.variants}. {nearest(each.variants, sets)}", place=place
        )
    found: Found = []
    for variant in sets[each.variants]:
        choose = {"choose": {"on": each.of, each.variants: variant}}
        found.append((variant, variant, Bundle.model_validate({"edits": [choose]})))
    return found


def _files(pattern: str, folder: FilePath, place: Place) -> Found:
    if pattern.startswith(("/", "~")) or ".." in FilePath(pattern).parts:
        raise PlanError(f"{pattern} is not below the plan's folder.", place=place)
    try:
        paths = sorted(path for path in folder.glob(pattern) if is_file(path))
    except (ValueError, OSError):
        raise PlanError(f"{pattern!r} is no pattern for files.", place=place) from None
    stems = [path.stem for path in paths]
    return [
        (path.stem if stems.count(path.stem) == 1 else path.name, path.relative_to(folder).as_posix(), None)
        for path in paths
    ]


def distinct_names(paths: Iterable[str]) -> dict[str, str]:
    """Prim names by path; where two are the same, with the names above them before, Rig-Main."""
    parts = {path: path.strip("/").split("/") for path in paths}
    names = {}
    for path, own in parts.items():
        length = 1
        while length < len(own) and any(
            other != path and theirs[-length:] == own[-length:] for other, theirs in parts.items()
        ):
            length += 1
        names[path] = "-".join(own[-length:])
    return names
