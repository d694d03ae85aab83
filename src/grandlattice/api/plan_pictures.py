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
    from grandlattice.api.boards import BoardFiles
    from grandlattice.api.choices import Choice
    from grandlattice.api.cleaning import Leftover
    from grandlattice.api.editions import EditionFiles
    from grandlattice.api.history import EarlierPicture
    from grandlattice.api.looking import FileFacts
    from grandlattice.images import Comparison
    from grandlattice.runs.tasks import Frames


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

    def edition(self, *names: str, at: At = (), sets: Sequence[str] = (), into: Into = None) -> EditionFiles:
        """Write editions of the plan from the OpenEXR files of its cells; nothing is traced.

        Parameters
        ----------
        *names : of editions, see ``editions:`` in the plan.

        Raises
        ------
        PlanError
            When there is no such edition.
        RunError
            When no cell has an OpenEXR file to write from.
        OutputError
            When a file that no edition made is in the way, or two would have one name.

        Examples
        --------
        >>> plan.edition("web", "print").written                        # doctest: +SKIP
        """
        from grandlattice.api import editions

        chosen = self._chosen(at, sets)
        return editions.write_editions(self, names, chosen, None if into is None else Path(into))

    def board(self, *names: str, into: Into = None, only_there: bool = False) -> BoardFiles:
        """Write boards of the plan: sheets with pictures of many cells; one that shows what it should stays.

        Parameters
        ----------
        *names : of boards, see ``boards:`` in the plan.
        only_there : leave out those that were never made.

        Raises
        ------
        PlanError
            When there is no such board, axis, pass or caption.
        OutputError
            When a file that is no board is in the way.

        Examples
        --------
        >>> plan.board("wall").written                                  # doctest: +SKIP
        """
        from grandlattice.api import boards

        return boards.write_boards(self, names, None if into is None else Path(into), only_there=only_there)

    def history(
        self, cell: str | Cell, *, frame: int | None = None, into: Into = None
    ) -> list[EarlierPicture]:
        """Earlier pictures of a cell, the latest first, and what changed to the picture that came next.

        There are some where ``run: {keep-earlier: 3}`` or ``existing: keep-both`` kept them.

        Parameters
        ----------
        frame : its first by default.

        Raises
        ------
        NoSuchCell
            When there is no such cell or frame.
        """
        from grandlattice.api import history

        return history.history_of(self, self._cell(cell), frame, None if into is None else Path(into))

    def back(
        self, cell: str | Cell, number: int, *, frame: int | None = None, into: Into = None
    ) -> EarlierPicture:
        """Make an earlier picture of a cell the present one; the present one is kept in turn.

        What the plan asks for stays as it is: a run makes its picture again.

        Raises
        ------
        RunError
            When there is no earlier picture of this number.
        RunUnderWay
            When a run writes to the same folder.
        """
        from grandlattice.api import history

        return history.back(self, self._cell(cell), number, frame, None if into is None else Path(into))

    def leftovers(self, *, rejected: bool = False, into: Into = None) -> list[Leftover]:
        """Files that runs of this plan made and it has no use for: of cells it has no more, of other names,
        of traces that nothing asks for.

        Parameters
        ----------
        rejected : those of cells that were chosen as ``out``, too; see `choices`.
        """
        from grandlattice.api import cleaning

        return cleaning.leftovers(self, None if into is None else Path(into), rejected=rejected)

    def choices(self, *, take_in: str | Path | None = None, into: Into = None) -> dict[str, Choice]:
        """What was chosen of the cells, by address: keep, maybe or out, and notes.

        Parameters
        ----------
        take_in : a file that the page saved; it is merged into the choices beside the pictures, of each cell
            the latest.

        Raises
        ------
        OutputError
            When a file is none of choices, or is of another plan.
        """
        from grandlattice.api import choices

        planned = self.planned(into)
        return choices.choices_of(planned) if take_in is None else choices.take_in(planned, Path(take_in))

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
        size: tuple[int, int] = (1280, 800), pass_name: str | None = None, frames: Frames = None,
        above: float | None = None,
    ) -> list[Path]:  # fmt: skip
        """Write the contact sheets of what is rendered; returns their files.

        Parameters
        ----------
        size : of a sheet, pixels.
        pass_name : the pass to show; None shows the beauty.  Illuminance is shown in false colours, on
            one scale for all cells, with its brightest and darkest place marked.
        above : of illuminance, lx: how much of each picture has more is written on it.
        frames : these of each cell, side by side: numbers or ``"first,middle,last"``; its first by default.

        Raises
        ------
        PlanError
            When there is no such pass.
        RunError
            When there is no picture of it yet.
        """
        from grandlattice.api import orchestration

        chosen = self._chosen(at, sets)
        return orchestration.review(self.planned(into), chosen, size, pass_name, frames, above)
