"""Assets that a plan swaps in and that do not stand as the old one did: a wrong unit, axis or origin."""

from __future__ import annotations

import itertools
from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

from grandlattice.checks.finding import WARNING, Checked, Finding
from grandlattice.plan import Cell
from grandlattice.scene_records import Camera, Snapshot
from grandlattice.stage import CellStage, Swapped, swapped

_SUNK = 0.02  # of the old one's height
_LARGER = 2.0


def check_swaps(checked: Checked, cell: Cell, stage: CellStage, snapshot: Snapshot) -> Iterator[Finding]:
    """Whether what was swapped in is much larger or smaller than the old one, sunk below where that stood,
    or out of the picture where that was in it."""
    frame = cell.settings.frames[0]
    for each in swapped(checked.scene.stage, stage.stage, cell.edits, checked.model.select, frame):
        for what, cure in _amiss(each, snapshot.camera):
            place = str(each.place)
            yield Finding(WARNING, f"What is swapped in at {each.path} {what}.", place, cure, (cell.address,))


def _amiss(each: Swapped, camera: Camera) -> Iterator[tuple[str, str]]:
    """What is wrong with how an asset stands, and what to do."""
    before, after, up = each.before, each.after, each.up
    size, was = (float((box[1] - box[0]).max()) for box in (after, before))
    if size > _LARGER * was:
        yield f"is {size / was:.3g} times as large as what stood there", f"resize: {{on: {each.path}, by: …}}"
    elif was > _LARGER * size:
        times = was / max(size, 1e-30)
        yield f"is {times:.3g} times smaller than what stood there", f"resize: {{on: {each.path}, by: …}}"
    sunk = float(before[0, up] - after[0, up])
    if sunk > _SUNK * float(before[1, up] - before[0, up]):
        cure = f"move: {{on: {each.path}, {'xyz'[up]}: {sunk:.3g}}} raises it"
        yield f"reaches {sunk:.3g} units below where the old one stood", cure
    if is_in_frame(camera, before) and not is_in_frame(camera, after):
        yield f"is out of the frame of {camera.path}", "look at its origin and its unit, or move it"


def is_in_frame(camera: Camera, box: NDArray[np.float64]) -> bool:
    """Whether something of a box, least and greatest corner (2, 3), may be in what a camera frames."""
    corners = np.array(list(itertools.product(*box.T)))
    x, y, z = (np.c_[corners, np.ones(8)] @ np.linalg.inv(np.asarray(camera.to_world, float)))[:, :3].T
    ahead = np.ones(8) if camera.orthographic else -z
    scale = 1.0 if camera.orthographic else camera.focal_length
    sides = []
    for place, aperture, offset in zip((x, y), camera.aperture, camera.offset, strict=True):
        sides += [
            scale * place - (offset - aperture / 2) * ahead,
            (offset + aperture / 2) * ahead - scale * place,
        ]
    return not any((side < 0.0).all() for side in (*sides, -z))
