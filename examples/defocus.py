"""Put a picture out of focus afterwards, by its depth: why `depth` is never averaged.

Run it where the demo is (`glat demo`), or anywhere with the folder of one:

    python examples/defocus.py orrery-room

It renders the demo's Dial with everything in focus and with both kinds of depth, and puts what is
behind the front gears out of focus twice: by `depth`, which holds one surface's depth in each pixel, and
by `depth-soft`, which holds their mean.  At the rim of something near, a mean of near and far is a
surface that is nowhere: it is blurred as if it stood there, and a sharp rim of the wrong focus remains.
The two pictures, and a part of each made larger, land beside the demo in `defocus.png`.
"""

from __future__ import annotations

import sys
from itertools import pairwise
from pathlib import Path

import numpy as np
from PIL import Image

import grandlattice as lattice

LAYERS = 24  # of equal blur, from far to near
LARGEST = 11.0  # pixels: the radius of a point at the far end
CELL = "evening/brass/all/Dial"


def disk(radius: float) -> np.ndarray:
    """A round kernel of sum 1, soft at its edge by a pixel."""
    reach = int(np.ceil(radius)) + 1
    y, x = np.mgrid[-reach : reach + 1, -reach : reach + 1]
    kernel = np.clip(radius + 0.5 - np.hypot(x, y), 0.0, 1.0)
    return kernel / kernel.sum()


def blurred(pixels: np.ndarray, radius: float) -> np.ndarray:
    """Every channel of (H, W, C) spread over disks, by Fourier transform; black beyond the borders."""
    kernel = disk(radius)
    shape = [n + kernel.shape[0] for n in pixels.shape[:2]]
    spectrum = np.fft.rfft2(pixels, shape, axes=(0, 1)) * np.fft.rfft2(kernel, shape)[..., None]
    cut = kernel.shape[0] // 2
    return np.fft.irfft2(spectrum, shape, axes=(0, 1))[cut:, cut:][: pixels.shape[0], : pixels.shape[1]]


def defocused(beauty: np.ndarray, depth: np.ndarray, focus: float) -> np.ndarray:
    """A picture (H, W, 3) out of focus by the distance of its depth (H, W) from `focus`.

    Layer after layer from the back is blurred together with its coverage and laid over those behind.
    """
    far = np.quantile(depth[np.isfinite(depth)], 0.98)
    blur = np.clip(np.abs(1.0 / focus - 1.0 / depth) / abs(1.0 / focus - 1.0 / far), 0.0, 1.0) * LARGEST
    behind = np.where(depth > focus, 1.0, -1.0) * blur
    edges = np.linspace(behind.max() + 1e-3, behind.min() - 1e-3, LAYERS + 1)
    result = np.zeros((*depth.shape, 4))
    for back, front in pairwise(edges):
        here = ((behind <= back) & (behind > front)).astype(float)
        layer = np.concatenate([beauty * here[..., None], here[..., None]], axis=2)
        layer = blurred(layer, max(abs(back + front) / 2.0, 0.3))
        result = layer + result * (1.0 - np.clip(layer[..., 3:], 0.0, 1.0))
    return result[..., :3] / np.maximum(result[..., 3:], 1e-3)


def shown(light: np.ndarray) -> Image.Image:
    curve = np.clip(light / (1.0 + 0.35 * light), 0.0, 1.0) ** (1 / 2.2)
    return Image.fromarray((curve * 255).astype(np.uint8))


def main() -> None:
    folder = Path(sys.argv[1] if sys.argv[1:] else "orrery-room")
    plan = lattice.open_plan(folder / "orrery.lattice.yaml").override(
        size="640x640", scale="100%", samples=64, noise=None, denoise=True, fstop="off", format=["exr"],
        passes=["beauty", "depth", "depth-soft"], output="defocus/{camera}-{light}.exr",
    )  # fmt: skip
    run = plan.run(at=[CELL])
    beauty = run.picture(CELL)[..., :3].astype(float) * 2.0 ** plan.cells[CELL].settings.exposure
    depths = {name: run.picture(CELL, pass_name=name).astype(float) for name in ("depth", "depth-soft")}
    focus = float(np.quantile(depths["depth"], 0.12))
    sheet = Image.new("RGB", (1280, 800), (24, 26, 30))
    for k, depth in enumerate(depths.values()):
        picture = shown(defocused(beauty, depth, focus))
        part = picture.crop((385, 14, 501, 94)).resize((464, 320), Image.Resampling.NEAREST)
        sheet.paste(picture.resize((440, 440)), (100 + 640 * k, 20))
        sheet.paste(part, (87 + 640 * k, 474))
    sheet.save(folder / "defocus.png")
    print(f"{folder / 'defocus.png'}: left by depth, right by depth-soft")


if __name__ == "__main__":
    main()
