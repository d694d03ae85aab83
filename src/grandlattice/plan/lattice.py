"""The matrix: axes multiplied, rules applied, cells in the order they run.

A cell is found from its index by arithmetic; nothing is listed but one byte for each place of the
full product, which says whether the rules keep it.  Axes that advance together are one dimension
of the product.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from grandlattice.errors import NoSuchCell, Place, PlanError, nearest
from grandlattice.plan.axes import AxisTable, SceneFacts, axis_tables
from grandlattice.plan.reader import Document
from grandlattice.plan.schema import AddRule, AtRule, DropRule, KeepRule, PlanModel
from grandlattice.plan.setting_columns import Masks, RuleAt, block_of, settled
from grandlattice.plan.setting_layers import Saying, Sayings

_MOST_PLACES = 20_000_000
_MOST_AXES = 60
FRAME = "frame"


@dataclass(frozen=True)
class Added:
    """A cell added by name; `number` is that of its rule."""

    name: str
    entries: tuple[int, ...]
    saying: Saying
    number: int
    place: Place


@dataclass(frozen=True, eq=False)
class Lattice:
    """All cells of a plan.

    Attributes
    ----------
    axes : in the order written.
    dims : the dimensions of the product, each the axes that advance together.
    order : dimensions, slowest first.
    frame_at : how many dimensions are slower than the frame.
    kept : bool, one dimension for each of `dims`; False where a rule or `skip` takes the cell out
        of the run.
    amendments : the `at` rules, in order.
    added : cells added by name; they run after the others.
    skipped : how many cells `skip` takes out of the run.
    sets : named sets of cells, each a list of masks that add up.
    wait : axes after each value of which the run waits.
    """

    axes: tuple[AxisTable, ...]
    dims: tuple[tuple[int, ...], ...]
    order: tuple[int, ...]
    frame_at: int
    kept: NDArray[np.bool_]
    sayings: Sayings
    amendments: tuple[RuleAt, ...] = ()
    added: tuple[Added, ...] = ()
    skipped: int = 0
    sets: Mapping[str, tuple[Masks, ...]] = field(default_factory=dict)
    wait: tuple[int, ...] = ()

    @cached_property
    def positions(self) -> NDArray[np.int64]:
        """Places of the kept cells in the product laid out in running order."""
        return np.flatnonzero(np.transpose(self.kept, self.order))

    @cached_property
    def shape_in_order(self) -> tuple[int, ...]:
        return tuple(self.kept.shape[d] for d in self.order)

    @cached_property
    def _strides(self) -> tuple[tuple[int, int], ...]:
        """Size and stride of each dimension in the laid-out product, in the order of `axes`."""
        shape = self.shape_in_order
        strides = [int(np.prod(shape[k + 1 :], dtype=np.int64)) for k in range(len(shape))]
        place = {d: k for k, d in enumerate(self.order)}
        of_axis = {a: d for d, group in enumerate(self.dims) for a in group}
        return tuple((shape[place[of_axis[a]]], strides[place[of_axis[a]]]) for a in range(len(self.axes)))

    def __len__(self) -> int:
        return len(self.positions) + len(self.added)

    def everything_said(self) -> Iterator[Saying]:
        """Everything said of any cell, by defaults, axes, rules and added cells."""
        yield self.sayings.defaults
        for options in self.sayings.options:
            yield from options
        yield from (rule.saying for rule in self.amendments)
        yield from (cell.saying for cell in self.added)

    def entries(self, index: int) -> tuple[int, ...]:
        """For cell `index` of the run, its entry on each axis in the order written."""
        k = index - len(self.positions)
        if not 0 <= index < len(self):
            raise NoSuchCell(f"There is no cell {index + 1}; the plan has {len(self):,}.")
        if k >= 0:
            return self.added[k].entries
        position = int(self.positions[index])
        return tuple([position // stride % size for size, stride in self._strides])

    def along(self, entries: Sequence[int], axis: int | None) -> list[int]:
        """Numbers of the cells of the run that have these entries but for one axis, and those that advance
        with it; of the cell itself where none is named."""
        places = np.array([sum(entries[group[0]] * self._strides[group[0]][1] for group in self.dims)])
        if axis is not None:
            size, stride = self._strides[axis]
            places = places + (np.arange(size) - entries[axis]) * stride
        found = np.searchsorted(self.positions, places)
        there = found < len(self.positions)
        there &= self.positions[np.minimum(found, len(self.positions) - 1)] == places
        return list(map(int, found[there]))

    def entries_of(self, indices: NDArray[np.int64]) -> list[NDArray[np.int64]]:
        """For many cells of the product, their entries on each axis; (A) arrays of (N,) int64."""
        places = self.positions[indices]
        return [places // stride % size for size, stride in self._strides]

    def added_at(self, index: int) -> Added | None:
        """The rule that added cell `index`, or None for a cell of the product."""
        k = index - len(self.positions)
        return self.added[k] if k >= 0 else None

    def index_of(self, entries: Sequence[int]) -> int:
        """The running index of the cell with these entries; the opposite of `entries`."""
        place, apart = 0, False
        for group in self.dims:
            place += entries[group[0]] * self._strides[group[0]][1]
            apart = apart or any(entries[a] != entries[group[0]] for a in group[1:])
        index = int(self.positions.searchsorted(place))
        if apart or index == len(self.positions) or self.positions[index] != place:
            names = "/".join(axis.options[i].name for axis, i in zip(self.axes, entries, strict=True))
            raise NoSuchCell(f"{names} is not in the run: a rule or skip takes it out.")
        return index

    def select(self, masks: Masks) -> NDArray[np.int64]:
        """Indices of the cells whose entries all stand in their axis's mask (None: any)."""
        block = block_of(self.kept.shape, self.dims, masks)
        wanted = np.zeros_like(self.kept)
        wanted[block] = self.kept[block]
        places = np.flatnonzero(np.transpose(wanted, self.order))
        found = np.searchsorted(self.positions, places)
        extra = [
            len(self.positions) + k
            for k, cell in enumerate(self.added)
            if all(m is None or m[i] for m, i in zip(masks, cell.entries, strict=True))
        ]
        return np.concatenate([found, np.array(extra, np.int64)])

    def groups_of(self, indices: NDArray[np.int64]) -> NDArray[np.int64]:
        """For many cells, a number that cells share that take turns frame by frame; (N,) int64."""
        if self.frame_at >= len(self.order):
            return indices
        slower = [self.dims[d][0] for d in self.order[: self.frame_at]]
        added = indices >= len(self.positions)
        return self._numbered(indices, slower) * 2 + (added if slower else 0)

    def steps_of(self, indices: NDArray[np.int64]) -> NDArray[np.int64]:
        """For many cells, a number that cells share that the run finishes before it goes on; (N,)."""
        return self._numbered(indices, self.wait)

    def _numbered(self, indices: NDArray[np.int64], axes: Sequence[int]) -> NDArray[np.int64]:
        """Cells of the same entries on some axes get the same number."""
        number = np.zeros(len(indices), np.int64)
        if axes:
            product = indices < len(self.positions)
            columns = self.entries_of(indices[product])
            added = [self.entries(int(index)) for index in indices[~product]]
            for a in axes:
                entries = np.empty(len(indices), np.int64)
                entries[product] = columns[a]
                entries[~product] = [each[a] for each in added]
                number = number * len(self.axes[a].options) + entries
        return number


