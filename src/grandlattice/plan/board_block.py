"""Boards in a plan: pictures of many cells on paper or on a screen, with what is said of them."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field, model_validator

from grandlattice.errors import nearest
from grandlattice.plan.spelled_values import PAPERS
from grandlattice.plan.value_types import Number, SizeText, Strict, Text, Texts, many_of
from grandlattice.tables.caption_names import CAPTIONS

_MM_AN_INCH = 25.4


MOVING = ("webp", "mp4", "mov")
"""Formats of boards that move."""
FRAME = "frame"
"""What stands for frames among the axes of a board."""
_Kinds = Annotated[list[str], many_of("pdf", "png", *MOVING)]


class Board(Strict):
    """Pictures of many cells on sheets."""

    paper: Text | None = Field(None, description="A0 to A6, letter, legal or tabloid, lying; A3 if left out")
    turned: bool = Field(False, description="true: the paper stands upright")
    size: SizeText | None = Field(None, description="pixels of a sheet, in place of a paper")
    ppi: Number = Field(150.0, ge=20, le=1200, description="of pictures on paper, pixels an inch")
    format: _Kinds = Field(
        default_factory=lambda: ["pdf"], description="pdf, png or both; webp, mp4 or mov where it moves"
    )
    at: Texts = Field(
        default_factory=list, description="cells: light=noon or noon//all/Wide; all if left out"
    )
    across: Texts = Field(
        default_factory=list, description="axes whose entries are columns; frame for frames"
    )
    down: Texts = Field(default_factory=list, description="axes whose entries are rows")
    along: Text | None = Field(None, description="an axis, or frame: the board moves through its entries")
    rate: Number | None = Field(
        None, gt=0, le=240, description="entries a second; the scene's rate of frames, or 12, if left out"
    )
    pass_: Text = Field("beauty", alias="pass", description="what is shown of each cell")
    title: Text | None = Field(None, description="above; the plan's name if left out")
    notes: Text | None = Field(None, description="below")
    captions: Texts = Field(
        default_factory=lambda: ["coordinates"],
        description=f"below each picture: {', '.join(CAPTIONS)}, or a word of the plan",
    )
    output: Text = Field("boards/{board}", description="its file without the ending")

    @model_validator(mode="after")
    def _one_sheet(self) -> Board:
        if self.paper is not None and self.size is not None:
            raise ValueError("paper and size stand beside each other; only one can count")
        if self.paper is not None and self.paper not in PAPERS:
            raise ValueError(f"there is no paper {self.paper}. {nearest(self.paper, PAPERS)}")
        moves = [kind for kind in self.format if kind in MOVING]
        if moves and self.along is None:
            raise ValueError(f"{moves[0]} moves: say through what, such as along: {FRAME}")
        if self.along is not None and len(moves) < len(self.format):
            raise ValueError(f"a board that moves is {', '.join(MOVING[:-1])} or {MOVING[-1]}; say a format")
        if self.along in (*self.across, *self.down):
            raise ValueError(f"{self.along} cannot go across or down as well as along")
        both = set(self.across) & set(self.down)
        if both:
            raise ValueError(f"{sorted(both)[0]} cannot go across and down")
        return self

    @property
    def sheet(self) -> tuple[float, float]:
        """Width and height of a sheet, points (72 an inch); a pixel is a point where pixels are said."""
        if self.size is not None:
            return float(self.size.width), float(self.size.height)
        width, height = (side / _MM_AN_INCH * 72.0 for side in PAPERS[self.paper or "A3"])
        return (height, width) if self.turned else (width, height)

    @property
    def density(self) -> float:
        """Pixels a point of the pictures."""
        return 1.0 if self.size is not None else self.ppi / 72.0
