"""The matrix: axes multiplied, rules applied, cells in the order they run.

A cell is found from its index by arithmetic; nothing is listed but one byte for each place of
the full product, which says whether the rules keep it.  Precedence of settings and edits is in
`cells`.
"""

from __future__ import annotations

import fnmatch
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from grandlattice.errors import NoSuchCell, Place, PlanError, nearest
from grandlattice.plan.reader import Document
from grandlattice.plan.schema import (
    AddRule,
    AtRule,
    Bundle,
    DropRule,
    EachAxis,
    KeepRule,
    PlanModel,
)

RESERVED = frozenset(
    ["plan", "scene", "cell", "index", "pass", "frame", "take", "version", "date", "ext", "eye"]
)
_MOST_PLACES = 200_000_000


@dataclass(frozen=True)
class CameraFact:
    """A camera of the scene as the plan room needs it: its path and its name."""

    path: str
    name: str


@dataclass(frozen=True)
class SceneFacts:
    """What planning needs to know of a scene, without any USD.

    `frames` is the scene's first and last frame; None where it says nothing.
    """

    cameras: tuple[CameraFact, ...] = ()
    frames: tuple[int, int] | None = None
    name: str = "scene"


@dataclass(frozen=True)
class Option:
    """An entry of an axis: its bundle, and its path in the plan."""

    name: str
    bundle: Bundle
    path: tuple[str | int, ...]
    camera: str | None = None


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
        """Which entries match one of the patterns (names or globs); none matching is an error."""
        mask = np.zeros(len(self.options), bool)
        for pattern in patterns:
            if pattern in self.index:
                mask[self.index[pattern]] = True
                continue
            found = [i for name, i in self.index.items() if fnmatch.fnmatchcase(name, pattern)]
            if not found:
                raise NoSuchCell(
                    f"{self.name} has no entry {pattern}. {nearest(pattern, self.index)}",
                    place=place,
                )
            mask[found] = True
        return mask


@dataclass(frozen=True)
class RuleAt:
    """An `at` rule ready to be asked: for each axis which entries match, None for any."""

    rule: AtRule
    masks: tuple[NDArray[np.bool_] | None, ...]
    number: int
    place: Place

    def matches(self, entries: Sequence[int]) -> bool:
        return all(mask is None or bool(mask[i]) for mask, i in zip(self.masks, entries, strict=True))


@dataclass(frozen=True)
class Added:
    """A cell added by name; `after` is the number of its rule."""

    name: str
    entries: tuple[int, ...]
    rule: AddRule
    number: int
    place: Place


@dataclass(frozen=True, eq=False)
class Lattice:
    """All cells of a plan.

    Attributes
    ----------
    axes : in the order written.
    order : places of the axes in `axes`, slowest first.
    kept : bool, one dimension for each axis in the order written; False where a rule or `skip`
        takes the cell out of the run.
    amendments : the `at` rules, in order.
    added : cells added by name; they run after the others.
    """

    axes: tuple[AxisTable, ...]
    order: tuple[int, ...]
    kept: NDArray[np.bool_]
    amendments: tuple[RuleAt, ...] = ()
    added: tuple[Added, ...] = ()
    skipped: int = 0

    @cached_property
    def _positions(self) -> NDArray[np.int64]:
        """Places of the kept cells in the product laid out in running order."""
        return np.flatnonzero(np.transpose(self.kept, self.order))

    def __len__(self) -> int:
        return len(self._positions) + len(self.added)

    def entries(self, index: int) -> tuple[int, ...]:
        """For cell `index` of the run, its entry on each axis in the order written."""
        if not 0 <= index < len(self):
            raise NoSuchCell(f"There is no cell {index}; the plan has {len(self)}.")
        if index >= len(self._positions):
            return self.added[index - len(self._positions)].entries
        shape = tuple(self.kept.shape[a] for a in self.order)
        in_order = np.unravel_index(int(self._positions[index]), shape)
        entries = [0] * len(self.axes)
        for axis, entry in zip(self.order, in_order, strict=True):
            entries[axis] = int(entry)
        return tuple(entries)

    def added_at(self, index: int) -> Added | None:
        """The rule that added cell `index`, or None for a cell of the product."""
        k = index - len(self._positions)
        return self.added[k] if k >= 0 else None

    def index_of(self, entries: Sequence[int]) -> int:
        """The running index of the cell with these entries; the opposite of `entries`."""
        shape = tuple(self.kept.shape[a] for a in self.order)
        place = np.ravel_multi_index(tuple(entries[a] for a in self.order), shape) if shape else 0
        index = int(np.searchsorted(self._positions, place))
        if index == len(self._positions) or self._positions[index] != place:
            names = "/".join(axis.options[i].name for axis, i in zip(self.axes, entries, strict=True))
            raise NoSuchCell(f"{names} is not in the run: a rule or skip takes it out.")
        return index

    def select(self, masks: Sequence[NDArray[np.bool_] | None]) -> list[int]:
        """Indices of the cells whose entries all stand in their axis's mask (None: any)."""
        wanted = self.kept.copy()
        for a, mask in enumerate(masks):
            if mask is not None:
                wanted &= mask.reshape([-1 if i == a else 1 for i in range(len(self.axes))])
        places = np.flatnonzero(np.transpose(wanted, self.order))
        found = np.searchsorted(self._positions, places).tolist()
        for k, cell in enumerate(self.added):
            if all(m is None or m[i] for m, i in zip(masks, cell.entries, strict=True)):
                found.append(len(self._positions) + k)
        return found


