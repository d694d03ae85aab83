"""Shapes as triangles, against closed forms and published weights."""

from __future__ import annotations

import numpy as np
import pytest
from pxr import Gf, Sdf, Usd, UsdGeom, UsdLux, Vt

from bench import snapshot_of
from grandlattice.scene_records import Geometry, Item
from grandlattice.stage.shapes.polygons import triangulated
from grandlattice.stage.shapes.subdivision import Cage, subdivided
from grandlattice.tracer.embree import quads_of
from shapes import camera, dome, moved, plane, sphere, trace, write_geometry

CUBE = np.array([(x, y, z) for x in (-1, 1) for y in (-1, 1) for z in (-1, 1)], float)
CUBE_FACES = [(0, 1, 3, 2), (4, 6, 7, 5), (0, 4, 5, 1), (2, 3, 7, 6), (0, 2, 6, 4), (1, 5, 7, 3)]


def cage(points, faces, creases=(), sharpness=(), corners=None) -> Cage:
    counts = np.array([len(f) for f in faces], np.int64)
    indices = np.array([i for f in faces for i in f], np.int64)
    return Cage(
        np.asarray(points, float), counts, indices, np.zeros((len(indices), 2)), np.arange(len(counts)),
        np.array(creases, np.int64).reshape(-1, 2), np.array(sharpness, float),
        np.zeros(len(points)) if corners is None else np.array(corners, float),
    )  # fmt: skip


def test_catmull_clark_of_a_cube_by_hand() -> None:
    finer = subdivided(cage(CUBE, CUBE_FACES), 1)
    assert len(finer.counts) == 24
    # A corner of valence 3: (Q + 2R + 0·P)/3 with Q = 1/3 and R = 2/3 on each axis, 5/9.
    assert np.allclose(np.abs(finer.points[:8]), 5 / 9)
    # An edge: the mean of its ends and of the two face points, (1, 1, ·)/2 and (1, 0, 0), (0, 1, 0).
    edges = np.sort(np.abs(finer.points[8:20]), axis=1)
    assert np.allclose(edges, (0.0, 0.75, 0.75))
    assert np.allclose(np.sort(np.abs(finer.points[20:]), axis=1), (0.0, 0.0, 1.0))


def test_points_run_to_the_published_limit() -> None:
    # Halstead, Kass and DeRose 1993: (n² v + 4 Σ e + Σ f) / (n (n + 5)); for a cube's corner, with
    # n = 3, Σ e = 1 and Σ f = −1 on each axis: (9 + 4 − 1)/24 = 1/2.
    fine = subdivided(cage(CUBE, CUBE_FACES), 6)
    assert np.allclose(np.abs(fine.points[:8]), 0.5, atol=1e-3)


def test_creases_and_corners_by_their_sharpness() -> None:
    edges = {tuple(sorted((f[k], f[(k + 1) % 4]))) for f in CUBE_FACES for k in range(4)}
    sharp = subdivided(cage(CUBE, CUBE_FACES, sorted(edges), [10.0] * 12), 4)
    assert np.allclose(np.abs(sharp.points).max(axis=1), 1.0)  # still the cube, to the last point
    # Sharp for one level, then smooth: the level after it is that of the cube with 8 cells a face.
    once = subdivided(cage(CUBE, CUBE_FACES, sorted(edges), [1.0] * 12), 1)
    assert np.allclose(np.abs(once.points).max(axis=1), 1.0)
    assert (
        np.abs(subdivided(cage(CUBE, CUBE_FACES, sorted(edges), [1.0] * 12), 2).points).max(axis=1).min()
        < 0.9
    )
    # Half sharp is half-way between smooth and sharp: 5/9 and, with three sharp edges, the corner 1.
    half = subdivided(cage(CUBE, CUBE_FACES, sorted(edges), [0.5] * 12), 1)
    assert np.allclose(np.abs(half.points[:8]), 0.5 * (1 + 5 / 9))
    pinned = subdivided(cage(CUBE, CUBE_FACES, corners=[10.0] * 8), 3)
    assert np.allclose(np.abs(pinned.points[:8]), 1.0)


