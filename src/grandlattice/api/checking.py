"""Checking a plan on this machine: the checks themselves stand in `checks`; what they ask of the machine is
answered here."""

from __future__ import annotations

import os
from collections.abc import Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from pathlib import Path

import numpy as np

from grandlattice import images
from grandlattice._support.user_cache import remember, remembered
from grandlattice.api.metering import workshop_of
from grandlattice.api.planned import Indices, Planned
from grandlattice.checks import Checked, Facilities, Finding, is_black, is_burnt_out, landing, run_checks
from grandlattice.errors import ImageError, OutputError, RunError
from grandlattice.plan import Cell, Lattice, planned_files
from grandlattice.runs.remaining import names_in_reach, strangers_among
from grandlattice.tracer import HOW_TO_INSTALL, Looker, can_denoise

_CHECKED_AT_ONCE = 2000  # cells; more are checked by representatives


def check(
    planned: Planned, indices: Indices, existing: str, *, allow_missing: bool, look: bool,
    thoroughly: bool = False,
) -> list[Finding]:  # fmt: skip
    """Everything that can be known to be wrong beforehand, errors first."""
    store = planned.store
    make = planned.make if look else planned.make.plain  # a meter has to trace
    cells = [make(int(index)) for index in _representatives(planned.lattice, indices)]
    wrong, unwritable = {}, ""
    for display in {cell.settings.display or "" for cell in cells}:
        try:
            images.find_display(display)
        except ImageError as problem:
            wrong[display] = problem.what
    try:
        store.refuse_unwritable()
    except OutputError as problem:
        unwritable = problem.what
    facilities = Facilities(
        can_denoise(), HOW_TO_INSTALL, wrong, store.free_bytes(), unwritable, Looker(),
        workshop_of(planned).glance if look else None,
        inspect=lambda files: inspected(files, thoroughly),
    )  # fmt: skip
    checked = Checked(
        planned.model, planned.lattice, cells, planned.scene, planned.folder, facilities,
        planned.filing(indices), len(indices), allow_missing,
        () if existing in ("replace", "keep-both") else _in_the_way(planned, cells),
        _read_too(planned, indices), store.links(), _astray(planned, indices),
    )  # fmt: skip
    return run_checks(checked)


def can_be_seen(planned: Planned, index: int) -> bool:
    """Whether a small look at a cell shows something: neither black nor burnt out."""
    luminance = workshop_of(planned).glance(planned.make.plain(index))
    return not (is_black(luminance) or is_burnt_out(luminance))


def inspected(files: Sequence[str], thoroughly: bool) -> dict[str, str]:
    """What is wrong with some images, those with which something is; what was found once is remembered
    for as long as a file stays the same."""
    known = remembered("images")

    def key(file: str) -> str:
        found = Path(file).stat()
        return f"{file} {found.st_size} {found.st_mtime_ns} {thoroughly}"

    keys = {file: key(file) for file in files}
    new = [file for file in files if keys[file] not in known]
    with quiet_libraries(), ThreadPoolExecutor(8) as pool:
        wrong = list(pool.map(lambda file: images.inspect_image(file, thoroughly=thoroughly), new))
    if new:
        found = {keys[file]: told for file, told in zip(new, wrong, strict=True)}
        known |= found
        remember("images", found)
    return {file: known[keys[file]] for file in files if known.get(keys[file])}


@contextmanager
def quiet_libraries() -> Iterator[None]:
    """While this holds, nothing that a library writes to standard error of its own accord is shown."""
    try:
        kept, nowhere = os.dup(2), os.open(os.devnull, os.O_WRONLY)
    except OSError:  # there is no standard error
        yield
        return
    os.dup2(nowhere, 2)
    try:
        yield
    finally:
        os.dup2(kept, 2)
        os.close(kept)
        os.close(nowhere)


def _read_too(planned: Planned, indices: Indices) -> list[tuple[str, str]]:
    """Files that the scene or the plan reads and a cell would write, with its address."""
    try:
        return [(path, cell.address) for path, cell in landing.read_too(planned.landing(indices))]
    except OutputError:
        return []  # a name is impossible, which another check says


def _in_the_way(planned: Planned, cells: Sequence[Cell]) -> tuple[tuple[str, str | None], ...]:
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


def _astray(planned: Planned, indices: Indices) -> OutputError | None:
    """What is said of the first picture that would land behind a link which is not followed."""
    try:
        behind = landing.behind_links(planned.landing(indices))
    except OutputError:
        return None  # a name is impossible, which another check says
    try:
        for path in behind[:1]:
            planned.store.path(path)
    except OutputError as problem:
        return problem
    return None


def _representatives(lattice: Lattice, indices: Indices) -> Indices:
    """Cells that stand for all: all of few; of many the first ones, and for every entry and rule one."""
    if len(indices) <= _CHECKED_AT_ONCE:
        return indices
    product = indices[indices < len(lattice.positions)]
    entries = lattice.entries_of(product)
    chosen = [indices[: _CHECKED_AT_ONCE // 2], indices[indices >= len(lattice.positions)]]
    chosen += [product[np.unique(values, return_index=True)[1]] for values in entries]
    for rule in lattice.amendments:
        inside = np.ones(len(product), bool)
        for mask, values in zip(rule.masks, entries, strict=True):
            inside &= True if mask is None else mask[values]
        chosen.append(product[np.flatnonzero(inside)[:1]])
    return np.unique(np.concatenate(chosen))
