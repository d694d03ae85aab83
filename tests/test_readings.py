"""Snapshots that read again only what changed are those of a stage that was just opened."""

from __future__ import annotations

import random
from collections.abc import Callable, Sequence
from pathlib import Path

import pytest
from pxr import Gf, Sdf, Usd, UsdGeom, UsdLux, UsdShade, Vt

import grandlattice as lattice
from grandlattice.plan import CellSettings, PlacedEdit, parse, validate
from grandlattice.runs import CellSnapshots
from grandlattice.scene_records import Snapshot
from grandlattice.stage import CellStage, SnapshotDigests, Snapshotter, open_scene
from grandlattice.stage.shape_tree import ShapeTree
from shapes import make_material, plane, write_geometry

GROUPS = ("/World/A", "/World/B", "/World/B/Inner", "/World/C")
LAMPS = ("/World/Lamp", "/World/B/Bulb", "/World/B/Inner/Bulb")
LOOKS = ("/World/Looks/Red", "/World/Looks/Paint", "/World/C/Looks/Own")


def scattered(file: Path, *, instanced: bool) -> None:
    """Meshes in groups, materials, one of them below a group of shapes, a variant set, parts of a mesh."""
    stage = Usd.Stage.CreateNew(str(file))
    for group in GROUPS:
        UsdGeom.Xform.Define(stage, group)
        for k in range(3):
            write_geometry(stage, f"{group}/Mesh{k}", plane(1 + k))
    for look in LOOKS:
        make_material(stage, look, diffuseColor=(0.8, 0.1 * len(look) % 1, 0.1))
    reader = UsdShade.Shader.Define(stage, "/World/Looks/Paint/Reader")
    reader.CreateIdAttr("UsdPrimvarReader_float3")
    reader.CreateInput("varname", Sdf.ValueTypeNames.String).Set("displayColor")
    painted = UsdShade.Shader(stage.GetPrimAtPath("/World/Looks/Paint").GetChildren()[0])
    painted.GetInput("diffuseColor").ConnectToSource(reader.ConnectableAPI(), "result")
    image = UsdShade.Shader.Define(stage, "/World/Looks/Red/Image")
    image.CreateIdAttr("UsdUVTexture")
    image.CreateInput("file", Sdf.ValueTypeNames.Asset).Set("grid.png")
    where = UsdShade.Shader.Define(stage, "/World/Looks/Red/Where")
    where.CreateIdAttr("UsdPrimvarReader_float2")
    where.CreateInput("varname", Sdf.ValueTypeNames.String).Set("st")
    st = image.CreateInput("st", Sdf.ValueTypeNames.Float2)
    st.ConnectToSource(where.ConnectableAPI(), "result")
    red = UsdShade.Shader(stage.GetPrimAtPath("/World/Looks/Red/Surface"))
    red.GetInput("diffuseColor").ConnectToSource(image.ConnectableAPI(), "rgb")
    set_apart(stage, "/World/A/Mesh0")
    bind(stage, "/World/C", LOOKS[2])
    sizes = stage.GetPrimAtPath("/World/B").GetVariantSets().AddVariantSet("size")
    for name in ("small", "large"):
        sizes.AddVariant(name)
        sizes.SetVariantSelection(name)
        with sizes.GetVariantEditContext():
            write_geometry(stage, f"/World/B/Only{name}", plane(2))
            make_material(stage, f"/World/B/Look{name}", diffuseColor=(0.1, 0.1, len(name) / 9))
            bind(stage, "/World/B", f"/World/B/Look{name}")
    for lamp in LAMPS:
        UsdLux.SphereLight.Define(stage, lamp)
    UsdGeom.Camera.Define(stage, "/Camera")
    if instanced:
        cloud = UsdGeom.PointInstancer.Define(stage, "/World/Cloud")
        cloud.CreatePrototypesRel().SetTargets(["/World/C/Mesh0", "/World/A"])
        cloud.CreateProtoIndicesAttr([0, 1, 0])
        cloud.CreatePositionsAttr([(0, 0, 0), (1, 0, 0), (2, 0, 0)])
        for k in range(2):
            copy = stage.DefinePrim(f"/World/Copy{k}")
            copy.GetReferences().AddInternalReference("/World/B")
            copy.SetInstanceable(True)
        # Instances and an instancer within an instance, and an instancer that repeats an instance.
        inner = stage.DefinePrim("/World/Kit/Inner")
        inner.GetReferences().AddInternalReference("/World/C")
        inner.SetInstanceable(True)
        pair = UsdGeom.PointInstancer.Define(stage, "/World/Kit/Pair")
        pair.CreatePrototypesRel().SetTargets(["/World/Kit/Pair/Part"])
        write_geometry(stage, "/World/Kit/Pair/Part", plane(0.5))
        pair.CreateProtoIndicesAttr([0, 0])
        pair.CreatePositionsAttr([(0, 0, 0), (0, 2, 0)])
        for k in range(2, 4):
            copy = stage.DefinePrim(f"/World/Copy{k}", "Xform")
            copy.GetReferences().AddInternalReference("/World/Kit")
            copy.SetInstanceable(True)
        swarm = UsdGeom.PointInstancer.Define(stage, "/World/Swarm")
        swarm.CreatePrototypesRel().SetTargets(["/World/Copy3", "/World/Cloud"])
        swarm.CreateProtoIndicesAttr([0, 1])
        swarm.CreatePositionsAttr([(0, 0, 5), (0, 0, 9)])
    stage.GetRootLayer().Save()


