"""A look through a camera with a few hundred rays: what it can be told without a picture."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from embreex.mesh_construction import TriangleMesh
from embreex.rtcore_scene import EmbreeScene

from grandlattice.scene_records import Camera, Item, Snapshot
from grandlattice.tracer.lens import Sensor, make_lens

_COLUMNS, _ROWS = 24, 16
_MOST_TRIANGLES = 500_000  # of one item that is looked at


@dataclass(frozen=True)
class CameraLook:
    """What the rays of a camera meet.

    Attributes
    ----------
    seen : share of rays that meet something, 0..1.
    inside : whether the camera seems to stand inside something closed.
    clipped_near, clipped_far : share of the rays that meet something whose first meeting lies
        before or beyond the clipping planes.
    """

    seen: float
    inside: bool
    clipped_near: float
    clipped_far: float


class Looker:
    """Looks through cameras, keeping what it built while the shapes stay the same."""

    def __init__(self) -> None:
        self._shapes: object = None
        self._held: list[Item] = []  # so that no other shape can come by their identity
        self._triangles = np.zeros((0, 3, 3), np.float32)
        self._scene: EmbreeScene | None = None
        self._known: dict[str, CameraLook] = {}

    def __call__(self, snapshot: Snapshot) -> CameraLook:
        """Cast a grid of rays through a snapshot's camera.

        Raises
        ------
        TracerError
            For a camera without a picture.
        """
        self._build([item for item in snapshot.items if item.seen and len(item.geometry.triangles)])
        if self._scene is None:
            return CameraLook(0.0, False, 0.0, 0.0)
        camera = f"{snapshot.camera.path} {snapshot.camera.to_world.tobytes()!r} {snapshot.camera.clipping}"
        if camera not in self._known:
            self._known[camera] = self._look(snapshot.camera)
        return self._known[camera]

    def _build(self, items: list[Item]) -> None:
        shapes = tuple((id(item.geometry), item.placements.tobytes()) for item in items)
        if shapes == self._shapes:
            return
        self._shapes, self._held, self._known, self._scene = shapes, items, {}, None
        if items:
            self._triangles = np.concatenate([_world(item) for item in items]).astype(np.float32)
            self._scene = EmbreeScene()
            TriangleMesh(self._scene, self._triangles)

    def _look(self, camera: Camera) -> CameraLook:
        lens = make_lens(Sensor(camera, _COLUMNS, _ROWS)).record
        axes = lens["axes"].reshape(3, 3)
        x, y = np.meshgrid(np.arange(_COLUMNS) + 0.5, np.arange(_ROWS) + 0.5)
        across = (lens["left"] + x * lens["pixel"]).ravel()
        upward = (lens["top"] - y * lens["pixel"]).ravel()
        film = across[:, None] * axes[0] + upward[:, None] * axes[1]
        if camera.orthographic:
            origins, directions = lens["position"] + film, np.broadcast_to(-axes[2], film.shape)
        else:
            origins, directions = np.broadcast_to(lens["position"], film.shape), film - axes[2]
        # Directions have length 1 along the view axis, so distances are depths.
        found = self._scene.run(  # type: ignore[union-attr]
            np.ascontiguousarray(origins, np.float32), np.ascontiguousarray(directions, np.float32), output=1
        )
        hit = found["primID"] >= 0
        if not hit.any():
            return CameraLook(0.0, False, 0.0, 0.0)
        depth = found["tfar"][hit]
        chosen = self._triangles[found["primID"][hit]]
        normals = np.cross(chosen[:, 1] - chosen[:, 0], chosen[:, 2] - chosen[:, 0])
        behind = (normals * directions[hit]).sum(1) > 0
        near, far = camera.clipping
        corners = self._triangles.reshape(-1, 3)
        extent = np.linalg.norm(corners.max(0) - corners.min(0))
        inside = hit.mean() > 0.9 and behind.mean() > 0.9 and np.median(depth) < 0.05 * extent
        return CameraLook(
            float(hit.mean()), bool(inside), float((depth < near).mean()), float((depth > far).mean())
        )


def _world(item: Item) -> np.ndarray:
    """The triangles of an item in world space, (T, 3, 3)."""
    matrices = _sparse(item.placements, len(item.geometry.triangles))
    points = item.geometry.points @ matrices[:, :3, :3] + matrices[:, 3:, :3]
    corners = points[:, item.geometry.triangles]
    mirrored = np.linalg.det(matrices[:, :3, :3]) < 0
    corners[mirrored] = corners[mirrored][:, :, ::-1]
    return corners.reshape(-1, 3, 3)


def _sparse(placements: np.ndarray, triangles: int) -> np.ndarray:
    """Some placements for all, where there are many: enough for a look."""
    most = max(1, _MOST_TRIANGLES // max(triangles, 1))
    return placements[:: -(-len(placements) // most)]
