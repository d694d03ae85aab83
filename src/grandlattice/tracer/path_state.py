"""The stream of paths: what each carries from one vertex to the next, and what it brings home.

A batch of paths has a thread's own room.  Those under way stand side by side at the front of a stream,
sixteen to a load; those that go on are packed at the front of another, which is read next.  A path parts
into branches where it is scattered for the first time, and before that where the camera sees something
clear.  What ends leaves its results under its own number, that of a branch being so many times the places
of the batch beyond that of its path.  How a batch begins, and how its results get to the film, stands in
`batches`.
"""

from __future__ import annotations

from typing import Any, NamedTuple

from grandlattice.tracer.embree import RAY_ROOM
from grandlattice.tracer.kernel_memory import (
    float32s,
    int32s,
    load,
    other_fields,
    scatter_to,
    store,
    store_packed,
)
from grandlattice.tracer.lanes import (
    LANES,
    all_lanes,
    any_of,
    count_of,
    inner,
    to_floats,
    where,
)
from grandlattice.tracer.material_table import MATERIAL_ROOM
from grandlattice.tracer.sampling import pair
from grandlattice.tracer.vectors import choose, scale

# mypy: disable-error-code="no-untyped-def"

BATCH = 2048
CAPACITY = BATCH + LANES

# A thread's room in 4-byte words: rays, a material's inputs, the stream, the paths' results.
MATERIAL = RAY_ROOM
_STREAM = MATERIAL + MATERIAL_ROOM
_STREAM_FIELDS, _RESULT_FIELDS = 24, 28
_SIDE = _STREAM_FIELDS * CAPACITY  # from the stream that is read to the one that is written, or back
_RESULTS = _STREAM + 2 * _SIDE
ROOM = _RESULTS + _RESULT_FIELDS * CAPACITY
# What each path of the batch is, and what it brings home.
(
    COLUMN, LINE, SAMPLE, RADIANCE, ALPHA, ALBEDO, DEPTH, NORMAL, CAUGHT, POSITION, UV, OBJECT, LOOK,
    FIRST_MATT, FIRST_LUX,
) = (
    _RESULTS + field * CAPACITY for field in (0, 1, 2, 3, 6, 7, 10, 11, 14, 17, 20, 22, 23, 24, 25)
)  # fmt: skip
SHARES = ROOM
"""Where parts of the beauty begin, three words a path each; a room is as much larger."""


_TIME, DIRECTION = 3, 65  # dimensions of the sample sequence, the latter from the beginning of a step's

# Bits of a path's state above the number of its vertices: its data passes are written; the camera
# saw where it is through something clear; something clear turned it away, and it does not part; the camera
# sees along it in mirrors; the shape of a light hides from the camera what it meets from here on.
VERTICES, WRITTEN, THROUGH, WHOLE = 0xFFFF, 1 << 16, 1 << 17, 1 << 18
MIRRORED, HIDDEN = 1 << 19, 1 << 20


def room_for(fields: int, sky_words: int = 0) -> int:
    """Words of a room for pictures with so many parts of the beauty and light sums, and so many words of
    each path for skies that are turned."""
    return ROOM + (3 * fields + sky_words) * CAPACITY


class Tracing(NamedTuple):
    """What all paths of a trace have in common: records of the scene, of the camera and of what is asked for,
    and the address of the thread's own room."""

    scene: Any
    room: Any
    lens: Any
    options: Any


class Path(NamedTuple):
    """Paths under way, a lane each."""

    origin: Any
    direction: Any
    throughput: Any
    radiance: Any
    t_near: Any
    t_last: Any
    followed: Any  # density its direction was drawn with
    reach_total: Any  # of all lights, at the vertex it left
    alpha: Any
    cover: Any  # share of the pixel that nothing has covered yet
    state: Any  # vertices so far, and bits: `WRITTEN` and so on
    number: Any  # of the path in its batch
    seed: Any
    sample: Any
    matt: Any  # share of the last scattering that was diffuse
    linked: Any  # bits of the lights that reach the vertex it left, see `light_table.Links`
    time: Any  # 0 where the shutter opens … 1
    lined: Any  # one number: that of the first lane where they are neighbours in the batch, else −1


changed = other_fields(Path)
"""Paths as they are, but for some fields."""


@inner
def _load_triple(stream, k):
    return (load(stream, k), load(stream, k + CAPACITY), load(stream, k + 2 * CAPACITY))


@inner
def shutter_time(moves, seed, sample):
    """When paths see the scene; always 0 where nothing moves."""
    time = 0.0 * to_floats(sample)
    if moves:
        time, _ = pair(seed, sample, all_lanes(_TIME))
    return time


@inner
def load_path(room, side, k, moves, halvings):
    """Sixteen paths of one of the two streams from place `k` on.

    `halvings` is how often paths part in two at their first vertex.
    """
    at, words, k = float32s(room), int32s(room), _STREAM + side * _SIDE + k
    seed, sample = load(words, k + 20 * CAPACITY), load(words, k + 21 * CAPACITY)
    state = load(words, k + 18 * CAPACITY)
    of_pixel = where((state & VERTICES) == 0, sample, sample >> halvings)
    return Path(
        origin=_load_triple(at, k),
        direction=_load_triple(at, k + 3 * CAPACITY),
        throughput=_load_triple(at, k + 6 * CAPACITY),
        radiance=_load_triple(at, k + 9 * CAPACITY),
        t_near=load(at, k + 12 * CAPACITY),
        t_last=load(at, k + 13 * CAPACITY),
        followed=load(at, k + 14 * CAPACITY),
        reach_total=load(at, k + 15 * CAPACITY),
        alpha=load(at, k + 16 * CAPACITY),
        cover=load(at, k + 17 * CAPACITY),
        state=state,
        number=load(words, k + 19 * CAPACITY),
        seed=seed,
        sample=sample,
        matt=load(at, k + 22 * CAPACITY),
        linked=load(words, k + 23 * CAPACITY),
        time=shutter_time(moves, seed, of_pixel),
        lined=-1,
    )