def set_apart(stage: Usd.Stage, mesh: str) -> None:
    """Give the first face of a mesh a material of its own."""
    part = UsdGeom.Subset.CreateGeomSubset(
        UsdGeom.Mesh(stage.GetPrimAtPath(mesh)), "Part", UsdGeom.Tokens.face, [0], "materialBind",
        UsdGeom.Tokens.nonOverlapping,
    )  # fmt: skip
    bind(stage, str(part.GetPath()), LOOKS[0])


def bind(stage: Usd.Stage, path: str, look: str) -> None:
    prim = stage.GetPrimAtPath(path)
    if prim:
        material = UsdShade.Material(stage.GetPrimAtPath(look))
        UsdShade.MaterialBindingAPI.Apply(prim).Bind(material) if material else None


def bind_directly(stage: Usd.Stage, rng: random.Random) -> None:
    if prim := chosen(stage, rng):
        bind(stage, str(prim.GetPath()), rng.choice(LOOKS))


def bind_by_collection(stage: Usd.Stage, rng: random.Random) -> None:
    world = stage.GetPrimAtPath("/World")
    collection = Usd.CollectionAPI.Apply(world, "chosen")
    collection.CreateIncludesRel().SetTargets([rng.choice(GROUPS)])
    material = UsdShade.Material(stage.GetPrimAtPath(rng.choice(LOOKS)))
    if material:
        api = UsdShade.MaterialBindingAPI.Apply(world)
        api.Bind(collection, material, "chosen", UsdShade.Tokens.strongerThanDescendants)


def chosen(stage: Usd.Stage, rng: random.Random) -> Usd.Prim:
    """A mesh or a group."""
    return stage.GetPrimAtPath(rng.choice([f"{g}/Mesh{k}" for g in GROUPS for k in range(3)] + list(GROUPS)))


def set_value(
    stage: Usd.Stage, rng: random.Random, name: str, kind: Sdf.ValueTypeName, value: object
) -> None:
    if prim := chosen(stage, rng):
        prim.CreateAttribute(name, kind).Set(value)


def move(stage: Usd.Stage, rng: random.Random) -> None:
    if prim := chosen(stage, rng):
        UsdGeom.XformCommonAPI(prim).SetTranslate((rng.random(), 0, rng.random()))


def move_over_time(stage: Usd.Stage, rng: random.Random) -> None:
    if prim := chosen(stage, rng):
        for frame in (1, 5):
            UsdGeom.XformCommonAPI(prim).SetTranslate((0, rng.random(), 0), frame)


def hide(stage: Usd.Stage, rng: random.Random) -> None:
    set_value(stage, rng, "visibility", Sdf.ValueTypeNames.Token, rng.choice(["invisible", "inherited"]))


def paint(stage: Usd.Stage, rng: random.Random) -> None:
    colours = Vt.Vec3fArray([Gf.Vec3f(rng.random()) for _ in range(rng.choice([1, 4]))])
    if prim := chosen(stage, rng):
        primvar = UsdGeom.PrimvarsAPI(prim).CreatePrimvar("displayColor", Sdf.ValueTypeNames.Color3fArray)
        primvar.Set(colours)
        primvar.SetInterpolation("constant" if len(colours) == 1 else "vertex")


def reshape(stage: Usd.Stage, rng: random.Random) -> None:
    if prim := stage.GetPrimAtPath(f"{rng.choice(GROUPS)}/Mesh1"):
        write_geometry(stage, prim.GetPath(), plane(rng.random()))


