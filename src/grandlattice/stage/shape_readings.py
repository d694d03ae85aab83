"""What was read of the shapes of a stage: items and materials, read again only where USD says so.

Every shape has a *reading*: whether it is shown, its materials, where it stands.  USD names the prims that
changed; the readings of what stands at or below them are made anew, and all others stay the very same
objects.  A material is read once for all shapes that have it.
"""

from __future__ import annotations

import operator
from collections.abc import Callable, Collection, Iterable, Iterator, Sequence
from dataclasses import dataclass, field, replace
from itertools import islice

import numpy as np
from pxr import Sdf, Usd, UsdGeom, UsdShade

from grandlattice.scene_records import Geometry, Item, Material
from grandlattice.stage.drawn_shapes import DrawnShape, FoundShapes, find_shapes, found_again, is_shown
from grandlattice.stage.edits.visibility import STATE
from grandlattice.stage.instancing import chain_varies, copies_of
from grandlattice.stage.light_reading import matrix_array, mesh_light
from grandlattice.stage.scene_looks import Look, SceneLooks
from grandlattice.stage.shapes import ShapeSource, read_shape
from grandlattice.stage.shutter_tracks import track_of
from grandlattice.stage.variation import looks_vary, transform_varies, visibility_varies


@dataclass(frozen=True)
class Moment:
    """When shapes are read.

    Attributes
    ----------
    frame : of the stage.
    transforms : then.
    shutter : frames at which what moves is looked at while the shutter is open; none where it is not.
    levels : how often surfaces that ask for it are subdivided.
    """

    frame: float
    transforms: UsdGeom.XformCache
    shutter: tuple[float, ...]
    levels: int

    @property
    def time(self) -> Usd.TimeCode:
        return Usd.TimeCode(self.frame)

    def while_open(self) -> list[UsdGeom.XformCache]:
        """Transforms while the shutter is open."""
        return [UsdGeom.XformCache(Usd.TimeCode(frame)) for frame in self.shutter]


@dataclass(eq=False, slots=True)
class _Reading:
    """What was read of one shape.

    `looks` are its materials in the order in which they are met, `names` their paths, and `uses` says for the
    whole and each subset which of them; `bound` are the materials of the scene that these have.  There are
    none of all that where it is hidden, and no `item` either, nor where it is placed by numbers that are
    none.  `own` says that it shows a material of the scene in a way of its own.  `tops` are the prims it
    depends on, with all above them; `mapped` says which primvars it has, of those that were asked for.
    """

    shape: DrawnShape
    path: Sdf.Path
    name: str
    looks: tuple[Look, ...] = ()
    names: tuple[str, ...] = ()
    uses: tuple[int, ...] = ()
    bound: tuple[Sdf.Path | None, ...] = ()
    item: Item | None = None
    own: bool = False
    tops: tuple[Sdf.Path, ...] = ()
    mapped: dict[str, bool] = field(default_factory=dict)

    @staticmethod
    def of(shape: DrawnShape) -> _Reading:
        path = shape.prim.GetPath()
        reading = _Reading(shape, path, str(path))
        reading.take(shape)
        return reading

    def take(self, shape: DrawnShape) -> None:
        """Be the reading of a shape as it is now."""
        tops = {self.path, shape.shared.GetPath(), *(subset.GetPath() for subset in shape.subsets)}
        for link in shape.chain:
            tops |= {link.instancer.GetPath(), link.root.GetPath()}
        self.shape, self.tops = shape, tuple(tops)

    @property
    def parts(self) -> list[Usd.Prim]:
        """The prims that may have materials: itself, and its subsets."""
        return [self.shape.prim, *(subset.GetPrim() for subset in self.shape.subsets)]

    @property
    def is_instance(self) -> bool:
        return bool(self.shape.chain) or self.shape.prim.IsInstanceProxy()


@dataclass
class Changes:
    """What changed since shapes were read, as prims: each stands for all that is at or below it.

    Attributes
    ----------
    composed : composed anew; the root stands for everything.
    placed : what is there may be seen elsewhere, or no more.
    reshaped : it may have another shape.
    rebound : it may have another material; the root stands for everything.
    painted : materials and nodes of theirs that are others.
    """

    composed: set[Sdf.Path] = field(default_factory=set)
    placed: set[Sdf.Path] = field(default_factory=set)
    reshaped: set[Sdf.Path] = field(default_factory=set)
    rebound: set[Sdf.Path] = field(default_factory=set)
    painted: set[Sdf.Path] = field(default_factory=set)

    def __bool__(self) -> bool:
        return any((self.composed, self.placed, self.reshaped, self.rebound, self.painted))


