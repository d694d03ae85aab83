"""Prims that shapes hang on, one a row, and what is known of each.

Rows are in the order of the stage, so that a prim and all that stands below it are a slice: what is said of a
prim for everything below it costs no loop over prims.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, fields
from itertools import chain

import numpy as np
from numpy.typing import NDArray
from pxr import Sdf, Usd, UsdGeom, UsdShade

from grandlattice.scene_records import Matrix
from grandlattice.stage.drawn_shapes import DrawnShape, drawn_shape
from grandlattice.stage.instancing import chain_of, is_drawn
from grandlattice.stage.shapes import ReadShape, is_shape

Bools = NDArray[np.bool_]
Ints = NDArray[np.int64]

GROUP, SHAPE, REPEATED, PART = range(4)
"""Kinds of rows: what only holds others, a shape, one that a point instancer repeats, a part of a mesh that
may have a material of its own."""

NOTHING = -1


@dataclass(eq=False)
class ShapeRows:
    """Rows of prims, in the order of the stage.

    Attributes
    ----------
    prims, names : with their paths; what an instancer repeats stands below the instancer.
    shapes : what is drawn of SHAPE and REPEATED.
    kind : see above; parent : the row above, or −1; end : the row after the last one below.
    depth : how many rows are above it.
    local, resets : (R, 4, 4) and (R,) where it stands in what is above it, or in the world.
    hides, says : whether it hides all below it, and what edits make of that: a number of `STATES`, or −1.
    moves, flickers, changes : whether its place, its visibility, or what shapes below it are like differs
        between frames.
    world, hidden, state, moving, flickering, changing : the same with all that is above it.
    direct, strong, gathers : what `MaterialBindings` read: (R, 2) numbers of materials that are bound
        directly and whether they are stronger than what is bound below, for each purpose; and whether there
        are bindings by collections.
    bound : number of the path of its material, or −1; found for all rows together.
    more_bound : for REPEATED also those of its parts.
    uses : number of its materials as they are shown; `unread` where they have to be read.
    parted : whether parts of it may have materials of their own.
    own : whether it shows a material in a way of its own; lamp : whether it is a light itself.
    drawn : its triangles, and their serial number; `stale` where they have to be read.
    copies : of what is repeated.
    sheet : whether it is open glass; `misplaced` where that, or copies, have to be read.
    mapped : which primvars it has, of those that were asked for.
    new : nothing was read of it.
    """

    prims: list[Usd.Prim]
    names: list[str]
    shapes: list[DrawnShape | None]
    kind: NDArray[np.int8]
    parent: Ints
    end: Ints
    depth: Ints
    local: Matrix
    resets: Bools
    hides: Bools
    says: NDArray[np.int8]
    moves: Bools
    flickers: Bools
    changes: Bools
    world: Matrix
    hidden: Bools
    state: NDArray[np.int8]
    moving: Bools
    flickering: Bools
    changing: Bools
    direct: Ints
    strong: Bools
    gathers: Bools
    bound: Ints
    more_bound: list[tuple[int, ...]]
    uses: Ints
    unread: Bools
    parted: Bools
    own: Bools
    lamp: Bools
    drawn: list[ReadShape | None]
    serial: Ints
    stale: Bools
    copies: list[Matrix | None]
    sheet: Bools
    misplaced: Bools
    mapped: list[dict[str, bool] | None]
    new: Bools

    def __len__(self) -> int:
        return len(self.prims)

    @property
    def is_drawn(self) -> Bools:
        """Which are shapes."""
        return (self.kind == SHAPE) | (self.kind == REPEATED)

    def below(self, tops: Iterable[int]) -> Bools:
        """Some rows and all below them."""
        found = np.zeros(len(self), bool)
        for row in tops:
            found[row : self.end[row]] = True
        return found

    def above(self, row: int) -> Iterator[int]:
        """The rows above one, from below."""
        while (row := int(self.parent[row])) >= 0:
            yield row

    def levels(self, chosen: Bools) -> Iterator[Ints]:
        """Some rows by their depth, so that each comes after those above it."""
        rows = np.flatnonzero(chosen)
        depth = self.depth[rows]
        for level in np.flatnonzero(np.bincount(depth)) if len(rows) else ():
            yield rows[depth == level]

    def exchange(self, pieces: Sequence[tuple[int, ShapeRows]]) -> bool:
        """Put rows in the place of some rows and all below them.

        Parameters
        ----------
        pieces : row and what takes its place, which may be nothing; in ascending order, none below another.

        Returns
        -------
        Whether prims came or went, so that others may stand at another row.
        """
        others = [(row, new) for row, new in pieces if not self._overwrite(row, new)]
        if others:
            self._splice(others)
        return bool(others)

    def _overwrite(self, row: int, new: ShapeRows) -> bool:
        """Put rows in the place of those of the same prims; whether they are the same."""
        old, holder = slice(row, int(self.end[row])), int(self.parent[row])
        same = new.names == self.names[old] and np.array_equal(new.kind, self.kind[old])
        if not same or not np.array_equal(new.end + row, self.end[old]):
            return False
        new.hang(row, holder, int(self.depth[holder]) + 1)
        for each in fields(self):
            getattr(self, each.name)[old] = getattr(new, each.name)
        return True

    def _splice(self, pieces: Sequence[tuple[int, ShapeRows]]) -> None:
        """Put rows in the place of more or fewer."""
        begins = [row for row, _ in pieces]
        ends = self.end[begins]
        more = np.array([len(new) for _, new in pieces], np.int64) - (ends - begins)
        shift = np.zeros(len(self) + 1, np.int64)  # of the rows that stay
        shift[ends] = more
        shift = np.cumsum(shift)
        holders = self.parent[begins]
        for (begin, new), holder in zip(pieces, holders, strict=True):
            new.hang(begin + int(shift[begin]), int(holder + shift[holder]), int(self.depth[holder]) + 1)
        self.parent = self.parent + np.where(self.parent >= 0, shift[self.parent], 0)
        self.end = self.end + shift[self.end]
        kept = np.split(np.arange(len(self)), np.stack([begins, ends], 1).reshape(-1))
        self._join(
            [slice(rows[0], rows[-1] + 1) if len(rows) else slice(0) for rows in kept[::2]],
            [new for _, new in pieces],
        )

    def insert(self, row: int, new: ShapeRows, holder: int) -> None:
        """Put rows before one, below a row that is above it."""
        new.hang(row, holder, int(self.depth[holder]) + 1)
        self.end[row:] += len(new)
        self.end[[holder, *self.above(holder)]] += len(new)
        self.parent[self.parent >= row] += len(new)
        self._join([slice(0, row), slice(row, len(self))], [new])

    def hang(self, begin: int, holder: int, depth: int) -> None:
        """Be part of others: from a row on, below another one."""
        self.parent = np.where(self.parent >= 0, self.parent + begin, holder)
        self.end, self.depth = self.end + begin, self.depth + depth

    def _join(self, kept: Sequence[slice], between: Sequence[ShapeRows]) -> None:
        """Put all columns together from pieces of their own and what comes between them."""
        for each in fields(self):
            mine = getattr(self, each.name)
            parts = [mine[kept[0]]]
            for rows, new in zip(kept[1:], between, strict=True):
                parts += [getattr(new, each.name), mine[rows]]
            joined = [*chain(*parts)] if isinstance(mine, list) else np.concatenate(parts)
            setattr(self, each.name, joined)


@dataclass(frozen=True)
class Branch:
    """What stands at or below a prim.

    Attributes
    ----------
    rows : of which nothing is read yet; their materials, triangles and places have to be.
    materials : paths of the materials there.
    instances : names of instances, and the prototypes they have.
    instancers : names of the outermost point instancers, and the paths of what these repeat.
    """

    rows: ShapeRows
    materials: frozenset[Sdf.Path]
    instances: dict[str, Sdf.Path]
    instancers: dict[str, frozenset[Sdf.Path]]


def find_branch(top: Usd.Prim | None) -> Branch:
    """Whatever may be drawn at or below a prim; what stands below a point instancer only as prototypes."""
    prims: list[Usd.Prim] = []
    names: list[str] = []
    shapes: list[DrawnShape | None] = []
    kinds: list[int] = []
    parents: list[int] = []
    place: dict[Sdf.Path, int] = {}
    materials, parts = set(), set[Sdf.Path]()
    instances, instancers = {}, {}
    found = iter(Usd.PrimRange(top, Usd.TraverseInstanceProxies())) if top else iter(())
    for prim in found:
        path, kind = prim.GetPath(), _kind_of(prim)
        if kind == "material":
            materials.add(path)
        if kind in ("material", "shading") or (kind == "part" and path not in parts):
            continue
        above = path.GetParentPath()
        while above not in place and not above.isEmpty:
            above = above.GetParentPath()
        row, shape = len(prims), None
        if kind == "shape" and is_drawn(prim):
            shape = drawn_shape(prim)
            parts.update(subset.GetPath() for subset in shape.subsets)
        prims.append(prim)
        names.append(str(path))
        shapes.append(shape)
        parents.append(place.get(above, NOTHING))
        kinds.append(PART if kind == "part" else SHAPE if shape is not None else GROUP)
        place[path] = row
        if prim.IsInstance():
            instances[names[row]] = prim.GetPrototype().GetPath()
        if kind == "instancer":
            instancers[names[row]] = repeated_by(prim)
            for part, chain in chain_of(prim):
                prims.append(part)
                names.append(str(part.GetPath()))
                shapes.append(drawn_shape(part, chain))
                parents.append(row)
                kinds.append(REPEATED)
            found.PruneChildren()
    return Branch(
        _new_rows(prims, names, shapes, kinds, parents), frozenset(materials), instances, instancers
    )


def repeated_by(instancer: Usd.Prim) -> frozenset[Sdf.Path]:
    """Paths of all that a point instancer repeats, there or not, and of the instancers among that."""
    found, asked = set(), [instancer]
    while asked:
        stage = (each := asked.pop()).GetStage()
        for path in UsdGeom.PointInstancer(each).GetPrototypesRel().GetForwardedTargets():
            root = stage.GetPrimAtPath(path)
            if path not in found and root:
                below = Usd.PrimRange(root, Usd.TraverseInstanceProxies())
                asked += [prim for prim in below if prim.IsA(UsdGeom.PointInstancer)]
            found |= {path, each.GetPath()}
    return frozenset(found)


_KINDS: dict[str, str] = {}


def _kind_of(prim: Usd.Prim) -> str:
    """What a prim's type means here; looked up once for each type."""
    name = prim.GetTypeName()
    kind = _KINDS.get(name)
    if kind is None:
        kinds = {
            "material": UsdShade.Material, "instancer": UsdGeom.PointInstancer, "part": UsdGeom.Subset,
            "shading": UsdShade.NodeGraph, "shading ": UsdShade.Shader,
        }  # fmt: skip
        found = (each.strip() for each, schema in kinds.items() if prim.IsA(schema))
        kind = _KINDS[name] = next(found, "shape" if is_shape(prim) else "")
    return kind


