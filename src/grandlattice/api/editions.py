"""Editions: pictures for a purpose, in sizes, formats and with labels of their own, written from what is
traced.

A file of an edition says in its metadata of which picture and which edition it is; one that says so already
is left as it is.
"""

from __future__ import annotations

import hashlib
import json
import os
from collections.abc import Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from grandlattice import images
from grandlattice.api.call_options import refuse_unknown
from grandlattice.api.cell_states import not_as_wanted
from grandlattice.errors import OutputError, RunError
from grandlattice.plan import Cell, CellSettings, PlanModel, PlannedFile, planned_files
from grandlattice.plan.addresses import Indices
from grandlattice.plan.captions import PictureFigures, label_texts, told_words
from grandlattice.plan.edition_block import Edition
from grandlattice.plan.setting_layers import refuse_unknown_caption
from grandlattice.runs.finishing import to_finish
from grandlattice.tables.formats import FORMATS

if TYPE_CHECKING:
    from grandlattice.api.plan_files import PlanFiles
    from grandlattice.api.planned import Planned

_CHANNELS = ("R", "G", "B", "A")


@dataclass(frozen=True)
class EditionFiles:
    """What came of editions.

    Attributes
    ----------
    written : files that were written.
    unchanged : files that are of their picture and edition already.
    waiting : cells and frames without a traced picture to write from.
    stale : cells whose pictures are out of date, and were written as they are.
    """

    written: tuple[Path, ...]
    unchanged: int
    waiting: tuple[tuple[str, int], ...]
    stale: tuple[str, ...] = ()


@dataclass(frozen=True)
class _Wanted:
    """A file of an edition, and the cell as the edition shows it."""

    name: str
    edition: Edition
    cell: Cell
    file: PlannedFile


def write_editions(plan: PlanFiles, names: Sequence[str], chosen: Indices, into: Path | None) -> EditionFiles:
    """Write editions of some cells; see `Plan.edition`."""
    known = plan.model.editions
    refuse_unknown(names, known, "edition")
    for name in names:
        for said in known[name].label:
            refuse_unknown_caption(said, plan.model, plan.document.place(["editions", name, "label"]))
    plan = plan.beside(into)
    planned = plan.planned(into)
    sources, waiting = dict[Path, list[_Wanted]](), list[tuple[str, int]]()
    taken = {file.path for cell in plan.cells for file in planned_files(cell, plan.names)}
    for index in chosen.tolist():
        cell = plan.cells[index]
        for frame in cell.settings.frames:
            source = _source(plan, planned, cell, frame)
            if source is None:
                waiting.append((cell.address, frame))
                continue
            for name in names:
                for wanted in _files(plan, name, known[name], cell, frame):
                    if wanted.file.path in taken:
                        raise OutputError(
                            f"{wanted.file.path} would be written twice.",
                            cure=f"put {{edition}} and {{cell}} into the output of the edition {name}",
                        )
                    taken.add(wanted.file.path)
                    sources.setdefault(source, []).append(wanted)
    if not sources and waiting:
        address, frame = waiting[0]
        raise RunError(
            f"There is no OpenEXR file of {address}, frame {frame}, to write from.",
            cure="add exr to its format; glat run traces it",
        )
    stale = {m.cell.address for m in not_as_wanted(plan, planned) if not to_finish(planned.store, m)}
    shown = dict.fromkeys(each.cell.address for several in sources.values() for each in several)
    owner = planned.ledger.id if planned.ledger.file.exists() else ""
    planned.ledger.close()
    with ThreadPoolExecutor(os.cpu_count() or 1) as pool:
        made = list(pool.map(partial(_write_all, planned, owner), sources, sources.values()))
    written = [path for paths, _ in made for path in paths]
    return EditionFiles(
        tuple(written), sum(same for _, same in made), tuple(waiting),
        tuple(address for address in shown if address in stale),
    )  # fmt: skip


def _source(plan: PlanFiles, planned: Planned, cell: Cell, frame: int) -> Path | None:
    """The OpenEXR file that holds the beauty of a frame."""
    for file in planned_files(cell, plan.names, [frame]):
        path = planned.output / file.path
        if FORMATS[file.format].layered and "beauty" in file.passes and not file.eye and path.is_file():
            return path
    return None


def _files(plan: PlanFiles, name: str, edition: Edition, cell: Cell, frame: int) -> Iterator[_Wanted]:
    said = plan.document.place(["editions", name])
    origins = {**cell.origins, "output": said, "files": said}
    shown = replace(cell, settings=_settings(edition, cell.settings, name), origins=origins)
    for file in planned_files(shown, plan.names, [frame]):
        yield _Wanted(name, edition, shown, file)


