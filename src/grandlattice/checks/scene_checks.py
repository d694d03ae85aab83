"""What can be wrong with the scene, and with edits laid over it."""

from __future__ import annotations

from collections.abc import Iterator

from grandlattice.checks.finding import ERROR, NOTE, WARNING, Checked, Finding, from_error
from grandlattice.errors import LatticeError
from grandlattice.plan import Cell
from grandlattice.stage import CellStage, Snapshotter, survey_scene


def check_scene(checked: Checked) -> Iterator[Finding]:
    """Missing files, compositions that failed, and what the tracer draws otherwise or not."""
    survey = survey_scene(checked.scene)
    for asset in survey.assets:
        if not asset.found:
            yield Finding(
                WARNING if checked.allow_missing else ERROR,
                f"The file {asset.file} is missing.",
                asset.prim,
                "put it back; or render its fallback colour with --allow-missing",
            )
    for problem in survey.problems:
        yield Finding(WARNING, f"USD could not compose all of the scene: {problem[:200]}")
    for kind, count in survey.undrawn.items():
        yield Finding(
            WARNING,
            f"{count} of type {kind} will not be seen: the tracer draws meshes.",
            cure="turn them into meshes in the program the scene comes from",
        )
    for path, reason in survey.unknown_materials.items():
        yield Finding(
            WARNING,
            f"The material is drawn neutral grey: its surface is {reason}, not UsdPreviewSurface.",
            path,
        )
    for light in survey.lights:
        if not light.known:
            yield Finding(WARNING, f"The light is left out: the tracer knows no {light.kind}.", light.path)


def check_cells(checked: Checked) -> Iterator[Finding]:
    """Compose each different set of edits once: do they hold, is there a camera, is there light?"""
    groups: dict[tuple[object, ...], list[Cell]] = {}
    for cell in checked.cells:
        edits = tuple(id(placed.edit) for placed in cell.edits)  # one object for each line of the plan
        groups.setdefault((edits, cell.settings.camera), []).append(cell)
    try:
        stage = CellStage(checked.scene, checked.model, checked.folder)
    except LatticeError as problem:
        yield from_error(problem)
        return
    snapshots = Snapshotter(stage)
    known_assets: set[str] = set()
    for cells in groups.values():
        cell = cells[0]
        addresses = tuple(c.address for c in cells)
        if cell.settings.camera is None:
            yield Finding(
                ERROR, "There is no camera to render with.", "",
                "set camera: under defaults, or add an axis with each: cameras",
            )  # fmt: skip
            continue
        try:
            stage.switch(cell.edits)
            snapshot = snapshots.take(cell.settings.camera, cell.settings.frames[0])
        except LatticeError as problem:
            yield from_error(problem)
            continue
        for prim, what, place in stage.notes:
            yield Finding(NOTE, f"{prim}: {what}.", str(place))
        glowing = any("emissiveColor" in m.inputs for m in snapshot.materials)
        if not snapshot.lights and not glowing:
            yield Finding(
                WARNING, "Every light is off, so the picture will be black.", addresses[0],
                "show or add a light", addresses,
            )  # fmt: skip
        if not snapshot.items:
            yield Finding(WARNING, "Nothing is visible.", addresses[0], "", addresses)
        shown = cell.settings.size.width / cell.settings.size.height
        framed = snapshot.camera.aperture[0] / (snapshot.camera.aperture[1] or 1.0)
        if abs(shown / framed - 1.0) > 0.02 and cell.settings.camera not in known_assets:
            known_assets.add(cell.settings.camera)
            yield Finding(
                NOTE,
                f"{cell.settings.camera} frames {framed:.2f}:1 and its pictures are {shown:.2f}:1, "
                "so they show more than the camera frames.",
                str(cell.origins.get("size", "")),
                "give the camera a size of its own aspect under with:",
            )


def check_frames(checked: Checked) -> Iterator[Finding]:
    """Frames outside the range the scene names."""
    known = checked.scene.frames
    if known is None:
        return
    said = set()
    for cell in checked.cells:
        outside = [f for f in cell.settings.frames if not known[0] <= f <= known[1]]
        key = (str(cell.origins.get("frames", "")), tuple(outside[:1]))
        if outside and key not in said:
            said.add(key)
            yield Finding(
                WARNING,
                f"Frame {outside[0]} lies outside the scene's frames {known[0]}–{known[1]}.",
                key[0], "", (cell.address,),
            )  # fmt: skip