class ShapeReadings:
    """Reads the shapes of a stage.

    Attributes
    ----------
    items, materials : of the last reading, for a `Snapshot`; the very same objects while nothing in them
        changes, so that a renderer may keep what it made of them.
    standing : prim paths of the items.
    changes : what changed since the last reading; who hears of a change adds it there.
    is_tangled : whether there are instances or collections, so that what a prim decides may stand anywhere.
    """

    def __init__(self, stage: Usd.Stage) -> None:
        self._stage = stage
        self.items: tuple[Item, ...] = ()
        self.materials: tuple[Material, ...] = ()
        self.standing: list[str] = []
        self.changes, self.is_tangled = Changes(), False
        self._all: list[_Reading] | None = None
        self._shown: list[_Reading] = []  # those of the items
        self._below: dict[Sdf.Path, set[_Reading]] | None = None  # prim → what it or what it holds decides
        self._painters: frozenset[Sdf.Path] = frozenset()  # all materials of the stage
        self._looks = SceneLooks()
        self._numbered: list[Look] = []  # those of `materials`
        self._numbers: dict[str, int] = {}  # path of a material → its place in `materials`
        self._geometry: dict[Sdf.Path, tuple[ShapeSource, Geometry]] = {}
        self._doubtful: set[Sdf.Path] = set()  # of those, what has to be compared again
        self._uv_sets: dict[Sdf.Path, tuple[str, ...]] = {}
        self._last: Moment | None = None
        self._animated: bool | None = None
        self._only_moves = False  # between frames: transforms of the movers differ, nothing else
        self._unasked: set[_Reading] = set()  # of which it is not known
        self._moving: set[_Reading] = set()  # whose place differs between frames
        self._varying: set[_Reading] = set()  # of which something else does
        self._has_lost = False  # since materials were numbered, readings that were there

    # --- reading -----------------------------------------------------------------------------

    def read(self, at: Moment, told: Callable[[Sequence[Material]], None] | None) -> None:
        """Read what changed, and what differs between the last time and this.

        Parameters
        ----------
        told : is given the materials where anything is read, as soon as they are known: shapes take longer.
        """
        last = self._last
        whole = last is None or last.levels != at.levels
        if whole:
            self._doubtful |= set(self._geometry)
        elif last is not None and (last.frame, last.shutter) != (at.frame, at.shutter):
            if self.changes:
                whole = self._animated is not False  # what is stale cannot be asked any more
            elif self.moves_over_time() and self._only_moves:
                self._move(at)
                self._last = at
                return
            else:
                whole = self.moves_over_time()
        if not (whole or self.changes):
            self._last = at
            return
        affected = self._affected(at.time, whole)
        differs = self._see(affected, at.time) or self._has_lost
        is_renumbered = differs and self._number()
        self._show_materials()
        if told is not None:
            told(self.materials)
        self._place(affected, at, is_later=last is None or last.frame != at.frame)
        self._gather(is_renumbered)
        self.changes, self._has_lost, self._last = Changes(), False, at

    def moves_over_time(self) -> bool:
        """Whether anything differs between frames; looked up once."""
        if self._animated is None:
            for reading in self._unasked:
                if transform_varies(reading.shape.placed_by):
                    self._moving.add(reading)
                if _varies_otherwise(reading.shape):
                    self._varying.add(reading)
            self._unasked = set()
            for look in self._numbered:
                if look.varies is None:
                    look.varies = looks_vary(look.source)
            others = bool(self._varying) or any(look.varies for look in self._numbered)
            self._animated, self._only_moves = others or bool(self._moving), not others
        return self._animated

    def placed_by(self) -> Iterator[Usd.Prim]:
        """For each item, the prim whose transform places it."""
        return (reading.shape.placed_by for reading in self._shown)

    def unmapped(self) -> Iterator[tuple[str, str]]:
        """Meshes of the items, and texture coordinates that their materials read and they lack."""
        for reading in self._shown:
            used = (reading.looks[k] for k in reading.uses)
            names = dict.fromkeys(name for look in used for name in look.uv_sets)
            if not names or not reading.shape.prim.IsA(UsdGeom.Mesh):
                continue
            held = UsdGeom.PrimvarsAPI(reading.shape.prim)
            for name in names:
                if name not in reading.mapped:
                    primvar = held.FindPrimvarWithInheritance(name)
                    reading.mapped[name] = bool(primvar and primvar.HasValue())
                if not reading.mapped[name]:
                    yield reading.name, name

    # --- what is to be read anew -------------------------------------------------------------

    @property
    def _readings(self) -> list[_Reading]:
        return self._all or []

    def _affected(self, time: Usd.TimeCode, whole: bool) -> Collection[_Reading]:
        """The readings that are to be made anew; those of shapes that came are among them."""
        affected: set[_Reading] = set()
        if self._all is None or not all(
            self._recompose(path, affected) for path in sorted(self.changes.composed)
        ):
            self._find()
            whole, affected = True, set()
        reshaped = self._depending_on(self.changes.reshaped)
        for reading in reshaped:
            self._index(reading, there=False)
            reading.take(found_again(reading.shape))
            self._index(reading)
            self._doubtful.add(reading.shape.shared.GetPath())
        affected |= reshaped | self._depending_on(self.changes.placed) | self._repainted(time)
        if not whole:
            affected |= self._bound_otherwise()
        self._ask_again(affected)
        if whole or not affected:
            return self._readings if whole else ()
        return [reading for reading in self._readings if reading in affected]  # in the order of the stage

    def _ask_again(self, readings: set[_Reading], *, gone: bool = False) -> None:
        """Forget what differs between frames of some readings; unless they are gone it is looked up again."""
        self._moving -= readings
        self._varying -= readings
        self._unasked = self._unasked - readings if gone else self._unasked | readings

    def _find(self) -> None:
        """Look for shapes anew; the triangles of those that are there still are compared."""
        composed = self.changes.composed or {Sdf.Path.absoluteRootPath}
        self._doubtful |= {
            known for known in self._geometry
            # Prototypes may change places when what has them is composed anew; parts stand below their mesh.
            if Usd.Prim.IsPathInPrototype(known)
            or any(known.HasPrefix(path) or path.HasPrefix(known) for path in composed)
        }  # fmt: skip
        found = find_shapes(self._stage.GetPseudoRoot())
        self._all = [_Reading.of(shape) for shape in found.shapes]
        self._painters = found.materials
        self.is_tangled = found.has_collections or any(reading.is_instance for reading in self._all)
        self._moving, self._varying, self._unasked = set(), set(), set(self._all)
        self._has_lost = True
        self._below = None
        self._looks.forget(Sdf.Path.absoluteRootPath)

    def _recompose(self, path: Sdf.Path, affected: set[_Reading]) -> bool:
        """Put the readings of what now stands at or below a prim in the place of those that stood there.

        False where others may have to be found, too.
        """
        if path == Sdf.Path.absoluteRootPath or Usd.Prim.IsPathInPrototype(path) or self.is_tangled:
            return False
        prim = self._stage.GetPrimAtPath(path)
        found = find_shapes(prim) if prim else FoundShapes([], frozenset(), False)
        new = [_Reading.of(shape) for shape in found.shapes]
        old = {reading for reading in self._depending_on([path]) if reading.path.HasPrefix(path)}
        if found.has_collections or any(reading.is_instance for reading in new):
            return False
        self.changes.reshaped |= {reading.path for reading in self._hosts(path) if reading not in old}
        if old or new:
            places = [k for k, reading in enumerate(self._readings) if reading in old]
            if not places or places[-1] - places[0] != len(places) - 1:
                return False  # where they stand among the others is not known
            self._readings[places[0] : places[-1] + 1] = new
            for reading in old:
                self._index(reading, there=False)
            for reading in new:
                self._index(reading)
                self._doubtful.add(reading.path)
            self._ask_again(old, gone=True)
            self._has_lost = True
            affected -= old
            affected |= set(new)
        gone = {painter for painter in self._painters if painter.HasPrefix(path)}
        self._painters = self._painters - gone | found.materials
        lost = self._looks.forget(path)
        if not found.materials <= gone:
            affected |= set(self._readings)  # shapes anywhere may have asked for them
        elif lost:
            affected |= {reading for reading in self._readings if not lost.isdisjoint(reading.looks)}
        if lost:
            affected |= {reading for reading in self._readings if reading.own}
        return True

    def _bound_otherwise(self) -> set[_Reading]:
        """Those that have other materials of the scene than before."""
        if Sdf.Path.absoluteRootPath in self.changes.rebound:
            asked = [reading for reading in self._readings if reading.looks]
        else:
            asked = [reading for reading in self._depending_on(self.changes.rebound) if reading.looks]
        return {
            reading for reading, bound in zip(asked, _bound_to(asked), strict=True)
            if reading.bound != tuple(map(_path_of, bound)) or reading.path in self.changes.rebound
        }  # fmt: skip

    def _repainted(self, time: Usd.TimeCode) -> set[_Reading]:
        """Read materials again that may be others; those that need more than that."""
        changed, others = self._looks.repaint(self.changes.painted, time)
        return {
            reading for reading in self._readings if changed
            if reading.own or not others.isdisjoint(reading.looks)
        }  # fmt: skip

    def _depending_on(self, paths: Iterable[Sdf.Path]) -> set[_Reading]:
        """The readings of what stands at or below some prims, or is an instance of it."""
        if paths and self._below is None:
            self._below = {}
            for reading in self._readings:
                self._index(reading)
        return {reading for path in paths for reading in (self._below or {}).get(path, ())}

    def _hosts(self, path: Sdf.Path) -> set[_Reading]:
        """What depends on a prim, and the mesh that it may be a part of, with a material of its own."""
        above = path.GetParentPath()
        meshes = {reading for reading in self._depending_on([above]) if reading.path == above}
        return self._depending_on([path]) | meshes

    def _index(self, reading: _Reading, there: bool = True) -> None:
        if self._below is not None:
            for path in {path for top in reading.tops for path in top.GetPrefixes()}:
                at = self._below.setdefault(path, set())
                (at.add if there else at.discard)(reading)

    # --- reading them anew -------------------------------------------------------------------

    def _see(self, affected: Collection[_Reading], time: Usd.TimeCode) -> bool:
        """Read which of them are shown, and their materials; whether any has others than before."""
        shown, before = [], [reading.looks for reading in affected]
        for reading in affected:
            reading.looks, reading.names, reading.uses, reading.bound, reading.own = (), (), (), (), False
            reading.mapped = {}
            if is_shown(reading.shape, time):
                shown.append(reading)
        for reading, bound in zip(shown, _bound_to(shown), strict=True):
            reading.bound = tuple(map(_path_of, bound))
            materials = [bound[0], *(material or bound[0] for material in bound[1:])]
            looks: dict[str, Look] = {}
            used = []
            for part, material in zip(reading.parts, materials, strict=True):
                look, is_own = self._looks.on(part, material, time)
                reading.own |= is_own
                used.append(looks.setdefault(look.material.path, look))
            glow = mesh_light(reading.shape.prim, time)
            if glow is not None:
                # What such a mesh sends out is a glow of its own; its surface stays what it is.
                reading.own = True
                for k, look in enumerate(used):
                    path = f"{reading.name} {look.material.path}"
                    glowing = Material(path, {**look.material.inputs, "emissiveColor": glow})
                    used[k] = looks.setdefault(path, Look(glowing, reading.shape.prim, look.uv_sets))
            reading.looks, reading.names = tuple(looks.values()), tuple(looks)
            reading.uses = tuple(map(reading.looks.index, used))
        return before != [reading.looks for reading in affected]

    def _number(self) -> bool:
        """Number materials in the order in which shapes show them; whether any has another number now."""
        before, self._numbers, self._numbered = self._numbers, {}, []
        met: set[tuple[str, ...]] = set()
        for reading in self._readings:
            if reading.names not in met:
                met.add(reading.names)
                for name, look in zip(reading.names, reading.looks, strict=True):
                    if name not in self._numbers:
                        self._numbers[name] = len(self._numbered)
                        self._numbered.append(look)
        return any(self._numbers.get(name, number) != number for name, number in before.items())

    def _show_materials(self) -> None:
        materials = tuple(look.material for look in self._numbered)
        # Equal materials keep their identity, so that a renderer may keep what it made of them.
        if materials != self.materials:
            self.materials = materials

    def _place(self, affected: Iterable[_Reading], at: Moment, *, is_later: bool) -> None:
        """Read where they stand, and their triangles."""
        moments = at.while_open()
        for reading in affected:
            reading.item = None
            if not reading.looks:
                continue
            shape, state = reading.shape, state_of(reading.shape.prim)
            if shape.chain:
                matrix, copies = copies_of(shape.prim, shape.chain, at.time, at.transforms)
            else:
                matrix, copies = matrix_array(at.transforms.GetLocalToWorldTransform(shape.prim)), None
            if not np.isfinite(matrix).all() or (copies is not None and not len(copies)):
                continue
            read_by = next(
                (reading.looks[k].uv_sets for k in reading.uses if reading.looks[k].uv_sets), ("st",)
            )
            reading.item = Item(
                self._geometry_of(shape, at, read_by, is_later), matrix, self._numbers_of(reading),
                matte=state == "matte", catches=state == "catch", seen=state != "unseen", copies=copies,
                track=track_of(shape, moments, copies),
                sheet=bool(UsdGeom.Gprim(shape.prim).GetDoubleSidedAttr().Get(at.time)),
            )  # fmt: skip

    def _numbers_of(self, reading: _Reading) -> tuple[int, ...]:
        return tuple(self._numbers[reading.names[k]] for k in reading.uses)

    def _gather(self, is_renumbered: bool) -> None:
        """Put items together from all that was read."""
        shown = [reading for reading in self._readings if reading.item is not None]
        if is_renumbered:
            for reading in shown:
                assert reading.item is not None
                if (used := self._numbers_of(reading)) != reading.item.materials:
                    reading.item = replace(reading.item, materials=used)
        if shown != self._shown:
            self._shown, self.standing = shown, [reading.name for reading in shown]
        self._put_together()
        self._animated = None

    def _put_together(self) -> None:
        items = tuple([reading.item for reading in self._shown if reading.item is not None])
        if len(items) != len(self.items) or any(map(operator.is_not, items, self.items)):
            self.items = items

    def _move(self, at: Moment) -> None:
        """Put what moves where it is now; nothing else differs between frames."""
        moments = at.while_open()
        for reading in self._moving:
            if reading.item is None:
                continue
            matrix = matrix_array(at.transforms.GetLocalToWorldTransform(reading.shape.placed_by))
            if not np.isfinite(matrix).all():
                matrix = reading.item.to_world
            track = track_of(reading.shape, moments, reading.item.copies)
            reading.item = replace(reading.item, to_world=matrix, track=track)
        self._put_together()

    def _geometry_of(self, shape: DrawnShape, at: Moment, uv: tuple[str, ...], is_later: bool) -> Geometry:
        """The triangles of a shape: the very same object for as long as it is the same.

        Parameters
        ----------
        uv : the primvars its textures are read by.
        is_later : whether the last reading was of another frame.
        """
        path = shape.shared.GetPath()
        if self._uv_sets.setdefault(path, uv) != uv:
            self._uv_sets[path] = uv
            self._doubtful.add(path)
        known = self._geometry.get(path)
        if known is None or (shape.varies and is_later) or path in self._doubtful:
            source = read_shape(shape.shared, shape.subsets, at.time, at.levels, uv)
            if known is None or known[0] != source:
                known = self._geometry[path] = source, source.geometry(str(shape.prim.GetPath()))
            self._doubtful.discard(path)
        return known[1]


def _bound_to(readings: Sequence[_Reading]) -> list[list[UsdShade.Material]]:
    """The materials of the scene that each part of some shapes has; one that is not there is false."""
    parts = [part for reading in readings for part in reading.parts]
    found = UsdShade.MaterialBindingAPI.ComputeBoundMaterials(parts, UsdShade.Tokens.full)[0] if parts else []
    bound = iter(found)
    return [list(islice(bound, 1 + len(reading.shape.subsets))) for reading in readings]


def _path_of(material: UsdShade.Material) -> Sdf.Path | None:
    return material.GetPath() if material else None


def _varies_otherwise(shape: DrawnShape) -> bool:
    """Whether anything of a shape but its place differs between frames."""
    return (
        shape.varies or visibility_varies(shape.prim) or chain_varies(shape.chain)
        or (bool(shape.chain) and transform_varies(shape.prim))
    )  # fmt: skip


def state_of(prim: Usd.Prim) -> str:
    """What edits make of a prim: matte, catching shadow, unseen; empty where nothing of that kind."""
    while prim and not prim.IsPseudoRoot():
        attribute = prim.GetAttribute(STATE)
        if attribute and attribute.HasAuthoredValue():
            return str(attribute.Get())
        prim = prim.GetParent()
    return ""