@pytest.mark.parametrize(("border", "corner"), [("edgeAndCorner", 1.0), ("edgeOnly", 0.75)])
def test_open_borders_are_curves_of_their_own(border: str, corner: float) -> None:
    square = cage([(-1, -1, 0), (1, -1, 0), (1, 1, 0), (-1, 1, 0)], [(0, 1, 2, 3)])
    finer = subdivided(square, 1, border=border)
    # A rounded corner: 3/4 of itself and 1/8 of both neighbours, (3/4)(1) + (1/8)(1 − 1) = 3/4.
    assert np.allclose(np.abs(finer.points[:4, :2]), corner)
    assert np.allclose(finer.points[4:8, :2].max(axis=1), (0, 0, 1, 1))


def test_bent_polygons_are_cut_where_they_are_bent() -> None:
    arrow = [(0, 0, 0), (2, 1, 0), (0, 2, 0), (1, 1, 0)]  # a quad bent inwards, area 1
    comb = [(0, 0, 0), (5, 0, 0), (5, 2, 0), (4, 2, 0), (4, 1, 0), (3, 1, 0), (3, 2, 0), (2, 2, 0), (2, 1, 0),
            (1, 1, 0), (1, 2, 0), (0, 2, 0)]  # fmt: skip
    points = np.array(arrow + comb, float) @ np.array([(0.6, 0.8, 0), (-0.8, 0.6, 0), (0, 0, 1)])
    face, corners = triangulated(points, np.array([4, 12]), np.arange(16))
    at = points[corners]
    area = 0.5 * np.cross(at[:, 1] - at[:, 0], at[:, 2] - at[:, 0])[:, 2]
    assert (area > -1e-12).all()  # none lies the other way round, so none covers another
    assert np.bincount(face, area) == pytest.approx([1.0, 8.0])
    assert np.bincount(face).tolist() == [2, 10]


def area_of(shape: Geometry) -> float:
    at = shape.points[shape.triangles].astype(float)
    cross = np.cross(at[:, 1] - at[:, 0], at[:, 2] - at[:, 0])
    # Triangles are counter-clockwise seen from where their normals point; at poles some have no area.
    real = np.linalg.norm(cross, axis=-1) > 0.0
    assert ((cross[real][:, None] * shape.corner_normals[real]).sum(-1) > 0.0).all()
    return float(np.linalg.norm(cross, axis=1).sum() / 2)


def _volume_of(shape: Geometry) -> float:
    at = shape.points[shape.triangles].astype(float)
    return float((np.cross(at[:, 0], at[:, 1]) * at[:, 2]).sum() / 6)


def test_primitives_have_their_areas_and_volumes() -> None:
    stage = Usd.Stage.CreateInMemory()
    ball = UsdGeom.Sphere.Define(stage, "/Ball")
    ball.CreateRadiusAttr(2.0)
    UsdGeom.Cube.Define(stage, "/Cube").CreateSizeAttr(3.0)
    for name, kind, axis in (("Can", UsdGeom.Cylinder, "X"), ("Cone", UsdGeom.Cone, "Y")):
        prim = kind.Define(stage, f"/{name}")
        prim.CreateRadiusAttr(0.5)
        prim.CreateHeightAttr(4.0)
        prim.CreateAxisAttr(axis)
    pill = UsdGeom.Capsule.Define(stage, "/Pill")
    pill.CreateRadiusAttr(1.0)
    pill.CreateHeightAttr(3.0)
    sheet = UsdGeom.Plane.Define(stage, "/Sheet")
    sheet.CreateWidthAttr(2.0)
    sheet.CreateLengthAttr(5.0)
    found = {item.path[1:]: item.geometry for item in snapshot_of(stage).items}
    slant = np.hypot(0.5, 4.0)
    expected = {
        "Ball": (4 * np.pi * 4, 4 / 3 * np.pi * 8),
        "Cube": (54.0, 27.0),
        "Can": (2 * np.pi * 0.5 * 4 + 2 * np.pi * 0.25, np.pi * 0.25 * 4),
        "Cone": (np.pi * 0.5 * slant + np.pi * 0.25, np.pi * 0.25 * 4 / 3),
        "Pill": (4 * np.pi + 2 * np.pi * 3, 4 / 3 * np.pi + np.pi * 3),
        "Sheet": (10.0, 0.0),
    }
    for name, (area, volume) in expected.items():
        assert area_of(found[name]) == pytest.approx(area, rel=3e-3), name
        assert _volume_of(found[name]) == pytest.approx(volume, rel=3e-3), name
    reach = {name: np.ptp(found[name].points, axis=0) for name in ("Can", "Cone")}
    assert np.allclose(reach["Can"], (4, 1, 1), atol=2e-3)
    assert np.allclose(reach["Cone"], (1, 4, 1), atol=2e-3)
    assert found["Cone"].points[:, 1].max() == 2.0  # the tip is up its axis


