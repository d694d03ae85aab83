"""Boards: pictures of many cells on sheets that are made anew only when one of them is."""

from __future__ import annotations

import hashlib
import json
import os
from collections.abc import Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
from PIL import Image

from grandlattice.api.call_options import refuse_unknown
from grandlattice.api.cell_states import states_of
from grandlattice.errors import LatticeError, OutputError, Place, PlanError, nearest
from grandlattice.plan import Cell, PlannedFile, planned_files
from grandlattice.plan.board_block import FRAME, MOVING, Board
from grandlattice.plan.captions import PictureFigures, caption
from grandlattice.plan.setting_layers import refuse_unknown_caption
from grandlattice.review.board_layout import BoardCell, BoardPlan, Measure, Sheet, laid_out
from grandlattice.review.cell_pictures import cell_picture, ranges_of
from grandlattice.review.moving_pictures import refuse_without_encoder, write_moving
from grandlattice.tables.formats import FORMATS
from grandlattice.tables.passes import PASSES, is_pass

if TYPE_CHECKING:
    from grandlattice.api.plan_files import PlanFiles
    from grandlattice.api.planned import Planned

_MARK = "lattice:board"
_POINTS, _PIXELS = 6.0, 11.0  # the smallest letters that can be read on paper, and on a screen
_LINES = 20.0  # that a screen has room for at least
_STEPS_A_SECOND = 12.0  # of boards that move through an axis


@dataclass(frozen=True)
class BoardFiles:
    """What came of boards.

    Attributes
    ----------
    written : files that were written.
    unchanged : files that show what they should already.
    """

    written: tuple[Path, ...]
    unchanged: tuple[Path, ...]


@dataclass(frozen=True)
class _Shown:
    """A frame of a cell on a board, and the file its picture comes from."""

    cell: Cell
    file: PlannedFile | None
    on_board: BoardCell


def write_boards(
    plan: PlanFiles, names: Sequence[str], into: Path | None, *, only_there: bool = False
) -> BoardFiles:
    """Write boards of a plan; see `Plan.board`.

    Parameters
    ----------
    only_there : leave out those that were never made.
    """
    known = plan.model.boards
    refuse_unknown(names, known, "board")
    plan = plan.beside(into)
    planned = plan.planned(into)
    written, unchanged = list[Path](), list[Path]()
    try:
        for name in names:
            board = known[name]
            stem = board.output.replace("{board}", name).replace("{plan}", plan.name)
            if only_there and not any(_there(planned, f"{stem}.{kind}") for kind in board.format):
                continue
            fresh, same = _write(plan, planned, name, board, stem)
            written += fresh
            unchanged += same
    finally:
        planned.ledger.close()
    return BoardFiles(tuple(written), tuple(unchanged))


def _there(planned: Planned, path: str) -> bool:
    numbered = path.rpartition(".")
    return any(planned.store.size(each) is not None for each in (path, f"{numbered[0]}-1.{numbered[2]}"))


