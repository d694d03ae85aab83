"""What labels and captions say of a picture: one list for both."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from grandlattice._support.readable import size
from grandlattice.plan.cell_settings import Cell
from grandlattice.plan.schema import PlanModel, SweepAxis
from grandlattice.tables.caption_names import FIGURES, LABEL


@dataclass(frozen=True)
class PictureFigures:
    """What is known of a picture that was made; None where it is not.

    `noise` is a relative error, `memory` is in bytes.
    """

    samples: int | None = None
    noise: float | None = None
    seconds: float | None = None
    memory: int | None = None


def caption(model: PlanModel, cell: Cell, frame: int, name: str, figures: PictureFigures) -> str:
    """One of the things that are said of a picture; empty where it is not known.

    Parameters
    ----------
    name : one of `CAPTIONS`, or a word of the plan.
    """
    settings = cell.settings
    said = {
        "camera": (settings.camera or "").rpartition("/")[2],
        "frame": f"frame {frame}",
        "size": str(settings.size),
        "exposure": f"{settings.exposure:+.2f} stops",
        "samples": "" if figures.samples is None else f"{figures.samples} samples",
        "noise": "" if figures.noise is None else f"noise {figures.noise:.1%}",
        "seconds": "" if figures.seconds is None else f"{figures.seconds:.1f} s",
        "memory": size(figures.memory) if figures.memory else "",
    }
    if name in model.words:
        return str(model.words[name])
    if name == "coordinates":
        return cell.name or " · ".join(cell.coordinates.values())
    if name == "value":
        swept = [axis for axis in cell.coordinates if isinstance(model.axes.get(axis), SweepAxis)]
        return "   ".join(f"{axis} {_unpadded(cell.coordinates[axis])}" for axis in swept)
    return said[name]


def told_words(names: Sequence[str], model: PlanModel) -> list[list[str]]:
    """What a label's names say whatever the picture: each with the word of the plan it stands for."""
    return [[name, str(model.words.get(name, ""))] for name in names]


def label_texts(
    model: PlanModel, cell: Cell, frame: int, names: Sequence[str], figures: PictureFigures
) -> tuple[str, str]:
    """What stands left and right on the label of a picture."""
    if tuple(names) == LABEL:  # with the names of axes
        words = cell.name or "   ".join(f"{axis} {entry}" for axis, entry in cell.coordinates.items())
        names = names[1:]
    else:
        words = ""
    texts = [(name in FIGURES and name not in model.words, caption(model, cell, frame, name, figures))
             for name in names]  # fmt: skip
    left = [words, *(text for is_figure, text in texts if not is_figure)]
    return "   ".join(filter(None, left)), "   ".join(text for is_figure, text in texts if is_figure and text)


def _unpadded(entry: str) -> str:
    """A value as it is read: ``040`` is 40, ``08-30`` stays."""
    return entry.lstrip("0") or "0" if entry.isdigit() else entry
