"""Where pictures of a plan may not land: on files that the plan or its scene reads, and behind links."""

from __future__ import annotations

import os
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Protocol

from grandlattice.errors import OutputError
from grandlattice.plan import Cell, CellMaker, FileNames, Filing, planned_files
from grandlattice.plan.file_names import folded


class Folders(Protocol):
    """The output folder, as far as these checks look at it."""

    def links_below(self, top: str, depth: int) -> Iterator[str]:
        """Folders below `top` that are links and never followed."""
        ...

    def path(self, path: str) -> Path:
        """The full path of a file; raises `OutputError` where it would lie behind a link."""
        ...


@dataclass(frozen=True)
class Landing:
    """Where the pictures of some cells would land.

    Attributes
    ----------
    output : folder they land below.
    fixed : folders below it, with which output templates begin.
    sources : every file that the scene or the plan reads, as named and as links lead.
    filing : the files of the cells.
    make : makes a cell from its index.
    names : what templates may say besides the cell.
    folders : the output folder.
    """

    output: Path
    fixed: tuple[str, ...]
    sources: frozenset[Path]
    filing: Filing
    make: CellMaker
    names: FileNames
    folders: Folders


def read_too(landing: Landing) -> list[tuple[str, Cell]]:
    """Files that the scene or the plan reads and a cell would write, each with that cell.

    Raises
    ------
    OutputError
        For a name that is impossible.
    """
    roots = {landing.output: "", landing.output.resolve(): ""}
    roots |= {(landing.output / top).resolve(): f"{top}/" for top in landing.fixed}
    below: dict[str, Path] = {}
    for path in landing.sources:
        full = Path(os.path.normpath(path))
        for root, prefix in roots.items():
            if full.is_relative_to(root):
                below[prefix + full.relative_to(root).as_posix()] = path
    known = {folded(name) for name in below}
    return [
        (file.path, cell)
        for index in landing.filing.standing(sorted(below))
        for cell in (landing.make(int(index)),)
        for file in planned_files(cell, landing.names)
        if folded(file.path) in known
    ]


def refuse_sources(landing: Landing) -> None:
    """Refuse a plan whose pictures would take the place of files that the scene or the plan reads.

    Raises
    ------
    OutputError
        Naming the first of them and its cell.
    """
    for path, cell in read_too(landing):
        raise OutputError(
            f"{cell.address} would be written over {path}, which the scene or the plan reads.",
            place=cell.origins.get("output"),
            cure="change the output template; nothing the scene is made of is ever replaced",
        )


def behind_links(landing: Landing) -> list[str]:
    """Pictures that would land behind a link below the output folder, as paths relative to it."""
    links = [f"{n}/" for top, deep in landing.filing.reach() for n in landing.folders.links_below(top, deep)]
    return [
        file.path
        for index in (landing.filing.indices if links else ())
        for file in planned_files(landing.make(int(index)), landing.names)
        if file.path.startswith(tuple(links))
    ]


def refuse_links(landing: Landing) -> None:
    """Refuse a plan whose pictures would land behind a link below the output folder.

    Raises
    ------
    OutputError
        Naming the link, and where it leads.
    """
    for path in behind_links(landing):
        landing.folders.path(path)