def _write(
    plan: PlanFiles, planned: Planned, name: str, board: Board, stem: str
) -> tuple[list[Path], list[Path]]:
    from grandlattice.review import board_drawing  # brings the PDF library along

    place = plan.document.place(["boards", name])
    own = plan.model.own_kinds
    if not is_pass(board.pass_) and board.pass_ not in own:
        raise PlanError(
            f"There is no pass {board.pass_}. {nearest(board.pass_, [*own, *PASSES])}", place=place
        )
    axes = [*(axis.name for axis in plan.lattice.axes), FRAME]
    along = [] if board.along is None else [board.along]
    for axis in (*board.across, *board.down, *along):
        if axis not in axes:
            raise PlanError(f"There is no axis {axis}. {nearest(axis, axes)}", place=place)
    for said in board.captions:
        refuse_unknown_caption(said, plan.model, place)
    for kind in board.format:
        refuse_without_encoder(kind)
    cells = list(_cells(plan, planned, board))
    look = BoardPlan(
        *board.sheet, board.title or plan.name.replace("-", " ").replace("_", " "), board.notes or "",
        tuple(board.across), tuple(board.down), _letters(board),
    )  # fmt: skip
    sheets = _sheets(board, look, [each.on_board for each in cells], board_drawing.width_of, place)
    digest = _digest(board, look, cells, planned)
    files = [(kind, f"{stem}.{kind}", sheets) for kind in board.format if kind != "png"]
    if "png" in board.format:
        numbers = [""] if len(sheets) == 1 else [f"-{k}" for k in range(1, len(sheets) + 1)]
        files += [("png", f"{stem}{n}.png", [sheet]) for n, sheet in zip(numbers, sheets, strict=True)]
    stale = [each for each in files if not _is_fresh(planned, each[1], digest)]
    fresh = [planned.output / path for _, path, _ in files if path not in {p for _, p, _ in stale}]
    if not stale:
        return [], fresh
    pictures = _pictures(plan, planned, board, cells, [s for _, _, part in stale for s in part])
    rate = board.rate or (plan.scene.frames_per_second if board.along == FRAME else _STEPS_A_SECOND)
    told = {"title": look.title, "subject": f"board {name} of {plan.name}", "keywords": f"{_MARK} {digest}"}
    for kind, path, part in stale:

        def write(at: Path, kind: str = kind, part: list[Sheet] = part) -> None:
            if kind in MOVING:
                shown = (
                    board_drawing.drawn(sheet, board.sheet, pictures.__getitem__, board.density)
                    for sheet in part
                )
                write_moving(at, kind, shown, rate, told)
            elif kind == "pdf":
                board_drawing.draw_pdf(at, part, board.sheet, pictures.__getitem__, board.density, told)
            else:
                board_drawing.draw_png(at, part[0], board.sheet, pictures.__getitem__, board.density, told)

        planned.store.put(path, write)
    return [planned.output / path for _, path, _ in stale], fresh


def _letters(board: Board) -> float:
    """How small the letters of a board may be, points or pixels."""
    return _POINTS if board.size is None else min(_PIXELS, min(board.sheet) / _LINES)


def _sheets(
    board: Board, look: BoardPlan, cells: Sequence[BoardCell], measure: Measure, place: Place
) -> list[Sheet]:
    """The sheets of a board; of one that moves one for each entry that it moves through."""
    if board.along is None:
        return laid_out(look, cells, measure)
    moments: dict[str, list[BoardCell]] = {}
    for cell in cells:
        moments.setdefault(cell.coordinates.get(board.along, ""), []).append(cell)
    made = [laid_out(look, own, measure) for own in moments.values()]
    if any(len(sheets) > 1 for sheets in made):
        raise PlanError(
            f"The {len(max(moments.values(), key=len))} pictures of a moment do not fit on one sheet.",
            place=place, cure="name fewer cells with at, or a larger size",
        )  # fmt: skip
    return [sheet for sheets in made for sheet in sheets]


def _cells(plan: PlanFiles, planned: Planned, board: Board) -> Iterator[_Shown]:
    """The cells of a board, each with what is said of it."""
    indices = plan.cells.indices(*board.at)
    states = states_of(plan, planned)
    for index in indices.tolist():
        cell = plan.cells[index]
        every = FRAME in (*board.across, *board.down, board.along)
        for frame in cell.settings.frames if every else cell.settings.frames[:1]:
            yield _shown(plan, planned, board, cell, frame, states, apart=every)


