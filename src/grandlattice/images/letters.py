"""Letters on pictures: one font that comes along, and for letters it lacks those of the machine.

The font that comes along, DejaVu Sans, has Latin, Greek, Cyrillic, Armenian, Georgian, Hebrew and Arabic
letters.
"""

from __future__ import annotations

import os
import sys
import unicodedata
from collections.abc import Sequence
from functools import cache, lru_cache
from itertools import groupby
from pathlib import Path
from typing import Any

from PIL import ImageDraw, ImageFont

FONT = Path(__file__).parent / "fonts" / "DejaVuSans.ttf"
_NOWHERE = "\uffff"  # no letter, so that every font draws its sign for one it lacks
_LAST = "bold", "black", "italic", "oblique", "condensed", "mono", "serif", "light", "thin"


class Letters:
    """Letters of one size.

    Parameters
    ----------
    size : in pixels.
    alone : draw with the font that comes along alone, so that every machine makes the same pixels of a text.
    """

    def __init__(self, size: int, *, alone: bool = False) -> None:
        self.size, self._alone = size, alone

    def length(self, text: str) -> float:
        """How wide a text is, pixels."""
        return float(sum(_opened(font, self.size).getlength(part) for font, part in self._parts(text)))

    def write(
        self, draw: ImageDraw.ImageDraw, at: Sequence[float], text: str, colour: str, **options: Any
    ) -> None:
        """Write a text on an image.

        Parameters
        ----------
        at : x and y of its upper left corner; of the left end of its base line with ``anchor="ls"``.
        options : of `PIL.ImageDraw.ImageDraw.text`.
        """
        x, y = at
        if options.pop("anchor", "la") == "la":
            y += _opened(FONT, self.size).getmetrics()[0]
        for font, part in self._parts(text):
            opened = _opened(font, self.size)
            draw.text((x, y), part, colour, font=opened, anchor="ls", **options)
            x += opened.getlength(part)

    def _parts(self, text: str) -> Sequence[tuple[Path, str]]:
        return ((FONT, text),) if self._alone else parts_of(text)


@lru_cache(maxsize=10_000)
def parts_of(text: str) -> tuple[tuple[Path, str], ...]:
    """A text in parts, each with a font that has its letters; where none has one, the font that comes along
    draws its sign for that."""
    fonts: list[Path] = []
    for letter in text:
        is_mark = unicodedata.category(letter)[0] == "M"  # it belongs to the letter before
        fonts.append(fonts[-1] if is_mark and fonts else _font_for(letter))
    pairs = groupby(zip(fonts, text, strict=True), key=lambda pair: pair[0])
    return tuple((font, "".join(letter for _, letter in part)) for font, part in pairs)


@cache
def _font_for(letter: str) -> Path:
    if unicodedata.category(letter)[0] in "CZ" or _has(FONT, letter):  # nothing is drawn of blanks
        return FONT
    return next((font for font in _others() if _has(font, letter)), FONT)


def _has(font: Path, letter: str) -> bool:
    try:
        opened = _opened(font, 20)
        drawn, missing = (bytes(opened.getmask(each)) for each in (letter, _NOWHERE))
    except OSError:  # no font, or one that cannot be read
        return False
    return drawn != missing


@lru_cache(maxsize=200)
def _opened(font: Path, size: int) -> ImageFont.FreeTypeFont:
    return ImageFont.truetype(str(font), max(1, size))


@cache
def _others() -> tuple[Path, ...]:
    """The fonts of this machine, plain ones first."""
    found = {path for folder in _folders() for path in folder.rglob("*") if path.suffix.lower() in _ENDINGS}
    return tuple(sorted(found, key=lambda path: (any(w in path.stem.lower() for w in _LAST), str(path))))


_ENDINGS = (".ttf", ".ttc", ".otf")


def _folders() -> list[Path]:
    home = Path.home()
    if sys.platform == "win32":
        return [Path(os.environ.get("WINDIR", "C:/Windows")) / "Fonts"]
    if sys.platform == "darwin":
        return [Path("/System/Library/Fonts"), Path("/Library/Fonts"), home / "Library/Fonts"]
    return [
        Path("/usr/share/fonts"), Path("/usr/local/share/fonts"), home / ".local/share/fonts", home / ".fonts"
    ]  # fmt: skip
