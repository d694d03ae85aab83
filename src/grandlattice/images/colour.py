"""From scene-linear light to a display, through OpenColorIO's built-in configuration."""

from __future__ import annotations

from collections.abc import Mapping
from functools import lru_cache

import numpy as np
import PyOpenColorIO as ocio
from numpy.typing import NDArray

from grandlattice.errors import ImageError, nearest
from grandlattice.images.grading import transforms_of

CONFIG = "cg-config-v4.0.0_aces-v2.0_ocio-v2.5"
SOURCE = "Linear Rec.709 (sRGB)"


@lru_cache(maxsize=1)
def _config() -> ocio.Config:
    return ocio.Config.CreateFromBuiltinConfig(CONFIG)


def displays() -> dict[str, list[str]]:
    """Displays by name, each with its views."""
    config = _config()
    return {name: list(config.getViews(name)) for name in config.getDisplays()}


@lru_cache(maxsize=32)
def find_display(text: str | None) -> tuple[str, str]:
    """The display and view that ``DISPLAY / VIEW`` means; parts may be shortened or left out.

    Raises
    ------
    ImageError
        When there is none such, with the nearest names.
    """
    config = _config()
    wanted, _, view = (text or "").partition("/")
    display = _only_match(wanted.strip(), list(displays()), config.getDefaultDisplay(), "display")
    views = displays()[display]
    return display, _only_match(view.strip(), views, config.getDefaultView(display), "view")


def _only_match(wanted: str, names: list[str], default: str, what: str) -> str:
    if not wanted:
        return default
    folded = wanted.lower()
    for matches in (
        [n for n in names if n.lower() == folded],
        [n for n in names if n.lower().startswith(folded)],
        [n for n in names if folded in n.lower()],
    ):
        if len(matches) == 1 or (matches and len(matches[0]) == len(wanted)):
            return matches[0]
    raise ImageError(f"There is no {what} {wanted}. {nearest(wanted, names)}")


@lru_cache(maxsize=64)
def _processor(display: str, view: str, grade: tuple[tuple[str, float], ...]) -> ocio.CPUProcessor:
    steps = [*transforms_of(dict(grade)), ocio.DisplayViewTransform(src=SOURCE, display=display, view=view)]
    return _config().getProcessor(ocio.GroupTransform(steps)).getDefaultCPUProcessor()


def to_display(
    beauty: NDArray[np.float32], display: str | None = None, exposure: float = 0.0,
    grade: Mapping[str, float] | None = None,
) -> NDArray[np.float32]:  # fmt: skip
    """A picture as a display shows it.

    Parameters
    ----------
    beauty : (H, W, 4) float32, scene-linear Rec.709, premultiplied.
    display : see `find_display`.
    exposure : stops; the light is multiplied by 2 ** exposure.
    grade : what is done to the light then, see `tables.grades.GRADES`.

    Returns
    -------
    (H, W, 4) float32, 0..1, alpha not premultiplied.
    """
    alpha = np.clip(beauty[..., 3:], 0.0, 1.0)
    # Light without coverage (a reflection on clear glass) stays; only covered light is divided.
    colour = beauty[..., :3] / np.where(alpha > 1e-4, alpha, 1.0)
    shown = np.ascontiguousarray(colour * np.float32(2.0**exposure), np.float32)
    _processor(*find_display(display), tuple((grade or {}).items())).applyRGB(shown)
    return np.concatenate([np.clip(shown, 0.0, 1.0), alpha], axis=2).astype(np.float32)