def part_or_join(stage: Usd.Stage, rng: random.Random) -> None:
    mesh = f"{rng.choice(GROUPS)}/Mesh{rng.randrange(3)}"
    if stage.GetPrimAtPath(f"{mesh}/Part"):
        stage.RemovePrim(f"{mesh}/Part")
    elif stage.GetPrimAtPath(mesh) and stage.GetPrimAtPath(mesh).IsActive():
        set_apart(stage, mesh)


def strip(stage: Usd.Stage, rng: random.Random) -> None:
    if prim := stage.GetPrimAtPath(f"{rng.choice(GROUPS)}/Mesh1"):
        prim.RemoveProperty("primvars:st")


def recolour(stage: Usd.Stage, rng: random.Random) -> None:
    material = stage.GetPrimAtPath(rng.choice(LOOKS))
    if material and material.GetChildren():
        shader = UsdShade.Shader(material.GetChildren()[0])
        shader.CreateInput("roughness", Sdf.ValueTypeNames.Float).Set(rng.random())


def switch(stage: Usd.Stage, rng: random.Random) -> None:
    stage.GetPrimAtPath("/World/B").GetVariantSet("size").SetVariantSelection(rng.choice(["small", "large"]))


def turn_off(stage: Usd.Stage, rng: random.Random) -> None:
    prim = stage.GetPrimAtPath(rng.choice([*GROUPS, *LOOKS, "/World/A/Mesh0/Part", "/World/A/Mesh1"]))
    if prim:
        prim.SetActive(not prim.IsActive())


def come_or_go(stage: Usd.Stage, rng: random.Random) -> None:
    group = rng.choice(GROUPS[:3])
    path = f"{group}/New{rng.randrange(3)}"
    if stage.GetPrimAtPath(path):
        stage.RemovePrim(path)
    elif stage.GetPrimAtPath(group) and stage.GetPrimAtPath(group).IsActive():
        write_geometry(stage, path, plane(3))


def light(stage: Usd.Stage, rng: random.Random) -> None:
    if prim := stage.GetPrimAtPath("/World/A/Mesh2"):
        UsdLux.MeshLightAPI.Apply(prim)
        UsdLux.LightAPI(prim).CreateIntensityAttr(rng.choice([0.0, 2.0]))


def relight(stage: Usd.Stage, rng: random.Random) -> None:
    path = Sdf.Path(rng.choice(LAMPS))
    lamp = UsdLux.SphereLight(stage.GetPrimAtPath(path))
    match rng.randrange(7) if lamp else 0:
        case 0:
            if (above := stage.GetPrimAtPath(path.GetParentPath())) and above.IsActive():
                UsdLux.SphereLight.Define(stage, path).CreateRadiusAttr(rng.random() + 0.1)
        case 1:
            lamp.CreateIntensityAttr().Set(rng.choice([0.0, 2.0, 3.0]), rng.choice([1, 3]))
        case 2:
            place = rng.choice([lamp.GetPrim(), stage.GetPrimAtPath("/World"), lamp.GetPrim().GetParent()])
            UsdGeom.XformCommonAPI(place).SetTranslate((rng.random(), 0, 1), rng.choice([1, 3]))
        case 3:
            lamp.CreateVisibilityAttr(rng.choice(["invisible", "inherited"]))
        case 4:
            link = UsdLux.LightAPI(lamp).GetLightLinkCollectionAPI()
            link.CreateExcludesRel().SetTargets(rng.sample(GROUPS, rng.randrange(2)))
        case 5:
            lamp.CreateTreatAsPointAttr(rng.random() < 0.5)
        case 6:
            stage.RemovePrim(path)


def copied(stage: Usd.Stage, rng: random.Random) -> Usd.Prim:
    """A prim that is an instance, has some below it, or repeats shapes."""
    places = ["/World/Copy0", "/World/Copy2", "/World/Copy3", "/World/Cloud", "/World/Swarm", "/World/Kit"]
    return stage.GetPrimAtPath(
        rng.choice([*places, "/World/Kit/Inner", "/World/Kit/Pair", "/World/Kit/Pair/Part"])
    )


def make_one_of_its_own(stage: Usd.Stage, rng: random.Random) -> None:
    if (prim := copied(stage, rng)) and prim.HasAuthoredReferences():
        prim.SetInstanceable(not prim.IsInstanceable())


