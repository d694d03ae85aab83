"""Cells from what is said of them.

What is said of a cell comes from `setting_layers`, weakest first.  Cells that are told the same share
their settings and their edits, so that making one costs some ten microseconds.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import replace
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from grandlattice.errors import Place, PlanError, nearest
from grandlattice.plan.axes import SceneFacts
from grandlattice.plan.cell_settings import Cell, CellSettings, decided
from grandlattice.plan.edit_verbs import Spin
from grandlattice.plan.lattice import Added, Lattice
from grandlattice.plan.setting_layers import PlacedEdit, Saying, laid
from grandlattice.plan.settings import Settings
from grandlattice.plan.spelled_values import Frames, Metered

_MOST_KNOWN = 10_000
_AT_ONCE = 10_000  # cells


Decided = tuple[CellSettings, Mapping[str, Place]]
Told = tuple[CellSettings, tuple[PlacedEdit, ...]]
"""The settings and the edits of a cell."""

Meter = Callable[[Sequence["Cell"]], float]
"""The exposure, stops, of cells that share one."""


class CellMaker:
    """Makes cells of one plan from their index.

    Parameters
    ----------
    overrides : settings that beat all others, as given by the caller.
    meter : decides exposures that are metered; without one they are 0.
    """

    def __init__(
        self, lattice: Lattice, facts: SceneFacts, overrides: Settings | None = None,
        meter: Meter | None = None,
    ) -> None:  # fmt: skip
        self._lattice, self._facts, self._meter = lattice, facts, meter
        self._overrides = overrides
        self._names = [[option.name for option in axis.options] for axis in lattice.axes]
        self._axes = [axis.name for axis in lattice.axes]
        self.caller = caller_saying(overrides, lattice)
        # Axes whose entries say nothing of settings, or nothing of edits, cannot tell cells apart.
        says = [[bool(saying.settings) for saying in options] for options in lattice.sayings.options]
        edits = [[bool(saying.edits) for saying in options] for options in lattice.sayings.options]
        self._setting_axes = [a for a, each in enumerate(says) if any(each)]
        self._editing_axes = [a for a, each in enumerate(edits) if any(each)]
        self._decided: dict[object, Decided] = {}
        self._edits: dict[object, tuple[PlacedEdit, ...]] = {}
        self._exposed: dict[object, CellSettings] = {}
        self._stops: dict[object, float] = {}  # of cells that share one exposure, by the first of them

    @property
    def meters(self) -> bool:
        """Whether anything said of any cell asks for a metered exposure."""
        said = [self.caller, *self._lattice.everything_said()]
        return any(isinstance(value, Metered) for saying in said for _, value, _ in saying.settings)

    def with_meter(self, meter: Meter | None) -> CellMaker:
        """The same with another meter."""
        return CellMaker(self._lattice, self._facts, self._overrides, meter)

    @cached_property
    def plain(self) -> CellMaker:
        """The same without a meter."""
        return self if self._meter is None else self.with_meter(None)

    def __call__(self, index: int) -> Cell:
        """Cell `index` of the run."""
        lattice = self._lattice
        entries = lattice.entries(index)
        added = lattice.added_at(index)
        rules = tuple([k for k, rule in enumerate(lattice.amendments) if rule.matches(entries)])
        settings, origins, edits = self._told(entries, added, rules)
        names = [self._names[a][i] for a, i in enumerate(entries)]
        name = added.name if added is not None else None
        coordinates = dict(zip(self._axes, names, strict=True))
        return Cell(index, _address(name, names), coordinates, settings, edits, origins, name)

    def told(self, indices: Sequence[int] | NDArray) -> Iterator[Told]:
        """What is told of many cells, without making them; some times as fast."""
        lattice, product = self._lattice, len(self._lattice.positions)
        whole = np.asarray(indices, np.int64)
        for at in range(0, len(whole), _AT_ONCE):
            part = whole[at : at + _AT_ONCE]
            inside = part[part < product]
            columns = lattice.entries_of(inside)
            patterns, which = _patterns([rule.among(columns) for rule in lattice.amendments], len(inside))
            every = (
                zip(*(column.tolist() for column in columns), strict=True) if columns else [()] * len(inside)
            )
            for entries, k in zip(every, which, strict=True):
                settings, _, edits = self._told(entries, None, patterns[k])
                yield settings, edits
            for index in part[part >= product].tolist():
                cell = self(index)
                yield cell.settings, cell.edits

    def _told(
        self, entries: Sequence[int], added: Added | None, rules: tuple[int, ...]
    ) -> tuple[CellSettings, Mapping[str, Place], tuple[PlacedEdit, ...]]:
        number = -1 if added is None else added.number
        key: object = (number, rules, *[entries[a] for a in self._setting_axes])
        decided = self._decided.get(key)
        if decided is None:
            decided = self._kept(self._decided, key, self._decide(self._said(entries, added, rules)))
        settings, origins = decided
        key = (number, rules, settings.frames, *[entries[a] for a in self._editing_axes])
        edits = self._edits.get(key)
        if edits is None:
            laid = [saying.edits for saying in self._said(entries, added, rules) if saying.edits]
            edits = self._kept(self._edits, key, _with_frames(laid, settings.frames))
        if settings.metered is not None and self._meter is not None:
            settings = self._expose(entries, added, settings)
        return settings, origins, edits

    def _expose(self, entries: Sequence[int], added: Added | None, settings: CellSettings) -> CellSettings:
        """Settings with what the meter says of a cell, or of those it shares its exposure with."""
        key = added.number if added is not None else tuple(entries)
        known = self._exposed.get(key)
        if known is None:
            assert self._meter is not None
            assert settings.metered is not None
            plain, by = self.plain, settings.metered.by
            if added is not None:
                numbers = [len(self._lattice.positions) + self._lattice.added.index(added)]
            else:
                numbers = self._lattice.along(entries, None if by is None else self._axes.index(by))
            group = numbers[0], settings.metered
            stops = self._stops.get(group)
            if stops is None:
                cells = [plain(number) for number in numbers]
                like = [cell for cell in cells if cell.settings.metered == settings.metered]
                stops = self._kept(self._stops, group, self._meter(like))
            known = self._kept(self._exposed, key, replace(settings, exposure=stops))
        return known

    def addresses(self, indices: Sequence[int] | NDArray) -> Iterator[str]:
        """The addresses of many cells, without making them."""
        lattice, product = self._lattice, len(self._lattice.positions)
        whole = np.asarray(indices, np.int64)
        inside = whole[whole < product]
        names = [
            np.array(self._names[a], object)[column].tolist()
            for a, column in enumerate(lattice.entries_of(inside))
        ]
        every = iter(map("/".join, zip(*names, strict=True)) if names else ["the one cell"] * len(inside))
        for index in whole.tolist():
            added = lattice.added_at(index)
            yield added.name if added is not None else next(every)

    @staticmethod
    def _kept(known: dict[object, Any], key: object, value: Any) -> Any:
        if len(known) >= _MOST_KNOWN:
            known.clear()
        known[key] = value
        return value

    def said(self, index: int) -> list[Saying]:
        """Everything that speaks about a cell, weakest first."""
        entries = self._lattice.entries(index)
        rules = tuple(k for k, rule in enumerate(self._lattice.amendments) if rule.matches(entries))
        return self._said(entries, self._lattice.added_at(index), rules)

    def _said(self, entries: Sequence[int], added: Added | None, rules: tuple[int, ...]) -> list[Saying]:
        lattice = self._lattice
        said = [lattice.sayings.defaults]
        said += [options[i] for options, i in zip(lattice.sayings.options, entries, strict=True)]
        if added is not None:
            said.append(added.saying)
        for k in rules:
            rule = lattice.amendments[k]
            # An added cell exists from its own rule on: later rules amend it, earlier do not.
            if added is None or rule.number > added.number:
                said.append(rule.saying)
        said.append(self.caller)
        return said

    def _decide(self, said: Sequence[Saying]) -> Decided:
        settings: dict[str, Any] = {}
        origins: dict[str, Place] = {}
        for saying in said:
            for key, value, place in saying.settings:
                settings[key] = laid(key, settings.get(key), value)
                origins[key] = place
        for key in self._lattice.sayings.required:
            if key not in origins:
                raise PlanError(
                    f"The plan requires {key} to be said, and some cells have none.",
                    place=self._lattice.sayings.place_of("require"),
                    cure=f"write {key}: under defaults",
                )
        exposure = settings.get("exposure")
        if isinstance(exposure, Metered):
            if exposure.by is not None and exposure.by not in self._axes:
                raise PlanError(
                    f"Exposures are metered by {exposure.by}, and there is no axis of that name. "
                    f"{nearest(exposure.by, self._axes)}",
                    place=origins["exposure"],
                    cure="name an axis, or write metered alone",
                )
            settings |= {"metered": exposure, "exposure": 0.0}
        return decided(settings, origins, self._facts), origins


def _patterns(hits: Sequence[NDArray[np.bool_]], count: int) -> tuple[list[tuple[int, ...]], list[int]]:
    """Which rules speak of each of `count` cells: the sets of rules there are, and which each has."""
    if not hits:
        return [()], [0] * count
    kinds, which = np.unique(np.stack(hits), axis=1, return_inverse=True)
    return [tuple(np.flatnonzero(kind).tolist()) for kind in kinds.T], which.ravel().tolist()


def _address(name: str | None, entries: Sequence[str]) -> str:
    return name or "/".join(entries) or "the one cell"


def caller_saying(overrides: Settings | None, lattice: Lattice) -> Saying:
    """What the caller says, over everything else."""
    return lattice.sayings.of("the caller", [(overrides or Settings(), ())])


def _with_frames(laid: Sequence[Sequence[PlacedEdit]], frames: tuple[int, ...]) -> tuple[PlacedEdit, ...]:
    """All edits, turntables with the cell's planned frames, whatever a run is narrowed to."""
    edits = [placed for part in laid for placed in part]
    for k, placed in enumerate(edits):
        if isinstance(placed.edit, Spin) and placed.edit.spin.frames is None:
            body = placed.edit.spin.model_copy(update={"frames": Frames("planned", frames)})
            edits[k] = PlacedEdit(placed.edit.model_copy(update={"spin": body}), placed.source, placed.place)
    return tuple(edits)