def test_curves_are_tubes_through_their_points() -> None:
    stage = Usd.Stage.CreateInMemory()

    def curve(name: str, points, **how: str) -> UsdGeom.BasisCurves:
        made = UsdGeom.BasisCurves.Define(stage, f"/{name}")
        made.CreatePointsAttr(Vt.Vec3fArray([Gf.Vec3f(*p) for p in points]))
        made.CreateCurveVertexCountsAttr([len(points)])
        made.CreateTypeAttr(how.get("type", "cubic"))
        made.CreateBasisAttr(how.get("basis", "bezier"))
        made.CreateWrapAttr(how.get("wrap", "nonperiodic"))
        made.CreateWidthsAttr([0.2])
        made.SetWidthsInterpolation("constant")
        return made

    curve("Rod", [(0, 0, 0), (0, 0, 4)], type="linear")
    k = 0.5522847498  # four cubic pieces make a circle of radius 1, off by 3e-4
    ring = [
        (1, 0),
        (1, k),
        (k, 1),
        (0, 1),
        (-k, 1),
        (-1, k),
        (-1, 0),
        (-1, -k),
        (-k, -1),
        (0, -1),
        (k, -1),
        (1, -k),
    ]
    curve("Ring", [(x, y, 0) for x, y in ring], wrap="periodic")
    curve("Pinned", [(0, 0, 0), (1, 1, 0), (2, 0, 0)], basis="catmullRom", wrap="pinned")
    curve("Spline", [(0, 0, 0), (1, 1, 0), (2, 0, 0), (3, 1, 0)], basis="bspline")
    found = {item.path[1:]: item.geometry for item in snapshot_of(stage).items}
    # Eight-sided: a rod's side is 8 · 2 r sin(π/8) · length, and each end 4 r² sin(π/4).
    r = 0.1
    expected = 8 * 2 * r * np.sin(np.pi / 8) * 4 + 2 * 4 * r * r * np.sin(np.pi / 4)
    assert area_of(found["Rod"]) == pytest.approx(expected, rel=1e-5)
    from_centre = np.linalg.norm(found["Ring"].points[:, :2], axis=1)
    assert from_centre.min() == pytest.approx(0.9, abs=5e-3)
    assert from_centre.max() == pytest.approx(1.1, abs=5e-3)
    assert len(found["Ring"].triangles) == 4 * 6 * 8 * 2  # closed: no caps
    # Pinned curves begin and end at their points: a cap of radius r about each.
    ends = found["Pinned"].points
    for end in ((0, 0, 0), (2, 0, 0)):
        assert np.linalg.norm(ends - end, axis=1).min() < 1e-6
    # A B-spline begins at (P₀ + 4 P₁ + P₂)/6.
    assert np.linalg.norm(found["Spline"].points - (1, 2 / 3, 0), axis=1).min() < 1e-6


