"""Exposures that a plan leaves to a meter: small pictures of cells say how much light there is.

What a meter says depends on the scene, the plan's edits and the camera alone: not on samples, sizes and
other settings of quality, so that a proof has the exposure of the picture it stands for.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from grandlattice._support.user_cache import remember, remembered
from grandlattice.api.orchestration import prepare_tracer
from grandlattice.api.planned import Planned
from grandlattice.plan import Cell, CellSettings
from grandlattice.runs import WorkOrder, Workshop

_MID_GREY = 0.18
_MOST_AT_ONCE = 8  # cells of a group that are looked at
_WIDTH = 64


class Meter:
    """Says which exposure cells have, and remembers it for as long as nothing changes that it depends on.

    Parameters
    ----------
    planned : the plan; its own meter is not asked.
    """

    def __init__(self, planned: Planned) -> None:
        self._planned = planned

    def __call__(self, cells: Sequence[Cell]) -> float:
        """Stops, to a hundredth: the mean of what some of the cells need, spread evenly among them."""
        chosen = np.unique(np.linspace(0, len(cells) - 1, min(_MOST_AT_ONCE, len(cells))).round().astype(int))
        return round(float(np.mean([self._of_one(cells[k]) for k in chosen])), 2)

    def _of_one(self, cell: Cell) -> float:
        small = replace(cell, settings=_small(cell.settings))
        prints = self._planned.fingerprints
        key = prints.told(small.settings, small.edits).hex() + repr(small.settings.frames)
        if key not in self._said:
            self._said[key] = exposure_for(self._shop.glance(small))
            remember("exposures", {key: self._said[key]})
        return self._said[key]

    @cached_property
    def _said(self) -> dict[str, float]:
        return remembered("exposures")

    @cached_property
    def _shop(self) -> Workshop:
        prepare_tracer()
        return workshop_of(self._planned)


def workshop_of(planned: Planned) -> Workshop:
    """Where cells of a plan are looked at without being rendered, also where textures are missing."""
    order = WorkOrder(
        planned.model, planned.folder, planned.scene.file.resolve(), planned.output, planned.name,
        allow_missing=True, fixed=planned.fixed,
    )  # fmt: skip
    return Workshop(order, planned.scene)


def exposure_for(luminance: NDArray[np.float64]) -> float:
    """The exposure, stops, that brings the light of a picture to mid grey on average.

    The average is that of logarithms, over all pixels that are not black (Reinhard, Stark, Shirley and
    Ferwerda, "Photographic tone reproduction for digital images", 2002).

    Parameters
    ----------
    luminance : (H, W), 1 is white.

    Examples
    --------
    >>> import numpy as np
    >>> exposure_for(np.full((2, 2), 0.18 * 8))
    -3.0
    """
    lit = luminance[luminance > 1e-4 * luminance.max()]
    if not lit.size:
        return 0.0
    return math.log2(_MID_GREY) - float(np.log2(lit).mean())


def _small(settings: CellSettings) -> CellSettings:
    """What the look at a cell depends on: where from, of which light, in the middle of its frames."""
    frames = settings.frames
    return CellSettings(
        camera=settings.camera, size=settings.size.scaled(_WIDTH / settings.size.width), fit=settings.fit,
        frames=(frames[len(frames) // 2],), projection=settings.projection, eyes=settings.eyes,
        subdivision=settings.subdivision, camera_exposure=settings.camera_exposure,
        background=settings.background,
    )  # fmt: skip