def build_lattice(model: PlanModel, document: Document, facts: SceneFacts) -> Lattice:
    """Multiply the axes of a plan and apply its rules.

    Raises
    ------
    PlanError
        For names that mean nothing, with the nearest spelling; for a plan that leaves no cell.
    """
    axes = axis_tables(model, document, facts)
    dims = _dimensions(model, document, axes)
    shape = tuple(len(axes[group[0]].options) for group in dims)
    total = int(np.prod([float(n) for n in shape]))
    if len(shape) > _MOST_AXES:
        raise PlanError(
            f"The plan has {len(shape)} axes, more than {_MOST_AXES}.", place=document.place(["axes"])
        )
    if total > _MOST_PLACES:
        raise PlanError(
            f"The axes multiply to {total:,} cells, more than {_MOST_PLACES:,}.",
            place=document.place(["axes"]),
        )
    order, frame_at = _order(model, document, axes, dims)
    sayings = Sayings(model, document, axes)
    kept = np.ones(shape, bool)
    amendments: list[RuleAt] = []
    added: list[Added] = []
    adds = any(isinstance(rule, AddRule) for rule in model.rules)
    for number, rule in enumerate(model.rules):
        place = document.place(["rules", number])
        source = f"rule {number + 1}"
        if isinstance(rule, DropRule):
            block = block_of(shape, dims, _masks(rule.drop, axes, place))
            if not kept[block].any():
                raise PlanError(
                    "This rule drops no cell; earlier rules have dropped them already.",
                    place=place,
                    cure="remove the rule, or look at the rules before it",
                )
            kept[block] = False
        elif isinstance(rule, KeepRule):
            kept &= _kept(rule, shape, dims, axes, kept, place)
        elif isinstance(rule, AtRule):
            masks = _masks(rule.at, axes, place)
            if not kept[block_of(shape, dims, masks)].any():
                raise PlanError("This rule amends no cell; those it names are dropped.", place=place)
            saying = sayings.of(source, [(rule, ("rules", number))])
            amendments.append(RuleAt(saying, masks, number, place))
        elif isinstance(rule, AddRule):
            saying = sayings.of(source, [(rule, ("rules", number))])
            added.append(_added(rule, axes, dims, saying, number, place))
        if not kept.any() and not adds:
            raise PlanError(
                "After this rule no cell is left.", place=place, cure="narrow the rule, or remove it"
            )
    _refuse_twins(added)
    said = settled(("skip",), shape, dims, sayings, amendments)
    skip = np.array([bool(state[0]) for state in said.states])[said.ids]
    skipped = int((kept & skip).sum())
    lattice = Lattice(
        axes, dims, order, frame_at, kept & ~skip, sayings, tuple(amendments),
        tuple(cell for cell in added if not _is_skipped(cell.saying)), skipped,
        {name: _named_set(name, matches, axes, document) for name, matches in model.sets.items()},
        _waiting(model, document, axes),
    )  # fmt: skip
    if len(lattice) == 0:
        raise PlanError("Every cell is skipped, so there is nothing to run.", place=document.place([]))
    return lattice


