"""The files of a plan's cells: their names, how many, and cells as tables."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING

from grandlattice._support.filesystem import links_among
from grandlattice._support.readable import html_table
from grandlattice.api import cell_tables
from grandlattice.api.call_options import At, listed
from grandlattice.api.plan_contents import PlanContents
from grandlattice.plan import Cell, FileNames, Filing, Stamp, Totals, planned_files

if TYPE_CHECKING:
    import pandas

    from grandlattice.api.planned import Indices, Planned

Into = str | Path | None
"""Another output folder than the plan's own."""


class PlanFiles(PlanContents):
    """The contents of a plan and the files of its cells; see `Plan`."""

    def _repr_html_(self) -> str:
        """Its matrix, for notebooks: how many cells each entry of the first two axes have together."""
        axes = [axis.name for axis in self.lattice.axes]
        if len(axes) < 2:
            return self.cells._repr_html_()
        counts = cell_tables.combinations(self.lattice, axes[0], axes[1])
        rows = [
            [str(name), *map(str, row)] for name, row in zip(counts.index, counts.to_numpy(), strict=True)
        ]
        title = f"{self.name}: {len(self.cells):,} cells, {axes[0]} by {axes[1]}"
        return html_table([axes[0], *map(str, counts.columns)], rows, title)

    def _cell(self, cell: str | Cell) -> Cell:
        return cell if isinstance(cell, Cell) else self.cells[cell]

    def _chosen(self, at: At, sets: Sequence[str]) -> Indices:
        return self.cells.indices(*listed(at), sets=sets)

    def planned(self, into: Into = None) -> Planned:
        """What the rooms that meet the machine need to know of this plan."""
        from grandlattice.api.planned import Planned

        output = Path(into).absolute() if into is not None else self.folder
        plan = self.beside(into)
        planned = Planned(
            self.name, self.folder, output, self.scene, plan.model, plan.lattice, plan._make, self.facts
        )
        if not self.meters:
            return planned
        from grandlattice.api.metering import Meter

        return replace(planned, make=plan._make.with_meter(Meter(planned)))

    # --- files ---------------------------------------------------------------------------------

    @cached_property
    def names(self) -> FileNames:
        """What templates may say besides the cell, for the plan's own output folder."""
        return FileNames(self.name, self.scene.file.stem, self.model.words, lambda cell: self._stamp(cell))

    @cached_property
    def _stamp(self) -> Callable[[Cell], Stamp]:
        return self.planned().stamp

    def folders(self, into: Into = None) -> list[tuple[Path, Path | None]]:
        """Folders the pictures go to, and where each leads if a link stands on the way; else None."""
        output = Path(into).absolute() if into is not None else self.folder
        tops = sorted({top for top, _ in self.filing().reach()})
        links = links_among(output, tops)
        return [
            (folder, folder.resolve() if any(folder.is_relative_to(link) for link in links) else None)
            for folder in (output / top for top in tops)
        ]

    def files(self, cell: Cell) -> list[Path]:
        """Where the pictures of a cell will be, frame by frame, below the plan's folder."""
        return [self.folder / f.path for f in planned_files(cell, self.names)]

    def shows_beauty_only(self, cell: Cell) -> list[str]:
        """Formats of a cell whose files show the beauty while another format holds its other passes."""
        kinds: dict[str, set[tuple[str, ...]]] = {}
        for file in planned_files(cell, self.names, cell.settings.frames[:1]):
            kinds.setdefault(file.format, set()).add(file.passes)
        return [ext for ext, held in kinds.items() if held == {("beauty",)} and len(cell.settings.passes) > 1]

    def totals(self, *, at: At = (), sets: Sequence[str] = ()) -> Totals:
        """Cells, frames, files and about how many bytes they need."""
        return self.filing(at=at, sets=sets).totals()

    def filing(self, *, at: At = (), sets: Sequence[str] = ()) -> Filing:
        """The files of cells at once: how many, and whether two have one name."""
        indices = self._chosen(at, sets) if at or sets else None
        return Filing(self.lattice, self._make, self.facts, self.names, indices)

    # --- tables --------------------------------------------------------------------------------

    def table(self, *, at: At = (), sets: Sequence[str] = ()) -> pandas.DataFrame:
        """A row for each cell in running order, indexed by its address: its entries, size, frames, passes,
        first file."""
        return cell_tables.table(self.cells.at(*listed(at), sets=sets), self.names, self.cells.axes)

    def combinations(self, down: str, across: str) -> pandas.DataFrame:
        """How many cells of the run each entry of one axis has with each of another.

        Returns
        -------
        Counts: a row for each entry of `down`, a column for each of `across`.

        Raises
        ------
        PlanError
            When there is no such axis.
        """
        return cell_tables.combinations(self.lattice, down, across)
