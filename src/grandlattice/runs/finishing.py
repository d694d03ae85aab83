"""Files that need no trace: what a display shows, written from the OpenEXR file of the same frame.

Exposure, display, grade, label and options of a format change what is done to the finished picture, not the
light in it.  Where a frame's OpenEXR file stands as the plan wants it, its other files are written from that;
they have the bytes they would have had from the trace (see `Filer`).
"""

from __future__ import annotations

import time
from collections.abc import Mapping
from pathlib import Path

from grandlattice.images import read_channels, read_marks
from grandlattice.runs.fingerprints import TaskFile
from grandlattice.runs.store import FolderStore
from grandlattice.runs.tasks import Member
from grandlattice.tables.formats import FORMATS
from grandlattice.tables.passes import known_pass
from grandlattice.tracer import Film

RELIT_ON = "from what was traced on "
TIME_FORM = "%Y-%m-%d %H:%M"
_MARKS = (
    "samples", "rays", "seconds", "denoised", "noise", "unfinished", "relit", "camera stops", "company",
)  # fmt: skip


def to_finish(store: FolderStore, member: Member) -> list[tuple[TaskFile, TaskFile]]:
    """Files of a member that are not as the plan wants them, each with the OpenEXR file it is written from;
    none where one of them has to be traced."""
    standing = [file for file in member.files if _stands(store, file)]
    layered = [file for file in standing if FORMATS[file.planned.format].layered]
    found = []
    for file in member.files if layered else ():
        if file in standing:
            continue
        wanted, eye = set(file.planned.passes), file.planned.eye
        source = next(
            (s for s in layered if wanted <= set(s.planned.passes) and s.planned.eye in ("", eye)), None
        )
        if source is None or FORMATS[file.planned.format].layered:
            return []
        found.append((file, source))
    return found


def _stands(store: FolderStore, file: TaskFile) -> bool:
    path = file.planned.path
    if store.size(path) is None or store.is_link(path):
        return False
    return read_marks(store.path(path), ("fingerprint",)) == [file.fingerprint]


def film_from(path: Path, file: TaskFile, own: Mapping[str, str]) -> tuple[Film, float, str]:
    """What a file is written from, read from the OpenEXR file at `path`: the film, the stops of the camera,
    and the company it was traced in.

    Raises
    ------
    ImageError
        When it cannot be read.
    """
    passes = {
        name: read_channels(path, known_pass(name, own).channels) for name in file.planned.passes
    }  # fmt: skip
    said = dict(zip(_MARKS, read_marks(path, _MARKS), strict=True))
    number = {name: float(value) for name, value in said.items() if value and _is_number(value)}
    relit = (said["relit"] or "").removeprefix(RELIT_ON)
    film = Film(
        passes, int(number.get("samples", 0)), int(number.get("rays", 0)), number.get("seconds", 0.0),
        bool(number.get("denoised", 0)), number.get("noise"), bool(number.get("unfinished", 0)),
        time.mktime(time.strptime(relit, TIME_FORM)) if relit else None,
    )  # fmt: skip
    return film, number.get("camera stops", 0.0), said["company"] or ""


def _is_number(text: str) -> bool:
    try:
        float(text)
    except ValueError:
        return False
    return True
