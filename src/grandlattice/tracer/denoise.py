"""Denoising with Open Image Denoise, where the optional package for it is installed.

It is done to a finished film, not to what is traced: a film that was kept as traced can be cleaned more, less
or not at all later.
"""

from __future__ import annotations

import importlib.util
from collections import deque
from collections.abc import Mapping, Sequence
from dataclasses import replace
from threading import Lock
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from grandlattice._support.once import once
from grandlattice.errors import TracerError

if TYPE_CHECKING:
    from grandlattice.tracer.film import Film

_KEPT = 100_000_000
"""Bytes of guides that are kept: cells of one view differ in light, and have the same."""
HOW_TO_INSTALL = 'python -m pip install "pyoidn>=2.5,<3"'


def can_denoise() -> bool:
    """Whether the optional package is installed."""
    return importlib.util.find_spec("pyoidn") is not None


class Cleaner:
    """Frees pictures of light of noise, their alpha as it was.

    The guides are freed of their own noise first (Áfra, "Open Image Denoise", on prefiltering), so that
    what is sharp in them stays sharp; once for all pictures that have the same.

    Raises
    ------
    TracerError
        When the package is missing.
    """

    def __init__(self) -> None:
        if not can_denoise():
            raise TracerError("Denoising is not installed.", cure=HOW_TO_INSTALL)
        import pyoidn

        self._oidn = pyoidn
        self._device = pyoidn.Device()
        self._device.commit()
        self._guides: deque[tuple[list[NDArray[np.float32]], list[NDArray[np.float32]]]] = deque()
        self._one_at_a_time = Lock()

    def clean(
        self, light: Mapping[str, NDArray[np.float32]], albedo: NDArray[np.float32],
        normal: NDArray[np.float32],
    ) -> dict[str, NDArray[np.float32]]:  # fmt: skip
        """Pictures without noise, each cleaned by itself.

        Parameters
        ----------
        light : name → (H, W, 3 or 4) float32, scene-linear.
        albedo : (H, W, 3) float32, 0..1.
        normal : (H, W, 3) float32, unit length or zero.

        Raises
        ------
        TracerError
            When the denoiser fails.
        """
        try:
            with self._one_at_a_time:  # the guides that are kept are for all threads
                albedo, normal = self._guided_by(albedo, normal)
            colours = {
                name: self._oidn.denoise(
                    np.ascontiguousarray(pixels[..., :3]), albedo, normal, hdr=True, clean_aux=True
                )
                for name, pixels in light.items()
            }
        except (RuntimeError, ValueError) as problem:
            raise TracerError(f"Denoising failed: {problem}") from problem
        return {
            name: np.concatenate([np.maximum(colour, 0.0), light[name][..., 3:]], axis=2)
            for name, colour in colours.items()
        }

    def _guided_by(
        self, albedo: NDArray[np.float32], normal: NDArray[np.float32]
    ) -> list[NDArray[np.float32]]:  # fmt: skip
        """The guides without their noise."""
        for given, made in self._guides:
            if all(map(np.array_equal, given, (albedo, normal))):
                return made
        albedo_kind, normal_kind = self._oidn.OIDN_IMAGE_ALBEDO, self._oidn.OIDN_IMAGE_NORMAL
        clean = np.clip(self._guide(albedo_kind, np.clip(albedo, 0.0, 1.0)), 0.0, 1.0)
        made = [clean, self._guide(normal_kind, normal)]
        self._guides.appendleft(([albedo, normal], made))
        while len(self._guides) > 1 and 4 * albedo.nbytes * len(self._guides) > _KEPT:
            self._guides.pop()
        return made

    def _guide(self, kind: str, pixels: NDArray[np.float32]) -> NDArray[np.float32]:
        """Albedo or normals, cleaned by themselves, (H, W, 3)."""
        given, made = np.ascontiguousarray(pixels, np.float32), np.zeros(pixels.shape, np.float32)
        with self._oidn.Filter(self._device) as only_it:
            only_it.set_image(kind, given, self._oidn.OIDN_FORMAT_FLOAT3)
            only_it.set_image(self._oidn.OIDN_IMAGE_OUTPUT, made, self._oidn.OIDN_FORMAT_FLOAT3)
            only_it.commit()
            only_it.execute()
        return made


@once
def cleaner() -> Cleaner:
    """One for all pictures of a process: those of a view have the same guides."""
    return Cleaner()


def denoised(film: Film, lights: Sequence[str], share: float) -> Film:
    """A film with its beauty and shares of lights freed of noise.

    Shares that leave nothing out still add up to the beauty.

    Parameters
    ----------
    film : with its guides.
    lights : those of its passes that are shares of lights and are wanted.
    share : how much of the noise is taken away, 0..1.

    Raises
    ------
    TracerError
        When the package is missing, or fails.
    """
    noisy = {"beauty": film.guides["beauty"]} | {name: film.passes[name] for name in lights}
    found = cleaner().clean(noisy, film.guides["albedo"], film.guides["normal"])
    if film.adds_up(lights):
        found |= adding_up(found["beauty"], {name: found[name] for name in lights})
    if share < 1.0:
        found = {n: (pixels + share * (found[n] - pixels)).astype(np.float32) for n, pixels in noisy.items()}
    clean = {name: found.get(name, pixels) for name, pixels in film.passes.items()}
    return replace(film, passes=clean, denoised=share)


def adding_up(
    beauty: NDArray[np.float32], parts: Mapping[str, NDArray[np.float32]]
) -> dict[str, NDArray[np.float32]]:
    """Parts of a beauty, each cleaned by itself, made to add up to it again.

    What is missing is shared out as the parts are; where all of them are black, equally.
    """
    total = np.sum([part.astype(np.float64) for part in parts.values()], axis=0)
    missing = beauty[..., :3] - total
    share = {
        name: np.divide(part, total, out=np.full(total.shape, 1.0 / len(parts)), where=total > 0.0)
        for name, part in parts.items()
    }
    return {name: (part + share[name] * missing).astype(np.float32) for name, part in parts.items()}
