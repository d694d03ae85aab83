"""Values of a plan that have a spelling of their own: sizes, percentages, frame ranges.

Each is read from text by one function that raises `ValueError` with a message for the artist.
"""

from __future__ import annotations

import math
import re
from dataclasses import dataclass
from datetime import date, datetime, time as clock_time, timedelta, timezone, tzinfo
from zoneinfo import ZoneInfo

_MOST_FRAMES = 1_000_000
_MOST_PIXELS = 999_999  # along a side


@dataclass(frozen=True)
class Size:
    """A picture's size in pixels, written ``1280x720``.

    `ppi` is its density on paper, pixels an inch; None where no paper is spoken of.
    """

    width: int
    height: int
    ppi: float | None = None

    def __str__(self) -> str:
        return f"{self.width}x{self.height}"

    def scaled(self, share: float) -> Size:
        """The size times `share` (1 is 100 %), at least one pixel each way; the same on paper."""
        ppi = None if self.ppi is None else self.ppi * share
        return Size(_pixels(self.width * share), _pixels(self.height * share), ppi)


def _pixels(number: float) -> int:
    return max(1, round(min(number, _MOST_PIXELS)))


@dataclass(frozen=True)
class Length:
    """A length as typed: in scene units, or in metres where a unit was named."""

    value: float
    in_metres: bool = False

    def in_units(self, metres_per_unit: float) -> float:
        """The length in scene units."""
        return self.value / metres_per_unit if self.in_metres else self.value


@dataclass(frozen=True)
class Frames:
    """Frames in the order they are rendered; `numbers` is None for all frames of the scene."""

    text: str
    numbers: tuple[int, ...] | None

    def __str__(self) -> str:
        return self.text


@dataclass(frozen=True)
class Metered:
    """An exposure that a small trace decides, written ``metered``, or ``metered by camera``.

    `by` is an axis whose entries share one value; without one each cell has its own.
    """

    by: str | None = None

    def __str__(self) -> str:
        return f"metered by {self.by}" if self.by else "metered"


@dataclass(frozen=True)
class Clamp:
    """A most for scattered light, written ``0.8`` (of the white that is shown) or ``800 nits``."""

    most: float
    in_nits: bool = False

    def __str__(self) -> str:
        return f"{self.most:g} nits" if self.in_nits else f"{self.most:g}"


def read_exposure(value: object) -> float | Metered:
    """Stops, ``metered``, or ``metered by`` an axis."""
    if isinstance(value, Metered):
        return value
    words = str(value).split(maxsplit=2)
    if words[:1] == ["metered"] and (len(words) == 1 or (len(words) == 3 and words[1] == "by")):
        return Metered(words[2].strip() if len(words) == 3 else None)
    try:
        stops = float(str(value))
    except ValueError:
        stops = math.nan
    if abs(stops) > 50.0:
        raise ValueError(f"an exposure is between -50 and 50 stops, not {str(value)!r}")
    if math.isnan(stops):
        raise ValueError(f"an exposure is stops, metered, or metered by an axis, not {str(value)!r}")
    return stops


def read_clamp(value: object) -> Clamp:
    if isinstance(value, Clamp):
        return value
    match = re.fullmatch(r"\s*(\d{1,30}\.?\d{0,30}|\.\d{1,30})(e[-+]?\d{1,3})?\s*(nits?)?\s*", str(value))
    most = float(match[1] + (match[2] or "")) if match else 0.0
    if match is None or not 0.0 < most < math.inf:
        raise ValueError(f"a clamp is written 0.8 (of white as shown) or 800 nits, not {str(value)!r}")
    return Clamp(most, bool(match[3]))


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


def read_region(value: object) -> tuple[int, int, int, int]:
    """``left top right bottom`` in pixels, the last two beyond the part."""
    if isinstance(value, tuple):
        return value
    words = str(value).split()
    if len(words) != 4 or not all(re.fullmatch(r"\d{1,6}", word) for word in words):
        raise ValueError(f"a region is written left top right bottom, 200 100 600 400, not {str(value)!r}")
    left, top, right, bottom = (int(word) for word in words)
    if right <= left or bottom <= top:
        raise ValueError(f"the region {str(value)!r} has nothing in it")
    return left, top, right, bottom


_METRES = {"mm": 0.001, "cm": 0.01, "m": 1.0, "km": 1000.0, "in": 0.0254, "ft": 0.3048}
PAPERS = {
    "A0": (1189, 841), "A1": (841, 594), "A2": (594, 420), "A3": (420, 297), "A4": (297, 210),
    "A5": (210, 148), "A6": (148, 105), "letter": (279.4, 215.9), "legal": (355.6, 215.9),
    "tabloid": (431.8, 279.4),
}  # fmt: skip
"""Sheets lying, width by height in millimetres (ISO 216; ANSI/ASME Y14.1)."""


def read_length(value: object) -> Length:
    """``12`` scene units, or ``12 cm``."""
    if isinstance(value, Length):
        return value
    match = re.fullmatch(r"\s*([-+]?(?:\d+\.?\d*|\.\d+)(?:e[-+]?\d+)?)\s*([a-z]*)\s*", str(value))
    if match is None or (match[2] and match[2] not in _METRES):
        raise ValueError(f"a length is written 12 (scene units) or 12 cm, not {str(value)!r}")
    if not match[2]:
        return Length(float(match[1]))
    return Length(float(match[1]) * _METRES[match[2]], in_metres=True)


