"""What pictures say of the camera that made them, for those who show them."""

from __future__ import annotations

from collections.abc import Mapping
from contextlib import suppress
from typing import NamedTuple, Self

from grandlattice.scene_records import Camera

_NAMES = {
    "stops": "camera stops", "focal_length": "lens focal length", "fstop": "lens f-number",
    "focus": "lens focus", "pixel": "lens pixel", "metres": "metres per unit",
}  # fmt: skip

CAMERA_MARKS = tuple(_NAMES.values())
"""Names of marks that files have these facts in."""


class CameraFacts(NamedTuple):
    """Of the camera of a picture.

    Attributes
    ----------
    stops : its own exposure, by which pictures are displayed brighter.
    focal_length : metres; 0 where nothing is out of focus by a lens: around, orthographic, outside renderers.
    fstop : f-number; 0: all in focus.
    focus : distance in focus, metres.
    pixel : how far apart pixels are at a distance of 1.
    metres : of a scene unit, in which the depth pass is.
    """

    stops: float = 0.0
    focal_length: float = 0.0
    fstop: float = 0.0
    focus: float = 0.0
    pixel: float = 0.0
    metres: float = 0.0

    @property
    def marks(self) -> dict[str, float]:
        """As marks of a file."""
        said = self if self.focal_length else CameraFacts(self.stops)
        return {_NAMES[name]: float(f"{value:.7g}") for name, value in said._asdict().items() if value}

    @classmethod
    def from_marks(cls, said: Mapping[str, str | None]) -> Self:
        """As a file says them; marks that are no numbers count as not there."""
        found = {}
        for field, name in _NAMES.items():
            with suppress(ValueError):
                found[field] = float(said.get(name) or 0.0)
        return cls(**found)


def camera_facts(camera: Camera, pixel: float, metres_per_unit: float) -> CameraFacts:
    """Of a camera whose pixels are so far apart at a distance of 1; 0 where it has no lens."""
    if not pixel:
        return CameraFacts(camera.stops)
    return CameraFacts(
        camera.stops, camera.focal_length * metres_per_unit,
        camera.focal_length / (2.0 * camera.lens_radius) if camera.lens_radius > 0 else 0.0,
        camera.focus_distance * metres_per_unit, pixel, metres_per_unit,
    )  # fmt: skip