def _is_skipped(saying: Saying) -> bool:
    return any(key == "skip" and value for key, value, _ in saying.settings)


def _dimensions(
    model: PlanModel, document: Document, axes: Sequence[AxisTable]
) -> tuple[tuple[int, ...], ...]:
    """Axes grouped: those that advance together, where the first of them stands."""
    number = {axis.name: a for a, axis in enumerate(axes)}
    group_of: dict[int, tuple[int, ...]] = {}
    for k, names in enumerate(model.together):
        place = document.place(["together", k])
        for name in names:
            if name not in number:
                raise PlanError(f"There is no axis {name}. {nearest(name, number)}", place=place)
            if number[name] in group_of:
                raise PlanError(f"{name} advances together with others already.", place=place)
        group = tuple(sorted(number[name] for name in names))
        lengths = {axes[a].name: len(axes[a].options) for a in group}
        if len(set(lengths.values())) > 1:
            said = ", ".join(f"{name} has {count}" for name, count in lengths.items())
            raise PlanError(
                f"Axes that advance together have the same number of entries; {said}.", place=place
            )
        group_of.update(dict.fromkeys(group, group))
    return tuple(dict.fromkeys(group_of.get(a, (a,)) for a in range(len(axes))))


def _order(
    model: PlanModel, document: Document, axes: Sequence[AxisTable], dims: Sequence[tuple[int, ...]]
) -> tuple[tuple[int, ...], int]:
    """Dimensions from slowest to fastest, and how many of them are slower than the frame."""
    places = {axes[a].name: d for d, group in enumerate(dims) for a in group}
    wanted: list[int] = []
    frame_at = None
    for k, name in enumerate(model.order):
        place = document.place(["order", k])
        if name in model.order[:k]:
            raise PlanError(f"{name} stands in the order twice.", place=place)
        if name == FRAME:
            frame_at = len(wanted)
        elif name not in places:
            raise PlanError(
                f"There is no axis {name} to order by. {nearest(name, [*places, FRAME])}", place=place
            )
        elif places[name] not in wanted:
            wanted.append(places[name])
    order = (*wanted, *(d for d in range(len(dims)) if d not in wanted))
    return order, len(order) if frame_at is None else frame_at