def change_copies(stage: Usd.Stage, rng: random.Random) -> None:
    if not (prim := copied(stage, rng)):
        return
    match rng.randrange(5):
        case 0:
            UsdGeom.XformCommonAPI(prim).SetTranslate((rng.random(), 0, rng.random()), rng.choice([1, 3]))
        case 1:
            hidden = rng.choice(["invisible", "inherited"])
            prim.CreateAttribute("visibility", Sdf.ValueTypeNames.Token).Set(hidden)
        case 2:
            bind(stage, str(prim.GetPath()), rng.choice(LOOKS))
        case 3:
            prim.SetActive(not prim.IsActive())
        case 4 if prim.IsA(UsdGeom.PointInstancer):
            targets = ["/World/C/Mesh0", "/World/A", "/World/Gone", "/World/B/Mesh1", "/World/Copy1"]
            UsdGeom.PointInstancer(prim).GetPrototypesRel().SetTargets(rng.sample(targets, 2))
            UsdGeom.PointInstancer(prim).GetProtoIndicesAttr().Set([rng.randrange(2) for _ in range(2)])
            UsdGeom.PointInstancer(prim).GetPositionsAttr().Set([(rng.random(), 0, 0), (1, 1, 1)])


CHANGES: list[Callable[[Usd.Stage, random.Random], None]] = [
    move, move_over_time, hide, paint, reshape, recolour, switch, turn_off, come_or_go, light, bind_by_collection,
    relight, relight, part_or_join, strip, bind_directly, make_one_of_its_own, change_copies, change_copies,
    lambda stage, rng: set_value(stage, rng, "doubleSided", Sdf.ValueTypeNames.Bool, rng.random() < 0.5),
    lambda stage, rng: set_value(stage, rng, "purpose", Sdf.ValueTypeNames.Token, rng.choice(["guide", "default"])),
]  # fmt: skip


def told(snapshot: Snapshot) -> tuple[object, ...]:
    digests = SnapshotDigests()
    return (
        [item.path for item in snapshot.items], [m.path for m in snapshot.materials],
        [item.materials for item in snapshot.items], digests.view(snapshot), digests.lights(snapshot),
    )  # fmt: skip


@pytest.mark.parametrize("instanced", [False, True])
@pytest.mark.parametrize("seed", range(4))
def test_whatever_changes_the_snapshot_is_that_of_a_stage_just_opened(
    tmp_path: Path, seed: int, instanced: bool
) -> None:
    file = tmp_path / "scene.usda"
    scattered(file, instanced=instanced)
    scene = open_scene(file)
    model = validate(parse("lattice: 1\nscene: scene.usda\ndefaults: {camera: /Camera}\n"))
    cells = CellStage(scene, model, tmp_path)
    cells.switch(())
    scene.layer.SetPermissionToEdit(True)
    stage, rng = Usd.Stage.Open(scene.layer), random.Random(seed)
    kept, digests = Snapshotter(cells), SnapshotDigests()
    history = []
    for _ in range(60):
        for _ in range(rng.choice([1, 1, 2, 3])):
            change = rng.choice(CHANGES)
            history.append(change.__name__)
            change(stage, rng)
        frame, shutter = rng.choice([(1, None), (1, None), (3, None), (3, (-0.5, 0.5))])
        fresh = Snapshotter(cells)
        now, then = (each.take("/Camera", frame, shutter=shutter) for each in (kept, fresh))
        assert told(now) == told(then), history
        assert digests.view(now) == SnapshotDigests().view(now)
        assert digests.lights(now) == SnapshotDigests().lights(now)
        assert kept.anything_moves("/Camera") == fresh.anything_moves("/Camera")
        assert list(kept.unmapped()) == list(fresh.unmapped())


EDITS = [
    "{hide: /World/A}", "{hide: /World/B/Mesh1}", "{only: {on: /World/B, rest: matte}}", "{unseen: /World/C/Mesh2}",
    "{assign: {material: clay, on: /World/A, except: /World/A/Mesh1}}", "{assign: {material: chalk, on: /World/B}}",
    "{choose: {on: /World/B, size: small}}", "{choose: {on: /World/B, size: large}}",
    "{move: {on: /World/C, y: 2}}", "{set: {on: /World/Lamp, intensity: 3}}", "{matte: /World/C}",
    "{set: {on: /World/A/Mesh0, doubleSided: true}}", "{spin: /World/B/Inner}",
]  # fmt: skip
OF_COPIES = [
    "{hide: /World/Copy2/Inner}", "{assign: {material: clay, on: /World/Copy0}}", "{hide: /World/Cloud}",
    "{assign: {material: chalk, on: /World/Copy3/Inner/Mesh1}}", "{move: {on: /World/Copy0, y: 3}}",
    "{only: {on: /World/Copy2, rest: unseen}}", "{matte: /World/Swarm}",
]  # fmt: skip