@inner
def _pack_triple(stream, k, value, going):
    for i in range(3):
        store_packed(stream, k + i * CAPACITY, value[i], going)


@inner
def _pack_path(room, side, k, path, going):
    """Write the paths of a mask side by side to one of the two streams from place `k` on."""
    at, words, k = float32s(room), int32s(room), _STREAM + side * _SIDE + k
    _pack_triple(at, k, path.origin, going)
    _pack_triple(at, k + 3 * CAPACITY, path.direction, going)
    _pack_triple(at, k + 6 * CAPACITY, path.throughput, going)
    _pack_triple(at, k + 9 * CAPACITY, path.radiance, going)
    store_packed(at, k + 12 * CAPACITY, path.t_near, going)
    store_packed(at, k + 13 * CAPACITY, path.t_last, going)
    store_packed(at, k + 14 * CAPACITY, path.followed, going)
    store_packed(at, k + 15 * CAPACITY, path.reach_total, going)
    store_packed(at, k + 16 * CAPACITY, path.alpha, going)
    store_packed(at, k + 17 * CAPACITY, path.cover, going)
    store_packed(words, k + 18 * CAPACITY, path.state, going)
    store_packed(words, k + 19 * CAPACITY, path.number, going)
    store_packed(words, k + 20 * CAPACITY, path.seed, going)
    store_packed(words, k + 21 * CAPACITY, path.sample, going)
    store_packed(at, k + 22 * CAPACITY, path.matt, going)
    store_packed(words, k + 23 * CAPACITY, path.linked, going)


@inner
def _write(results, field, path, value, test):
    if path.lined >= 0:
        at = field + path.lined
        store(results, at, where(test, value, load(results, at)))
    else:
        scatter_to(results, path.number + field, value, test)


@inner
def _read(results, field, path):
    return load(results, field + path.lined) if path.lined >= 0 else results[path.number + field]


@inner
def kept(room, field, path):
    """A result that was written for the paths before."""
    return _read(float32s(room), field, path)


@inner
def kept_number(room, field, path):
    """A whole number that was written for the paths before."""
    return _read(int32s(room), field, path)


@inner
def keep(room, field, path, value, test):
    """Write a result of the paths of a mask."""
    _write(float32s(room), field, path, value, test)


@inner
def keep_number(room, field, path, value, test):
    """Write a whole number of the paths of a mask."""
    _write(int32s(room), field, path, value, test)


@inner
def keep_triple(room, field, path, value, test):
    for i in range(3):
        keep(room, field + i * CAPACITY, path, value[i], test)


@inner
def shown(path, light):
    """Light that paths bring, as far as the camera sees it: none behind the shape of a light."""
    return choose((path.state & HIDDEN) != 0, (0.0, 0.0, 0.0), light)


@inner
def bring_home(room, path, ended):
    keep_triple(room, RADIANCE, path, path.radiance, ended)
    keep(room, ALPHA, path, path.alpha, ended)


def branches_of(halvings: int, clear: bool) -> int:
    """Branches of a path at most: those it parts in where it is scattered first, and one that turns away
    where it meets something clear before."""
    return (1 << halvings) + (halvings > 0 and clear)


@inner
def part(room, side, path, active, goes_on, going):
    """Bring home the paths that end, pack the others behind the `going` that are there already."""
    bring_home(room, path, active & ~goes_on)
    _pack_path(room, side, going, path, goes_on)
    return going + count_of(goes_on)


@inner
def share_of(path, halvings):
    """What branches carry of paths, once these were scattered."""
    return where((path.state & WHOLE) != 0, 1.0, 1.0 / (1 << halvings))


@inner
def branch_of(path, scatters, parts, branch, halvings, places):
    """A branch of the paths of a mask, which carries its share of them; others stay as they are.

    What paths have gathered so far goes with the first branch.  Those that are scattered for the first
    time go on by numbers of the sample sequence for branches, whether they part or not.
    """
    share = where(parts, 1.0 / (1 << halvings), 1.0)
    radiance, alpha = path.radiance, path.alpha
    if branch > 0:
        radiance, alpha = (0.0 * share, 0.0 * share, 0.0 * share), 0.0 * share
    lined = path.lined
    if lined >= 0:
        lined += branch * places
    return changed(
        path,
        throughput=scale(path.throughput, share),
        radiance=radiance,
        alpha=alpha,
        number=path.number + branch * places,
        sample=where(scatters, (path.sample << halvings) + branch, path.sample),
        lined=lined,
    )


@inner
def turned_away(path, both, throughput, alpha, cover, beyond):
    """Paths that something clear turned away.

    Those that go on behind it as well leave what they gathered to that path, and are a branch of their own,
    whose places are so many `beyond`.
    """
    lined, nothing = path.lined, 0.0 * alpha
    if any_of(both):
        lined = -1
    return changed(
        path,
        throughput=throughput,
        radiance=choose(both, (nothing, nothing, nothing), path.radiance),
        alpha=where(both, 0.0, alpha),
        cover=where(both, 0.0, cover),
        state=where(both, path.state | WHOLE, path.state),
        number=where(both, path.number + beyond, path.number),
        lined=lined,
    )