def _waiting(model: PlanModel, document: Document, axes: Sequence[AxisTable]) -> tuple[int, ...]:
    number = {axis.name: a for a, axis in enumerate(axes)}
    for k, name in enumerate(model.run.wait):
        if name not in number:
            raise PlanError(
                f"There is no axis {name} to wait for. {nearest(name, number)}",
                place=document.place(["run", "wait", k]),
            )
    return tuple(number[name] for name in model.run.wait)


def _masks(match: Mapping[str, list[str]], axes: Sequence[AxisTable], place: Place) -> Masks:
    known = [axis.name for axis in axes]
    for name in match:
        if name not in known:
            raise PlanError(f"There is no axis {name}. {nearest(name, known)}", place=place)
    return tuple(axis.matching(match[axis.name], place) if axis.name in match else None for axis in axes)


def _kept(
    rule: KeepRule, shape: tuple[int, ...], dims: Sequence[tuple[int, ...]], axes: Sequence[AxisTable],
    kept: NDArray[np.bool_], place: Place,
) -> NDArray[np.bool_]:  # fmt: skip
    stays = np.zeros(shape, bool)
    for match in rule.keep:
        block = block_of(shape, dims, _masks(match, axes, place))
        if not kept[block].any() and kept.any():
            said = ", ".join(f"{name}: {', '.join(entries)}" for name, entries in match.items())
            raise PlanError(f"No cell is left to keep at {said}.", place=place)
        stays[block] = True
    return stays


def _named_set(
    name: str, matches: Sequence[Mapping[str, list[str]]], axes: Sequence[AxisTable], document: Document
) -> tuple[Masks, ...]:
    place = document.place(["sets", name])
    if not matches:
        raise PlanError(f"The set {name} names no cells.", place=place)
    return tuple(_masks(match, axes, place) for match in matches)


def _added(
    rule: AddRule, axes: Sequence[AxisTable], dims: Sequence[tuple[int, ...]], saying: Saying, number: int,
    place: Place,
) -> Added:  # fmt: skip
    missing = [axis.name for axis in axes if axis.name not in rule.add]
    if missing:
        raise PlanError(f"An added cell needs an entry of every axis; {missing[0]} is missing.", place=place)
    masks = _masks({name: [entry] for name, entry in rule.add.items()}, axes, place)
    entries = tuple(int(np.flatnonzero(mask)[0]) for mask in masks if mask is not None)
    if set(rule.name) & set("/,*=[]?") or not rule.name.strip():
        raise PlanError(f"{rule.name!r} is no name for a cell.", place=place, cure="leave out / , * = [ ] ?")
    return Added(rule.name, entries, saying, number, place)


def _refuse_twins(added: Sequence[Added]) -> None:
    names = [cell.name for cell in added]
    for cell in added:
        if names.count(cell.name) > 1:
            raise PlanError(f"Two added cells are called {cell.name}.", place=cell.place)