@pytest.mark.parametrize("instanced", [False, True])
@pytest.mark.parametrize("seed", range(3))
def test_cells_in_any_order_are_those_of_a_stage_just_opened(
    tmp_path: Path, seed: int, instanced: bool
) -> None:
    # An edit that applies a schema had what others changed below it go unheard of.
    scattered(tmp_path / "scene.usda", instanced=instanced)
    rng = random.Random(seed)
    edits = EDITS + OF_COPIES if instanced else EDITS
    lines = [
        f"    e{k}: {{edits: [{', '.join(rng.sample(edits, rng.choice([0, 1, 2, 3])))}]}}" for k in range(30)
    ]
    plan = tmp_path / "p.lattice.yaml"
    plan.write_text(
        "lattice: 1\nscene: scene.usda\ndefaults: {camera: /Camera}\n"
        "materials: {clay: {color: [0.5, 0.4, 0.3]}, chalk: {color: [0.9, 0.9, 0.9]}}\n"
        "axes:\n  e:\n" + "\n".join(lines) + "\n"
    )
    opened = lattice.open_plan(plan)
    kept = CellSnapshots(opened.scene, opened.model, tmp_path)
    for cell in opened.cells:
        now = kept.take(cell.settings, cell.edits, 1)
        fresh = CellSnapshots(opened.scene, opened.model, tmp_path).take(cell.settings, cell.edits, 1)
        assert told(now) == told(fresh), cell.edits


def test_what_is_said_of_an_instancer_holds_for_what_it_repeats(tmp_path: Path) -> None:
    scattered(tmp_path / "scene.usda", instanced=True)
    plan = lattice.Plan(scene="scene.usda", folder=tmp_path).override(camera="/Camera")
    plan.axis("held").entry("out", edits=[{"matte": "/World/Cloud"}])
    (cell,) = plan.cells
    items = CellSnapshots(plan.scene, plan.model, tmp_path).take(cell.settings, cell.edits, 1).items
    prototypes = [item for item in items if item.copies is not None and len(item.copies) == 2]
    assert "/World/C/Mesh0" in {item.path for item in prototypes}  # which stands elsewhere, and is seen there
    assert {item.matte for item in items if item.path == "/World/C/Mesh0"} == {True, False}


def test_the_image_of_a_sky_may_come_without_usd_knowing(tmp_path: Path) -> None:
    file = tmp_path / "scene.usda"
    scattered(file, instanced=False)
    stage = Usd.Stage.Open(str(file))
    UsdLux.DomeLight.Define(stage, "/World/Sky").CreateTextureFileAttr("sky.exr")
    stage.GetRootLayer().Save()
    model = validate(parse("lattice: 1\nscene: scene.usda\ndefaults: {camera: /Camera}\n"))
    cells = CellStage(open_scene(file), model, tmp_path)
    cells.switch(())
    kept, found = Snapshotter(cells), []
    for _ in range(2):
        (sky,) = (light for light in kept.take("/Camera", 1).lights if light.kind == "dome")
        found.append(sky.texture.file if sky.texture else "")
        (tmp_path / "sky.exr").write_bytes(b"an image")
    assert found == ["sky.exr", str(tmp_path / "sky.exr")]


def test_colours_of_a_group_may_change_over_time(tmp_path: Path) -> None:
    scattered(tmp_path / "scene.usda", instanced=False)
    stage = Usd.Stage.Open(str(tmp_path / "scene.usda"))
    group = UsdGeom.PrimvarsAPI(stage.GetPrimAtPath("/World/A"))
    colour = group.CreatePrimvar("displayColor", Sdf.ValueTypeNames.Color3fArray)
    for frame in (1, 5):
        colour.Set([(frame / 5, 0, 0)], frame)
    stage.GetRootLayer().Save()
    scene = open_scene(tmp_path / "scene.usda")
    model = validate(parse("lattice: 1\nscene: scene.usda\ndefaults: {camera: /Camera}\n"))
    cells = CellStage(scene, model, tmp_path)
    cells.switch(())
    snapshots = Snapshotter(cells)
    shown = [[m.inputs["diffuseColor"] for m in snapshots.take("/Camera", f).materials] for f in (1, 5)]
    assert snapshots.anything_moves("/Camera")
    assert (pytest.approx(0.2), 0.0, 0.0) in shown[0]
    assert (1.0, 0.0, 0.0) in shown[1]
    scene.layer.SetPermissionToEdit(True)
    stage = Usd.Stage.Open(scene.layer)
    UsdGeom.Imageable(stage.GetPrimAtPath("/World/A")).MakeInvisible()
    snapshots.take("/Camera", 5)
    assert not snapshots.anything_moves("/Camera")  # what is not shown does not concern it