def _new_rows(
    prims: list[Usd.Prim], names: list[str], shapes: list[DrawnShape | None], kinds: Sequence[int],
    parents: Sequence[int],
) -> ShapeRows:  # fmt: skip
    count = len(prims)
    parent = np.array(parents, np.int64)
    depth, end = [0] * count, list(range(1, count + 1))
    for row in range(count):
        depth[row] = depth[parents[row]] + 1 if parents[row] >= 0 else 0
    for row in range(count - 1, -1, -1):
        if parents[row] >= 0:
            end[parents[row]] = max(end[parents[row]], end[row])
    kind = np.array(kinds, np.int8)
    drawn = (kind == SHAPE) | (kind == REPEATED)

    def no() -> Bools:
        return np.zeros(count, bool)

    def none() -> Ints:
        return np.full(count, NOTHING, np.int64)

    eye = np.broadcast_to(np.eye(4), (count, 4, 4))
    return ShapeRows(
        prims, names, shapes, kind, parent, np.array(end, np.int64), np.array(depth, np.int64),
        local=eye.copy(), resets=no(), hides=no(), says=none().astype(np.int8), moves=no(), flickers=no(),
        changes=no(), world=eye.copy(), hidden=no(), state=none().astype(np.int8), moving=no(),
        flickering=no(), changing=no(), direct=np.full((count, 2), NOTHING, np.int64),
        strong=np.zeros((count, 2), bool), gathers=no(), bound=none(), more_bound=[()] * count, uses=none(),
        unread=drawn.copy(), parted=np.array([bool(shape and shape.subsets) for shape in shapes], bool),
        own=no(), lamp=no(), drawn=[None] * count, serial=none(), stale=drawn.copy(),
        copies=[None] * count, sheet=no(), misplaced=drawn.copy(), mapped=[None] * count,
        new=np.ones(count, bool),
    )  # fmt: skip