def build_lattice(model: PlanModel, document: Document, facts: SceneFacts) -> Lattice:
    """Multiply the axes of a plan and apply its rules.

    Raises
    ------
    PlanError
        For names that mean nothing, with the nearest spelling; for a plan that leaves no cell.
    """
    axes = tuple(_axis_table(name, model, document, facts) for name in model.axes)
    shape = tuple(len(axis.options) for axis in axes)
    total = int(np.prod([float(n) for n in shape]))
    if total > _MOST_PLACES:
        raise PlanError(
            f"The axes multiply to {total:,} cells, more than {_MOST_PLACES:,}.",
            place=document.place(["axes"]),
        )
    order = _order(model, document, axes)
    kept = np.ones(shape, bool)
    skip = np.zeros(shape, bool)
    if model.defaults.skip is not None:
        skip[...] = model.defaults.skip
    for a, axis in enumerate(axes):
        for i, option in enumerate(axis.options):
            said = _says_skip(option.bundle, model, document)
            if said is not None:
                skip[(slice(None),) * a + (i,)] = said
    amendments: list[RuleAt] = []
    added: list[Added] = []
    for number, rule in enumerate(model.rules):
        place = document.place(["rules", number])
        if isinstance(rule, DropRule):
            masks = _masks(rule.drop, axes, place)
            _dropped(kept, masks, number, place)
        elif isinstance(rule, KeepRule):
            stays = np.zeros(shape, bool)
            for match in rule.keep:
                stays |= _within(shape, _masks(match, axes, place))
            kept &= stays
        elif isinstance(rule, AtRule):
            amendment = RuleAt(rule, _masks(rule.at, axes, place), number, place)
            amendments.append(amendment)
            matched = _within(shape, amendment.masks)
            if not (matched & kept).any():
                raise PlanError("This rule amends no cell; those it names are dropped.", place=place)
            if (said := _says_skip(rule, model, document)) is not None:
                skip[matched] = said
        elif isinstance(rule, AddRule):
            added.append(_added(rule, axes, number, place))
        if not kept.any() and not any(isinstance(r, AddRule) for r in model.rules):
            raise PlanError(
                "After this rule no cell is left.",
                place=place,
                cure="narrow the rule, or remove it",
            )
    skipped = int((kept & skip).sum())
    lattice = Lattice(axes, order, kept & ~skip, tuple(amendments), tuple(added), skipped)
    if len(lattice) == 0:
        raise PlanError("Every cell is skipped, so there is nothing to run.", place=document.place([]))
    return lattice


def _axis_table(name: str, model: PlanModel, document: Document, facts: SceneFacts) -> AxisTable:
    place = document.place(["axes", name])
    if name in RESERVED:
        raise PlanError(
            f"An axis cannot be called {name}: output templates use that word.",
            place=place,
            cure="give the axis another name",
        )
    if not name.replace("-", "_").isidentifier():
        raise PlanError(f"{name!r} is no name for an axis.", place=place, cure="use letters and digits")
    axis = model.axes[name]
    if isinstance(axis, EachAxis):
        return AxisTable(name, _each_camera(name, axis, document, facts, place), place)
    options = []
    for entry, bundle in axis.items():
        where = document.place(["axes", name, entry])
        if not entry.strip() or "/" in entry or "," in entry or "*" in entry:
            raise PlanError(f"{entry!r} is no name for an entry.", place=where, cure="leave out / , *")
        options.append(Option(entry, bundle, ("axes", name, entry)))
    return AxisTable(name, tuple(options), place)


