"""Denoising with Open Image Denoise, where the optional package for it is installed."""

from __future__ import annotations

import importlib.util

import numpy as np
from numpy.typing import NDArray

from grandlattice.errors import TracerError

HOW_TO_INSTALL = 'python -m pip install "pyoidn>=2.5,<3"'


def can_denoise() -> bool:
    """Whether the optional package is installed."""
    return importlib.util.find_spec("pyoidn") is not None


def denoise(
    beauty: NDArray[np.float32], albedo: NDArray[np.float32], normal: NDArray[np.float32]
) -> NDArray[np.float32]:
    """A beauty freed of noise, alpha as it was.

    Parameters
    ----------
    beauty : (H, W, 4) float32, scene-linear.
    albedo : (H, W, 3) float32, 0..1.
    normal : (H, W, 3) float32, unit length or zero.

    Raises
    ------
    TracerError
        When the package is missing or fails.
    """
    if not can_denoise():
        raise TracerError("Denoising is not installed.", cure=HOW_TO_INSTALL)
    import pyoidn

    try:
        colour = pyoidn.denoise(
            np.ascontiguousarray(beauty[..., :3]),
            np.ascontiguousarray(np.clip(albedo, 0.0, 1.0)),
            np.ascontiguousarray(normal),
            hdr=True,
        )
    except (RuntimeError, ValueError) as problem:
        raise TracerError(f"Denoising failed: {problem}") from problem
    return np.concatenate([np.maximum(colour, 0.0), beauty[..., 3:]], axis=2)