def _shown(
    plan: PlanFiles, planned: Planned, board: Board, cell: Cell, frame: int, states: Mapping[str, str],
    *, apart: bool,
) -> _Shown:  # fmt: skip
    """A frame of a cell on a board.

    Parameters
    ----------
    apart : whether frames of a cell stand apart on the board.
    """
    file = _file_of(planned, board, list(planned_files(cell, plan.names, [frame])))
    record = None
    with suppress(LatticeError):
        there = file is not None and planned.ledger.file.exists()
        record = planned.ledger.find(file.path) if there and file is not None else None
    remark = states.get(cell.address, "")
    if file is None:
        remark = remark if remark == "failed" else "not rendered"
    elif record is not None and record.unfinished and not remark:
        remark = "unfinished"
    size = cell.settings.size
    figures = PictureFigures() if record is None else PictureFigures(
        record.samples, record.noise, record.seconds,
        planned.ledger.peak_of(record.trace) if "memory" in board.captions else None,
    )  # fmt: skip
    said = (caption(plan.model, cell, frame, name, figures) for name in board.captions)
    captions = tuple(filter(None, said))
    coordinates = {**cell.coordinates, **({FRAME: str(frame)} if apart else {})}
    address = f"{cell.address} · {frame}" if apart else cell.address
    return _Shown(cell, file, BoardCell(
        address, coordinates, size.width / size.height, captions, remark, file is not None,
    ))  # fmt: skip


def _file_of(planned: Planned, board: Board, files: Sequence[PlannedFile]) -> PlannedFile | None:
    """The file a picture comes from: one that is displayed already, where there is one."""
    there = [f for f in files if board.pass_ in f.passes and (planned.output / f.path).is_file()]
    light = board.pass_ == "beauty"
    there.sort(key=lambda file: FORMATS[file.format].layered == light)
    return there[0] if there else None


def _digest(board: Board, look: BoardPlan, cells: Sequence[_Shown], planned: Planned) -> str:
    """Of everything a board shows."""
    told: list[object] = [board.model_dump(mode="json"), look.title, look.notes]
    for each in cells:
        on_board = each.on_board
        told.append([on_board.address, on_board.captions, on_board.remark, dict(on_board.coordinates)])
        if each.file is not None:
            state = (planned.output / each.file.path).stat()
            told.append([each.file.path, state.st_size, state.st_mtime_ns])
    return hashlib.blake2b(json.dumps(told, default=str).encode(), digest_size=12).hexdigest()


def _is_fresh(planned: Planned, path: str, digest: str) -> bool:
    """Whether a board shows what it should.

    Raises
    ------
    OutputError
        When a file stands there that is no board.
    """
    full = planned.store.path(path)
    if not os.path.lexists(full):
        return False
    data = b"" if planned.store.is_link(path) else full.read_bytes()
    if _MARK.encode() not in data:
        raise OutputError(f"{path} is in the way, and is no board.", cure="move it, or name another output")
    return f"{_MARK} {digest}".encode() in data


def _pictures(
    plan: PlanFiles, planned: Planned, board: Board, cells: Sequence[_Shown], sheets: Sequence[Sheet]
) -> dict[str, Image.Image]:
    """The pictures of some sheets, as large as they are shown."""
    wide = {p.address: max(1, round(p.width * board.density)) for sheet in sheets for p in sheet.pictures}
    wanted = [each for each in cells if each.file is not None and each.on_board.address in wide]

    files = [(planned.output / each.file.path, each.file) for each in wanted if each.file is not None]
    ranges = ranges_of(files, board.pass_, plan.model.own_kinds)

    def made(each: _Shown) -> Image.Image:
        assert each.file is not None
        path, width = planned.output / each.file.path, wide[each.on_board.address]
        own = plan.model.own_kinds
        shown = cell_picture(path, each.file, each.cell.settings, board.pass_, own, ranges, width)
        white = shown[..., :3] * shown[..., 3:] + (1.0 - shown[..., 3:])  # paper behind what is clear
        return Image.fromarray((np.clip(white, 0.0, 1.0) * 255.0 + 0.5).astype(np.uint8))

    with ThreadPoolExecutor(os.cpu_count() or 1) as pool:
        return dict(zip((each.on_board.address for each in wanted), pool.map(made, wanted), strict=True))
