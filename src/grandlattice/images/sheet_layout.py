"""Contact sheets: pictures in a grid, labelled, to be read at one glance.

The grid comes from the coordinates: some axes become columns, the others rows, whichever gives
the largest pictures.  Nothing here knows of plans or runs; a `Frame` is a picture with its words.
"""

from __future__ import annotations

import itertools
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray
from PIL import Image, ImageDraw

from grandlattice.images.letters import Letters

BACKGROUND, MAT, INK, FAINT, WARNING = "#1d2226", "#31383d", "#eceae4", "#98a19f", "#e9a86a"
_GAP, _MARGIN, _CAPTION = 8, 20, 30
_NARROWEST = 92  # of a column, so that its captions can be read
_LOWEST, _COMFORTABLE = 48, 84  # heights of a picture: of any use, and to judge by
_HEAD, _MOST_IN_LINES = 70, 60  # of a sheet without a grid: its header, pictures on it
_LABEL = ""  # the axis of a sheet that has no grid


@dataclass(frozen=True, eq=False)
class Frame:
    """One picture of a sheet.

    `pixels` is (H, W, 4) float32 display values 0..1, or None where there is no picture, and
    then `remark` says why.  `coordinates` are axis → entry.
    """

    label: str
    coordinates: Mapping[str, str]
    pixels: NDArray[np.float32] | None
    remark: str = ""


@dataclass(frozen=True)
class _Grid:
    """Which axes go across and which down, the headings found there, and the room each has.

    `aspects` are of the columns, width over height; `height` is that of every picture.
    """

    across: tuple[str, ...]
    down: tuple[str, ...]
    columns: list[tuple[str, ...]]
    rows: list[tuple[str, ...]]
    aspects: list[float]
    height: int

    def width(self, column: int) -> int:
        return max(int(self.height * self.aspects[column]), _NARROWEST)


def make_sheets(
    title: str, subtitle: str, frames: Sequence[Frame], size: tuple[int, int] = (1280, 800)
) -> list[Image.Image]:
    """Lay frames out on as many sheets as legible pictures need.

    Parameters
    ----------
    frames : in the order they run.
    size : of a sheet in pixels; at 1280 × 800 every word can be read.
    """
    if len(_choices(frames)) < 2:
        parts = [frames[n : n + _MOST_IN_LINES] for n in range(0, len(frames), _MOST_IN_LINES)]
        count = f" of {len(parts)}"
        numbers = [f" · sheet {k}{count}" if len(parts) > 1 else "" for k in range(1, len(parts) + 1)]
        return [_in_lines(title, subtitle + n, part, size) for n, part in zip(numbers, parts, strict=True)]
    grid = _best_grid(frames, size)
    per_page = _per_page(grid, size)
    pages = [grid.rows[i : i + per_page] for i in range(0, len(grid.rows), per_page)]
    sheets = []
    for number, rows in enumerate(pages):
        words = subtitle if len(pages) == 1 else f"{subtitle} · sheet {number + 1} of {len(pages)}"
        sheets.append(_page(title, words, grid, rows, frames, size))
    return sheets


