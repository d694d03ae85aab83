"""Contact sheets: pictures in a grid, labelled, to be read at one glance.

The grid comes from the coordinates: some axes become columns, the others rows, whichever gives
the largest pictures.  Nothing here knows of plans or runs; a `Frame` is a picture with its words.
"""

from __future__ import annotations

import itertools
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from PIL import Image, ImageDraw, ImageFont

BACKGROUND, MAT, INK, FAINT, WARNING = "#1d2226", "#31383d", "#eceae4", "#98a19f", "#e9a86a"
_GAP, _MARGIN = 8, 20


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
    """Which axes go across and which down, and the headings found there."""

    across: tuple[str, ...]
    down: tuple[str, ...]
    columns: list[tuple[str, ...]]
    rows: list[tuple[str, ...]]


def make_sheets(
    title: str, subtitle: str, frames: Sequence[Frame], size: tuple[int, int] = (1280, 800)
) -> list[Image.Image]:
    """Lay frames out on as many sheets as legible pictures need.

    Parameters
    ----------
    frames : in the order they run.
    size : of a sheet in pixels; at 1280 × 800 every word can be read.
    """
    grid, box = _best_grid(frames, size)
    head = _header_height(grid)
    per_page = max(1, (size[1] - head - _MARGIN) // (box[1] + _caption_height() + _GAP))
    pages = [grid.rows[i : i + per_page] for i in range(0, len(grid.rows), per_page)]
    sheets = []
    for number, rows in enumerate(pages):
        words = subtitle if len(pages) == 1 else f"{subtitle} · sheet {number + 1} of {len(pages)}"
        sheets.append(_page(title, words, grid, rows, frames, box, size))
    return sheets


def _font(size: int) -> ImageFont.FreeTypeFont | ImageFont.ImageFont:
    return ImageFont.load_default(size)


def _caption_height() -> int:
    return 16


def _header_height(grid: _Grid) -> int:
    return 62 + (22 if grid.across else 0)


def _key(frame: Frame, axes: Sequence[str]) -> tuple[str, ...]:
    return tuple(frame.coordinates.get(axis, "") for axis in axes)


def _best_grid(frames: Sequence[Frame], size: tuple[int, int]) -> tuple[_Grid, tuple[int, int]]:
    """The split of axes that gives the largest pictures, and the box of a picture in it."""
    axes = tuple(dict.fromkeys(axis for frame in frames for axis in frame.coordinates))
    aspects = [f.pixels.shape[1] / f.pixels.shape[0] for f in frames if f.pixels is not None]
    aspect = float(np.median(aspects)) if aspects else 16 / 9
    best: tuple[float, _Grid, tuple[int, int]] | None = None
    for count in range(len(axes) + 1):
        for across in itertools.combinations(axes, count):
            down = tuple(axis for axis in axes if axis not in across)
            columns = list(dict.fromkeys(_key(f, across) for f in frames))
            rows = list(dict.fromkeys(_key(f, down) for f in frames))
            grid = _Grid(across, down, columns, rows)
            width = (size[0] - 2 * _MARGIN - _row_label(grid)) / len(columns) - _GAP
            room = (size[1] - _header_height(grid) - _MARGIN) / len(rows)
            height = max(room - _GAP - _caption_height(), 84.0)  # below that, another sheet
            fitted = min(width, height * aspect)
            if fitted < 60:
                continue
            score = fitted * min(height, fitted / aspect)
            if best is None or score > best[0]:
                best = score, grid, (int(fitted), int(min(height, fitted / aspect)))
    if best is not None:
        return best[1], best[2]
    # So many entries that no split fits: plain rows of eight.
    eight = (size[0] - 2 * _MARGIN) // 8 - _GAP
    names = [(f.label,) for f in frames]
    return _Grid((), ("",), [()], names), (eight, int(eight / aspect))


def _row_label(grid: _Grid) -> int:
    return 96 if grid.down else 0


def _page(
    title: str, subtitle: str, grid: _Grid, rows: list[tuple[str, ...]],
    frames: Sequence[Frame], box: tuple[int, int], size: tuple[int, int],
) -> Image.Image:  # fmt: skip
    sheet = Image.new("RGB", size, BACKGROUND)
    draw = ImageDraw.Draw(sheet)
    draw.text((_MARGIN, 14), title, INK, font=_font(22))
    draw.text((_MARGIN, 42), subtitle, FAINT, font=_font(12))
    top = _header_height(grid)
    used = _row_label(grid) + len(grid.columns) * (box[0] + _GAP)
    left = _MARGIN + _row_label(grid) + max(0, (size[0] - 2 * _MARGIN - used) // 2)
    step_x, step_y = box[0] + _GAP, box[1] + _caption_height() + _GAP
    for c, column in enumerate(grid.columns):
        if grid.across:
            words = _fitted(draw, " · ".join(column), box[0], _font(14))
            draw.text((left + c * step_x, top - 20), words, INK, font=_font(14))
    places = {key: r for r, key in enumerate(rows)}
    across = {key: c for c, key in enumerate(grid.columns)}
    for r, row in enumerate(rows):
        for line, word in enumerate(row):
            words = _fitted(draw, word, _row_label(grid) - 10, _font(14))
            x = left - _row_label(grid)
            draw.text((x, top + r * step_y + 2 + 18 * line), words, INK, font=_font(14))
    for frame in frames:
        r_at, c_at = places.get(_key(frame, grid.down)), across.get(_key(frame, grid.across))
        if r_at is not None and c_at is not None:
            corner = left + c_at * step_x, top + r_at * step_y
            _place(sheet, draw, frame, corner, box)
    return sheet


def _place(
    sheet: Image.Image, draw: ImageDraw.ImageDraw, frame: Frame,
    corner: tuple[int, int], box: tuple[int, int],
) -> None:  # fmt: skip
    x, y = corner
    if frame.pixels is None:
        draw.rectangle((x, y, x + box[0] - 1, y + box[1] - 1), outline=WARNING)
        words = _fitted(draw, frame.remark or "no picture", box[0] - 12, _font(12))
        draw.text((x + 6, y + 6), words, WARNING, font=_font(12))
    else:
        draw.rectangle((x, y, x + box[0] - 1, y + box[1] - 1), fill="#15191c")
        picture = thumbnail(frame.pixels, box)
        sheet.paste(picture, (x + (box[0] - picture.width) // 2, y + (box[1] - picture.height) // 2))
    label = _fitted(draw, frame.label, box[0], _font(11))
    draw.text((x, y + box[1] + 2), label, FAINT, font=_font(11))


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


def _fitted(
    draw: ImageDraw.ImageDraw, words: str, width: int,
    font: ImageFont.FreeTypeFont | ImageFont.ImageFont,
) -> str:  # fmt: skip
    """`words`, shortened in the middle with … until they are no wider than `width`."""
    if draw.textlength(words, font=font) <= width:
        return words
    for kept in range(len(words) - 1, 1, -1):
        half = (kept + 1) // 2
        shorter = words[:half] + "…" + words[len(words) - (kept - half) :]
        if draw.textlength(shorter, font=font) <= width:
            return shorter
    return words[:1]
