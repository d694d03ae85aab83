"""What runs of a plan left behind that the plan has no use for any more."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

from grandlattice.api import looking_ahead
from grandlattice.api.choices import choices_of
from grandlattice.errors import LatticeError, OutputError
from grandlattice.images import read_marks
from grandlattice.plan import planned_files
from grandlattice.runs import FolderStore, sole_writer
from grandlattice.runs.ledger import Ledger
from grandlattice.runs.temporary_files import shares_folder, unfinished_folder

if TYPE_CHECKING:
    from grandlattice.api.plan_files import PlanFiles
    from grandlattice.api.planned import Planned


class Leftover(NamedTuple):
    """A file that a run of a plan made and the plan has no use for.

    Attributes
    ----------
    path : of the file.
    bytes : its size.
    cell : whose it was; empty for what was kept of traces.
    why : it is not needed.
    """

    path: Path
    bytes: int
    cell: str
    why: str


def leftovers(plan: PlanFiles, into: Path | None = None, *, rejected: bool = False) -> list[Leftover]:
    """Files of cells and frames that a plan has no more, and what was kept of traces it does not ask for.

    Only what the plan's ledger says a run made, and that still is what the run made, is listed.

    Parameters
    ----------
    rejected : files of cells that were chosen as ``out``, too.
    """
    planned = plan.planned(into)
    try:
        out = {cell for cell, each in choices_of(planned).items() if each.by == "out"} if rejected else set()
        found = [*_pictures(plan, planned, out), *_kept(plan, planned)]
    finally:
        planned.ledger.close()
    return sorted(found, key=lambda each: str(each.path))


def _pictures(plan: PlanFiles, planned: Planned, out: set[str]) -> Iterator[Leftover]:
    ledger = planned.ledger
    if not ledger.file.exists():
        return
    wanted = {file.path for cell in plan.cells for file in planned_files(cell, plan.names)}
    addresses = {cell.address for cell in plan.cells}
    for record in ledger.files().values():
        needed = record.path in wanted and record.cell not in out
        if not needed and _is_ours(planned.store, ledger, record.path, record.bytes):
            why = "the plan names this file otherwise"
            if record.cell not in addresses:
                why = "the plan has no such cell"
            elif record.cell in out:
                why = "it was chosen as out"
            yield Leftover(planned.output / record.path, record.bytes, record.cell, why)


def _is_ours(store: FolderStore, ledger: Ledger, path: str, size: int) -> bool:
    """Whether a file is still what a run of this plan made."""
    with suppress(OutputError):
        if store.size(path) != size or store.is_link(path):
            return False
        return read_marks(store.path(path), ("owner",)) == [ledger.id]
    return False


def _kept(plan: PlanFiles, planned: Planned) -> Iterator[Leftover]:
    """Light shares and unfinished pictures of traces that no cell asks for."""
    folders = {
        shares_folder(plan.name): "no cell asks for the light of this view",
        unfinished_folder(plan.name): "no cell asks for this trace",
    }
    there = {folder: planned.store.listing(folder) for folder in folders}
    if not any(there.values()):
        return
    known: set[str] = set()
    for task in looking_ahead.tasks(planned, plan.cells.indices(), None):
        known |= {task.shares, task.trace} - {""}
    for folder, names in there.items():
        for name, size in names.items():
            is_kept = name.endswith(".npz") and not planned.store.is_link(f"{folder}/{name}")
            if is_kept and name.removesuffix(".npz").split("-")[0] not in known:
                yield Leftover(planned.output / folder / name, size, "", folders[folder])


def remove(plan: PlanFiles, chosen: Iterable[Leftover], into: Path | None = None) -> Sequence[Leftover]:
    """Remove leftovers; what has changed since it was listed stays.

    Returns
    -------
    Those that were removed.

    Raises
    ------
    RunUnderWay
        When a run writes to the same folder.
    """
    planned = plan.planned(into)
    with sole_writer(planned.ledger):
        now = set(leftovers(plan, into, rejected=True))
        gone = []
        for each in chosen:
            if each in now:
                path = each.path.relative_to(planned.output).as_posix()
                with suppress(LatticeError, OSError):
                    planned.store.remove(path)
                    gone.append(each)
        planned.ledger.forget(each.path.relative_to(planned.output).as_posix() for each in gone)
        planned.ledger.close()
    return gone
