"""The film: what was traced, pass by pass, as plain arrays, and the sums it is developed from.

Which passes there are stands in `tables.passes`.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np
import psutil
from numpy.typing import NDArray

from grandlattice.errors import TracerError
from grandlattice.scene_records import Camera
from grandlattice.tables.passes import RANKS
from grandlattice.tracer.batches import NOTHING
from grandlattice.tracer.id_layout import ranked_ids


@dataclass(frozen=True, eq=False)
class Film:
    """Every pass of one picture.

    Attributes
    ----------
    passes : name → (H, W, C) float32, top row first, C as its channels; beauty is scene-linear
        with Rec.709 primaries and premultiplied.
    samples : samples of each pixel, the mean where they differ.
    rays : rays shot.
    seconds : time spent tracing.
    denoised : how much of its noise was taken away, 0..1; see `denoise.denoised`.
    noise : relative error of the beauty, its mean over the mean light, where it was measured.
    unfinished : whether a time limit ended it before it had all its samples.
    relit : when the light was traced that it is mixed from, seconds since 1970; None where it was traced for
        it.
    names : of a pass of ids, the names whose hashes the ids are.
    guides : ``beauty``, ``albedo`` and ``normal`` as traced, for the denoiser; empty where they were not
        kept.
    sources : of each pass that is the share of lights, numbers of the sources of light that count for it, and
        of all under ``""``.
    """

    passes: Mapping[str, NDArray[np.float32]]
    samples: int
    rays: int
    seconds: float
    denoised: float = 0.0
    noise: float | None = None
    unfinished: bool = False
    relit: float | None = None
    names: Mapping[str, Sequence[str]] = field(default_factory=dict)
    guides: Mapping[str, NDArray[np.float32]] = field(default_factory=dict)
    sources: Mapping[str, Sequence[int]] = field(default_factory=dict)

    def adds_up(self, lights: Sequence[str]) -> bool:
        """Whether some shares of lights leave nothing out and have nothing twice."""
        counted = [number for name in lights for number in self.sources[name]]
        return bool(counted) and sorted(counted) == list(self.sources[""])

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


def empty_sums(
    width: int, height: int, passes: Sequence[str], share_count: int, light_sums: int = 0
) -> dict[str, NDArray]:
    """The buffers a picture with these passes is added up in.

    Parameters
    ----------
    share_count : parts of the beauty that are kept apart.
    light_sums : light sums of several lightings, each kept for all rounds and for every other one.

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
    words = sum(int(np.prod(kinds[name][0])) for name in asked_for) + _ALWAYS
    words += 3 * share_count + 6 * light_sums
    _refuse_what_does_not_fit(width, height, 2 * 4 * words)
    sums: dict[str, NDArray] = {"beauty": np.zeros((*shape, 4), np.float32)}
    for name in asked_for:
        sums[name] = np.zeros((*shape, *kinds[name][0]), kinds[name][1])
    if "depth" in sums:
        sums["depth"][...] = np.inf
    if share_count:
        sums["shares"] = np.zeros((share_count, *shape, 3), np.float32)
    for name in ("light_sums", "light_half") if light_sums else ():
        sums[name] = np.zeros((light_sums, *shape, 3), np.float32)
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
