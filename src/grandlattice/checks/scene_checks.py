"""What can be wrong with the scene, and with edits laid over it."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from grandlattice._support.filesystem import is_file
from grandlattice._support.readable import many
from grandlattice.checks.finding import ERROR, NOTE, WARNING, Checked, Finding, from_error
from grandlattice.checks.swap_checks import check_swaps
from grandlattice.errors import LatticeError
from grandlattice.plan import Cell, PlacedEdit
from grandlattice.plan.schema import OwnLight
from grandlattice.scene_records import Snapshot, TextureInput
from grandlattice.stage import (
    ENDINGS,
    CellStage,
    Change,
    Explainer,
    Opinion,
    Snapshotter,
    asks_for,
    named,
    omission_cure,
    rivals,
    survey_scene,
)


def check_scene(checked: Checked) -> Iterator[Finding]:
    """Missing files, compositions that failed, and what the tracer draws otherwise or not."""
    survey = survey_scene(checked.scene, bounds=False)
    for asset in survey.assets:
        if not asset.found:
            yield Finding(
                WARNING if checked.allow_missing else ERROR,
                f"The file {asset.file} is missing.",
                asset.prim,
                "put it back; or render "
                + ("without it" if asset.file.lower().endswith(ENDINGS) else "its fallback colour")
                + " with --allow-missing",
                file=asset.file,
            )
    missing = [asset.file for asset in survey.assets if not asset.found]
    for problem in survey.problems:
        if any(f"@{file}@" in problem for file in missing):
            continue  # said above
        yield Finding(WARNING, f"Not all of the scene is sound: {problem[:200]}")
    for what, prims in survey.omitted.items():
        yield Finding(WARNING, f"{what}: {many(len(prims), 'prim')}.", named(prims), omission_cure(what))
    for path, reason in survey.unknown_materials.items():
        yield Finding(
            WARNING,
            f"The material is drawn neutral grey: its surface is {reason}, not UsdPreviewSurface.",
            path,
        )


def check_cells(checked: Checked) -> Iterator[Finding]:
    """Compose each different set of edits once: do they hold, what do they change, is there a
    camera that sees something, is there light?"""
    groups: dict[tuple[object, ...], list[Cell]] = {}
    for cell in checked.cells:
        edits = tuple(id(placed.edit) for placed in cell.edits)  # one object for each line of the plan
        groups.setdefault((edits, cell.settings.camera), []).append(cell)
    try:
        stage = CellStage(checked.scene, checked.model, checked.folder)
        explainer = Explainer(checked.scene, checked.model, checked.folder)
    except LatticeError as problem:
        yield from_error(problem)
        return
    snapshots = Snapshotter(stage)
    known: set[tuple[object, ...]] = set()
    edits_seen, own_passes, textures = _Edits(), _OwnPasses(), _Textures()
    for key, cells in groups.items():
        cell = cells[0]
        if cell.settings.camera is None:
            yield Finding(
                ERROR, "There is no camera to render with.", "",
                "set camera: under defaults, or add an axis with each: cameras",
            )  # fmt: skip
            continue
        try:
            stage.switch(cell.edits)
            frame, levels = cell.settings.frames[0], cell.settings.subdivision
            snapshot = snapshots.take(cell.settings.camera, frame, levels)
        except LatticeError as problem:
            named = cell.origins.get("camera")
            if problem.place is not None and problem.place.prim == cell.settings.camera and named:
                problem.place = named  # the line that names a camera says more than the name again
            yield from_error(problem)
            continue
        for item in snapshot.items:
            for flaw in item.geometry.flaws:
                if (item.geometry.path, flaw) not in known:
                    known.add((item.geometry.path, flaw))
                    yield Finding(
                        WARNING, f"The mesh is broken: {flaw}.", item.geometry.path,
                        "mend it in the program the scene comes from; the rest is drawn",
                    )  # fmt: skip
        for prim, name in snapshots.unmapped():
            if (prim, "unmapped", name) not in known:
                known.add((prim, "unmapped", name))
                yield Finding(
                    WARNING, f"The material reads texture coordinates {name}, which the mesh lacks.", prim,
                    "give it some, or name in the material those it has", addresses_of(cells),
                )  # fmt: skip
        textures.look(snapshot, addresses_of(cells))
        yield from _check_motion(checked, cells, snapshots.anything_moves(cell.settings.camera))
        yield from own_passes.look(checked, cell, stage, snapshot)
        for prim, what, place in stage.notes:
            yield Finding(NOTE, f"{prim}: {what}.", str(place))
        if ("edits", key[0]) not in known:
            known.add(("edits", key[0]))
            edits_seen.look(cell, explainer)
        addresses = tuple(c.address for c in cells)
        yield from _check_light(cell, snapshot, addresses)
        if not snapshot.items:
            yield Finding(WARNING, "Nothing is visible.", "", "show something, or drop the cell", addresses)
        else:
            yield from _check_camera(checked, cell, snapshot, addresses, known)
            yield from check_swaps(checked, cell, stage, snapshot)
        if checked.facilities.glance is not None:
            yield from _check_glance(checked.facilities.glance, cell, addresses)
    yield from edits_seen.findings(whole=checked.total >= len(checked.lattice))
    yield from own_passes.findings()
    yield from textures.findings(checked)


def _check_motion(checked: Checked, cells: Sequence[Cell], moves: bool) -> Iterator[Finding]:
    """One frame of a scene that moves, and many of one that does not."""
    known = checked.scene.frames
    for cell in cells:
        count = len(cell.settings.frames)
        if moves and count == 1 and known is not None and known[1] > known[0]:
            yield Finding(
                NOTE,
                f"The scene moves, over frames {known[0]}–{known[1]}, and one frame alone is rendered.", "",
                "frames: scene renders all of them", (cell.address,),
            )  # fmt: skip
        elif not moves and count > 1:
            yield Finding(
                WARNING, f"Nothing moves, and {count:,} frames are rendered that look the same.",
                str(cell.origins.get("frames", "")), "render one of them", (cell.address,),
            )  # fmt: skip


def addresses_of(cells: Sequence[Cell]) -> tuple[str, ...]:
    return tuple(cell.address for cell in cells)


class _Textures:
    """Images that cannot be read, wherever a material or a light asks for one."""

    def __init__(self) -> None:
        self._asked: dict[str, tuple[str, list[str]]] = {}  # file → a prim that asks, and the cells

    def look(self, snapshot: Snapshot, cells: Sequence[str]) -> None:
        asked = [
            given.texture
            for material in snapshot.materials
            for given in material.inputs.values()
            if isinstance(given, TextureInput)
        ]
        asked += [light.texture for light in snapshot.lights if light.texture is not None]
        for texture in asked:
            for file in [file for _, file in texture.tiles] or [texture.file]:
                self._asked.setdefault(file, (texture.prim, []))[1].extend(cells)

    def findings(self, checked: Checked) -> Iterator[Finding]:
        inspect = checked.facilities.inspect
        for file, (prim, cells) in self._asked.items():
            # What the scene as it stands asks for is said of the scene, what an edit names of the edit.
            gone = file and "[" not in file and not is_file(file)
            if gone and not asks_for(checked.scene, prim, file):
                yield Finding(
                    WARNING if checked.allow_missing else ERROR, f"The file {file} is missing.", prim,
                    "put it back; or render its fallback colour with --allow-missing",
                    tuple(dict.fromkeys(cells)), file,
                )  # fmt: skip
        files = [file for file in self._asked if file and "[" not in file and is_file(file)]
        for file, wrong in (inspect(files) if inspect is not None else {}).items():
            prim, cells = self._asked[file]
            folder = checked.scene.file.resolve().parent
            path = Path(file)
            shown = path.relative_to(folder) if path.is_relative_to(folder) else path
            yield Finding(
                WARNING if checked.allow_missing else ERROR, f"The image {shown} {wrong}.",
                prim, "put a whole one there; or render its fallback colour with --allow-missing",
                tuple(dict.fromkeys(cells)),
            )  # fmt: skip


class _OwnPasses:
    """Passes of the plan's own whose selection means nothing, or has no light in any cell."""

    def __init__(self) -> None:
        self._dark: dict[str, bool] = {}
        self._wrong: set[str] = set()

    def look(self, checked: Checked, cell: Cell, stage: CellStage, snapshot: Snapshot) -> Iterator[Finding]:
        for name in cell.settings.passes:
            own = checked.model.own_passes.get(name)
            if not isinstance(own, OwnLight) or name in self._wrong:
                continue
            try:
                lights = stage.lights_of(name, own, snapshot)
            except LatticeError as problem:
                self._wrong.add(name)
                yield from_error(problem)
                continue
            self._dark[name] = self._dark.get(name, True) and not lights

    def findings(self) -> Iterator[Finding]:
        for name, dark in self._dark.items():
            if dark and name not in self._wrong:
                yield Finding(
                    WARNING, f"The pass {name} will be black: nothing it selects shines or glows.",
                    f"own-passes: {name}", "select lights or shapes that glow, or what stands above them",
                )  # fmt: skip