@pytest.mark.parametrize("hand", [UsdGeom.Tokens.rightHanded, UsdGeom.Tokens.leftHanded])
def test_whatever_has_four_corners_is_put_to_the_ray_library_as_quads(hand: str) -> None:
    stage = Usd.Stage.CreateInMemory()
    flat = [
        (0, 0, 0),
        (2, 1, 0),
        (0, 2, 0),
        (1, 1, 0),
        (4, 0, 0),
        (4, 2, 0),
    ]  # an arrow, and a square of sorts
    for name, scheme in (("Mesh", "none"), ("Smooth", "catmullClark")):
        mesh = UsdGeom.Mesh.Define(stage, f"/{name}")
        mesh.CreatePointsAttr([Gf.Vec3f(*p) for p in flat])
        mesh.CreateFaceVertexCountsAttr([4, 4])
        mesh.CreateFaceVertexIndicesAttr([0, 1, 2, 3, 1, 4, 5, 2])
        mesh.CreateSubdivisionSchemeAttr(scheme)
        mesh.CreateOrientationAttr(hand)
    for kind in (UsdGeom.Sphere, UsdGeom.Cylinder, UsdGeom.Cone, UsdGeom.Cube):
        kind.Define(stage, f"/{kind.__name__}").CreateOrientationAttr(hand)
    rod = UsdGeom.BasisCurves.Define(stage, "/Rod")
    rod.CreatePointsAttr([Gf.Vec3f(0, 0, 0), Gf.Vec3f(0, 0, 4)])
    rod.CreateCurveVertexCountsAttr([2])
    rod.CreateTypeAttr("linear")
    for item in snapshot_of(stage).items:
        shape = item.geometry
        quads = quads_of(shape.triangles)
        assert quads is not None, shape.path
        # Each of Embree's two triangles runs the way its own does: corners 0 1 3, and 2 3 1.
        for half, order in ((0, (3, 0, 1)), (1, (3, 1, 2))):
            assert (quads[:, order] == shape.triangles[half::2]).all()
        if shape.path != "/Smooth":  # an arrow made smooth folds
            area_of(shape)
    assert quads_of(np.array([(0, 1, 2), (0, 2, 3), (0, 3, 4)], np.int32)) is None  # a pentagon


def test_instances_stand_where_they_should_and_share_their_triangles() -> None:
    stage = Usd.Stage.CreateInMemory()
    UsdGeom.Xform.Define(stage, "/Class/Pin")
    stage.OverridePrim("/Class").SetSpecifier(Sdf.SpecifierClass)
    UsdGeom.Sphere.Define(stage, "/Class/Pin/Head")
    for k in range(3):
        pin = UsdGeom.Xform.Define(stage, f"/Pin{k}")
        pin.AddTranslateOp().Set((k, 0, 0))
        pin.GetPrim().GetReferences().AddInternalReference("/Class/Pin")
        pin.GetPrim().SetInstanceable(True)
    UsdGeom.Xform.Define(stage, "/Field").AddTranslateOp().Set((0, 10, 0))
    field = UsdGeom.PointInstancer.Define(stage, "/Field/Seeds")
    UsdGeom.Xform.Define(stage, "/Field/Seeds/A").AddScaleOp().Set((2, 2, 2))
    UsdGeom.Xformable(UsdGeom.Cube.Define(stage, "/Field/Seeds/A/Cube")).AddTranslateOp().Set((0, 0, 1))
    UsdGeom.Sphere.Define(stage, "/Field/Seeds/B")
    field.CreatePrototypesRel().SetTargets(["/Field/Seeds/A", "/Field/Seeds/B"])
    field.CreateProtoIndicesAttr([0, 1, 0, 1])
    field.CreatePositionsAttr([(k, 0, 0) for k in range(4)])
    field.InvisId(2, Usd.TimeCode.Default())
    items = snapshot_of(stage).items
    heads = [item for item in items if item.path.endswith("Head")]
    assert sorted(item.to_world[3, 0] for item in heads) == [0, 1, 2]
    assert len({id(item.geometry) for item in heads}) == 1
    (cube,) = (item for item in items if item.path.endswith("Cube"))
    # One of two is masked; the cube's own move, its root's size, the instance, the field around.
    assert np.allclose([m[3, :3] for m in cube.placements], [(0, 10, 2)])
    (ball,) = (item for item in items if item.path.endswith("/B"))
    assert np.allclose([m[3, :3] for m in ball.placements], [(1, 10, 0), (3, 10, 0)])
    assert len(items) == 5


