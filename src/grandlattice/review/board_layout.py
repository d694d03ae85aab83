"""Where things stand on the sheets of a board: pictures as large as the paper allows, words around them.

All lengths are points, 72 an inch, from the top left.  Nothing here draws; see `board_drawing`.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import NamedTuple

_LEAST = 60.0  # width of a picture; where it would be narrower there is another sheet
_LINE = 1.35  # of a line of words, times their size


@dataclass(frozen=True)
class BoardCell:
    """A cell on a board.

    Attributes
    ----------
    address : names its picture.
    coordinates : axis → entry.
    aspect : width over height of its picture.
    captions : lines below it.
    remark : why there is no picture, or what is wrong with it; empty otherwise.
    has_picture : whether there is one.
    """

    address: str
    coordinates: Mapping[str, str]
    aspect: float
    captions: tuple[str, ...]
    remark: str = ""
    has_picture: bool = True


class Words(NamedTuple):
    """A line of words, its left end and the line it stands on."""

    x: float
    y: float
    text: str
    size: float
    kind: str  # ink, faint or warning


class Picture(NamedTuple):
    """A picture, or the empty place of one."""

    x: float
    y: float
    width: float
    height: float
    address: str
    is_there: bool


class Sheet(NamedTuple):
    """What stands on one sheet."""

    words: tuple[Words, ...]
    pictures: tuple[Picture, ...]


@dataclass(frozen=True)
class BoardPlan:
    """What a board looks like.

    Attributes
    ----------
    width, height : of a sheet.
    across, down : axes that are columns and rows; pictures fill the lines where neither is named.
    least_letters : how small letters may be.
    """

    width: float
    height: float
    title: str
    notes: str
    across: tuple[str, ...] = ()
    down: tuple[str, ...] = ()
    least_letters: float = 6.0


Measure = Callable[[str, float], float]
"""How wide a text is in a size."""


def laid_out(board: BoardPlan, cells: Sequence[BoardCell], measure: Measure) -> list[Sheet]:
    """The sheets of a board.

    Parameters
    ----------
    cells : in order.
    measure : of the letters it is drawn with.
    """
    letters = max(board.least_letters, min(board.width, board.height) / 95.0)
    page = _Page(board, letters, measure, _below(cells, letters))
    pages = _in_grids(page, cells) if board.across or board.down else _in_lines(page, cells)
    sheets = []
    for number, (words, places) in enumerate(pages, 1):
        own = [*_frame(page, number, len(pages)), *words]
        pictures: list[Picture] = []
        for cell, box in places:
            _place(cell, box, letters, measure, own, pictures)
        sheets.append(Sheet(tuple(own), tuple(pictures)))
    return sheets


Box = tuple[float, float, float, float]
_Placed = tuple[list[Words], list[tuple[BoardCell, Box]]]


@dataclass(frozen=True)
class _Page:
    """What all sheets of a board have in common.

    Attributes
    ----------
    below : height of what is said below a picture.
    """

    board: BoardPlan
    letters: float
    measure: Measure
    below: float

    @property
    def margin(self) -> float:
        return self.letters * 3.0

    @property
    def gap(self) -> float:
        return self.letters

    @property
    def top(self) -> float:
        return self.margin + self.letters * 2.6

    @property
    def room(self) -> tuple[float, float]:
        """Width and height for pictures and their headings."""
        foot = self.margin + (self.letters * _LINE * 2.0 if self.board.notes else 0.0)
        return self.board.width - 2 * self.margin, self.board.height - self.top - foot


def _below(cells: Sequence[BoardCell], letters: float) -> float:
    lines = max((len(cell.captions) + bool(cell.remark and cell.has_picture) for cell in cells), default=0)
    return lines * letters * _LINE + letters * 0.6


def _frame(page: _Page, number: int, count: int) -> list[Words]:
    """Title, number of the sheet and notes."""
    board, letters, margin = page.board, page.letters, page.margin
    title = _shortened(board.title, board.width * 0.75, letters * 1.8, page.measure)
    words = [Words(margin, margin + letters, title, letters * 1.8, "ink")]
    if count > 1:
        text = f"sheet {number} of {count}"
        right = board.width - margin - page.measure(text, letters)
        words.append(Words(right, margin + letters, text, letters, "faint"))
    return [*words, *(_notes(board, margin, letters, page.measure) if board.notes else ())]


def _in_lines(page: _Page, cells: Sequence[BoardCell]) -> list[_Placed]:
    """Pictures of one height, one behind the other, as large as they go."""
    wide, high = page.room
    said = {cell.address: max((page.measure(t, page.letters) for t in cell.captions), default=0.0)
            for cell in cells}  # fmt: skip

    def width(cell: BoardCell, height: float) -> float:
        return min(max(height * cell.aspect, min(said[cell.address], 1.5 * height)), wide)

    def lines(height: float) -> list[list[BoardCell]]:
        found: list[list[BoardCell]] = [[]]
        at = 0.0
        for cell in cells:
            own = width(cell, height)
            if found[-1] and at + own > wide + 1e-6:
                found.append([])
                at = 0.0
            found[-1].append(cell)
            at += own + page.gap
        return found

    def fits(height: float) -> bool:
        count = len(lines(height))
        tallest = all(height * cell.aspect <= wide + 1e-6 for cell in cells)
        return tallest and count * (height + page.below + page.gap) - page.gap <= high

    low, most = 1.0, high
    for _ in range(40):
        middle = (low + most) / 2.0
        low, most = (middle, most) if fits(middle) else (low, middle)
    height = max(low, min(_LEAST, high - page.below))
    every = lines(height)
    per_sheet = max(1, int((high + page.gap + 1e-6) / (height + page.below + page.gap)))
    pages: list[_Placed] = []
    for first in range(0, max(len(every), 1), per_sheet):
        places, y = list[tuple[BoardCell, Box]](), page.top
        for line in every[first : first + per_sheet]:
            x = page.margin
            for cell in line:
                own = width(cell, height)
                places.append((cell, (x, y, own, height)))
                x += own + page.gap
            y += height + page.below + page.gap
        pages.append(([], places))
    return pages


def _in_grids(page: _Page, cells: Sequence[BoardCell]) -> list[_Placed]:
    """Rows and columns; many rows stand in several blocks side by side where pictures are larger then."""
    board, letters, gap = page.board, page.letters, page.gap
    grid = _grid(board, cells)
    columns = max((len(row) for row in grid), default=1)
    aspects = [
        max((row[c].aspect for row in grid if c < len(row) and row[c] is not None), default=1.0)  # type: ignore[union-attr]
        for c in range(columns)
    ]
    heads = letters * _LINE * 1.6 if board.across else 0.0
    side = _side(board, cells, letters, page.measure)
    wide, high = page.room

    def height(blocks: int, rows: int) -> float:
        by_width = (wide / blocks - side - columns * gap) / sum(aspects)
        return min(by_width, (high - heads + gap) / rows - page.below - gap)

    rows = max(len(grid), 1)
    blocks = max(range(1, rows + 1), key=lambda count: height(count, -(-rows // count)))
    deep = -(-rows // blocks)
    while height(blocks, deep) < _LEAST and deep > 1:  # on several sheets they are larger
        blocks, deep = 1, max(1, deep // 2) if blocks == 1 else rows
    tall = max(height(blocks, deep), 1.0)
    block_width = side + sum(aspects) * tall + columns * gap
    pages: list[_Placed] = []
    for first in range(0, rows, deep * blocks):
        words, places = list[Words](), list[tuple[BoardCell, Box]]()
        for number, row in enumerate(grid[first : first + deep * blocks]):
            block, r = divmod(number, deep)
            left, y = page.margin + block * block_width, page.top + heads + r * (tall + page.below + gap)
            there = next((cell for cell in row if cell is not None), None)
            if board.down and there is not None:
                text = _shortened(_heading(there, board.down), side - gap, letters, page.measure)
                words.append(Words(left, y + tall / 2.0, text, letters, "ink"))
            x = left + side
            for c, cell in enumerate(row):
                own = aspects[c] * tall
                if r == 0 and board.across:
                    text = _shortened(_column_heading(grid, c, board.across), own, letters, page.measure)
                    words.append(Words(x, page.top + letters, text, letters, "ink"))
                if cell is not None:
                    places.append((cell, (x, y, own, tall)))
                x += own + gap
        pages.append((words, places))
    return pages


def _place(
    cell: BoardCell, box: tuple[float, float, float, float], letters: float, measure: Measure,
    words: list[Words], pictures: list[Picture],
) -> None:  # fmt: skip
    x, y, width, height = box
    own = min(width, height * cell.aspect), min(height, width / cell.aspect)
    pictures.append(Picture(x, y, *own, cell.address, cell.has_picture))
    line = y + own[1] + letters * 1.15
    if cell.remark and not cell.has_picture:
        text = _shortened(cell.remark, own[0] - letters, letters, measure)
        words.append(Words(x + letters / 2.0, y + own[1] / 2.0, text, letters, "warning"))
    for text in cell.captions:
        words.append(Words(x, line, _shortened(text, width, letters, measure), letters, "faint"))
        line += letters * _LINE
    if cell.remark and cell.has_picture:
        words.append(Words(x, line, _shortened(cell.remark, width, letters, measure), letters, "warning"))


def _notes(board: BoardPlan, margin: float, letters: float, measure: Measure) -> list[Words]:
    """Notes in two lines at most."""
    lines, line = list[str](), ""
    for word in board.notes.split():
        longer = f"{line} {word}".strip()
        if line and measure(longer, letters) > board.width - 2 * margin:
            lines.append(line)
            longer = word
        line = longer
    lines.append(line)
    if len(lines) > 2:
        lines = [lines[0], _shortened(" ".join(lines[1:]), board.width - 2 * margin, letters, measure)]
    first = board.height - margin - letters * _LINE * (len(lines) - 1)
    return [Words(margin, first + k * letters * _LINE, t, letters, "faint") for k, t in enumerate(lines)]


def _grid(board: BoardPlan, cells: Sequence[BoardCell]) -> list[list[BoardCell | None]]:
    """The cells of each row; None where the matrix has none."""
    places: dict[tuple[str, ...], dict[tuple[str, ...], list[BoardCell]]] = {}
    for cell in cells:
        row, column = _entries(cell, board.down), _entries(cell, board.across)
        places.setdefault(row, {}).setdefault(column, []).append(cell)
    titles = list(dict.fromkeys(_entries(cell, board.across) for cell in cells)) if board.across else []
    grid: list[list[BoardCell | None]] = []
    for columns_of in places.values():
        if not titles:  # rows alone: the cells of each stand side by side
            grid.append([cell for every in columns_of.values() for cell in every])
            continue
        for k in range(max(len(every) for every in columns_of.values())):
            stand = [columns_of.get(title, []) for title in titles]
            grid.append([every[k] if k < len(every) else None for every in stand])
    return grid


def _side(board: BoardPlan, cells: Sequence[BoardCell], letters: float, measure: Measure) -> float:
    """Width of the headings of rows."""
    if not board.down:
        return 0.0
    widest = max((measure(_heading(cell, board.down), letters) for cell in cells), default=0.0)
    return min(widest, board.width / 6.0) + letters


def _entries(cell: BoardCell, axes: Sequence[str]) -> tuple[str, ...]:
    return tuple(cell.coordinates.get(axis, "") for axis in axes)


def _heading(cell: BoardCell, axes: Sequence[str]) -> str:
    return " · ".join(_entries(cell, axes))


def _column_heading(grid: Sequence[Sequence[BoardCell | None]], column: int, axes: Sequence[str]) -> str:
    cell = next((row[column] for row in grid if column < len(row) and row[column] is not None), None)
    return "" if cell is None else _heading(cell, axes)


def _shortened(text: str, width: float, size: float, measure: Measure) -> str:
    """A text that fits, cut behind a word where it can be."""
    if measure(text, size) <= width:
        return text
    words = text.split(" ")
    while len(words) > 1 and measure(" ".join(words) + " …", size) > width:
        words.pop()
    short = " ".join(words) + " …"
    while len(short) > 2 and measure(short, size) > width:
        short = short[:-3].rstrip() + " …" if len(short) > 4 else "…"
    return short