def _settings(edition: Edition, settings: CellSettings, name: str) -> CellSettings:
    """The settings of a cell as an edition shows it."""
    grade = settings.grade
    if edition.grade is not None:
        grade = edition.grade.laid_over(grade)
    return replace(
        settings,
        format=tuple(edition.format), files=edition.files or settings.files, passes=("beauty",),
        output=edition.output.replace("{edition}", name), label=tuple(edition.label), grade=grade,
        display=settings.display if edition.display is None else edition.display,
        exposure=settings.exposure + edition.exposure,
        size=edition.size_of(settings.size), projection="camera",
    )  # fmt: skip


def _write_all(
    planned: Planned, owner: str, source: Path, wanted: Sequence[_Wanted]
) -> tuple[list[Path], int]:  # fmt: skip
    """Write all files that come of one picture; those that are as they should be stay."""
    mark, stops, samples, seconds, noise = images.read_marks(
        source, ("fingerprint", "camera stops", "samples", "seconds", "noise")
    )
    picture: NDArray[np.float32] | None = None
    written, same = list[Path](), 0
    for each in wanted:
        told: dict[str, str | int] = {
            "edition": each.name, "of": mark or "", "as": _digest(each, planned.model), "owner": owner,
            "cell": each.cell.address, "frame": each.file.frame, "plan": planned.name,
        }  # fmt: skip
        path = planned.store.path(each.file.path)
        if path.exists() or path.is_symlink():
            found = images.read_marks(path, ("edition", "of", "as", "owner"))
            if planned.store.is_link(each.file.path) or found[0] is None or found[3] not in ("", owner):
                raise OutputError(
                    f"{each.file.path} would be replaced, and no edition of this plan made it.",
                    cure="move it away, or give the edition another output",
                )
            if found[:3] == [each.name, told["of"], told["as"]]:
                same += 1
                continue
        if picture is None:
            picture = images.read_channels(source, _CHANNELS)
        known = PictureFigures(int(samples or 0), float(noise) if noise else None, float(seconds or 0.0))
        label = label_texts(planned.model, each.cell, each.file.frame, each.cell.settings.label, known)
        write = partial(_write, each=each, picture=picture, stops=float(stops or 0.0), told=told, label=label)
        planned.store.put(each.file.path, write)
        written.append(planned.output / each.file.path)
    return written, same


def _enlarged(shown: NDArray[np.float32], width: int, height: int) -> NDArray[np.float32]:
    """A displayed picture in a larger size; its alpha is not premultiplied, before and after."""
    covered = shown.copy()
    covered[..., :3] *= shown[..., 3:]
    large = images.resized(covered, width, height)
    large[..., :3] /= np.where(large[..., 3:] > 1e-4, large[..., 3:], 1.0)
    return np.clip(large, 0.0, 1.0)


def _digest(each: _Wanted, model: PlanModel) -> str:
    """Of everything a file of an edition depends on besides its picture."""
    settings = each.cell.settings
    told = [
        str(settings.size), settings.size.ppi, settings.exposure, settings.camera_exposure, settings.graded,
        settings.display, told_words(settings.label, model),
        settings.files.model_dump(mode="json"), each.file.format,
    ]  # fmt: skip
    return hashlib.blake2b(json.dumps(told, default=str).encode(), digest_size=12).hexdigest()


def _write(
    path: Path, each: _Wanted, picture: NDArray[np.float32], stops: float,
    told: Mapping[str, str | int], label: tuple[str, str],
) -> None:  # fmt: skip
    settings, kind = each.cell.settings, each.file.format
    metadata = {f"{images.MARK}{name}": value for name, value in told.items()}
    height, width = picture.shape[:2]
    size = images.fitted(width, height, settings.size.width, settings.size.height)
    is_larger = size[0] > width
    light = picture if is_larger and FORMATS[kind].displayed else images.resized(picture, *size)
    ppi = settings.size.ppi
    if FORMATS[kind].layered:
        images.write_exr(path, [images.Channels(_CHANNELS, light)], metadata, ppi=ppi)
        return
    if not FORMATS[kind].displayed:
        images.write_hdr(path, light[..., :3], metadata)
        return
    exposure = settings.exposure + (stops if settings.camera_exposure else 0.0)
    shown = images.to_display(light, settings.display, exposure, settings.graded)
    if is_larger:  # no pixel is displayed that is not there
        shown = _enlarged(shown, *size)
    if settings.label:
        shown = images.with_label(shown, *label)
    deep = getattr(settings.files, kind)
    bits = int(deep.depth) if FORMATS[kind].deep else 8
    images.write_display(
        path, shown, metadata, kind=kind, bits=bits, quality=settings.files.jpg.quality, ppi=ppi
    )
