"""The page of a plan, and the one page of several plans."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from grandlattice.api.page_contents import Contents
from grandlattice.errors import RunError
from grandlattice.page import PageFiles, write_page
from grandlattice.plan import Cell
from grandlattice.plan.addresses import Indices

if TYPE_CHECKING:
    from grandlattice.api.plan_files import PlanFiles
    from grandlattice.stage import Explanation

_PLAN = "plan"
"""The axis that plans are on a page of several."""


def write(
    plan: PlanFiles, explain: Callable[[Cell, bool], Explanation], chosen: Indices, into: Path | None,
    most_bytes: float | None, may_be_empty: bool = False, states: Mapping[str, str] | None = None,
) -> PageFiles:  # fmt: skip
    """Write the page of some cells; see `Plan.page`.

    Parameters
    ----------
    explain : says of a cell what was set, and, when asked for it, what that changes in the scene.
    most_bytes : that pixels may take; None: they are not written, but made when they are asked for.
    may_be_empty : whether a page is written where there is no picture yet.
    states : of cells by address what is wrong with their pictures; by default it is found out.
    """
    plan = plan.beside(into)
    planned = plan.planned(into)
    try:
        contents = Contents(plan, planned, chosen)
        if not may_be_empty and not any(shown.files for shown in contents.shown):
            raise RunError(
                "There is no picture for a page yet.", cure="glat run renders them, glat proof does so small"
            )
        folder = planned.output / f"{plan.name}-page"
        return write_page(
            folder, contents.told(folder, states), contents.shaders(), contents.explanations(explain),
            contents.thumbnails(), contents.pixels(), most_bytes,
        )  # fmt: skip
    finally:
        planned.ledger.close()


def write_several(
    plans: Sequence[tuple[PlanFiles, Callable[[Cell, bool], Explanation], Indices]], name: str,
    into: Path | None, most_bytes: float | None,
) -> PageFiles:  # fmt: skip
    """Write one page of cells of several plans, which are an axis of it; see `Queue.page`.

    Parameters
    ----------
    plans : each with what explains its cells, see `write`, and which of them.
    """
    plans = [(plan.beside(into), explain, chosen) for plan, explain, chosen in plans]
    planned = [plan.planned(into) for plan, _, _ in plans]
    try:
        every = [
            Contents(plan, own, chosen, mark=plan.name)
            for (plan, _, chosen), own in zip(plans, planned, strict=True)
        ]
        if not any(shown.files for contents in every for shown in contents.shown):
            raise RunError("There is no picture for a page yet.", cure="glat run renders them")
        passes = list(dict.fromkeys(p for contents in every for p in contents.passes))
        displays = list(dict.fromkeys(d for contents in every for d in contents.displays))
        for contents in every:
            contents.passes, contents.displays = passes, displays
        folder = planned[0].output / f"{name}-page"
        told = _joined(name, [contents.told(folder) for contents in every])
        explained: dict[str, list[list[object]]] = {}
        for contents, (_, explain, _) in zip(every, plans, strict=True):
            explained |= contents.explanations(explain)
        return write_page(
            folder, told, every[0].shaders(), explained, [t for c in every for t in c.thumbnails()],
            [source for contents in every for source in contents.pixels()], most_bytes,
        )  # fmt: skip
    finally:
        for own in planned:
            own.ledger.close()


def _joined(name: str, parts: Sequence[Mapping[str, Any]]) -> dict[str, Any]:
    """What a page is told of several plans: their axes side by side, the plan itself the first of them."""
    axes: dict[str, dict[str, Any]] = {
        _PLAN: {"name": _PLAN, "entries": [part["plan"] for part in parts], "sweeps": False}
    }
    for part in parts:
        for axis in part["axes"]:
            known = axes.setdefault(axis["name"], {"name": axis["name"], "entries": [], "sweeps": True})
            known["entries"] = list(dict.fromkeys([*known["entries"], *axis["entries"]]))
            known["sweeps"] = known["sweeps"] and axis["sweeps"]
    present, past = list[dict[str, Any]](), list[dict[str, Any]]()
    for number, part in enumerate(parts):
        first = len(present)
        own = {axis["name"]: axis for axis in part["axes"]}
        places = {name: k for k, name in enumerate(own)}
        for cell in part["cells"]:
            at = [
                number if axis == _PLAN else -1 if axis not in own or cell["at"][places[axis]] < 0
                else known["entries"].index(own[axis]["entries"][cell["at"][places[axis]]])
                for axis, known in axes.items()
            ]  # fmt: skip
            made = {**cell, "at": at, "p": part["plan"]}
            if "past" in cell:
                past.append({**made, "past": first + cell["past"]})
            else:
                present.append(made)
    return {
        **parts[0], "plan": name, "title": name.replace("-", " ").replace("_", " "), "timeline": [],
        "id": " ".join(part["id"] for part in parts), "axes": list(axes.values()), "cells": [*present, *past],
        "choices": {cell: choice for part in parts for cell, choice in part["choices"].items()},
        "passes": list({each["name"]: each for part in parts for each in part["passes"]}.values()),
    }  # fmt: skip
