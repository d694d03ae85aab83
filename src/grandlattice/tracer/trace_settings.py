"""Settings of a trace, and which part of a picture it covers."""

from __future__ import annotations

from dataclasses import dataclass

from grandlattice.tracer.adaptive_sampling import Window, whole_packets, whole_tiles
from grandlattice.tracer.lens import Sensor


@dataclass(frozen=True)
class TraceSettings:
    """How a picture is traced.

    Attributes
    ----------
    samples : samples of each pixel, at most.
    noise : relative error at which a part of the picture has enough samples; None traces all.
    seed : of the random numbers; the same seed gives the same noise.
    bounces : most vertices of a path.
    show_background : whether the camera sees the dome; otherwise alpha is 0 there.
    clamp : the most, in nits, that light scattered more than once adds to a pixel at a time; keeps
        away bright specks at few samples, and loses the light they stand for.  None is exact.
    guides : keep what a denoiser is guided by, see `Film.guides`.
    occlusion_radius : how far the occlusion pass looks, scene units; None is a tenth of the
        scene's diagonal.
    seconds : of tracing after which a picture ends, with the samples it has by then; None is never.
        Each pixel has one sample at least.
    """

    samples: int = 64
    noise: float | None = None
    seed: int = 0
    bounces: int = 8
    show_background: bool = True
    clamp: float | None = None
    guides: bool = False
    occlusion_radius: float | None = None
    seconds: float | None = None


def traced_window(sensor: Sensor, settings: TraceSettings) -> Window:
    """The part of a picture that has to be traced for the wanted part to have its very pixels, as left, top,
    right, bottom."""
    whole = whole_packets if settings.noise is None else whole_tiles
    return whole(sensor.window, sensor.width, sensor.height)