def _each_camera(
    name: str, axis: EachAxis, document: Document, facts: SceneFacts, place: Place
) -> tuple[Option, ...]:
    if not facts.cameras:
        raise PlanError(
            "each: cameras finds none; the scene has no camera.",
            place=place,
            cure="add a camera to the scene, or lay one over it with overlay",
        )
    names = distinct_names(camera.path for camera in facts.cameras)
    for given in axis.with_:
        if given not in names.values():
            raise PlanError(
                f"The scene has no camera {given}. {nearest(given, names.values())}",
                place=document.place(["axes", name, "with"], given),
            )
    empty = Bundle()
    return tuple(
        Option(
            label,
            axis.with_.get(label, empty),
            ("axes", name, "with", label),
            path,
        )
        for path, label in names.items()
    )


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


def _order(model: PlanModel, document: Document, axes: Sequence[AxisTable]) -> tuple[int, ...]:
    places = {axis.name: i for i, axis in enumerate(axes)}
    wanted: list[int] = []
    for k, name in enumerate(model.order):
        if name not in places:
            raise PlanError(
                f"There is no axis {name} to order by. {nearest(name, places)}",
                place=document.place(["order", k]),
            )
        if places[name] in wanted:
            raise PlanError(f"{name} stands in the order twice.", place=document.place(["order", k]))
        wanted.append(places[name])
    return (*wanted, *(i for i in range(len(axes)) if i not in wanted))


Masks = tuple["NDArray[np.bool_] | None", ...]


def _masks(match: Mapping[str, list[str]], axes: Sequence[AxisTable], place: Place) -> Masks:
    known = [axis.name for axis in axes]
    for name in match:
        if name not in known:
            raise PlanError(f"There is no axis {name}. {nearest(name, known)}", place=place)
    return tuple(axis.matching(match[axis.name], place) if axis.name in match else None for axis in axes)


def _within(shape: tuple[int, ...], masks: Masks) -> NDArray[np.bool_]:
    inside = np.ones(shape, bool)
    for a, mask in enumerate(masks):
        if mask is not None:
            inside &= mask.reshape([-1 if i == a else 1 for i in range(len(shape))])
    return inside


def _dropped(kept: NDArray[np.bool_], masks: Masks, number: int, place: Place) -> None:
    inside = _within(kept.shape, masks)
    if not (inside & kept).any():
        raise PlanError(
            "This rule drops no cell; earlier rules have dropped them already.",
            place=place,
            cure="remove the rule, or look at the rules before it",
        )
    kept &= ~inside


def _added(rule: AddRule, axes: Sequence[AxisTable], number: int, place: Place) -> Added:
    missing = [axis.name for axis in axes if axis.name not in rule.add]
    if missing:
        raise PlanError(f"An added cell needs an entry of every axis; {missing[0]} is missing.", place=place)
    masks = _masks({name: [entry] for name, entry in rule.add.items()}, axes, place)
    entries = tuple(int(np.flatnonzero(mask)[0]) for mask in masks if mask is not None)
    return Added(rule.name, entries, rule, number, place)


Path = tuple["str | int", ...]


def _says_skip(bundle: Bundle, model: PlanModel, document: Document) -> bool | None:
    """What a bundle says of `skip`, its takes and qualities unrolled; its own word wins."""
    said = None
    for take, _ in unrolled_takes(bundle, (), model, document):
        for part in (model.qualities.get(take.quality or ""), take):
            if part is not None and part.skip is not None:
                said = part.skip
    return said


def unrolled_takes(
    bundle: Bundle, path: Path, model: PlanModel, document: Document
) -> Iterator[tuple[Bundle, Path]]:
    """The takes a bundle uses, those they use before them, and last the bundle itself.

    Each comes with its path in the document; `path` is the bundle's own.
    """

    def walk(current: Bundle, at: Path, above: tuple[str, ...]) -> Iterator[tuple[Bundle, Path]]:
        for name in current.use or ():
            if name not in model.takes:
                raise PlanError(
                    f"There is no take {name}. {nearest(name, model.takes)}",
                    place=document.place([*at, "use"]),
                )
            if name in above:
                raise PlanError(f"The take {name} is built on itself.", place=document.place(["takes", name]))
            yield from walk(model.takes[name], ("takes", name), (*above, name))
        yield current, at

    yield from walk(bundle, path, ())
