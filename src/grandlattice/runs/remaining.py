"""What a run will do: which members of tasks are still to be done, and what stands in their place.

A member (a frame of a cell) is done when all its files are there with the size and the fingerprint
the ledger knows, or say themselves that they are what the plan asks for.  A task is carried out for
those of its members that are not.  The ledger keeps the tasks of the last plan it saw; when nothing
changed since, deciding takes a look at the disk and no more.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field, fields, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from grandlattice.errors import OutputError
from grandlattice.images import inspect_image, read_facts, read_mark, read_marks
from grandlattice.plan import Cell, Filing
from grandlattice.runs.fingerprints import TaskFile
from grandlattice.runs.foreseen import Foreseen
from grandlattice.runs.ledger import DONE, WAITING, FileRecord, Ledger, coordinates_text
from grandlattice.runs.store import FolderStore
from grandlattice.runs.tasks import Columns, Ingredients, Member, Task, TaskList, distinct_frames, every_task

_AT_ONCE = 10_000  # tasks
_LOOKED_AT = 20_000  # tasks with a file that is gone, of which it is looked at what is left
_KEPT = tuple(f.name for f in fields(Columns))


@dataclass(frozen=True)
class Outlook:
    """What a run will do.

    Attributes
    ----------
    todo : tasks to carry out, in order, with the members that are not done.
    done : tasks with members whose files are all there.
    changed : files of ours that will be replaced because the plan or the scene changed.
    foreign : files in the way that no run of this plan made.
    whose : for those of them another plan made, its name.
    foreseen : what needs no trace of what is to be done; None where it was not looked at.
    begun : numbers of members of which files are there that others may be written from.
    """

    todo: TaskList
    done: TaskList
    changed: tuple[str, ...] = ()
    foreign: tuple[str, ...] = ()
    whose: Mapping[str, str] = field(default_factory=dict)
    foreseen: Foreseen | None = None
    begun: frozenset[int] = frozenset()

    @property
    def traced(self) -> TaskList:
        """The tasks of `todo` that have to be traced; the others come from what is kept."""
        if self.foreseen is None or not self.foreseen.numbers:
            return self.todo
        mixed = np.array(sorted(self.foreseen.numbers), np.int64)
        return self.todo.only(np.setdiff1d(self.todo.numbers, mixed))


def look_ahead(
    tasks: TaskList, ledger: Ledger, store: FolderStore, filing: Filing, existing: str = "skip"
) -> Outlook:
    """Decide which members are still to be done.

    Parameters
    ----------
    existing : ``replace`` does everything again.
    """
    found = _Found(ledger, store)
    done = np.zeros(len(tasks.columns.cells), bool)
    found.look_at(tasks, tasks.of_cells(filing.standing(names_in_reach(store, filing))), done)
    found.remember()
    return _outlook(tasks, done, found, existing)


def look_again(
    tasks: TaskList, done: NDArray[np.bool_], ledger: Ledger, store: FolderStore, filing: Filing,
) -> Outlook:  # fmt: skip
    """Decide which members are still to be done where the ledger knew before: only what the disk and
    the ledger do not agree on is looked at.

    Parameters
    ----------
    done : (M,) of all members, what the ledger says.
    """
    found = _Found(ledger, store)
    gone, unknown = found.differences(filing)
    columns, done = tasks.columns, done.copy()
    doubtful = tasks.of_cells(filing.standing(unknown)) if unknown else tasks.numbers[:0]
    if gone:
        traces, lost = columns.traces.tobytes(), set(gone)
        losing = np.array([traces[at : at + 16] in lost for at in range(0, len(traces), 16)])
        # Where a trace serves several members, the file that is gone is that of one of them; and each may
        # have files left that the one that is gone can be written from.
        known = losing & (np.diff(columns.starts) == 1)
        done[known[columns.task_of]] = False
        if known.sum() <= _LOOKED_AT:
            known[:] = False
        doubtful = np.union1d(doubtful, np.flatnonzero((losing & ~known)[columns.task_of]))
    found.look_at(tasks, doubtful, done)
    found.remember()
    return _outlook(tasks, done, found, "skip")


def _outlook(tasks: TaskList, done: NDArray[np.bool_], found: _Found, existing: str) -> Outlook:
    left = np.ones(len(done), bool) if existing == "replace" else ~done
    return Outlook(
        tasks.narrowed(left),
        tasks.narrowed(~left),
        tuple(found.changed),
        tuple(found.foreign),
        found.whose,
        begun=frozenset(found.begun if existing != "replace" else ()),
    )


def names_in_reach(store: FolderStore, filing: Filing) -> list[str]:
    """Every file where files of the plan can be."""
    return [
        f"{folder}/{name}" if folder else name
        for folder in _folders(store, filing)
        for name in store.listing(folder)
    ]


def _folders(store: FolderStore, filing: Filing) -> Iterator[str]:
    return iter(dict.fromkeys(f for top, deep in filing.reach() for f in store.folders(top, deep)))


class _Owner:
    """Tells which pictures belong to a plan, by the id of its ledger that each carries.

    Pictures of earlier versions carry none, and go by the plan's name.  A ledger without any files
    takes over the id it finds first: the one before it was lost.
    """

    def __init__(self, ledger: Ledger | None, plan: str) -> None:
        self._plan = plan
        there = ledger is not None and ledger.file.exists()
        self._id = ledger.id if ledger is not None and there else None
        self._is_new = not (ledger is not None and there and ledger.has_files())
        self.inherited: str | None = None

    def has(self, owner: str | None, plan: str | None) -> bool:
        """Whether a picture with these marks, its owner and its plan, is the plan's."""
        if owner is None:
            return plan in (None, self._plan)
        if self._is_new and self.inherited is None and plan in (None, self._plan) and owner != self._id:
            self.inherited = self._id = owner
        return owner == self._id


