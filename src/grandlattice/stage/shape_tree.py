"""The shapes of a stage and all that is above them: where they stand, what hides them, what is bound to them.

The tree follows the stage: where something was composed anew its rows are exchanged, and what is said of a
prim is carried down to all below it.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from functools import cached_property
from operator import itemgetter

import numpy as np
from pxr import Sdf, Usd, UsdGeom, UsdLux

from grandlattice.scene_records import Matrix
from grandlattice.stage.drawn_shapes import is_visible
from grandlattice.stage.edits.visibility import STATE
from grandlattice.stage.instancing import chain_varies
from grandlattice.stage.material_bindings import MaterialBindings
from grandlattice.stage.shape_rows import (
    NOTHING,
    REPEATED,
    SHAPE,
    Bools,
    Branch,
    ShapeRows,
    find_branch,
)
from grandlattice.stage.variation import transform_varies, visibility_varies

_AT_ONCE = 2048  # matrices that are multiplied, so that they stay in the processor's cache
STATES = "", "matte", "catch", "unseen"
"""What edits may make of a prim and all below it."""


@dataclass
class Heard:
    """What differs after rows were read.

    Attributes
    ----------
    moved : (R,) rows that stand elsewhere; anything : whether any row says anything else than before.
    """

    moved: Bools
    anything: bool


@dataclass
class ShapeTree:
    """Rows of all that a stage may show.

    Attributes
    ----------
    rows, bindings : what is known of each prim.
    materials : paths of all materials.
    exchanged : materials that came or went since they were last asked for.
    """

    stage: Usd.Stage
    bindings: MaterialBindings = field(default_factory=MaterialBindings)
    exchanged: frozenset[Sdf.Path] = frozenset()

    def __post_init__(self) -> None:
        self._take(find_branch(self.stage.GetPseudoRoot()))

    def _take(self, branch: Branch) -> None:
        self.rows, self.materials = branch.rows, branch.materials
        self._instances, self._instancers = branch.instances, branch.instancers
        self._forget("row_of", "_instances_of", "_listeners")

    def _forget(self, *names: str) -> None:
        """Have what was found out found out again."""
        for name in names:
            self.__dict__.pop(name, None)

    @cached_property
    def row_of(self) -> dict[str, int]:
        """Rows by the paths of their prims; without what instancers repeat."""
        names, is_repeated = self.rows.names, self.rows.kind == REPEATED
        found = dict(zip(names, range(len(names)), strict=True))
        repeated = {names[row] for row in np.flatnonzero(is_repeated).tolist()}
        for name in repeated:
            del found[name]
        if repeated:  # they may have rows of their own as well
            found |= {n: row for row, n in enumerate(names) if n in repeated and not is_repeated[row]}
        return found

    @cached_property
    def _instances_of(self) -> dict[Sdf.Path, list[str]]:
        """Prototype → names of its instances."""
        found = defaultdict(list)
        for name, prototype in self._instances.items():
            found[prototype].append(name)
        return found

    @cached_property
    def _listeners(self) -> tuple[dict[Sdf.Path, set[str]], dict[Sdf.Path, set[str]]]:
        """Names of instancers, by what they repeat, and by that and all above it."""
        exactly, above = defaultdict(set), defaultdict(set)
        for name, paths in self._instancers.items():
            for path in paths:
                exactly[path].add(name)
                for prefix in path.GetPrefixes():
                    above[prefix].add(name)
        return exactly, above

    # --- following the stage -----------------------------------------------------------------

    def everywhere(self, path: Sdf.Path) -> Iterator[Sdf.Path]:
        """A prim's path, or where instances have it if it is part of a prototype."""
        if not Usd.Prim.IsPathInPrototype(path):
            yield path
            return
        prototype = path.GetPrefixes()[0]
        for name in self._instances_of.get(prototype, ()):
            yield path.ReplacePrefix(prototype, Sdf.Path(name))

    def instancers_of(self, path: Sdf.Path) -> set[str]:
        """Names of point instancers that repeat a prim, something below it, or something it is part of."""
        if Usd.Prim.IsPathInPrototype(path):
            return set(self._instancers)  # what they repeat may be an instance, which has no rows
        exactly, above = self._listeners
        found = set(above.get(path, ()))
        for prefix in path.GetPrefixes() if exactly else ():
            found |= exactly.get(prefix, set())
        return found

    def recompose(self, paths: Iterable[Sdf.Path]) -> set[Sdf.Path]:
        """Exchange the rows at and below prims that were composed anew, and of what hangs on them.

        Returns
        -------
        The topmost paths whose rows were exchanged.
        """
        named, done = set(paths), set[Sdf.Path]()
        wanted = {each for path in named for each in self.everywhere(path)}
        while named or wanted:
            self._exchange(set(Sdf.Path.RemoveDescendentPaths([*wanted, *done])) - done)
            done |= wanted
            hanging = {Sdf.Path(name) for path in named | wanted for name in self.instancers_of(path)}
            named, wanted = set(), (hanging | set(self._differently_instanced())) - done
        return done

    def _differently_instanced(self) -> Iterator[Sdf.Path]:
        """Instances that have another prototype than they had."""
        for name, prototype in self._instances.items():
            prim = self.rows.prims[self.row_of[name]]
            if not prim or not prim.IsInstance() or prim.GetPrototype().GetPath() != prototype:
                yield Sdf.Path(name)

    def _exchange(self, paths: set[Sdf.Path]) -> None:
        """Put the rows of what now stands at or below some prims in the place of those that stood there."""
        if Sdf.Path.absoluteRootPath in paths:
            branch = find_branch(self.stage.GetPseudoRoot())
            self.exchanged |= self.materials | branch.materials
            self._take(branch)
            return
        tops = {self._mesh_of(path) for path in paths}
        found = {path: find_branch(self.stage.GetPrimAtPath(path)) for path in tops}
        known = {path: self.row_of[str(path)] for path in tops if str(path) in self.row_of}
        gone = self.rows.below(known.values())
        for names in (self._instances, self._instancers):
            for name in [name for name in names if gone[self.row_of[name]]]:
                del names[name]
        pieces = [(row, found[path].rows) for path, row in sorted(known.items(), key=itemgetter(1))]
        if self.rows.exchange(pieces):
            self._forget("row_of")
        for path in sorted(tops - known.keys()):
            self._insert(path, found[path].rows)
        for branch in found.values():
            self._instances |= branch.instances
            self._instancers |= branch.instancers
        self._forget("_instances_of", "_listeners")
        lost = frozenset(each for each in self.materials if not tops.isdisjoint(each.GetPrefixes()))
        came = frozenset(each for branch in found.values() for each in branch.materials)
        self.exchanged |= lost | came
        self.materials = self.materials - lost | came

    def _mesh_of(self, path: Sdf.Path) -> Sdf.Path:
        """The mesh that a prim may be, or may have been, a part of; else the prim itself."""
        holder = self._holder(path)
        return Sdf.Path(self.rows.names[holder]) if self.rows.kind[holder] == SHAPE else path

    def _insert(self, path: Sdf.Path, new: ShapeRows) -> None:
        """Put rows where a prim stands that had none."""
        holder = self._holder(path)
        if len(new) and self.rows.names[holder] not in self._instancers:  # where it is found from there
            self.rows.insert(self._slot(path, holder), new, holder)
            self._forget("row_of")

    def _holder(self, path: Sdf.Path) -> int:
        """The nearest row above a prim."""
        while (path := path.GetParentPath()) != Sdf.Path.absoluteRootPath:
            if (row := self.row_of.get(str(path))) is not None:
                return row
        return 0

    def _slot(self, path: Sdf.Path, parent: int) -> int:
        """The row at which a prim that had none stands among those of its parent."""
        slot = parent + 1
        above = self.rows.prims[parent]
        for sibling in above.GetFilteredChildren(Usd.TraverseInstanceProxies()):
            if sibling.GetPath() == path:
                break
            row = self.row_of.get(str(sibling.GetPath()))
            if row is not None:
                slot = int(self.rows.end[row])
        return slot

    # --- what prims say ----------------------------------------------------------------------

    def read(self, chosen: Iterable[int], transforms: UsdGeom.XformCache) -> Heard:
        """Read what some prims, and those that are new, say, and carry it down to all below them.

        Parameters
        ----------
        transforms : at the time.
        """
        rows, new = self.rows, self.rows.new.copy()
        asked = np.union1d(np.flatnonzero(new), np.fromiter(chosen, np.int64))
        columns = rows.hides, rows.says, rows.moves, rows.flickers, rows.changes
        before = [rows.local[asked], rows.resets[asked], *(column[asked] for column in columns)]
        time = transforms.GetTime()
        for row in asked.tolist():
            if rows.kind[row] == REPEATED:
                self._read_repeated(row, time)
            else:
                self._read_row(row, time, transforms)
        moved = (rows.local[asked] != before[0]).any(axis=(1, 2)) | (rows.resets[asked] != before[1])
        says = np.zeros(len(asked), bool)
        for column, was in zip(columns, before[2:], strict=True):
            says |= column[asked] != was
        self._carry_down(rows.below(asked[says].tolist()) | new)
        placed, elsewhere = rows.below(asked[moved].tolist()) | new, new.copy()
        if placed.any():
            known, rows.world = rows.world, self._worlds(rows.local, rows.world, placed)
            differs = rows.world[placed] != known[placed]
            elsewhere[placed] |= differs.reshape(-1, 16).any(axis=1)
        rows.new[:] = False
        return Heard(elsewhere, bool(says.any() or elsewhere.any() or new.any()))

    def _read_row(self, row: int, time: Usd.TimeCode, transforms: UsdGeom.XformCache) -> None:
        rows, prim = self.rows, self.rows.prims[row]
        hides = flickers = moves = binds = changes = placed = False
        says = NOTHING
        for name in prim.GetAuthoredPropertyNames():
            if name.startswith("xformOp"):
                placed = True
            elif name.startswith("material:binding"):
                binds = True
            elif name == "visibility" and (imageable := UsdGeom.Imageable(prim)):
                attribute = imageable.GetVisibilityAttr()
                hides = attribute.Get(time) == UsdGeom.Tokens.invisible
                flickers = attribute.ValueMightBeTimeVarying()
            elif name == STATE:
                said = str(prim.GetAttribute(STATE).Get() or "")
                says = STATES.index(said) if said in STATES else 0
            elif name.startswith("primvars:") and rows.kind[row] != SHAPE:
                changes = changes or bool(prim.GetAttribute(name).ValueMightBeTimeVarying())
        if placed:
            rows.local[row], rows.resets[row] = transforms.GetLocalTransformation(prim)
            moves = bool(UsdGeom.Xformable(prim)) and UsdGeom.Xformable(prim).TransformMightBeTimeVarying()
        elif not rows.new[row]:
            rows.local[row], rows.resets[row] = np.eye(4), False
        rows.hides[row], rows.flickers[row], rows.moves[row], rows.says[row] = hides, flickers, moves, says
        shape = rows.shapes[row]
        rows.changes[row] = changes or (shape is not None and shape.varies)
        if rows.kind[row] == SHAPE:
            self._read_lamp(row)
        if binds:
            self.bindings.read(rows, row)
        elif not rows.new[row]:
            rows.direct[row], rows.strong[row], rows.gathers[row] = NOTHING, False, False

    def _read_lamp(self, row: int) -> None:
        """Whether a shape is a light itself."""
        rows, shape = self.rows, self.rows.shapes[row]
        is_lamp = shape is not None and shape.prim.HasAPI(UsdLux.MeshLightAPI)
        rows.unread[row] |= is_lamp != rows.lamp[row]
        rows.lamp[row] = is_lamp

    def _read_repeated(self, row: int, time: Usd.TimeCode) -> None:
        """What is said of a shape that an instancer repeats: it may stand anywhere on the stage."""
        rows, shape = self.rows, self.rows.shapes[row]
        assert shape is not None
        holding = [shape.prim, *(link.instancer for link in shape.chain)]
        rows.hides[row] = not all(is_visible(prim, time) for prim in holding)
        rows.flickers[row] = any(map(visibility_varies, holding))
        rows.says[row] = said if (said := _said_above(shape.prim)) > 0 else NOTHING
        rows.changes[row] = shape.varies or chain_varies(shape.chain) or transform_varies(shape.prim)
        self._read_lamp(row)

    def _carry_down(self, chosen: Bools) -> None:
        rows = self.rows
        for level in rows.levels(chosen):
            above = rows.parent[level]
            rooted = above < 0
            rows.hidden[level] = rows.hides[level] | (rows.hidden[above] & ~rooted)
            inherits = (rows.says[level] < 0) & ~rooted
            rows.state[level] = np.where(inherits, rows.state[above], rows.says[level])
            follows = ~rooted & ~rows.resets[level]
            rows.moving[level] = rows.moves[level] | (rows.moving[above] & follows)
            rows.flickering[level] = rows.flickers[level] | (rows.flickering[above] & ~rooted)
            rows.changing[level] = rows.changes[level] | (rows.changing[above] & ~rooted)

    def _worlds(self, local: Matrix, known: Matrix, chosen: Bools) -> Matrix:
        """Where all rows stand, (R, 4, 4); only those `chosen` stand elsewhere than is known."""
        rows, world = self.rows, known.copy()
        for level in rows.levels(chosen):
            follows = (rows.parent[level] >= 0) & ~rows.resets[level]
            alone, under = level[~follows], level[follows]
            world[alone] = local[alone]
            for begin in range(0, len(under), _AT_ONCE):
                some = under[begin : begin + _AT_ONCE]
                world[some] = _product(local[some], world[rows.parent[some]])
        return world

    def worlds_at(self, transforms: UsdGeom.XformCache) -> Matrix:
        """Where all rows stand at another time, (R, 4, 4)."""
        local = self.rows.local.copy()
        for row in np.flatnonzero(self.rows.moves).tolist():
            local[row] = transforms.GetLocalTransformation(self.rows.prims[row])[0]
        return self._worlds(local, self.rows.world, self.rows.moving)

    def parts(self, row: int) -> list[int]:
        """Rows of the parts of a mesh that may have materials of their own."""
        shape = self.rows.shapes[row]
        if shape is None or not shape.subsets or self.rows.kind[row] != SHAPE:
            return []
        return [self.row_of[str(subset.GetPath())] for subset in shape.subsets]


def _said_above(prim: Usd.Prim) -> int:
    """What edits make of a prim, as a number of `STATES`; 0 where nothing of that kind."""
    return STATES.index(state) if (state := state_of(prim)) in STATES else 0


def state_of(prim: Usd.Prim) -> str:
    """What edits make of a prim: matte, catching shadow, unseen; empty where nothing of that kind."""
    while prim and not prim.IsPseudoRoot():
        attribute = prim.GetAttribute(STATE)
        if attribute and attribute.HasAuthoredValue():
            return str(attribute.Get())
        prim = prim.GetParent()
    return ""


def _product(a: Matrix, b: Matrix) -> Matrix:
    """Products of matrices, (N, 4, 4), added up in one order whatever the machine."""
    a, b = (np.ascontiguousarray(each.transpose(1, 2, 0)) for each in (a, b))  # numpy likes long rows
    total = a[:, 0, None] * b[0]
    for k in range(1, 4):
        total += a[:, k, None] * b[k]
    return np.ascontiguousarray(total.transpose(2, 0, 1))
