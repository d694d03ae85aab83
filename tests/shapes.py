"""Small snapshots and scenes the tests are built of."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from pxr import Gf, Sdf, Usd, UsdGeom, UsdLux, UsdShade

from grandlattice.scene_records import Camera, Geometry, Item, Light, Material, Snapshot
from grandlattice.tracer import Film, Sensor, Tracer, TraceSettings

MATT = {"useSpecularWorkflow": (1.0,), "specularColor": (0.0, 0.0, 0.0)}


def geometry(points, triangles, normals=None, uvs=None) -> Geometry:
    points = np.asarray(points, np.float32)
    triangles = np.asarray(triangles, np.int32)
    if normals is None:
        p = points[triangles]
        flat = np.cross(p[:, 1] - p[:, 0], p[:, 2] - p[:, 0])
        normals = np.repeat((flat / np.linalg.norm(flat, axis=1, keepdims=True))[:, None], 3, axis=1)
    uvs = np.zeros((len(triangles), 3, 2)) if uvs is None else uvs
    return Geometry(
        "/Shape", points, triangles, np.asarray(normals, np.float32), np.asarray(uvs, np.float32),
        np.zeros(len(triangles), np.int32),
    )  # fmt: skip


def sphere(columns: int = 96) -> Geometry:
    """A unit sphere about the origin."""
    theta, phi = np.linspace(0, np.pi, columns // 2 + 1), np.linspace(0, 2 * np.pi, columns + 1)
    t, p = np.meshgrid(theta, phi, indexing="ij")
    points = np.stack([np.sin(t) * np.cos(p), np.cos(t), np.sin(t) * np.sin(p)], -1).reshape(-1, 3)
    i, j = (np.ravel(a) for a in np.meshgrid(np.arange(columns // 2), np.arange(columns), indexing="ij"))
    a, b = i * (columns + 1) + j, (i + 1) * (columns + 1) + j
    triangles = np.stack([np.stack([a, a + 1, b + 1], 1), np.stack([a, b + 1, b], 1)], 1).reshape(-1, 3)
    return geometry(points, triangles, points[triangles])


def plane(half: float = 50.0) -> Geometry:
    """A square in y = 0 facing up; texture coordinates 0..1."""
    points = [(-half, 0, half), (half, 0, half), (half, 0, -half), (-half, 0, -half)]
    corners = np.array([(0, 0), (1, 0), (1, 1), (0, 1)], float)
    triangles = [(0, 1, 2), (0, 2, 3)]
    return geometry(points, triangles, uvs=corners[np.array(triangles)])


def looking(eye, target, up=(0, 1, 0)) -> np.ndarray:
    """Camera to world, for row vectors."""
    view = Gf.Matrix4d().SetLookAt(Gf.Vec3d(*eye), Gf.Vec3d(*target), Gf.Vec3d(*up))
    return np.array(view.GetInverse())


def moved(x=0.0, y=0.0, z=0.0, turn_x=0.0) -> np.ndarray:
    turn = Gf.Matrix4d().SetRotate(Gf.Rotation(Gf.Vec3d.XAxis(), turn_x))
    return np.array(turn * Gf.Matrix4d().SetTranslate(Gf.Vec3d(x, y, z)))


def camera(eye=(0, 0, 5), target=(0, 0, 0), aperture=(1.0, 1.0), focal_length=1.8, **other) -> Camera:
    up = (0, 0, -1) if eye[0] == target[0] and eye[2] == target[2] else (0, 1, 0)
    return Camera("/Camera", looking(eye, target, up), aperture, focal_length=focal_length, **other)


def trace(
    geometries, lights, view, size=(32, 32), samples=64, material=None, passes=("beauty",),
    threads=2, images=None, **settings,
) -> Film:  # fmt: skip
    """Trace geometries that share one material."""
    items = tuple(g if isinstance(g, Item) else Item(g, np.eye(4), (0,)) for g in geometries)
    material = material or Material("/Matt", {**MATT, "diffuseColor": (0.5, 0.5, 0.5)})
    materials = material if isinstance(material, tuple) else (material,)
    snapshot = Snapshot(items, materials, tuple(lights), view)
    sensor = Sensor(view, *size)
    return Tracer(threads).trace(
        snapshot, images or {}, sensor, TraceSettings(samples=samples, **settings), passes
    )


def dome(radiance=1.0) -> Light:
    return Light("/Sky", "dome", np.eye(4), (radiance,) * 3)


def room_scene(file: Path, *, texture: str | None = "grid.png", up: str = "Y") -> Path:
    """A small USD scene: two balls and a floor below /World, three lights, two cameras, variants."""
    if texture is not None:
        from PIL import Image

        grid = np.indices((8, 8)).sum(0) % 2 * 255
        Image.fromarray(np.stack([grid, 255 - grid, grid], -1).astype(np.uint8)).save(
            file.parent / "grid.png"
        )
    stage = Usd.Stage.CreateNew(str(file))
    UsdGeom.SetStageUpAxis(stage, up)
    UsdGeom.SetStageMetersPerUnit(stage, 0.01)
    stage.SetStartTimeCode(1)
    stage.SetEndTimeCode(24)
    world = UsdGeom.Xform.Define(stage, "/World")
    stage.SetDefaultPrim(world.GetPrim())
    red = make_material(stage, "/World/Looks/Red", diffuseColor=(0.7, 0.1, 0.1), roughness=0.4)
    floor_look = make_material(stage, "/World/Looks/Floor", diffuseColor=texture or (0.4, 0.4, 0.4))
    ball = sphere(24)
    UsdGeom.Xform.Define(stage, "/World/Toys")
    for name, x in (("BallA", -1.5), ("BallB", 1.5)):
        mesh = write_geometry(stage, f"/World/Toys/{name}", ball)
        mesh.AddTranslateOp().Set(Gf.Vec3d(x, 1, 0))
        UsdShade.MaterialBindingAPI.Apply(mesh.GetPrim()).Bind(red)
    turning = stage.GetPrimAtPath("/World/Toys/BallB")
    turn = UsdGeom.Xformable(turning).AddRotateYOp()
    turn.Set(0.0, 1)
    turn.Set(90.0, 25)
    floor = write_geometry(stage, "/World/Floor", plane(8))
    UsdShade.MaterialBindingAPI.Apply(floor.GetPrim()).Bind(floor_look)
    toys = stage.GetPrimAtPath("/World/Toys")
    sizes = toys.GetVariantSets().AddVariantSet("size")
    for variant, scale in (("small", 0.5), ("large", 1.5)):
        sizes.AddVariant(variant)
        sizes.SetVariantSelection(variant)
        with sizes.GetVariantEditContext():
            UsdGeom.XformCommonAPI(toys).SetScale(Gf.Vec3f(scale))
    sizes.SetVariantSelection("small")
    UsdLux.DomeLight.Define(stage, "/World/Lights/Sky").CreateIntensityAttr(0.5)
    key = UsdLux.SphereLight.Define(stage, "/World/Lights/Key")
    key.CreateIntensityAttr(30.0)
    key.AddTranslateOp().Set(Gf.Vec3d(2, 6, 3))
    key.AddRotateXYZOp().Set(Gf.Vec3f(10, 20, 30))
    rim = UsdLux.RectLight.Define(stage, "/World/Lights/Rim")
    rim.CreateIntensityAttr(4.0, True)
    rim.GetIntensityAttr().Set(4.0, 1)
    rim.GetIntensityAttr().Set(8.0, 24)
    for name, eye in (("Front", (0, 3, 9)), ("Side", (9, 3, 1))):
        view = UsdGeom.Camera.Define(stage, f"/World/Cameras/{name}")
        view.AddTransformOp().Set(Gf.Matrix4d(looking(eye, (0, 0.8, 0))))
        view.CreateHorizontalApertureAttr(36.0)
        view.CreateVerticalApertureAttr(24.0)
        view.CreateFocalLengthAttr(40.0)
        view.CreateClippingRangeAttr(Gf.Vec2f(0.1, 1000.0))
    stage.GetRootLayer().Save()
    return file


def make_material(stage, path, **inputs) -> UsdShade.Material:
    material = UsdShade.Material.Define(stage, path)
    shader = UsdShade.Shader.Define(stage, f"{path}/Surface")
    shader.CreateIdAttr("UsdPreviewSurface")
    for name, value in inputs.items():
        kind = Sdf.ValueTypeNames.Color3f if name.endswith("Color") else Sdf.ValueTypeNames.Float
        given = shader.CreateInput(name, kind)
        if isinstance(value, str):
            image = UsdShade.Shader.Define(stage, f"{path}/Image")
            image.CreateIdAttr("UsdUVTexture")
            image.CreateInput("file", Sdf.ValueTypeNames.Asset).Set(Sdf.AssetPath(value))
            image.CreateInput("fallback", Sdf.ValueTypeNames.Float4).Set(Gf.Vec4f(0.2, 0.3, 0.4, 1))
            image.CreateOutput("rgb", Sdf.ValueTypeNames.Float3)
            given.ConnectToSource(image.ConnectableAPI(), "rgb")
        else:
            given.Set(Gf.Vec3f(*value) if isinstance(value, tuple) else value)
    shader.CreateOutput("surface", Sdf.ValueTypeNames.Token)
    material.CreateSurfaceOutput().ConnectToSource(shader.ConnectableAPI(), "surface")
    return material


def write_geometry(stage, path, shape: Geometry) -> UsdGeom.Mesh:
    mesh = UsdGeom.Mesh.Define(stage, path)
    mesh.CreatePointsAttr([Gf.Vec3f(*p) for p in shape.points.tolist()])
    mesh.CreateFaceVertexCountsAttr([3] * len(shape.triangles))
    mesh.CreateFaceVertexIndicesAttr(shape.triangles.ravel().tolist())
    st = UsdGeom.PrimvarsAPI(mesh).CreatePrimvar(
        "st", Sdf.ValueTypeNames.TexCoord2fArray, UsdGeom.Tokens.faceVarying
    )
    st.Set([Gf.Vec2f(*c) for c in shape.corner_uvs.reshape(-1, 2).tolist()])
    return mesh
