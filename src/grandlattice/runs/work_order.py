"""What passes between a coordinator and its workers: the order, and the result of a task."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Protocol

from grandlattice.plan import Cell, PlanModel
from grandlattice.runs.camera_facts import CameraFacts
from grandlattice.runs.ledger import FileRecord
from grandlattice.runs.store import FolderStore, Prepared
from grandlattice.runs.tasks import Task

if TYPE_CHECKING:
    from grandlattice.tracer import Film, StopSignal  # they bring the tracer along

Told = Callable[[float], None]
"""Is told how much of a task is done, 0..1."""


@dataclass(frozen=True)
class WorkOrder:
    """What every task of a run has in common; it is sent to each worker once.

    Attributes
    ----------
    model, folder : the plan and the folder its file names are relative to.
    scene, output : the scene, and the folder pictures are written below.
    threads : that trace, in each worker.
    allow_missing : use a texture's fallback where its image is missing.
    plan_name : for metadata.
    fixed : folders below `output` that may be links, see `FolderStore`.
    owner : id of the plan's ledger, which every picture carries.
    keep : where files go, below `output`, that another would replace; None replaces them.
    keep_most : how many of them stay for each file; None is all.
    sources : every file that the scene or the plan reads, as named and as links lead.
    scene_files : the files of the scene with their size and time of change, when the run began.
    further : take frames to their full quality that a time limit ended.
    reuse : whether frames are mixed from kept light shares where those answer them, and files written
        from others of their frame.
    compiler : which compiler's kernels every worker uses, see `tracer.compiling.backend`.
    """

    model: PlanModel
    folder: Path
    scene: Path
    output: Path
    plan_name: str
    threads: int = 1
    allow_missing: bool = False
    fixed: tuple[str, ...] = ()
    owner: str = ""
    keep: str | None = None
    keep_most: int | None = None
    sources: frozenset[Path] = frozenset()
    scene_files: tuple[tuple[Path, int, int], ...] = ()
    further: bool = False
    reuse: bool = True
    compiler: str = ""

    @property
    def store(self) -> FolderStore:
        """Where the files land."""
        return FolderStore(self.output, self.fixed)


@dataclass(frozen=True)
class MemberResult:
    """A finished member of a task.

    Attributes
    ----------
    number : of the member.
    samples, noise : of each pixel, and the relative error left where it was measured.
    unfinished : whether a time limit ended it before it had all its samples.
    files : how many were written.
    seconds : its part of the seconds of its task.
    """

    number: int
    samples: int
    noise: float | None
    unfinished: bool
    files: int
    seconds: float


@dataclass(frozen=True)
class TaskResult:
    """A finished task.

    Attributes
    ----------
    members : what each of them has.
    files : theirs, whole and without their names, each with what the ledger will know of it.
    host : the machine that did it.
    trace_seconds, seconds : of rendering, and of everything.
    rays : shot.
    notes : what the artist should know.
    cores : processors it had for itself.
    cpu_seconds, peak_bytes : of the worker.
    kind : what tasks have in common that take as long for a sample of a pixel; empty where it was not traced.
    relit : how many of its members were mixed from kept light shares.
    finished : how many of its members had files written from other files of theirs, without a trace.
    log : the end of what was said meanwhile.
    """

    members: tuple[MemberResult, ...]
    files: tuple[tuple[Prepared, FileRecord], ...]
    trace_seconds: float
    seconds: float
    rays: int
    notes: tuple[str, ...] = ()
    cores: int = 1
    cpu_seconds: float = 0.0
    peak_bytes: int = 0
    kind: str = ""
    log: str = ""
    host: str = ""
    relit: int = 0
    finished: int = 0

    @property
    def records(self) -> tuple[FileRecord, ...]:
        """What the ledger will know of the files."""
        return tuple(record for _, record in self.files)


@dataclass(frozen=True)
class Rendered:
    """One film of one frame as a renderer made it.

    Attributes
    ----------
    number : which of the films of the task, see `Task.films`; members are written from the one they name.
    original : the file an outside renderer wrote.
    camera : what its files say of the camera.
    prims : what is said of the prims it shows, where its files keep that, see `stage.prim_facts`; else empty.
    """

    number: int
    film: Film
    original: Path | None = None
    camera: CameraFacts = CameraFacts()
    prims: str = ""


class Renderer(Protocol):
    """Draws the films of tasks."""

    def render(self, task: Task, progress: Told | None, stop: StopSignal | None) -> Iterable[Rendered]:
        """Draw those of a task's films that are wanted; one is done with when the next is asked for.

        Raises
        ------
        LatticeError
            When something in the scene or the plan stands in the way.
        Stopped
            When `stop` was set meanwhile; nothing is left of the task then.
        """
        ...

    def done(self) -> None:
        """The files of the last task are written; what helped to make them may go."""
        ...

    @property
    def notes(self) -> tuple[str, ...]:
        """What there is to say of the last task."""
        ...

    @property
    def accepts_nan(self) -> bool:
        """Whether pictures count that have pixels which are no numbers."""
        ...


@dataclass(frozen=True)
class Probe:
    """A question to a worker: what does this cell take?"""

    cell: Cell
    frame: int


Taken = tuple[float, float, float]
"""What a cell takes: seconds of composing and reading it, seconds a pixel whatever its samples, and seconds
a sample of a pixel."""


class Shop(Protocol):
    """What a worker does its tasks with."""

    def perform(
        self, task: Task, progress: Told | None = None, stop: StopSignal | None = None
    ) -> TaskResult: ...

    def probe(self, cell: Cell, frame: int) -> Taken: ...
