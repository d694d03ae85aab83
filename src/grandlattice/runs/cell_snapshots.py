"""Snapshots of cells: the scene opened once, a cell's edits laid over it, read at a frame."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path

from grandlattice.errors import SceneError
from grandlattice.plan import CellSettings, PlacedEdit, PlanModel
from grandlattice.scene_records import Camera, Material, Snapshot
from grandlattice.stage import CellStage, Scene, Snapshotter


class CellSnapshots:
    """Takes snapshots of the cells of one plan, reading again only what differs from the last.

    Parameters
    ----------
    scene : opened.
    model, folder : the plan, and the folder its file names are relative to.
    """

    def __init__(self, scene: Scene, model: PlanModel, folder: Path) -> None:
        self.stage = CellStage(scene, model, folder)
        self._snapshots = Snapshotter(self.stage)

    def take(
        self,
        settings: CellSettings,
        edits: Sequence[PlacedEdit],
        frame: int,
        *,
        address: str = "the cell",
        later: bool = False,
        told: Callable[[Sequence[Material]], None] | None = None,
    ) -> Snapshot:
        """The scene with edits laid over it, at a frame, seen by the camera of the settings.

        Parameters
        ----------
        address : of the cell, for messages.
        later : also where everything is at the next frame, for the pass of motion.
        told : the materials as soon as they are known.

        Raises
        ------
        SceneError
            When there is no camera.
        EditError
            When an edit cannot be laid over this scene.
        """
        if settings.camera is None:
            raise SceneError(
                f"{address} has no camera.",
                cure="set camera: under defaults, or add an axis with each: cameras",
            )
        self.stage.switch(edits)
        shutter = None if settings.shutter is None else (-0.5 * settings.shutter, 0.5 * settings.shutter)
        snapshot = self._snapshots.take(
            settings.camera, frame, settings.subdivision, shutter, later or "motion" in settings.passes, told
        )
        return replace(snapshot, camera=_focused(snapshot.camera, settings, snapshot.metres_per_unit))

    def is_still(self, camera: str) -> bool:
        """Whether the last snapshot is the same at every frame."""
        return not self._snapshots.anything_moves(camera)


def _focused(camera: Camera, settings: CellSettings, metres_per_unit: float) -> Camera:
    """The camera with the cell's own f-number and distance in focus."""
    if settings.fstop is not None:
        radius = camera.focal_length / (2.0 * settings.fstop) if settings.fstop > 0 else 0.0
        camera = replace(camera, lens_radius=radius)
    if settings.focus is not None:
        camera = replace(camera, focus_distance=settings.focus.in_units(metres_per_unit))
    return camera