def _in_lines(title: str, subtitle: str, frames: Sequence[Frame], size: tuple[int, int]) -> Image.Image:
    """Frames that differ along one axis only, line after line, as large as they go."""
    aspect = _aspect(frames)
    room = size[0] - 2 * _MARGIN + _GAP, size[1] - _HEAD - _MARGIN

    def height(columns: int) -> int:
        lines = -(-len(frames) // columns)
        wide = max((room[0] / columns - _GAP) / aspect, 1.0)
        return int(min(wide, room[1] / lines - _GAP - _CAPTION))

    columns = max(range(1, len(frames) + 1), key=height)
    box = max(1, int(height(columns) * aspect)), max(1, height(columns))
    sheet = Image.new("RGB", size, BACKGROUND)
    draw = ImageDraw.Draw(sheet)
    Letters(22).write(draw, (_MARGIN, 14), title, INK)
    Letters(12).write(draw, (_MARGIN, 42), subtitle, FAINT)
    for k, frame in enumerate(frames):
        line, column = divmod(k, columns)
        corner = _MARGIN + column * (box[0] + _GAP), _HEAD + line * (box[1] + _CAPTION + _GAP)
        _place(sheet, draw, frame, corner, box)
    return sheet


def _choices(frames: Sequence[Frame]) -> tuple[str, ...]:
    """The axes along which the frames differ; the others need no heading."""
    axes = dict.fromkeys(axis for frame in frames for axis in frame.coordinates)
    return tuple(axis for axis in axes if len({f.coordinates.get(axis) for f in frames}) > 1)


def _header(grid: _Grid) -> int:
    return 66 + 18 * len(grid.across)


def _per_page(grid: _Grid, size: tuple[int, int]) -> int:
    """Rows of a grid that go on one sheet."""
    return max(1, (size[1] - _header(grid) - _MARGIN) // (grid.height + _CAPTION + _GAP))


def _key(frame: Frame, axes: Sequence[str]) -> tuple[str, ...]:
    if axes == (_LABEL,):
        return (frame.label,)
    return tuple(frame.coordinates.get(axis, "") for axis in axes)


def _best_grid(frames: Sequence[Frame], size: tuple[int, int]) -> _Grid:
    """The split of axes that needs the fewest sheets, and of those the one with the largest pictures."""
    axes = _choices(frames)
    grids = [
        _fitted_grid(frames, across, tuple(a for a in axes if a not in across), size)
        for count in range(len(axes) + 1)
        for across in itertools.combinations(axes, count)
    ]
    legible = [grid for grid in grids if grid.height >= _LOWEST]
    if legible:
        return min(legible, key=lambda grid: (-(-len(grid.rows) // _per_page(grid, size)), -grid.height))
    # So many entries that no split fits the sheet's width: one column, eight pictures to a line.
    labels: list[tuple[str, ...]] = [(frame.label,) for frame in frames]
    return _Grid((), (_LABEL,), [()], labels, [16 / 9], 120)


def _fitted_grid(
    frames: Sequence[Frame], across: tuple[str, ...], down: tuple[str, ...], size: tuple[int, int]
) -> _Grid:
    columns = list(dict.fromkeys(_key(frame, across) for frame in frames))
    rows = list(dict.fromkeys(_key(frame, down) for frame in frames))
    aspects = [_aspect([f for f in frames if _key(f, across) == column]) for column in columns]
    grid = _Grid(across, down, columns, rows, aspects, 0)
    by_width = _height_within(aspects, size[0] - 2 * _MARGIN - _row_label(grid) - _GAP * len(columns))
    room = (size[1] - _header(grid) - _MARGIN) / len(rows) - _GAP - _CAPTION
    # Fewer rows on a sheet are better than pictures too low to judge.
    return replace(grid, height=int(min(by_width, max(room, _COMFORTABLE))))


def _height_within(aspects: Sequence[float], width: float) -> float:
    """The largest height at which columns fit a width, none below its narrowest; 0 where none does."""
    wide = sorted(aspects)
    while wide:
        height = (width - _NARROWEST * (len(aspects) - len(wide))) / sum(wide)
        if height * wide[0] >= _NARROWEST:
            return height
        wide.pop(0)  # held open for its captions
    return _NARROWEST / max(aspects) if _NARROWEST * len(aspects) <= width else 0.0


def _aspect(frames: Sequence[Frame]) -> float:
    """The widest aspect of some frames, 16:9 where none has a picture."""
    known = [f.pixels.shape[1] / f.pixels.shape[0] for f in frames if f.pixels is not None]
    return max(known, default=16 / 9)


def _row_label(grid: _Grid) -> int:
    return 92 if grid.down else 0


def _page(
    title: str, subtitle: str, grid: _Grid, rows: list[tuple[str, ...]], frames: Sequence[Frame],
    size: tuple[int, int],
) -> Image.Image:  # fmt: skip
    sheet = Image.new("RGB", size, BACKGROUND)
    draw = ImageDraw.Draw(sheet)
    Letters(22).write(draw, (_MARGIN, 14), title, INK)
    Letters(12).write(draw, (_MARGIN, 42), subtitle, FAINT)
    top, step = _header(grid), grid.height + _CAPTION + _GAP
    widths = [grid.width(c) for c in range(len(grid.columns))]
    used = _row_label(grid) + sum(widths) + _GAP * len(widths)
    edge = _MARGIN + max(0, (size[0] - 2 * _MARGIN - used) // 2)
    lefts = [edge + _row_label(grid) + sum(widths[:c]) + _GAP * c for c in range(len(widths))]
    for c, column in enumerate(grid.columns):
        for line, word in enumerate(column):
            words = _fitted(word, widths[c], Letters(14))
            Letters(14).write(draw, (lefts[c], 62 + 18 * line), words, INK)
    for r, row in enumerate(rows):
        for line, word in enumerate(row):
            words = _fitted(word, _row_label(grid) - 8, Letters(14))
            Letters(14).write(draw, (edge, top + r * step + 2 + 18 * line), words, INK)
    row_at = {key: r for r, key in enumerate(rows)}
    column_at = {key: c for c, key in enumerate(grid.columns)}
    for frame in frames:
        r_at, c_at = row_at.get(_key(frame, grid.down)), column_at.get(_key(frame, grid.across))
        if r_at is not None and c_at is not None:
            _place(sheet, draw, frame, (lefts[c_at], top + r_at * step), (widths[c_at], grid.height))
    return sheet


def _place(
    sheet: Image.Image, draw: ImageDraw.ImageDraw, frame: Frame,
    corner: tuple[int, int], box: tuple[int, int],
) -> None:  # fmt: skip
    x, y = corner
    if frame.pixels is None:
        draw.rectangle((x, y, x + box[0] - 1, y + box[1] - 1), outline=WARNING)
        words = _fitted(frame.remark or "no picture", box[0] - 12, Letters(12))
        Letters(12).write(draw, (x + 6, y + 6), words, WARNING)
    else:
        draw.rectangle((x, y, x + box[0] - 1, y + box[1] - 1), fill="#15191c")
        picture = thumbnail(frame.pixels, box)
        sheet.paste(picture, (x + (box[0] - picture.width) // 2, y + (box[1] - picture.height) // 2))
    for line, words in enumerate(_caption(frame.label, box[0])):
        Letters(11).write(draw, (x, y + box[1] + 2 + 13 * line), words, FAINT)


def _caption(label: str, width: int) -> list[str]:
    """A label on one line or, broken after a slash, on two."""
    if Letters(11).length(label) <= width:
        return [label]
    breaks = [i + 1 for i, letter in enumerate(label) if letter == "/"]
    if not breaks:
        return [_fitted(label, width, Letters(11))]
    at = min(breaks, key=lambda i: abs(i - len(label) / 2))
    return [_fitted(part, width, Letters(11)) for part in (label[:at], label[at:])]


def thumbnail(pixels: NDArray[np.float32], box: tuple[int, int]) -> Image.Image:
    """A picture fitted into `box`, over the mat where it is see-through."""
    image = Image.fromarray(np.rint(np.clip(pixels, 0, 1) * 255).astype(np.uint8), "RGBA")
    share = min(box[0] / image.width, box[1] / image.height)
    fitted = image.resize(
        (max(1, round(image.width * share)), max(1, round(image.height * share))),
        Image.Resampling.LANCZOS,
    )
    mat = Image.new("RGBA", fitted.size, MAT)
    return Image.alpha_composite(mat, fitted).convert("RGB")


def letters_of(width: int, *, alone: bool = False) -> Letters:
    """The letters on a strip below a picture so wide; see `Letters`."""
    return Letters(max(9, min(28, width // 60)), alone=alone)


def with_label(pixels: NDArray[np.float32], words: str, figures: str) -> NDArray[np.float32]:
    """A displayed picture with a strip below that says what it is.

    Parameters
    ----------
    pixels : (H, W, 4) float32, 0..1.
    words, figures : left and right on the strip.

    Returns
    -------
    (H + strip, W, 4) float32; the strip grows with the picture's width, and is the same on every machine.
    """
    width = pixels.shape[1]
    letters = letters_of(width, alone=True)
    size = letters.size
    strip = Image.new("RGBA", (width, size * 2), BACKGROUND)
    draw = ImageDraw.Draw(strip)
    right = letters.length(figures)
    room = width - 3 * size // 2
    if right < room / 2:
        letters.write(draw, (width - size // 2 - right, size * 0.4), figures, FAINT)
        room -= int(right) + size
    letters.write(draw, (size // 2, size * 0.4), _fitted(words, room, letters), INK)
    return np.concatenate([pixels, np.asarray(strip, np.float32) / 255.0], axis=0)


def _fitted(words: str, width: int, letters: Letters) -> str:
    """`words`, shortened in the middle with … until they are no wider than `width`."""
    if letters.length(words) <= width:
        return words
    for kept in range(len(words) - 1, 1, -1):
        half = (kept + 1) // 2
        shorter = words[:half] + "…" + words[len(words) - (kept - half) :]
        if letters.length(shorter) <= width:
            return shorter
    return words[:1]
