"""Where pictures of a plan may not land: on files that it reads, on other plans' pictures, behind links."""

from __future__ import annotations

import os
from collections.abc import Sequence
from pathlib import Path

import numpy as np

from grandlattice.errors import OutputError, RunError
from grandlattice.plan import Cell, planned_files
from grandlattice.plan.naming import folded
from grandlattice.planned import Indices, Planned
from grandlattice.runs.outlook import names_in_reach, strangers_among


def read_too(planned: Planned, indices: Indices) -> list[tuple[str, Cell]]:
    """Files that the scene or the plan reads and a cell would write, each with that cell.

    Raises
    ------
    OutputError
        For a name that is impossible.
    """
    roots = {planned.output: "", planned.output.resolve(): ""}
    roots |= {(planned.output / top).resolve(): f"{top}/" for top in planned.fixed}
    below: dict[str, Path] = {}
    for path in planned.sources:
        full = Path(os.path.normpath(path))
        for root, prefix in roots.items():
            if full.is_relative_to(root):
                below[prefix + full.relative_to(root).as_posix()] = path
    known = {folded(name) for name in below}
    return [
        (file.path, cell)
        for index in planned.filing(indices).standing(sorted(below))
        for cell in (planned.make.plain(int(index)),)
        for file in planned_files(cell, planned.names)
        if folded(file.path) in known
    ]


def refuse_sources(planned: Planned, indices: Indices) -> None:
    """Refuse a plan whose pictures would take the place of files that the scene or the plan reads.

    Raises
    ------
    OutputError
        Naming the first of them and its cell.
    """
    for path, cell in read_too(planned, indices):
        raise OutputError(
            f"{cell.address} would be written over {path}, which the scene or the plan reads.",
            place=cell.origins.get("output"),
            cure="change the output template; nothing the scene is made of is ever replaced",
        )


def behind_links(planned: Planned, indices: Indices) -> list[str]:
    """Pictures that would land behind a link below the output folder, as paths relative to it."""
    store = planned.store
    links = [f"{n}/" for top, deep in planned.filing(indices).reach() for n in store.links_below(top, deep)]
    return [
        file.path
        for index in (indices if links else ())
        for file in planned_files(planned.make.plain(int(index)), planned.names)
        if file.path.startswith(tuple(links))
    ]


def refuse_links(planned: Planned, indices: Indices) -> None:
    """Refuse a plan whose pictures would land behind a link below the output folder.

    Raises
    ------
    OutputError
        Naming the link, and where it leads.
    """
    for path in behind_links(planned, indices):
        planned.store.path(path)


def in_the_way(planned: Planned, cells: Sequence[Cell]) -> tuple[tuple[str, str | None], ...]:
    """Files where pictures will be that no run of this plan made, with the plan that did; none where
    names are impossible."""
    store, filing = planned.store, planned.filing(np.array([cell.index for cell in cells]))
    try:
        there = set(names_in_reach(store, filing))
        standing = set(filing.standing(sorted(there)).tolist())
        found = [
            file.path
            for cell in cells
            if cell.index in standing
            for file in planned_files(cell, planned.names)
            if file.path in there
        ]
        return strangers_among(found, planned.ledger, store)
    except OutputError:
        return ()
    except RunError:  # a ledger that cannot be read is put aside by the run; the pictures say who made them
        return strangers_among(found, None, store, planned.name)
