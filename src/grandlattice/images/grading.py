"""Grades: what is done to the light of a finished picture before a display shows it.

All by OpenColorIO's own operations on scene-linear light, in this order: exposure and contrast about middle
grey, gains of the channels and saturation, tones.
"""

from __future__ import annotations

from collections.abc import Mapping
from xml.sax.saxutils import escape

import PyOpenColorIO as ocio

from grandlattice.tables.grades import NEUTRAL, ON_CDL

MIDDLE_GREY = 0.18


def transforms_of(grade: Mapping[str, float]) -> list[ocio.Transform]:
    """The operations of a grade, none where it changes nothing; on scene-linear Rec.709.

    Parameters
    ----------
    grade : values by name, see `tables.grades.GRADES`; those that are missing are neutral.
    """
    value = {**NEUTRAL, **grade}
    made: list[ocio.Transform] = []
    if value["exposure"] or value["contrast"] != 1.0:
        made.append(
            ocio.ExposureContrastTransform(
                ocio.EXPOSURE_CONTRAST_LINEAR, value["exposure"], value["contrast"], 1.0, MIDDLE_GREY
            )
        )
    gains = channel_stops(value["temperature"], value["tint"])
    if any(gains) or value["saturation"] != 1.0:
        primary = ocio.GradingPrimary(ocio.GRADING_LIN)
        primary.exposure = ocio.GradingRGBM(*gains, 0.0)
        primary.saturation = value["saturation"]
        made.append(ocio.GradingPrimaryTransform(primary, ocio.GRADING_LIN, False))
    if value["shadows"] or value["mid-tones"] or value["highlights"]:
        tone = ocio.GradingTone(ocio.GRADING_LIN)
        for name in ("shadows", "mid-tones", "highlights"):
            part = getattr(tone, name.replace("-", ""))
            part.master = 1.0 + 0.8 * value[name]  # its own scale is 0.2 to 1.8
            setattr(tone, name.replace("-", ""), part)
        made.append(ocio.GradingToneTransform(tone, ocio.GRADING_LIN, False))
    return made


def channel_stops(temperature: float, tint: float) -> tuple[float, float, float]:
    """Stops that red, green and blue are raised by.

    Temperature is the stops between red and blue, tint those between green and the mean of red and blue; the
    sum is nought, so that the geometric mean of the channels stays.
    """
    return temperature / 2.0 + tint / 3.0, -2.0 * tint / 3.0, -temperature / 2.0 + tint / 3.0


def cdl_of(grade: Mapping[str, float]) -> tuple[tuple[float, ...], tuple[float, ...], float]:
    """Slopes, powers and saturation of an ASC CDL that does what a grade does, but for its tones.

    With a contrast c about grey p light x becomes p (x / p)^c, times a gain g: as (s x)^c with the slope
    s = g^(1/c) p^((1 - c)/c) (ASC, "Color Decision List", 2009: slope, offset, power, then saturation).
    """
    value = {**NEUTRAL, **grade}
    contrast = value["contrast"]
    gains = [2.0**stops for stops in channel_stops(value["temperature"], value["tint"])]
    slopes = tuple(
        2.0 ** value["exposure"] * gain ** (1.0 / contrast) * MIDDLE_GREY ** ((1.0 - contrast) / contrast)
        for gain in gains
    )
    return slopes, (contrast,) * 3, value["saturation"]


def beyond_cdl(grade: Mapping[str, float]) -> list[str]:
    """Names of the values of a grade that an ASC CDL cannot say."""
    return [name for name, value in grade.items() if name not in ON_CDL and value != NEUTRAL[name]]


def cdl_text(grades: Mapping[str, Mapping[str, float]]) -> str:
    """Grades by name as an ASC color correction collection (.ccc)."""
    lines = ['<?xml version="1.0" encoding="UTF-8"?>']
    lines.append('<ColorCorrectionCollection xmlns="urn:ASC:CDL:v1.2">')
    for name, grade in grades.items():
        slopes, powers, saturation = cdl_of(grade)
        slope, power = (" ".join(f"{number:.6f}" for number in numbers) for numbers in (slopes, powers))
        quoted = escape(name, {'"': "&quot;"})
        lines += [
            f'  <ColorCorrection id="{quoted}">',
            f"    <SOPNode><Slope>{slope}</Slope><Offset>0 0 0</Offset><Power>{power}</Power></SOPNode>",
            f"    <SatNode><Saturation>{saturation:.6f}</Saturation></SatNode>",
            "  </ColorCorrection>",
        ]
    return "\n".join([*lines, "</ColorCorrectionCollection>", ""])