class _Edits:
    """Edits that two speakers make of one value, and edits that change nothing in any cell.

    One entry of an axis may say what stands already, where others say otherwise of the same.
    """

    def __init__(self) -> None:
        self._idle: dict[int, tuple[PlacedEdit, str]] = {}
        self._useful: set[object] = set()
        self._rivals: dict[tuple[str, str], tuple[Change, Opinion, Opinion]] = {}

    def look(self, cell: Cell, explainer: Explainer) -> None:
        told = explainer.explain(cell)
        for change, winner, loser in rivals(told):
            self._rivals.setdefault((winner.place, loser.place), (change, winner, loser))
        idle = {id(p.edit): (p, why) for p, why in explainer.idle(told, cell)}
        useful = [p for p in cell.edits if id(p.edit) not in idle]
        self._useful |= {id(p.edit) for p in useful} | {_theme(p) for p in useful}
        self._idle.update(idle)

    def findings(self, whole: bool) -> Iterator[Finding]:
        """What was found; of edits that change nothing only where the `whole` plan was looked at."""
        for change, winner, loser in self._rivals.values():
            yield Finding(
                NOTE,
                f"Both {loser.source} and {winner.source} set {change.name} of {change.prim}; "
                f"where they meet, {winner.source} wins.",
                winner.place,
            )
        for key, (placed, why) in self._idle.items() if whole else ():
            if key not in self._useful and _theme(placed) not in self._useful:
                yield Finding(
                    WARNING, f"The {placed.edit.verb} of {placed.source} changes nothing: {why}.",
                    str(placed.place), "remove it, or look at the edits around it with glat explain",
                )  # fmt: skip


