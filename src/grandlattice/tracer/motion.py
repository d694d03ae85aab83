"""Where what the camera sees goes until the next frame, in pixels."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
from numpy.typing import NDArray

from grandlattice.scene_records import Snapshot
from grandlattice.tracer.batches import NOTHING
from grandlattice.tracer.kernel_memory import Pinned
from grandlattice.tracer.lens import Sensor, make_lens, project


def motion(
    film: Mapping[str, NDArray], lens: Pinned, snapshot: Snapshot, sensor: Sensor
) -> NDArray[np.float32]:
    """Pixels from this frame to the next, of the nearest sample of each pixel.

    Parameters
    ----------
    film : sums with `depth` (H, W), `position` (H, W, 3) and `front` (H, W), the item in front of each
        pixel and 1, 0 where there is none.

    Returns
    -------
    (H, W, 2) float32, right and down; 0 where nothing is, and everywhere where the snapshot does not
    say what comes `later`.  Items move as a whole; what bends or has copies that move on their own goes
    with its item.
    """
    found = np.zeros((*film["front"].shape, 2), np.float32)
    seen = (film["front"] > 0) & (film["depth"] < NOTHING)
    if snapshot.later is None or not seen.any():
        return found
    steps = np.array([
        np.linalg.pinv(item.to_world) @ place
        for item, place in zip(snapshot.items, snapshot.later.places, strict=True)
    ])  # fmt: skip
    here = film["position"][seen].astype(np.float64)
    step = steps[film["front"][seen] - 1]
    there = np.einsum("pi,pij->pj", here, step[:, :3, :3]) + step[:, 3, :3]
    after = make_lens(Sensor(snapshot.later.camera, sensor.width, sensor.height, sensor.crop, None,
                             sensor.projection, sensor.eye_distance))  # fmt: skip
    moved = project(after, there) - project(lens, here)
    if lens.record["around"]:
        wide = lens.record["width"]
        moved[:, 0] = (moved[:, 0] + 0.5 * wide) % wide - 0.5 * wide
    found[seen] = moved
    return found
