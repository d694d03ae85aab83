"""Files that need no trace: they are written from the OpenEXR file of the same frame.

Exposure, display, grade, label and options of a format change what is done to the finished picture, not the
light in it.  Where a frame's OpenEXR file stands as the plan wants it, its other files are written from that.
How much a picture is denoised changes the OpenEXR file, too; where that has the beauty as traced
(`keep-noisy`), all of them are written from it.  They have the bytes they would have had from the trace (see
`Filer`).
"""

from __future__ import annotations

import json
import time
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

import numpy as np

from grandlattice.images import read_attributes, read_channels, read_marks
from grandlattice.runs.camera_facts import CAMERA_MARKS, CameraFacts
from grandlattice.runs.fingerprints import TaskFile
from grandlattice.runs.store import FolderStore
from grandlattice.runs.tasks import Member
from grandlattice.tables.formats import FORMATS
from grandlattice.tables.passes import known_pass

if TYPE_CHECKING:
    from grandlattice.tracer import Film

RELIT_ON = "from what was traced on "
TIME_FORM = "%Y-%m-%d %H:%M"
_MARKS = (
    "samples", "rays", "seconds", "denoised", "noise", "unfinished", "relit", "company",
    "light sources", *CAMERA_MARKS,
)  # fmt: skip


NOISY = "noisy."
"""How the channels of passes begin that are as they were traced."""

NOISY_PASSES = {"beauty": "RGB", "albedo": "RGB", "normal": "XYZ"}
"""What is kept as it was traced besides the shares of lights; and the letters of its channels."""


class Source(NamedTuple):
    """A file that is not as the plan wants it, and the OpenEXR file it is written from; the two of both eyes
    where each has its own.

    `as_traced` : whether it is written from the beauty as traced in them, and cleaned as the plan says now.
    """

    file: TaskFile
    sources: tuple[TaskFile, ...]
    as_traced: bool


def noisy_channels(name: str) -> tuple[str, ...]:
    """Channels of a pass as it was traced."""
    stem = NOISY if name == "beauty" else f"{NOISY}{name}."
    return tuple(stem + letter for letter in NOISY_PASSES.get(name, "RGB"))


def to_finish(store: FolderStore, member: Member) -> list[Source]:
    """Files of a member that need no trace; none where one of them has to be traced."""
    standing = [file for file in member.files if _stands(store, file)]
    layered = [file for file in standing if FORMATS[file.planned.format].layered]
    noisy = [file for file in member.files if _has_it_as_traced(store, member, file)]
    whole = {file.planned.eye for file in noisy} in ({""}, {"left", "right"})
    lights = _lights_as_traced(store, noisy) if whole else set()
    found = list[Source]()
    for file in member.files if layered or noisy else ():
        if file in standing:
            continue
        wanted, eye = set(file.planned.passes), file.planned.eye
        source = next(
            (s for s in layered if wanted <= set(s.planned.passes) and s.planned.eye in ("", eye)), None
        )
        if source is not None and not FORMATS[file.planned.format].layered:
            found.append(Source(file, (source,), as_traced=False))
        elif lights and (file in noisy or _is_written_from(file, noisy[0], lights)):
            found.append(Source(file, tuple(noisy), as_traced=True))
        else:
            return []
    return found


def _has_it_as_traced(store: FolderStore, member: Member, file: TaskFile) -> bool:
    """Whether an OpenEXR file has the beauty of its member as it was traced."""
    path = file.planned.path
    if not file.as_traced or store.size(path) is None or store.is_link(path):
        return False
    return read_marks(store.path(path), ("as traced",)) == [file.as_traced]


def _lights_as_traced(store: FolderStore, noisy: Sequence[TaskFile]) -> set[str]:
    """The passes of light that files have as they were traced: the beauty and shares of lights."""
    (said,) = read_marks(store.path(noisy[0].planned.path), ("light sources",))
    return {"beauty", *json.loads(said or "{}")}


def _is_written_from(file: TaskFile, noisy: TaskFile, lights: set[str]) -> bool:
    """Whether a file has nothing but what another has as it was traced; a displayed one, or kept with it."""
    wanted = set(file.planned.passes)
    if FORMATS[file.planned.format].layered:
        return wanted <= lights
    return wanted <= lights | set(noisy.planned.passes)


def _stands(store: FolderStore, file: TaskFile) -> bool:
    path = file.planned.path
    if store.size(path) is None or store.is_link(path):
        return False
    return read_marks(store.path(path), ("fingerprint",)) == [file.fingerprint]


def film_from(
    paths: Sequence[Path], passes: Sequence[str], own: Mapping[str, str], lights: Sequence[str] | None = None
) -> tuple[Film, CameraFacts, str]:
    """What files are written from, read from an OpenEXR file: the film, what is said of the camera,
    and the company it was traced in.

    Parameters
    ----------
    paths : the file; those of the left and the right eye where each has its own.
    passes : that are read.
    lights : passes of which the shares of lights, and the beauty, are read as they were traced, with what a
        denoiser is guided by; None to read what is cleaned.

    Raises
    ------
    ImageError
        When it cannot be read.
    """
    said = dict(zip(_MARKS, read_marks(paths[0], _MARKS), strict=True))
    sources = json.loads(said["light sources"] or "{}") if lights is not None else {}
    shares = [name for name in lights or () if name in sources]
    noisy = [] if lights is None else [*NOISY_PASSES, *shares]
    wanted = [known_pass(name, own).channels for name in passes] + [noisy_channels(name) for name in noisy]
    letters = [channel for channels in wanted for channel in channels]
    held = np.concatenate([read_channels(path, letters) for path in paths])
    apart = np.split(held, np.cumsum([len(channels) for channels in wanted])[:-1], axis=2)
    films = dict(zip(passes, map(np.ascontiguousarray, apart), strict=False))
    guides = dict(zip(noisy, map(np.ascontiguousarray, apart[len(passes) :]), strict=True))
    if noisy:
        guides["beauty"] = np.concatenate([guides["beauty"], films["beauty"][..., 3:]], axis=2)
        films |= {name: guides.pop(name) for name in shares} | {"beauty": guides["beauty"]}
    number = {name: float(value) for name, value in said.items() if value and _is_number(value)}
    relit = (said["relit"] or "").removeprefix(RELIT_ON)
    from grandlattice.tracer import Film  # it brings the tracer along

    film = Film(
        films, int(number.get("samples", 0)), int(number.get("rays", 0)), number.get("seconds", 0.0),
        0.0 if noisy else number.get("denoised", 0.0), number.get("noise"),
        bool(number.get("unfinished", 0)), time.mktime(time.strptime(relit, TIME_FORM)) if relit else None,
        _id_names(paths[0]) if noisy else {}, guides, sources,
    )  # fmt: skip
    return film, CameraFacts.from_marks(said), said["company"] or ""


def _id_names(path: Path) -> dict[str, list[str]]:
    """Of each pass of ids in a file the names that its manifest has."""
    said = read_attributes(path, "cryptomatte/")
    return {
        name: list(json.loads(said[key.removesuffix("name") + "manifest"]))
        for key, name in said.items() if key.endswith("/name")
    }  # fmt: skip


def _is_number(text: str) -> bool:
    try:
        float(text)
    except ValueError:
        return False
    return True