def test_a_geometry_that_is_repeated_looks_as_if_it_stood_there_by_itself() -> None:
    # Big enough to be kept once; turned, squeezed and mirrored.
    ball = sphere(96)
    squeezed = np.diag((-0.5, 1.0, 0.7, 1.0)) @ moved(x=1.2, turn_x=30)
    places = np.stack([moved(x=-1.3), squeezed])
    apart = [Item(sphere(96), place, (0,)) for place in places]
    passes, how = ("beauty", "depth", "normal"), {"samples": 64, "size": (48, 24)}
    view = camera((0, 0, 6), aperture=(2.0, 1.0), focal_length=2.5)
    baked = trace(apart, [dome()], view, passes=passes, **how)
    once = trace([Item(ball, np.eye(4), (0,), copies=places)], [dome()], view, passes=passes, **how)
    inside = np.isfinite(baked.passes["depth"]) & np.isfinite(once.passes["depth"])
    assert (np.isfinite(baked.passes["depth"]) == np.isfinite(once.passes["depth"])).all()
    depths = baked.passes["depth"][inside] - once.passes["depth"][inside]
    assert np.quantile(np.abs(depths), 0.99) < 1e-3
    # Where a pixel holds the rim, another of its samples may be the nearest.
    assert np.quantile(np.abs(baked.passes["normal"] - once.passes["normal"]), 0.99) < 5e-3
    assert np.abs(baked.passes["beauty"] - once.passes["beauty"]).mean() < 2e-3


def test_a_sphere_that_is_subdivided_by_the_setting_and_hard_edges_stay_hard() -> None:
    stage = Usd.Stage.CreateInMemory()
    UsdLux.DomeLight.Define(stage, "/Sky")
    mesh = UsdGeom.Mesh.Define(stage, "/Box")
    mesh.CreatePointsAttr(Vt.Vec3fArray([Gf.Vec3f(*p) for p in CUBE]))
    mesh.CreateFaceVertexCountsAttr([4] * 6)
    mesh.CreateFaceVertexIndicesAttr([i for f in CUBE_FACES for i in f])
    counts = [len(snapshot_of(stage, levels=k).items[0].geometry.triangles) for k in (0, 1, 3)]
    assert counts == [12, 48, 768]
    fine = snapshot_of(stage, levels=3).items[0].geometry
    at = fine.points[fine.triangles]
    # Almost a ball: normals point away from the middle.
    away = (at * fine.corner_normals).sum(-1) / np.linalg.norm(at, axis=-1)
    assert away.min() > 0.97
    edges = sorted({tuple(sorted((f[k], f[(k + 1) % 4]))) for f in CUBE_FACES for k in range(4)})
    mesh.CreateCreaseIndicesAttr([i for edge in edges for i in edge])
    mesh.CreateCreaseLengthsAttr([2] * 12)
    mesh.CreateCreaseSharpnessesAttr([10.0] * 12)
    hard = snapshot_of(stage, levels=2).items[0].geometry
    # Each normal is that of its own side.
    assert np.allclose(np.abs(hard.corner_normals).max(axis=-1), 1.0, atol=1e-6)
    mesh.CreateSubdivisionSchemeAttr("none")
    assert len(snapshot_of(stage, levels=3).items[0].geometry.triangles) == 12


def test_shapes_that_are_copies_of_each_other_are_made_into_triangles_once() -> None:
    stage = Usd.Stage.CreateInMemory()
    for name in ("A", "B", "Other"):
        write_geometry(stage, f"/{name}", plane(2.0 if name == "Other" else 1.0))
    a, b, other = (item.geometry for item in snapshot_of(stage).items)
    assert (a.path, b.path, other.path) == ("/A", "/B", "/Other")
    assert a is not b  # a renderer may tell them apart
    assert a.points is b.points
    assert not np.array_equal(a.points, other.points)