def test_cells_with_one_structure_are_composed_one_after_the_other(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    scattered(tmp_path / "scene.usda", instanced=False)
    plan = lattice.Plan(scene="scene.usda", folder=tmp_path).override(camera="/Camera")
    plan.axis("lamp").sweep(1, 4, step=1, edits=[{"set": {"on": "/World/Lamp", "intensity": "{lamp}"}}])
    for size in ("small", "large"):
        plan.axis("size").entry(size, edits=[{"choose": {"on": "/World/B", "size": size}}])
    composed, take = [], CellSnapshots.take

    def taken(
        self: CellSnapshots, settings: CellSettings, edits: Sequence[PlacedEdit], frame: int
    ) -> Snapshot:
        composed.extend(repr(each.edit.body) for each in edits if each.edit.verb == "choose")
        return take(self, settings, edits, frame)

    monkeypatch.setattr(CellSnapshots, "take", taken)
    monkeypatch.setenv("GRANDLATTICE_CACHE", str(tmp_path / "cache"))  # where nothing is known of them
    plan.outlook()
    assert [*map(composed.index, composed)] == [0] * 4 + [4] * 4


def bind_in_some_way(stage: Usd.Stage, rng: random.Random) -> None:
    """Bind a material, there or not, directly or by a collection, for one purpose, weakly or not."""
    prim = stage.GetPrimAtPath(rng.choice(["/World", "/World/A", "/World/A/Mesh0", "/World/A/Mesh0/Part"]))
    api = UsdShade.MaterialBindingAPI.Apply(prim)
    purpose = rng.choice([UsdShade.Tokens.full, UsdShade.Tokens.allPurpose])
    strength = rng.choice([UsdShade.Tokens.weakerThanDescendants, UsdShade.Tokens.strongerThanDescendants])
    material = UsdShade.Material(stage.GetPrimAtPath(rng.choice(LOOKS)))
    name = rng.choice(["one", "two"])
    match rng.choice([0, 0, 1, 1, 1, 2, 3, 4]):
        case 0:
            api.Bind(material, strength, purpose)
        case 1:
            collection = Usd.CollectionAPI.Apply(
                stage.GetPrimAtPath(rng.choice(["/World", "/World/A"])), name
            )
            rules = Usd.Tokens.expandPrims, Usd.Tokens.explicitOnly
            collection.CreateExpansionRuleAttr().Set(rng.choice(rules))
            collection.CreateIncludesRel().SetTargets(
                rng.sample(["/World/A", "/World/A/Mesh0", "/World/C"], 2)
            )
            collection.CreateExcludesRel().SetTargets(rng.sample(["/World/A/Mesh0/Part", "/World/B"], 1))
            api.Bind(collection, material, name, strength, purpose)
        case 2:
            api.GetDirectBindingRel(purpose).SetTargets(["/World/Gone"])
        case 3:
            api.UnbindAllBindings()
        case 4:
            names = [f"material:binding:collection:{name}", *prim.GetPropertyOrder()]
            prim.SetPropertyOrder(list(dict.fromkeys(names)))


@pytest.mark.parametrize("seed", range(4))
def test_materials_are_bound_as_usd_binds_them(tmp_path: Path, seed: int) -> None:
    file = tmp_path / "scene.usda"
    scattered(file, instanced=True)
    stage, rng = Usd.Stage.Open(str(file)), random.Random(seed)
    for _ in range(100):
        bind_in_some_way(stage, rng)
        tree = ShapeTree(stage)
        tree.read((), UsdGeom.XformCache(1.0))
        tree.bindings.resolve(tree.rows, tree.row_of)
        found = UsdShade.MaterialBindingAPI.ComputeBoundMaterials(tree.rows.prims, UsdShade.Tokens.full)[0]
        for prim, number, usd in zip(tree.rows.prims, tree.rows.bound.tolist(), found, strict=True):
            path = tree.bindings.path_of(number)
            material = UsdShade.Material(stage.GetPrimAtPath(path)) if path else None
            assert bool(material) == bool(usd), prim
            assert not usd or path == usd.GetPath(), prim