def _theme(placed: PlacedEdit) -> tuple[str, str, str]:
    """What an edit is about: the axis, the verb, and what it is done to."""
    return placed.source.partition("=")[0], placed.edit.verb, repr(getattr(placed.edit.body, "on", ""))


def _check_light(cell: Cell, snapshot: Snapshot, addresses: tuple[str, ...]) -> Iterator[Finding]:
    glowing = any("emissiveColor" in m.inputs for m in snapshot.materials)
    if not snapshot.lights and not glowing:
        yield Finding(
            WARNING, "Every light is off, so the picture will be black.", "",
            "show or add a light", addresses,
        )  # fmt: skip


def _check_camera(
    checked: Checked, cell: Cell, snapshot: Snapshot, addresses: tuple[str, ...],
    known: set[tuple[object, ...]],
) -> Iterator[Finding]:  # fmt: skip
    """Its aspect, and what some hundred rays through it meet."""
    camera = cell.settings.camera
    shown = cell.settings.size.width / cell.settings.size.height
    framed = snapshot.camera.aperture[0] / (snapshot.camera.aperture[1] or 1.0)
    if framed > 0.0 and abs(shown / framed - 1.0) > 0.02 and ("aspect", camera) not in known:
        known.add(("aspect", camera))
        more = "more" if cell.settings.fit == "expand" else "less"
        yield Finding(
            NOTE,
            f"{camera} frames {framed:.2f}:1 and its pictures are {shown:.2f}:1, "
            f"so they show {more} than the camera frames.",
            str(cell.origins.get("size", "")),
            "give the camera a size of its own aspect under with:",
        )
    if checked.facilities.look is None:
        return
    try:
        look = checked.facilities.look(snapshot)
    except LatticeError as problem:
        yield from_error(problem)
        return
    if look.seen == 0.0:
        yield Finding(
            WARNING, f"{camera} sees none of the scene.", camera or "",
            "turn the camera, or leave the cell out with drop", addresses,
        )  # fmt: skip
    if look.inside:
        yield Finding(
            WARNING,
            f"{camera} stands inside an object.",
            camera or "",
            "move the camera out of it",
            addresses,
        )
    for share, side in ((look.clipped_near, "near"), (look.clipped_far, "far")):
        if share > 0.02 and (side, camera) not in known:
            known.add((side, camera))
            yield Finding(
                WARNING,
                f"The {side} clipping plane of {camera} cuts away {share:.0%} of what it would see.",
                camera or "", f"move the plane with set: {{on: {camera}, clippingRange: [0.1, 100000]}}",
                addresses,
            )  # fmt: skip


def is_black(luminance: NDArray[np.float64]) -> bool:
    """Whether a picture shows nothing, 1 being white; (H, W)."""
    return bool(np.quantile(luminance, 0.99) < 0.005)


def is_burnt_out(luminance: NDArray[np.float64]) -> bool:
    """Whether half of a picture is two stops above white and more; (H, W)."""
    return bool(np.median(luminance) > 4.0)


def _check_glance(
    glance: Callable[[Cell], NDArray[np.float64]], cell: Cell, addresses: tuple[str, ...]
) -> Iterator[Finding]:
    try:
        luminance = glance(cell)
    except LatticeError as problem:
        yield from_error(problem)
        return
    middle = float(np.median(luminance))
    if is_black(luminance):
        yield Finding(WARNING, "The picture is black.", "", "light it, or raise its exposure", addresses)
    elif is_burnt_out(luminance):
        yield Finding(
            WARNING,
            f"Half of the picture is burnt out, {math.log2(middle):.0f} stops above white and more.",
            "", "lower its exposure, or its lights", addresses,
        )  # fmt: skip


def check_frames(checked: Checked) -> Iterator[Finding]:
    """Frames outside the range the scene names."""
    known = checked.scene.frames
    if known is None:
        return
    for cell in checked.cells:
        outside = [f for f in cell.settings.frames if not known[0] <= f <= known[1]]
        if outside:
            yield Finding(
                WARNING,
                f"Frame {outside[0]} lies outside the scene's frames {known[0]}–{known[1]}.",
                str(cell.origins.get("frames", "")), "", (cell.address,),
            )  # fmt: skip
