"""A run and what came of it: its tasks, its files, its pictures."""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from grandlattice._support.readable import html_pictures, many
from grandlattice.errors import NoSuchCell, RunError, nearest
from grandlattice.images import PictureArray, read_channels, read_mark
from grandlattice.plan import cells_at
from grandlattice.runs.events import Failed, Finished
from grandlattice.runs.fingerprints import TaskFile
from grandlattice.runs.ledger import FileRecord, Ledger, frames_indexed
from grandlattice.runs.remaining import Outlook
from grandlattice.runs.store import FolderStore
from grandlattice.runs.tasks import TaskList
from grandlattice.tables.formats import FORMATS
from grandlattice.tables.passes import PASSES, is_pass, known_pass

if TYPE_CHECKING:
    import pandas

    from grandlattice.runs.estimates import Estimate


_SHOWN = 24  # pictures in a notebook


@dataclass(repr=False)
class Run:
    """A run and, when it has ended, what came of it.

    Attributes
    ----------
    outlook : what it set out to do.
    failures : tasks that could not be done, each with the frames that are still to be mended.
    finished : tasks done by this run.
    tried_again : how often a task was tried again.
    fixed : folders below `output` that may be links, see `FolderStore`.
    signal : the number of the signal that interrupted it, 0 where none did.
    ended_by : what ended it before all was done: ``interrupted``, ``stopped`` (by an order),
        ``budget`` or ``full`` (a disk); empty where nothing did.
    spent : how that is said.
    left : frames that did not begin.
    untraced : frames that were left alone because they would have to be traced, see `Plan.finish`.
    wanted_next : plans that were added meanwhile, to come after this one.
    notes : what else there is to say, such as notices that could not be sent.
    estimate : what it was expected to take.
    compiler : which compiler made the kernels of its tracer; empty where none is needed.
    owner : the id of its plan's ledger, which its pictures carry.
    ledger_aside : where a ledger went that could not be read; a new one was begun.
    """

    output: Path
    ledger: Ledger
    outlook: Outlook
    tasks: TaskList
    fixed: tuple[str, ...] = ()
    number: int = 0
    owner: str = ""
    compiler: str = ""
    signal: int = 0
    estimate: Estimate | None = None
    ledger_aside: Path | None = None
    failures: list[Failed] = field(default_factory=list)
    finished: list[Finished] = field(default_factory=list)
    tried_again: int = 0
    ended_by: str = ""
    spent: str = ""
    left: int = 0
    untraced: int = 0
    wanted_next: list[str] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)
    seconds: float = 0.0

    @property
    def ok(self) -> bool:
        """Whether every frame is done."""
        return not self.failures and not self.left

    def __repr__(self) -> str:
        state = "done" if self.ok else f"{self.failed_frames} failed, {self.left} left"
        return f"<Run of {self.plan_name}: {many(self.finished_frames, 'frame')} made, {state}>"

    def _repr_html_(self) -> str:
        """The pictures of its cells that a notebook can show, small, on a sheet."""
        shown = [
            (f"{record.cell} · {record.frame}", self.output / record.path)
            for event in self.finished for record in event.result.records
            if FORMATS[record.format].everywhere
        ]  # fmt: skip
        return html_pictures(repr(self), shown[:_SHOWN])

    @property
    def finished_frames(self) -> int:
        """How many frames of cells this run made."""
        return sum(len(event.task.members) for event in self.finished)

    @property
    def failed_frames(self) -> int:
        """How many frames of cells could not be made."""
        return sum(len(event.task.members) for event in self.failures)

    @property
    def interrupted(self) -> bool:
        """Whether it was stopped before the end."""
        return self.ended_by == "interrupted" or (self.left > 0 and self.ended_by == "stopped")

    @property
    def store(self) -> FolderStore:
        """Where its files land."""
        return FolderStore(self.output, self.fixed)

    @property
    def plan_name(self) -> str:
        """The plan's name, as its ledger has it."""
        return self.ledger.file.name.removesuffix(".ledger.sqlite")

    def table(self) -> pandas.DataFrame:
        """A row for each finished file, indexed by cell and frame: entries, path, seconds, rays and more;
        `finished` is a time with its zone."""
        import json
        from dataclasses import asdict, fields

        import pandas

        planned = {f.planned.path for t in self.tasks for m in t.members for f in m.files}
        rows = []
        for record in self.ledger.files().values():
            if record.path in planned:
                row = asdict(record)
                axes = json.loads(row.pop("coordinates"))
                row["path"] = str(self.output / record.path)
                # An axis never takes the place of a column; see `Plan.table`.
                rows.append({**row, **{f"axis:{k}" if k in row else k: v for k, v in axes.items()}})
        known = [each.name for each in fields(FileRecord) if each.name != "coordinates"]
        names = [axis.name for axis in self.tasks.made_from.lattice.axes]
        titles = [*known, *(f"axis:{name}" if name in known else name for name in names)]
        return frames_indexed(pandas.DataFrame(rows, columns=titles), "finished")

    def frame_table(self) -> pandas.DataFrame:
        """A row for each frame of each cell: state, worker, seconds, samples, noise and more, and what the
        task took that it shares with others; see `FrameStatus`."""
        from grandlattice.runs.status import table

        return table(self.ledger)

    def files(self, address: str, frame: int | None = None) -> list[Path]:
        """The files of a cell, of one frame or all.

        Raises
        ------
        NoSuchCell
            When the run has no such cell.
        """
        return [self.output / f.planned.path for f in self._files(address, frame)]

    def picture(
        self, address: str, frame: int | None = None, pass_name: str = "beauty"
    ) -> NDArray[np.float32]:
        """A pass of a cell as it stands in its file.

        Parameters
        ----------
        frame : may be left out where the cell has one alone.

        Returns
        -------
        float32: (H, W, C), or (H, W) of a pass of one channel.  The beauty is scene-linear RGBA,
        premultiplied.

        Raises
        ------
        NoSuchCell, RunError, ImageError
            When there is no such cell, pass or file, or no frame is named and there are several.
        """
        own = self.tasks.made_from.model.own_kinds
        if not is_pass(pass_name) and pass_name not in own:
            raise RunError(f"There is no pass {pass_name}. {nearest(pass_name, [*own, *PASSES])}")
        files = self._files(address, frame)
        settings = self.tasks.made_from.make(int(self._cell(address)[0])).settings
        frames = sorted({file.planned.frame for file in files})
        if len(frames) > 1:
            raise RunError(
                f"{address} has {len(frames)} frames, {frames[0]} to {frames[-1]}.", cure="name one: frame=…"
            )
        for file in files:
            if FORMATS[file.planned.format].layered and pass_name in file.planned.passes:
                path, told = self.output / file.planned.path, known_pass(pass_name, own)
                pixels = read_channels(path, told.channels)
                shown = (pixels[..., 0] if pixels.shape[2] == 1 else pixels).view(PictureArray)
                if told.look == "light":
                    shown.stops = settings.exposure
                    if settings.camera_exposure:
                        shown.stops += float(read_mark(path, "camera stops") or 0.0)
                    shown.display = settings.display
                    shown.grade = settings.graded if pass_name == "beauty" else {}
                return shown
        raise RunError(
            f"No EXR file of {address} holds {pass_name}.",
            cure=f"add {pass_name} to passes and exr to format, and run again",
        )

    def _files(self, address: str, frame: int | None) -> list[TaskFile]:
        index = self._cell(address)
        found = [
            file
            for task in self.tasks.narrowed(self._of(index))
            for member in task.members
            if member.cell.address == address
            for file in member.files
            if frame in (None, file.planned.frame)
        ]
        if not found:
            raise NoSuchCell(f"The run has no frame {frame} of {address}.")
        return found

    def _of(self, cells: NDArray[np.int64]) -> NDArray[np.bool_]:
        """(M,) which members are of some cells."""
        return np.isin(self.tasks.columns.cells, cells)

    def _cell(self, address: str) -> NDArray[np.int64]:
        try:
            return cells_at(self.tasks.made_from.lattice, [address])
        except NoSuchCell as problem:
            raise NoSuchCell(f"The run has no {address}. {problem.what}") from None
