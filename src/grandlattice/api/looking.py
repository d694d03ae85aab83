"""Looking at what is rendered: where it is, what is known of it, how far pictures are apart.

Nothing here renders, meters or changes anything.
"""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import suppress
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from grandlattice.errors import ImageError, LatticeError, NoSuchCell, RunError, nearest
from grandlattice.images import Comparison, compare_pictures, read_channels, read_facts, read_marks
from grandlattice.plan import Cell, PlannedFile, planned_files
from grandlattice.tables.formats import FORMATS, SPELLINGS
from grandlattice.tables.passes import PASSES, is_pass, known_pass

if TYPE_CHECKING:
    from grandlattice.api.plan_files import PlanFiles
    from grandlattice.runs.ledger import FileRecord

_MARKS = ("scene", "versions", "edits", "relit", "grade", "company", "fingerprint", "owner")


@dataclass(frozen=True)
class FileFacts:
    """A file of a cell and what is known of it.

    Attributes
    ----------
    path : of the file.
    cell, frame, format, passes : what it holds.
    is_there : whether the file is there.
    width, height : pixels; 0 where it is not.
    bytes : its size.
    samples, noise : of each pixel, and the relative error where it was measured.
    seconds : spent tracing.
    denoised : share of the noise that was taken away, 0..1.
    unfinished : whether a time limit ended it early.
    finished : when it was made.
    run : the number of the run that made it; None where the ledger does not say.
    made_from : what it was made from, by name: scene, versions, edits and the like.
    """

    path: Path
    cell: str
    frame: int
    format: str
    passes: tuple[str, ...]
    is_there: bool
    width: int = 0
    height: int = 0
    bytes: int = 0
    samples: int = 0
    noise: float | None = None
    seconds: float = 0.0
    denoised: float = 0.0
    unfinished: bool = False
    finished: datetime | None = None
    run: int | None = None
    made_from: tuple[tuple[str, str], ...] = ()


def facts_of(plan: PlanFiles, cell: Cell, frame: int | None, into: Path | None) -> list[FileFacts]:
    """What is known of the files of a cell; see `Plan.where`."""
    planned = plan.planned(into)
    frames = cell.settings.frames if frame is None else [frame]
    if frame is not None and frame not in cell.settings.frames:
        raise NoSuchCell(f"{cell.address} has no frame {frame}.")
    there = planned.ledger.file.exists()
    found = []
    for file in planned_files(cell, plan.names, frames):
        record, run = None, None
        with suppress(LatticeError):
            record = planned.ledger.find(file.path) if there else None
            run = None if record is None else planned.ledger.run_at(record.finished)
        found.append(_facts(planned.output / file.path, cell, file, record, run))
    planned.ledger.close()
    return found


def _facts(
    path: Path, cell: Cell, file: PlannedFile, record: FileRecord | None, run: int | None
) -> FileFacts:
    known = {"path": path, "cell": cell.address, "frame": file.frame, "format": file.format,
             "passes": tuple(file.passes)}  # fmt: skip
    if not path.is_file():
        return FileFacts(**known, is_there=False)  # type: ignore[arg-type]
    *said, cleaned = read_marks(path, (*_MARKS, "denoised"))
    marks = dict(zip(_MARKS, said, strict=True))
    made_from = tuple((name, text) for name, text in marks.items() if text and name not in _MARKS[-3:])
    stat = path.stat()
    if record is None:
        width = height = 0
        with suppress(ImageError):
            width, height, _, _ = read_facts(path)
        return FileFacts(
            **known, is_there=True, width=width, height=height, bytes=stat.st_size,  # type: ignore[arg-type]
            finished=datetime.fromtimestamp(stat.st_mtime).astimezone(), made_from=made_from,
        )  # fmt: skip
    return FileFacts(
        **known, is_there=True, width=record.width, height=record.height, bytes=stat.st_size,  # type: ignore[arg-type]
        samples=record.samples, noise=record.noise, seconds=record.seconds,
        denoised=_number(cleaned) or float(record.denoised),
        unfinished=record.unfinished, finished=datetime.fromtimestamp(record.finished).astimezone(), run=run,
        made_from=made_from,
    )  # fmt: skip