def strangers_among(
    paths: Sequence[str], ledger: Ledger | None, store: FolderStore, plan: str = ""
) -> tuple[tuple[str, str | None], ...]:
    """Those of some files that no run of a plan made, each with the name of the plan that did, if one did.

    Parameters
    ----------
    ledger : of the plan; None where it cannot be read, and the pictures alone tell.
    plan : its name, where there is no ledger.
    """
    name = ledger.file.name.removesuffix(".ledger.sqlite") if ledger is not None else plan
    ours, found = _Owner(ledger, name), list[tuple[str, str | None]]()
    for path in paths:
        mark, owner, made_by_plan = read_marks(store.path(path), ("fingerprint", "owner", "plan"))
        if store.is_link(path) or (mark is None and (ledger is None or not ledger.those_of([path]))):
            found.append((path, None))
        elif mark is not None and not ours.has(owner, made_by_plan):
            found.append((path, made_by_plan or "another plan"))
    return tuple(found)


class _Found:
    """What is in the output folder, and what the ledger knows of it."""

    def __init__(self, ledger: Ledger, store: FolderStore) -> None:
        self._ledger, self._store = ledger, store
        self._there = ledger.file.exists()
        self._owner = _Owner(ledger, ledger.file.name.removesuffix(".ledger.sqlite"))
        self.changed: list[str] = []
        self.foreign: list[str] = []
        self.whose: dict[str, str] = {}
        self.begun: list[int] = []
        self._as_traced: set[str] = set()  # files that others, and they themselves, can be written from
        self._news: list[FileRecord] = []

    def differences(self, filing: Filing) -> tuple[list[bytes], list[str]]:
        """Traces of files the ledger knows and the disk lacks or has in another size; files the ledger
        does not know, or knows otherwise."""
        listings: dict[str, dict[str, int]] = {}
        gone: list[bytes] = []
        others: list[str] = []
        for path, size, trace in self._ledger.sizes():
            folder, _, name = path.rpartition("/")
            if folder not in listings:
                listings[folder] = self._store.listing(folder)
            there = listings[folder].pop(name, None)
            if there != size:
                gone.append(bytes.fromhex(trace))
            if there is not None and there != size:
                others.append(path)  # another file stands in its place
        for folder in _folders(self._store, filing):
            if folder not in listings:
                listings[folder] = self._store.listing(folder)
        unknown = [f"{f}/{name}" if f else name for f, names in listings.items() for name in names]
        return [trace for trace in gone if trace], unknown + others

    def look_at(self, tasks: TaskList, members: NDArray[np.int64], done: NDArray[np.bool_]) -> None:
        """Find out which of some members are done; `done` is set where they are."""
        wanted = np.zeros(len(done), bool)
        wanted[members] = True
        for task in tasks.narrowed(wanted):
            for member in task.members:
                done[member.number] = self._has_all(task, member)

    def _has_all(self, task: Task, member: Member) -> bool:
        """Whether a member's files are all there; what stands in the way is noted."""
        found = [self._has(task, member.cell, file) for file in member.files]
        left = any(found) or any(file.planned.path in self._as_traced for file in member.files)
        if left and not all(found):
            self.begun.append(member.number)
        return all(found)

    def _has(self, task: Task, cell: Cell, file: TaskFile) -> bool:
        path = file.planned.path
        size = self._store.size(path)
        if size is None:
            return False
        if self._store.is_link(path):
            self.foreign.append(path)
            return False
        record = self._ledger.find(path) if self._there else None
        if record is not None and (record.bytes, record.fingerprint) == (size, file.fingerprint):
            if record.trace != task.trace:
                self._news.append(replace(record, trace=task.trace))
            return True
        mark, owner, plan, as_traced = read_marks(
            self._store.path(path), ("fingerprint", "owner", "plan", "as traced")
        )
        if mark is None and (record is None or not inspect_image(str(self._store.path(path)))):
            self.foreign.append(path)  # also a whole picture that stands in the place of ours
        elif not self._owner.has(owner, plan):
            self.foreign.append(path)
            self.whose[path] = plan or "another plan"
        elif mark == file.fingerprint and record is None:
            # A run was killed between the two: the file has its name and the ledger no line.
            self._news.append(_adopted(task, cell, file, self._store, size))
            return True
        else:
            self.changed.append(path)
            self._as_traced |= {path} if file.as_traced and as_traced == file.as_traced else set()
        return False

    def remember(self) -> None:
        """Take what the ledger did not know into it."""
        if self._owner.inherited is not None:
            self._ledger.take_id(self._owner.inherited)
        if self._news:
            self._ledger.record(self._news)


