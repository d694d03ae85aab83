"""The film: what was traced, pass by pass, as plain arrays, and the sums it is developed from.

`PASSES` is the list of passes the tracer makes; every other room asks it rather than keeping a
list of its own.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np
import psutil
from numpy.typing import NDArray

from grandlattice.errors import TracerError
from grandlattice.snapshot import Camera
from grandlattice.tracer.batches import NOTHING, RANKS
from grandlattice.tracer.ids import ranked_ids
from grandlattice.tracer.shares import SPLITS


@dataclass(frozen=True)
class Pass:
    """A pass: the channels it has in a file, whether they must be stored in full floats, and what kind of
    data it is to those who show it (see `images.show_pass`)."""

    name: str
    channels: tuple[str, ...]
    exact: bool = False
    look: str = "share"


def _colour(name: str, look: str = "light") -> Pass:
    return Pass(name, tuple(f"{name}.{channel}" for channel in "RGB"), look=look)


def _ranked(name: str) -> Pass:
    """Pairs of an id and its coverage, two pairs to a layer."""
    layers = range(RANKS // 2)
    channels = tuple(f"{name}{k:02d}.{channel}" for k in layers for channel in "RGBA")
    return Pass(name, channels, exact=True, look="ids")


PASSES: Mapping[str, Pass] = {
    p.name: p
    for p in (
        Pass("beauty", ("R", "G", "B", "A"), look="light"),
        _colour("albedo", "colour"),
        Pass("occlusion", ("occlusion.Y",)),
        Pass("illuminance", ("illuminance.Y",), exact=True, look="lux"),
        Pass("motion", ("motion.U", "motion.V"), exact=True, look="motion"),
        Pass("seconds", ("seconds.Y",), exact=True, look="amount"),
        Pass("depth", ("Z",), exact=True, look="distance"),
        Pass("normal", ("normal.X", "normal.Y", "normal.Z"), look="direction"),
        Pass("samples", ("samples.Y",), exact=True, look="amount"),
        *(_colour(name) for name in SPLITS),
        _colour("shadow", "share"),
        Pass("depth-soft", ("depth-soft.Z",), exact=True, look="distance"),
        Pass("coverage", ("coverage.Y",)),
        Pass("normal-camera", ("normal-camera.X", "normal-camera.Y", "normal-camera.Z"), look="direction"),
        Pass("position", ("position.X", "position.Y", "position.Z"), exact=True, look="place"),
        Pass("uv", ("uv.U", "uv.V"), exact=True, look="coordinates"),
        _ranked("object-id"),
        _ranked("material-id"),
    )
}


def is_pass(name: str) -> bool:
    """Whether there is a pass of a name."""
    return name in PASSES or (name.startswith("light.") and len(name) > len("light."))


def known_pass(name: str, own: Mapping[str, str] | None = None) -> Pass:
    """The pass of a name, also ``light.NAME``, the share of one light.

    Parameters
    ----------
    own : passes of a plan's own, name → what it is of, see `shares.OwnPass`.

    Raises
    ------
    KeyError
        Where there is none.
    """
    if own and name in own:
        return _colour(name) if own[name] == "light" else Pass(name, (f"{name}.Y",))
    return PASSES[name] if name in PASSES or not is_pass(name) else _colour(name)


@dataclass(frozen=True, eq=False)
class Film:
    """Every pass of one picture.

    Attributes
    ----------
    passes : name → (H, W, C) float32, top row first, C as in `PASSES`; beauty is scene-linear
        with Rec.709 primaries and premultiplied.
    samples : samples of each pixel, the mean where they differ.
    rays : rays shot.
    seconds : time spent tracing.
    denoised : whether the beauty was denoised.
    noise : relative error of the beauty, its mean over the mean light, where it was measured.
    unfinished : whether a time limit ended it before it had all its samples.
    names : of a pass of ids, the names whose hashes the ids are.
    """

    passes: Mapping[str, NDArray[np.float32]]
    samples: int
    rays: int
    seconds: float
    denoised: bool = False
    noise: float | None = None
    unfinished: bool = False
    names: Mapping[str, Sequence[str]] = field(default_factory=dict)

    @property
    def width(self) -> int:
        return int(next(iter(self.passes.values())).shape[1])

    @property
    def height(self) -> int:
        return int(next(iter(self.passes.values())).shape[0])


_MOST_PIXELS = 400_000_000  # kernels count the words of a picture in 32 bits
_ALWAYS = 8  # words of a pixel: beauty and its half


def _refuse_what_does_not_fit(width: int, height: int, pixel_bytes: int) -> None:
    """Say so before anything is allocated; sums and the passes made of them stand side by side."""
    needed, free = width * height * pixel_bytes, psutil.virtual_memory().available
    if width * height > _MOST_PIXELS or needed > free:
        raise TracerError(
            f"A picture of {width}×{height} pixels with these passes needs {needed / 1e9:.0f} GB to trace, "
            f"and {free / 1e9:.0f} GB are free.",
            cure="ask for a smaller size, a scale below 100%, or render it in parts with region",
        )


def empty_sums(width: int, height: int, passes: Sequence[str], share_count: int) -> dict[str, NDArray]:
    """The buffers a picture with these passes is added up in.

    Raises
    ------
    TracerError
        For a picture too large to hold.
    """
    if width < 1 or height < 1:
        raise TracerError(f"A picture of {width}×{height} pixels has nothing in it.")
    shape = (height, width)
    wanted = {
        "albedo": ("albedo",), "normal": ("normal", "normal-camera"),
        "position": ("position", "motion"), "uv": ("uv",), "depth_soft": ("depth-soft",),
        "front": ("coverage", "motion"),
        "objects": ("object-id", "coverage"), "looks": ("material-id",),
        # The nearest sample is found by its depth.
        "depth": ("depth", "normal", "normal-camera", "position", "uv", "coverage", "motion"),
    }  # fmt: skip
    kinds: dict[str, tuple[tuple[int, ...], type]] = {
        "albedo": ((3,), np.float32), "normal": ((3,), np.float32), "depth": ((), np.float32),
        "position": ((3,), np.float32), "uv": ((2,), np.float32), "depth_soft": ((2,), np.float32),
        "front": ((), np.int32), "objects": ((RANKS, 2), np.int32), "looks": ((RANKS, 2), np.int32),
    }  # fmt: skip
    asked_for = [name for name, asked in wanted.items() if any(each in passes for each in asked)]
    words = sum(int(np.prod(kinds[name][0])) for name in asked_for) + 3 * share_count + _ALWAYS
    _refuse_what_does_not_fit(width, height, 2 * 4 * words)
    sums: dict[str, NDArray] = {"beauty": np.zeros((*shape, 4), np.float32)}
    for name in asked_for:
        sums[name] = np.zeros((*shape, *kinds[name][0]), kinds[name][1])
    if "depth" in sums:
        sums["depth"][...] = np.inf
    if share_count:
        sums["shares"] = np.zeros((share_count, *shape, 3), np.float32)
    return sums


def developed(
    film: dict[str, NDArray], counts: NDArray[np.int32], names: Mapping[str, Sequence[str]], camera: Camera,
) -> dict[str, NDArray]:  # fmt: skip
    """The passes that sums were kept of, and the beauty."""
    share = (1.0 / np.maximum(counts, 1)).astype(np.float32)[..., None]
    made = {"samples": counts[..., None].astype(np.float32)}
    if "depth" in film:
        empty = film["depth"] >= NOTHING
        made["depth"] = np.where(empty, np.float32(np.inf), np.abs(film["depth"]))[..., None]
        film = film | {
            name: np.where(
                empty.reshape(empty.shape + (1,) * (film[name].ndim - 2)),
                film[name].dtype.type(0),
                film[name],
            )
            for name in ("normal", "position", "uv", "front")
            if name in film
        }
    beauty = film["beauty"] * share
    if "caught" in film:
        cover, lit, dark = np.moveaxis(film["caught"], -1, 0)
        shadow = np.divide(dark, lit, out=np.zeros_like(dark), where=lit > 0.0)
        beauty[..., 3] += cover * shadow * share[..., 0]
    made["beauty"] = beauty
    for name, slots in (("object-id", film.get("objects")), ("material-id", film.get("looks"))):
        if slots is not None:
            made[name] = ranked_ids(slots, names[name], counts)
    if "front" in film and "objects" in film:
        of_front = (film["objects"][..., 0] == film["front"][..., None]) & (film["front"][..., None] > 0)
        made["coverage"] = (film["objects"][..., 1] * of_front).sum(-1)[..., None] * share
    if "depth_soft" in film:
        total, met = np.moveaxis(film["depth_soft"], -1, 0)
        made["depth-soft"] = np.where(met > 0, total / np.maximum(met, 1), np.inf)[..., None]
    if "normal" in film:
        axes = np.asarray(camera.to_world)[:3, :3]
        axes = axes / np.linalg.norm(axes, axis=1, keepdims=True)
        made["normal-camera"] = (film["normal"] @ axes.T).astype(np.float32)
    if "albedo" in film:
        made["albedo"] = film["albedo"] * share
    return made | {name: film[name] for name in ("normal", "position", "uv") if name in film}
