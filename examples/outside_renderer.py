"""A renderer of its own, for the example beside it: reads a USD file, draws it in clay, writes EXR.

    python outside_renderer.py SCENE.usda OUTPUT.exr --camera /Room/Cam --size 640x360 --frames 1-4

It knows nothing of Grand Lattice; any program with such a command line can stand in its place.
Where OUTPUT has ``####`` the number of the frame takes its place.  ``--misbehave`` makes it do what
renderers do on bad nights, so that one can see what becomes of the run.
"""

from __future__ import annotations

import argparse
import os
import signal
import sys
import time
from pathlib import Path

import numpy as np
import OpenImageIO as oiio
from embreex.mesh_construction import TriangleMesh
from embreex.rtcore_scene import EmbreeScene
from pxr import Gf, Usd, UsdGeom


def triangles(stage: Usd.Stage, frame: float) -> np.ndarray:
    """Every visible mesh as (N, 3, 3) float32 points of triangles, in world space."""
    found = [np.zeros((0, 3, 3), np.float32)]
    cache = UsdGeom.XformCache(frame)
    for prim in stage.Traverse(Usd.TraverseInstanceProxies()):
        mesh = UsdGeom.Mesh(prim)
        if not mesh or UsdGeom.Imageable(prim).ComputeVisibility(frame) == "invisible":
            continue
        points = np.array(mesh.GetPointsAttr().Get(frame) or [], np.float64).reshape(-1, 3)
        counts = np.array(mesh.GetFaceVertexCountsAttr().Get(frame) or [], np.int64)
        corners = np.array(mesh.GetFaceVertexIndicesAttr().Get(frame) or [], np.int64)
        if not len(points) or not len(corners):
            continue
        first = np.repeat(np.cumsum(counts) - counts, np.maximum(counts - 2, 0))
        fan = np.concatenate([np.arange(n - 2) for n in counts if n > 2])
        index = np.stack([corners[first], corners[first + fan + 1], corners[first + fan + 2]], 1)
        matrix = np.array(cache.GetLocalToWorldTransform(prim))
        world = points @ matrix[:3, :3] + matrix[3, :3]
        found.append(world[index].astype(np.float32))
    return np.concatenate(found)


def draw(stage: Usd.Stage, camera_path: str, width: int, height: int, frame: float) -> np.ndarray:
    """A picture in clay, (H, W, 5) float32: RGBA and depth; lit from the camera."""
    camera = UsdGeom.Camera(stage.GetPrimAtPath(camera_path)).GetCamera(frame)
    view = camera.frustum
    window = view.GetWindow()
    low, high = np.array(window.GetMin()), np.array(window.GetMax())
    wanted = width / height
    if (high[0] - low[0]) / (high[1] - low[1]) < wanted:  # show more, never less
        low[0], high[0] = np.array([-0.5, 0.5]) * (high[1] - low[1]) * wanted
    else:
        low[1], high[1] = np.array([-0.5, 0.5]) * (high[0] - low[0]) / wanted
    x = low[0] + (np.arange(width) + 0.5) / width * (high[0] - low[0])
    y = high[1] - (np.arange(height) + 0.5) / height * (high[1] - low[1])
    towards = np.stack(np.broadcast_arrays(x[None, :], y[:, None], -1.0), -1).reshape(-1, 3)
    towards /= np.linalg.norm(towards, axis=1, keepdims=True)
    matrix = np.array(Gf.Matrix4d(camera.transform))
    directions = (towards @ matrix[:3, :3]).astype(np.float32)
    origins = np.broadcast_to(matrix[3, :3].astype(np.float32), directions.shape).copy()
    corners = triangles(stage, frame)
    scene = EmbreeScene()
    TriangleMesh(scene, corners)
    hits = scene.run(origins, directions, output=1)
    hit = hits["primID"] >= 0
    shape = corners[np.where(hit, hits["primID"], 0)]
    normal = np.cross(shape[:, 1] - shape[:, 0], shape[:, 2] - shape[:, 0])
    normal /= np.maximum(np.linalg.norm(normal, axis=1, keepdims=True), 1e-12)
    facing = np.abs((normal * directions).sum(1)) * hit
    depth = np.where(hit, hits["tfar"] * -towards[:, 2], np.inf)
    clay = facing[:, None] * np.array([0.62, 0.58, 0.54])
    picture = np.concatenate([clay, hit[:, None].astype(float), depth[:, None]], 1)
    return picture.reshape(height, width, 5).astype(np.float32)


def write(path: Path, picture: np.ndarray, frame: int) -> None:
    height, width = picture.shape[:2]
    spec = oiio.ImageSpec(width, height, 5, oiio.FLOAT)
    spec.channelnames = ("R", "G", "B", "A", "Z")
    spec.attribute("frame", frame)
    out = oiio.ImageOutput.create(str(path))
    if out is None or not out.open(str(path), spec) or not out.write_image(picture):
        sys.exit(f"{path} cannot be written: {oiio.geterror()}")
    out.close()


def misbehave(how: str, path: Path) -> None:
    """What renderers do on bad nights; `half` comes after the picture is written."""
    if how == "crash":
        os.kill(os.getpid(), signal.SIGSEGV)
    elif how == "hang":
        time.sleep(3600)
    elif how == "lie":
        print("100 %  done, all is well")
        sys.exit(0)
    elif how == "busy":
        print("no licence is free")
        sys.exit(75)
    elif how == "fail":
        sys.exit("the scene is not to my taste")
    elif how == "half":
        path.write_bytes(path.read_bytes()[: path.stat().st_size // 2])


def frames_of(text: str) -> list[int]:
    parts = [part.split("-") for part in text.split(",")]
    return [n for part in parts for n in range(int(part[0]), int(part[-1]) + 1)]


def main() -> None:
    parser = argparse.ArgumentParser(description="Draws a USD file in clay.")
    parser.add_argument("scene")
    parser.add_argument("output")
    parser.add_argument("--camera", required=True)
    parser.add_argument("--size", default="640x360")
    parser.add_argument("--frames", default="1")
    parser.add_argument("--misbehave", choices=["crash", "hang", "half", "lie", "busy", "fail"])
    parser.add_argument("--once", type=Path, help="misbehave only while this file is not there")
    given = parser.parse_args()
    how = given.misbehave
    if how and given.once is not None:
        how = None if given.once.exists() else how
        given.once.touch()
    width, height = (int(n) for n in given.size.split("x"))
    frames = frames_of(given.frames)
    stage = Usd.Stage.Open(given.scene)
    for k, frame in enumerate(frames):
        path = Path(given.output.replace("####", f"{frame:04d}"))
        if how and how != "half":
            misbehave(how, path)
        write(path, draw(stage, given.camera, width, height, frame), frame)
        if how == "half":
            misbehave(how, path)
        print(f"{(k + 1) * 100 // len(frames)} %  frame {frame}", flush=True)


if __name__ == "__main__":
    main()