def read_moment(day: str, time: str, zone: str) -> datetime:
    """A date, a time of day and a zone as one moment."""
    try:
        on, clock = date_of(day), time_of(time)
    except ValueError:
        raise ValueError(f"a date is written 2026-06-21 and a time 14:30, not {day!r} {time!r}") from None
    match = re.fullmatch(r"(?:UTC)?([+-])(\d{1,2})(?::?(\d\d))?", zone)
    if match:
        shift = timedelta(hours=int(match[2]), minutes=int(match[3] or 0))
        where: tzinfo = timezone(-shift if match[1] == "-" else shift)
    else:
        try:
            where = ZoneInfo(zone)
        except (KeyError, ValueError, OSError):
            raise ValueError(f"there is no time zone {zone!r}; write Europe/Amsterdam or +02:00") from None
    return datetime.combine(on, clock, where)


def date_of(text: str) -> date:
    """``2026-06-21``."""
    return date.fromisoformat(text.strip())


def time_of(text: str) -> clock_time:
    """``14:30``, or ``9:05:30``."""
    match = re.fullmatch(r"\s*(\d{1,2}):(\d\d)(?::(\d\d))?\s*", text)
    if match is None:
        raise ValueError(f"a time is written 14:30, not {text!r}")
    return clock_time(int(match[1]), int(match[2]), int(match[3] or 0))


def paper_size(width_mm: float, height_mm: float, ppi: float) -> Size:
    """Pixels of a sheet, rounded to the nearest.

    >>> str(paper_size(420, 297, 300))
    '4961x3508'
    """
    return Size(_pixels(width_mm / 25.4 * ppi), _pixels(height_mm / 25.4 * ppi), ppi)


_LONGEST = 60  # letters of a time
_MOST_SECONDS = 3.2e9  # a hundred years


def shortened(text: str, most: int = _LONGEST) -> str:
    """A text as it is quoted in a message: of a long one the beginning."""
    return text if len(text) <= most else text[: most - 1] + "…"


_SECONDS = {"s": 1.0, "min": 60.0, "h": 3600.0, "d": 86400.0}


def read_seconds(value: object) -> float:
    """``90``, ``90 s``, ``10 min`` or ``1 h 30 min`` in seconds."""
    if isinstance(value, float):
        return value
    text = str(value).strip()
    parts = re.findall(r"(\d{1,12}(?:\.\d{1,12})?)\s*(s|min|h|d)(?![a-z])", text[:_LONGEST])
    if re.fullmatch(r"\d{1,12}(\.\d{1,12})?", text):
        parts = [(text, "s")]
    elif not re.fullmatch(r"(?:\d{1,12}(?:\.\d{1,12})?\s*(?:s|min|h|d)\s*)+", text[: _LONGEST + 1]):
        parts = []
    whole = sum(float(number) * _SECONDS[unit] for number, unit in parts)
    if not 0.0 < whole < _MOST_SECONDS or len(text) > _LONGEST:
        raise ValueError(f"a time is written 90 s, 10 min or 1 h 30 min, not {shortened(text)!r}")
    return whole


_BYTES = {"kb": 1e3, "mb": 1e6, "gb": 1e9, "tb": 1e12}


def read_bytes(value: object) -> int:
    """``8 GB`` or ``512 MB`` in bytes."""
    if isinstance(value, int) and not isinstance(value, bool):
        return value
    match = re.fullmatch(r"\s*(\d+(?:\.\d+)?)\s*([kmgt]b)\s*", str(value).lower())
    if match is None or float(match[1]) == 0:
        raise ValueError(f"memory is written 8 GB or 512 MB, not {str(value)!r}")
    return int(float(match[1]) * _BYTES[match[2]])


def read_percent(value: object) -> float:
    """A share from ``25%`` (0.25)."""
    if isinstance(value, float):
        return value
    match = re.fullmatch(r"\s*(\d+(?:\.\d+)?)\s*%\s*", str(value))
    if match is None or not 0 < float(match[1]) <= 1e6:
        raise ValueError(f"a share is written 50%, not {shortened(str(value))!r}")
    return float(match[1]) / 100.0


def read_denoise(value: object) -> float:
    """How much noise is taken away, 0..1, from true, false or ``70%``."""
    if isinstance(value, bool | float):
        return float(value)
    text = str(value).strip().lower()
    if text in ("true", "false"):
        return float(text == "true")
    try:
        share = read_percent(value)
    except ValueError:
        share = 2.0
    if share > 1.0:
        raise ValueError(f"it is true, false, or a share such as 70%, not {shortened(str(value))!r}")
    return share


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
        if len(numbers) + (last - first) // step >= _MOST_FRAMES:
            raise ValueError(f"frames {shortened(text)!r} are more than {_MOST_FRAMES:,}")
        numbers += range(first, last + 1, step)
    return Frames(text, tuple(dict.fromkeys(numbers)))
