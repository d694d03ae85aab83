"""What a grade can do to a finished picture: one record for each of its values."""

from __future__ import annotations

from collections.abc import Mapping
from typing import NamedTuple


class GradeValue(NamedTuple):
    """A value of a grade.

    Attributes
    ----------
    neutral : with which it changes nothing.
    least, most : limits.
    meaning : for an artist.
    """

    neutral: float
    least: float
    most: float
    meaning: str


GRADES: Mapping[str, GradeValue] = {
    "exposure": GradeValue(0.0, -20.0, 20.0, "stops, beside the setting exposure"),
    "contrast": GradeValue(1.0, 0.1, 5.0, "slope about middle grey, 1 as it is"),
    "saturation": GradeValue(1.0, 0.0, 4.0, "0 grey, 1 as it is"),
    "temperature": GradeValue(0.0, -4.0, 4.0, "stops between red and blue; above 0 warmer"),
    "tint": GradeValue(0.0, -4.0, 4.0, "stops between magenta and green; above 0 more magenta"),
    "shadows": GradeValue(0.0, -1.0, 1.0, "what is dark: -1 darkest, 0 as it is, 1 brightest"),
    "mid-tones": GradeValue(0.0, -1.0, 1.0, "what is neither dark nor bright, likewise"),
    "highlights": GradeValue(0.0, -1.0, 1.0, "what is bright, likewise"),
}
"""Name → what it is, in the order in which a grade is said."""

ON_CDL = ("exposure", "contrast", "saturation", "temperature", "tint")
"""Those that an ASC CDL can say."""

NEUTRAL: Mapping[str, float] = {name: value.neutral for name, value in GRADES.items()}
"""A grade that changes nothing."""
