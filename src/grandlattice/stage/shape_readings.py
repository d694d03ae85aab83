"""What was read of the shapes of a stage: items and materials, read again only where USD says so.

USD names the prims that changed.  What they say is read again and carried down to what stands below them;
materials and triangles of shapes are read again where these may be others, and only of shapes that are shown.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from itertools import compress

import numpy as np
from pxr import Sdf, Usd, UsdGeom

from grandlattice.scene_records import CATCHES, MATTE, SHEET, UNSEEN, Items, Material, Matrix
from grandlattice.stage.drawn_shapes import drawn_shape
from grandlattice.stage.instancing import chain_varies, copies_of
from grandlattice.stage.light_reading import mesh_light
from grandlattice.stage.material_bindings import members
from grandlattice.stage.scene_looks import Look, LookSets, SceneLooks
from grandlattice.stage.shape_rows import PART, REPEATED, SHAPE, Bools, Ints, ShapeRows
from grandlattice.stage.shape_tree import STATES, ShapeTree
from grandlattice.stage.shapes import ReadShape, read_shape
from grandlattice.stage.shutter_tracks import if_it_moves, track_of_copies

_BITS = np.array([{"matte": MATTE, "catch": CATCHES, "unseen": UNSEEN}.get(s, 0) for s in STATES], np.uint8)
_NONE = np.zeros(0, np.int64)
_NO_ITEMS = Items((), (), _NONE, np.zeros((0, 4, 4)), _NONE, (), np.zeros(0, np.uint8), {}, {})


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


@dataclass
class Changes:
    """What changed since shapes were read, as prims.

    Attributes
    ----------
    composed : composed anew, with all that stands below.
    placed : it may stand elsewhere, be seen elsewhere or no more, or be bound to another material.
    reshaped : what stands at or below it may have another shape.
    painted : materials and nodes of theirs that are others.
    rebound : whether anything may have another material.
    """

    composed: set[Sdf.Path] = field(default_factory=set)
    placed: set[Sdf.Path] = field(default_factory=set)
    reshaped: set[Sdf.Path] = field(default_factory=set)
    painted: set[Sdf.Path] = field(default_factory=set)
    rebound: bool = False

    def __bool__(self) -> bool:
        return self.rebound or any((self.composed, self.placed, self.reshaped, self.painted))


class ShapeReadings:
    """Reads the shapes of a stage.

    Attributes
    ----------
    items, materials : of the last reading, for a `Snapshot`; the very same objects while nothing in them
        changes, so that a renderer may keep what it made of them.
    changes : what changed since the last reading; who hears of a change adds it there.
    """

    def __init__(self, stage: Usd.Stage) -> None:
        self._stage = stage
        self.items, self._held = _NO_ITEMS, _NONE  # rows of the items
        self._names: list[str] = []  # of all rows
        self.materials: tuple[Material, ...] = ()
        self.changes = Changes()
        self._tree: ShapeTree | None = None
        self._looks, self._sets = SceneLooks(), LookSets()
        self._numbered: list[Look] = []  # those of `materials`
        self._known: dict[tuple[Sdf.Path, tuple[str, ...]], ReadShape] = {}  # by prim and texture coordinates
        self._last: Moment | None = None
        self._animated: bool | None = None

    # --- reading -----------------------------------------------------------------------------

    def read(self, at: Moment, told: Callable[[Sequence[Material]], None] | None) -> None:
        """Read what changed, and what differs between the last time and this.

        Parameters
        ----------
        told : is given the materials where anything is read, as soon as they are known: shapes take longer.
        """
        last, self._last = self._last, at
        is_later = last is not None and last.frame != at.frame
        is_finer = last is None or last.levels != at.levels
        is_opened = last is not None and (last.shutter, is_later) != (at.shutter, False)
        if not (self.changes or is_later or is_opened or is_finer):
            return
        tree = self._tree = self._tree or ShapeTree(self._stage)
        anything = self._follow(tree, at, is_later)
        rows, self.changes, self._animated = tree.rows, Changes(), None
        rows.stale |= is_finer & rows.is_drawn
        shown = rows.is_drawn & ~rows.hidden
        unread, stale = rows.unread & shown, (rows.stale | rows.misplaced) & shown
        moves = is_opened and bool((rows.moving | rows.changing)[shown].any())
        if anything or moves or unread.any() or stale.any():
            self._show(tree, np.flatnonzero(unread), at.time)
            uses, materials = self._number(shown)
            if told is not None:
                told(self.materials)
            self._shape(rows, np.flatnonzero((rows.stale | rows.misplaced) & shown), at)
            self._gather(tree, shown, at, uses, materials)

    def moves_over_time(self) -> bool:
        """Whether anything that is shown differs between frames; looked up once."""
        if self._animated is None:
            rows = self._read_tree.rows
            differs = rows.flickering | ((rows.moving | rows.changing) & ~rows.hidden)
            self._animated = bool((differs & rows.is_drawn).any()) or any(
                look.changes_over_time for look in self._numbered
            )
        return self._animated

    def places_at(self, transforms: UsdGeom.XformCache) -> tuple[Matrix, ...]:
        """Where each item stands at another time."""
        return tuple(self._read_tree.worlds_at(transforms)[self._held])

    def members(self, collection: Usd.CollectionAPI) -> Bools:
        """Which items a collection includes."""
        return members(collection, self._read_tree.rows, self._read_tree.row_of)[self._held]

    def unmapped(self) -> Iterator[tuple[str, str]]:
        """Meshes of the items, and texture coordinates that their materials read and they lack."""
        rows = self._read_tree.rows
        for row in self._held.tolist():
            looks = self._sets[rows.uses[row]].looks
            names, shape = dict.fromkeys(name for look in looks for name in look.uv_sets), rows.shapes[row]
            if not names or shape is None or not shape.prim.IsA(UsdGeom.Mesh):
                continue
            mapped = rows.mapped[row] = rows.mapped[row] or {}
            for name in names:
                if name not in mapped:
                    primvar = UsdGeom.PrimvarsAPI(shape.prim).FindPrimvarWithInheritance(name)
                    mapped[name] = bool(primvar and primvar.HasValue())
                if not mapped[name]:
                    yield rows.names[row], name

    @property
    def _read_tree(self) -> ShapeTree:
        assert self._tree is not None  # something was read
        return self._tree

    # --- what is to be read anew -------------------------------------------------------------

    def _follow(self, tree: ShapeTree, at: Moment, is_later: bool) -> bool:
        """Have the tree follow the stage, and mark what has to be read again; whether anything differs."""
        changes = self.changes
        exchanged = tree.recompose(changes.composed)
        rows, is_first = tree.rows, bool(tree.rows.new.all())
        lost = self._looks.forget(exchanged)
        asked = self._asked(tree, changes, is_later)
        heard = tree.read(np.flatnonzero(asked), at.transforms)
        rows.misplaced |= asked & rows.is_drawn
        if is_later:
            varies = rows.is_drawn & (rows.changing | rows.lamp)
            rows.unread |= varies
            rows.stale |= varies
            rows.misplaced |= varies
        rows.unread |= rows.lamp & heard.moved
        if is_first or exchanged or changes.rebound:
            rows.unread |= tree.bindings.resolve(rows, tree.row_of) & rows.is_drawn
        self._unread_those_bound_to(tree)
        is_repainted, others = self._looks.repaint(changes.painted, at.time)
        if lost or is_repainted:
            rows.unread |= self._sets.shown_by(rows.uses, lost | others) | rows.own
            rows.stale |= self._sets.shown_by(rows.uses, others)  # by other texture coordinates
        return heard.anything or bool(exchanged) or is_repainted

    def _asked(self, tree: ShapeTree, changes: Changes, is_later: bool) -> Bools:
        """Rows of prims that may say anything else; shapes that may be others are marked."""
        rows = tree.rows
        asked = rows.moves | rows.flickers if is_later else np.zeros(len(rows), bool)
        reshaped, repeated = [], []
        for path in changes.placed | changes.reshaped:
            for each in tree.everywhere(path):
                if (row := tree.row_of.get(str(each))) is not None:
                    asked[row] = True
                    reshaped += [row] if path in changes.reshaped else []
                repeated += [tree.row_of[name] for name in tree.instancers_of(each)]
            if Usd.Prim.IsPathInPrototype(path):
                repeated += [tree.row_of[name] for name in tree.instancers_of(path)]
        others = (rows.below(reshaped) & (rows.kind == SHAPE)) | (
            rows.below(repeated) & (rows.kind == REPEATED)
        )
        for row in np.flatnonzero(others).tolist():
            shape = rows.shapes[row]
            assert shape is not None
            found = rows.shapes[row] = drawn_shape(shape.prim, shape.chain)
            rows.parted[row], rows.mapped[row] = bool(found.subsets), None
        rows.unread |= others
        rows.stale |= others
        return asked | others

    def _unread_those_bound_to(self, tree: ShapeTree) -> None:
        """Have shapes read their materials again where these came or went."""
        rows, exchanged = tree.rows, tree.bindings.numbers_of(tree.exchanged)
        tree.exchanged = frozenset()
        if exchanged:
            bound = np.isin(rows.bound, exchanged)
            bound[rows.parent[bound & (rows.kind == PART)]] = True
            more = [not set(exchanged).isdisjoint(more) for more in rows.more_bound]
            rows.unread |= (bound | np.array(more, bool)) & rows.is_drawn

    # --- reading them anew -------------------------------------------------------------------

    def _show(self, tree: ShapeTree, unread: Ints, time: Usd.TimeCode) -> None:
        """Read the materials of some shapes."""
        rows, before = tree.rows, tree.rows.uses[unread]
        asks_alone = rows.lamp[unread] | rows.parted[unread] | (rows.bound[unread] < 0)
        alone = unread[asks_alone].tolist()
        for alike in _alike(rows.bound, unread[~asks_alone]):
            look = self._looks.of(self._stage, tree.bindings.path_of(int(rows.bound[alike[0]])), time)
            if look is None or look.asks_for_paint:
                alone += alike.tolist()
            else:
                rows.uses[alike], rows.own[alike] = self._sets.number([look]), False
        for row in alone:
            rows.uses[row], rows.own[row] = self._shown_alone(tree, row, time)
        rows.unread[unread] = False
        pairs = (before + 1) * len(self._sets) + rows.uses[unread]
        for alike in _alike(pairs, np.arange(len(unread))):
            was, uses = int(before[alike[0]]), int(rows.uses[unread[alike[0]]])
            if was < 0 or self._sets[was].uv_sets != self._sets[uses].uv_sets:
                rows.stale[unread[alike]] = True

    def _shown_alone(self, tree: ShapeTree, row: int, time: Usd.TimeCode) -> tuple[int, bool]:
        """What a shape shows that has parts, glows or lacks a material, and whether no other may show it."""
        rows, shape = tree.rows, tree.rows.shapes[row]
        assert shape is not None
        parts = [shape.prim, *(subset.GetPrim() for subset in shape.subsets)]
        more = rows.more_bound[row] if shape.chain else rows.bound[tree.parts(row)].tolist()
        paths = [tree.bindings.path_of(bound) for bound in (int(rows.bound[row]), *more)]
        whole, *_ = found = [self._looks.of(self._stage, path, time) for path in paths]
        shown = [
            self._looks.on(part, look or whole, time) for part, look in zip(parts, found, strict=True)
        ]  # fmt: skip
        looks, is_own = [look for look, _ in shown], any(alone for _, alone in shown)
        glow = mesh_light(shape.prim, time) if rows.lamp[row] else None
        if glow is not None:
            # What such a mesh sends out is a glow of its own; its surface stays what it is.
            looks = [look.glowing(glow, shape.prim, rows.names[row]) for look in looks]
        return self._sets.number(looks), is_own or glow is not None

    def _number(self, shown: Bools) -> tuple[Ints, list[tuple[int, ...]]]:
        """Number materials in the order in which shapes show them.

        Returns
        -------
        For each row the place of its materials among those that are in use, and these.
        """
        rows = self._read_tree.rows
        rows.uses = self._sets.tidied(rows.uses)
        used = rows.uses[shown]
        first = np.full(len(self._sets), len(used), np.int64)
        first[used[::-1]] = np.arange(len(used))[::-1]
        met = np.argsort(first, kind="stable")[: np.count_nonzero(first < len(used))]
        numbers: dict[str, int] = {}
        self._numbered = []
        materials = []
        for number in met.tolist():
            looks = self._sets[number].looks
            for look in looks:
                if look.material.path not in numbers:
                    numbers[look.material.path] = len(self._numbered)
                    self._numbered.append(look)
            materials.append(tuple(numbers[look.material.path] for look in looks))
        made = tuple(look.material for look in self._numbered)
        # Equal materials keep their identity, so that a renderer may keep what it made of them.
        if made != self.materials:
            self.materials = made
        place = np.zeros(len(self._sets), np.int64)
        place[met] = np.arange(len(met))
        return np.where(shown, place[rows.uses], 0) if len(place) else rows.uses, materials

    def _shape(self, rows: ShapeRows, stale: Ints, at: Moment) -> None:
        """Read the triangles of some shapes, and what is said of how they stand."""
        seen: dict[tuple[Sdf.Path, tuple[str, ...]], ReadShape] = {}  # in this turn
        for row in stale.tolist():
            shape = rows.shapes[row]
            assert shape is not None
            if rows.stale[row]:
                key = shape.shared.GetPath(), self._sets[rows.uses[row]].uv_sets
                drawn = seen.get(key)
                if drawn is None:
                    source = read_shape(shape.shared, shape.subsets, at.time, at.levels, key[1])
                    drawn = self._known.get(key)
                    if drawn is None or drawn.source != source:
                        drawn = self._known[key] = ReadShape(source, rows.names[row])
                    seen[key] = drawn
                rows.drawn[row], rows.serial[row] = drawn, drawn.serial
            if rows.misplaced[row]:
                rows.sheet[row] = bool(UsdGeom.Gprim(shape.prim).GetDoubleSidedAttr().Get(at.time))
                if shape.chain:
                    rows.copies[row] = copies_of(shape.prim, shape.chain, at.time, at.transforms)[1]
        rows.stale[stale] = rows.misplaced[stale] = False

    def _gather(
        self, tree: ShapeTree, shown: Bools, at: Moment, uses: Ints, materials: list[tuple[int, ...]]
    ) -> None:  # fmt: skip
        """Put items together from all that was read; the old ones stay where nothing differs."""
        rows = tree.rows
        finite = np.isfinite(rows.world)
        standing = shown.copy() if finite.all() else shown & finite.all(axis=(1, 2))
        repeated = {
            row: rows.copies[row] for row in np.flatnonzero(standing & (rows.kind == REPEATED)).tolist()
        }
        standing[[row for row, copies in repeated.items() if not len(copies)]] = False  # type: ignore[arg-type]
        held, last = np.flatnonzero(standing), self.items
        paths, shapes, serials = last.paths, last.shapes, rows.serial[held]
        # Twenty thousand names and shapes are not looked at one by one where these are the last ones.
        if rows.names is not self._names or not np.array_equal(held, self._held):
            paths = list(compress(rows.names, standing.tolist()))
        if not np.array_equal(serials, last.serials):
            shapes = list(compress(rows.drawn, standing.tolist()))  # type: ignore[arg-type]
        numbers = np.cumsum(standing) - 1
        copies = {int(numbers[row]): copies for row, copies in repeated.items() if standing[row]}
        items = Items(
            paths, shapes, serials, rows.world[held], uses[held], materials,
            _BITS[np.maximum(rows.state[held], 0)] | np.where(rows.sheet[held], SHEET, 0).astype(np.uint8),
            copies, self._tracks(tree, held, at),  # type: ignore[arg-type]
        )  # fmt: skip
        if not items.is_like(last):
            self.items = items
        self._held, self._names = held, rows.names

    def _tracks(self, tree: ShapeTree, held: Ints, at: Moment) -> dict[int, Matrix]:
        """Where what moves is while the shutter is open, by the number of its item."""
        rows, moments, tracks = tree.rows, at.while_open(), {}
        differs = (rows.moving | (rows.changing & (rows.kind == REPEATED)))[held]
        if not moments or not differs.any():
            return {}
        worlds = [tree.worlds_at(transforms) for transforms in moments]
        for k in np.flatnonzero(differs).tolist():
            row, shape = held[k], rows.shapes[held[k]]
            assert shape is not None
            if shape.chain and chain_varies(shape.chain):
                track = track_of_copies(shape, moments, len(rows.copies[row]))
            else:
                track = if_it_moves(np.array([world[row] for world in worlds]))
            if track is not None:
                tracks[k] = track
        return tracks


def _alike(values: Ints, chosen: Ints) -> list[Ints]:
    """Some rows in groups that have the same value."""
    order = chosen[np.argsort(values[chosen], kind="stable")]
    return np.split(order, np.flatnonzero(np.diff(values[order])) + 1) if len(order) else []