def _adopted(task: Task, cell: Cell, file: TaskFile, store: FolderStore, size: int) -> FileRecord:
    path = store.path(file.planned.path)

    def mark(name: str) -> str:
        return read_mark(path, name) or "0"

    width, height, _, _ = read_facts(path)
    return FileRecord(
        path=file.planned.path, cell=cell.address, coordinates=coordinates_text(dict(cell.coordinates)),
        frame=file.planned.frame, format=file.planned.format, passes=" ".join(file.planned.passes),
        fingerprint=file.fingerprint, bytes=size, width=width, height=height, samples=int(mark("samples")),
        rays=int(mark("rays")), seconds=float(mark("seconds")), denoised=float(mark("denoised")) > 0.0,
        finished=path.stat().st_mtime, trace=task.trace, unfinished=mark("unfinished") == "1",
    )  # fmt: skip


def refuse_what_stands_there(outlook: Outlook, existing: str) -> None:
    """Refuse to replace files that must not be.

    Raises
    ------
    OutputError
        Naming the first of them.
    """
    if existing == "refuse" and (outlook.changed or outlook.foreign):
        refused, why = (*outlook.foreign, *outlook.changed), "the plan says existing: refuse"
    elif existing == "skip" and outlook.foreign:
        refused, why = outlook.foreign, made_by(outlook.whose.get(outlook.foreign[0]))
    else:
        return
    more = f" and {len(refused) - 1} more" if len(refused) > 1 else ""
    raise OutputError(
        f"{refused[0]}{more} would be replaced, and {why}.", cure=way_out(outlook.whose.get(refused[0]))
    )


def made_by(plan: str | None) -> str:
    """Who made a file that is in the way: another plan, or an unknown program."""
    return f"the plan {plan} made it" if plan else "no run of this plan made it"


def way_out(plan: str | None) -> str:
    """What to do about a file that is in the way."""
    if plan is None:
        return "move it away, change the output template, or say --existing replace or keep-both"
    return (
        "put {plan} into the output templates of both plans, or name another folder with --into; "
        "a plan that was given a new name keeps its pictures when its ledger is renamed with it"
    )


# --- tasks in the ledger -------------------------------------------------------------------------


def write_down(
    tasks: TaskList, outlook: Outlook, key: str, ledger: Ledger, about: Mapping[str, str] | None = None
) -> None:
    """Put the tasks of a plan into its ledger, and facts `about` the plan."""
    columns = tasks.columns
    is_done = np.zeros(len(columns.cells), bool)
    is_done[outlook.done.members] = True
    counts = distinct_frames(columns.starts, columns.frames)
    work = (columns.work / np.diff(columns.starts))[columns.task_of]

    def task_rows() -> Iterator[tuple[Any, ...]]:
        for at in range(0, len(columns), _AT_ONCE):
            part = slice(at, at + _AT_ONCE)
            traces = columns.traces[part].tobytes()
            yield from zip(
                range(at, at + len(traces) // 16), (traces[k : k + 16] for k in range(0, len(traces), 16)),
                counts[part].tolist(), columns.steps[part].tolist(), columns.work[part].tolist(),
                strict=True,
            )  # fmt: skip

    def member_rows() -> Iterator[tuple[Any, ...]]:
        for at in range(0, len(columns.cells), _AT_ONCE):
            part = slice(at, at + _AT_ONCE)
            cells = columns.cells[part]
            yield from zip(
                range(at, at + len(cells)), columns.task_of[part].tolist(),
                tasks.made_from.make.addresses(cells), columns.frames[part].tolist(),
                columns.films[part].tolist(), columns.priorities[part].tolist(), work[part].tolist(),
                np.where(is_done[part], DONE, WAITING).tolist(), strict=True,
            )  # fmt: skip

    arrays = {name: getattr(columns, name).ravel() for name in _KEPT}
    ledger.write_tasks(key, task_rows(), member_rows(), arrays, about)


def read_back(ledger: Ledger, made_from: Ingredients) -> tuple[TaskList, NDArray[np.bool_]]:
    """The tasks that stand in a ledger, and which of their members it says are done."""
    arrays = ledger.columns()
    digests = {name: arrays[name].reshape(-1, 16) for name in ("traces", "companies")}
    arrays.setdefault(
        "pools", np.zeros(len(arrays["steps"]), np.int64)
    )  # a ledger from before there were any
    columns = Columns(**{**arrays, **digests})
    done = np.zeros(len(columns.cells), bool)
    done[ledger.numbers(DONE)] = True
    return every_task(columns, made_from), done