def _number(said: str | None) -> float:
    with suppress(ValueError):
        return float(said or 0.0)
    return 0.0


def compare_files(first: str | Path, second: str | Path, pass_name: str | None = None) -> Comparison:
    """Compare two picture files.

    Parameters
    ----------
    pass_name : of OpenEXR files, the pass that is compared; the beauty by default.

    Raises
    ------
    ImageError
        When one cannot be read, or they have not one size and kind.

    Examples
    --------
    >>> compare_files("a.exr", "b.exr", "depth")                        # doctest: +SKIP
    """
    pictures, kinds = [], []
    for path in (Path(first), Path(second)):
        pixels, displayed = _read(path, pass_name)
        pictures.append(pixels)
        kinds.append(displayed)
    if kinds[0] != kinds[1]:
        linear, shown = (Path(first), Path(second)) if kinds[1] else (Path(second), Path(first))
        raise ImageError(
            f"{linear.name} is scene-linear, and {shown.name} is as a display shows it.",
            cure="compare files of one kind",
        )
    return compare_pictures(*pictures, displayed=kinds[0])


def _read(path: Path, pass_name: str | None) -> tuple[NDArray[np.float32], bool]:
    """A picture, and whether it is as a display shows it."""
    if not path.is_file():
        raise ImageError(f"There is no file {path}.")
    try:
        channels = read_facts(path)[2]
    except ImageError:
        raise ImageError(f"{path.name} is no picture, or not a whole one.") from None
    kind = path.suffix.lower().lstrip(".")
    kind = SPELLINGS.get(kind, kind)
    layered = kind in FORMATS and FORMATS[kind].layered
    if pass_name is not None and not layered:
        raise ImageError(
            f"{path.name} holds one picture alone, no pass {pass_name}.", cure="name an OpenEXR file"
        )
    names = channels
    if layered:
        names = list(_channels_of(pass_name or "beauty", channels))
        if pass_name is None and not set(names) <= set(channels):
            names = channels
    return read_channels(path, names), not (layered or kind == "hdr")


def _channels_of(pass_name: str, channels: Sequence[str]) -> tuple[str, ...]:
    """Names of the channels of a pass in a file, those of passes of a plan's own included."""
    if is_pass(pass_name):
        return tuple(known_pass(pass_name).channels)
    own = tuple(name for name in channels if name.startswith(f"{pass_name}."))
    if not own:
        raise ImageError(f"There is no pass {pass_name}. {nearest(pass_name, PASSES)}")
    return own


def compare_cells(
    plan: PlanFiles, first: Cell, second: Cell, pass_name: str, frame: int | None, into: Path | None
) -> Comparison:
    """Compare a pass of two cells as it is in their files; see `Plan.compare`."""
    files = [_file_of(plan, cell, pass_name, frame, into) for cell in (first, second)]
    layered = [path for path in files if FORMATS[path.suffix.lstrip(".")].layered]
    return compare_files(files[0], files[1], pass_name if len(layered) == 2 else None)


def _file_of(plan: PlanFiles, cell: Cell, pass_name: str, frame: int | None, into: Path | None) -> Path:
    """The file that holds a pass of a cell; an OpenEXR file where there is one."""
    frames = cell.settings.frames
    if frame is not None and frame not in frames:
        raise NoSuchCell(f"{cell.address} has no frame {frame}.")
    chosen = frames[0] if frame is None else frame
    own = plan.model.own_kinds
    if not is_pass(pass_name) and pass_name not in own:
        raise RunError(f"There is no pass {pass_name}. {nearest(pass_name, [*own, *PASSES])}")
    output = Path(into).absolute() if into is not None else plan.folder
    holding = [f for f in planned_files(cell, plan.names, [chosen]) if pass_name in f.passes]
    there = [f for f in holding if (output / f.path).is_file()]
    if not there:
        raise RunError(
            f"There is no file with {pass_name} of {cell.address}, frame {chosen}.",
            cure="glat run renders it" if holding else f"add {pass_name} to its passes",
        )
    there.sort(key=lambda file: not FORMATS[file.format].layered)
    return output / there[0].path
