"""What can be seen of a plan's pictures, and what becomes of those it has no use for."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from grandlattice.api.call_options import At
from grandlattice.api.plan_changes import PlanChanges
from grandlattice.api.plan_files import Into
from grandlattice.plan import Cell

if TYPE_CHECKING:
    from grandlattice.api.cleaning import Leftover
    from grandlattice.api.looking import FileFacts
    from grandlattice.images import Comparison


class PlanPictures(PlanChanges):
    """A plan with what can be seen of its pictures; nothing here renders anything."""

    def where(self, cell: str | Cell, *, frame: int | None = None, into: Into = None) -> list[FileFacts]:
        """The files of a cell, and what is known of each: size, samples, noise, seconds, when and from what.

        Parameters
        ----------
        frame : only files of this frame.

        Raises
        ------
        NoSuchCell
            When there is no such cell or frame.

        Examples
        --------
        >>> [facts.path.name for facts in plan.where("noon/brass/all/Wide")]  # doctest: +SKIP
        ['Wide-brass.0036.exr', 'Wide-brass.0036.png']
        """
        from grandlattice.api import looking

        return looking.facts_of(self, self._cell(cell), frame, None if into is None else Path(into))

    def compare(
        self, first: str | Cell, second: str | Cell, pass_name: str = "beauty", *,
        frame: int | None = None, into: Into = None,
    ) -> Comparison:  # fmt: skip
        """How far two cells' pictures are apart, from their files.

        Parameters
        ----------
        pass_name : the pass that is compared.
        frame : of both; each one's first by default.

        Raises
        ------
        NoSuchCell, RunError, ImageError
            When there is no such cell, pass or picture, or they have not one size.

        Examples
        --------
        >>> plan.compare("noon/brass/all/Wide", "moon/brass/all/Wide").psnr  # doctest: +SKIP
        """
        from grandlattice.api import looking

        cells = self._cell(first), self._cell(second)
        return looking.compare_cells(self, *cells, pass_name, frame, None if into is None else Path(into))

    def leftovers(self, *, into: Into = None) -> list[Leftover]:
        """Files that runs of this plan made and it has no use for: of cells it has no more, of other names,
        of traces that nothing asks for."""
        from grandlattice.api import cleaning

        return cleaning.leftovers(self, None if into is None else Path(into))

    def clean(self, chosen: Iterable[Leftover], *, into: Into = None) -> Sequence[Leftover]:
        """Remove leftovers; what changed since it was listed stays.  Returns those that are gone.

        Raises
        ------
        RunUnderWay
            When a run writes to the same folder.
        """
        from grandlattice.api import cleaning

        return cleaning.remove(self, chosen, None if into is None else Path(into))

    def review(
        self, *, at: At = (), sets: Sequence[str] = (), into: Into = None,
        size: tuple[int, int] = (1280, 800), pass_name: str | None = None,
    ) -> list[Path]:  # fmt: skip
        """Write the contact sheets of what is rendered; returns their files.

        Parameters
        ----------
        size : of a sheet, pixels.
        pass_name : the pass to show; None shows the beauty.  Illuminance is shown in false colours.

        Raises
        ------
        PlanError
            When there is no such pass.
        RunError
            When there is no picture of it yet.
        """
        from grandlattice.api import orchestration

        return orchestration.review(self.planned(into), self._chosen(at, sets), size, pass_name)
