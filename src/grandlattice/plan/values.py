"""Values of a plan that have a spelling of their own: sizes, percentages, frame ranges.

Each is read from text by one function that raises `ValueError` with a message for the artist.
"""

from __future__ import annotations

import re
from dataclasses import dataclass

_MOST_FRAMES = 1_000_000


@dataclass(frozen=True)
class Size:
    """A picture's size in pixels, written ``1280x720``."""

    width: int
    height: int

    def __str__(self) -> str:
        return f"{self.width}x{self.height}"

    def scaled(self, share: float) -> Size:
        """The size times `share` (1 is 100 %), at least one pixel each way."""
        return Size(max(1, round(self.width * share)), max(1, round(self.height * share)))


@dataclass(frozen=True)
class Frames:
    """Frames in the order they are rendered; `numbers` is None for all frames of the scene."""

    text: str
    numbers: tuple[int, ...] | None

    def __str__(self) -> str:
        return self.text


def read_size(value: object) -> Size:
    if isinstance(value, Size):
        return value
    match = re.fullmatch(r"\s*(\d{1,6})\s*[x×*]\s*(\d{1,6})\s*", str(value))
    if match is None:
        raise ValueError(f"a size is written 1280x720, not {str(value)!r}")
    width, height = int(match[1]), int(match[2])
    if width == 0 or height == 0:
        raise ValueError(f"a picture of {width}x{height} pixels has nothing in it")
    return Size(width, height)


def read_percent(value: object) -> float:
    """A share from ``25%`` (0.25)."""
    if isinstance(value, float):
        return value
    match = re.fullmatch(r"\s*(\d+(?:\.\d+)?)\s*%\s*", str(value))
    if match is None or float(match[1]) == 0:
        raise ValueError(f"a scale is written 50%, not {str(value)!r}")
    return float(match[1]) / 100.0


def read_frames(value: object) -> Frames:
    if isinstance(value, Frames):
        return value
    text = str(value).strip()
    if text == "scene":
        return Frames(text, None)
    numbers: list[int] = []
    for part in text.split(","):
        match = re.fullmatch(r"\s*(-?\d{1,9})(?:\s*-\s*(-?\d{1,9})(?:\s+by\s+(\d+))?)?\s*", part)
        if match is None:
            raise ValueError(f"frames are written 12, 1-48, 1-48 by 4, 1,5,9-12 or scene, not {text!r}")
        first = int(match[1])
        last = int(match[2]) if match[2] is not None else first
        step = int(match[3] or 1)
        if step == 0:
            raise ValueError(f"frames {text!r} go on by 0, which never ends")
        if last < first:
            raise ValueError(f"frames {text!r} end before they begin")
        if (last - first) // step >= _MOST_FRAMES:
            raise ValueError(f"frames {text!r} are more than {_MOST_FRAMES:,}")
        numbers += range(first, last + 1, step)
    return Frames(text, tuple(dict.fromkeys(numbers)))
