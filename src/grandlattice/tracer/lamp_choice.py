"""Which lamp is aimed at from a vertex: by what each may send there, in all the ways it stands."""

from __future__ import annotations

from grandlattice.tracer.lanes import (
    all_lanes,
    any_of,
    inner,
    number_in,
    to_ints,
    where,
)
from grandlattice.tracer.light_sampling import (
    light_reach,
)
from grandlattice.tracer.light_table import light_at

# mypy: disable-error-code="no-untyped-def"

FEW, PICKS = 8, 4  # lights that are all aimed at; how many are drawn where there are more


@inner
def _reach(scene, lamp, point):
    """What a lamp may send to points, in all the ways it stands; only steers which one is sampled."""
    light = light_at(scene.lights, lamp)
    total = light_reach(light, point)
    if any_of(light.versions > 1):
        first = number_in(light.others, 0)
        total = _with_reach_of(scene, point, first, first + number_in(light.versions, 0) - 1, total)
    return total


@inner
def _with_reach_of(scene, point, first, last, total):
    """A sum of reaches with those of some rows; lamps that are far away have it in their first."""
    for row in range(first, last):
        light = light_at(scene.lights, row)
        if any_of(light.power > 0.0):
            total += light_reach(light, point)
    return total


@inner
def reach_of_all(scene, point):
    total = 0.0 * point[0]
    for i in range(scene.light_count):
        total += light_reach(light_at(scene.lights, i), point)
    if scene.row_count > scene.light_count:
        total = _with_reach_of(scene, point, scene.light_count, scene.row_count, total)
    return total


@inner
def _chance(light_count, reach, total):
    """Chance that a light is the one aimed at from a later vertex; half of it is even."""
    even = 1.0 / light_count
    return where(total > 0.0, 0.5 * even + 0.5 * reach / max(total, 1e-30), even)


@inner
def pick_lamp(scene, point, total, choice):
    """The light each lane aims at from a later vertex, and its chance."""
    picked, picked_chance, found = all_lanes(0), 0.0 * choice, choice < 0.0
    light_count = scene.light_count
    for i in range(light_count):
        chance = _chance(light_count, _reach(scene, i, point), total)
        here = ~found & ((choice < chance) | (i == light_count - 1))
        picked, picked_chance = where(here, i, picked), where(here, chance, picked_chance)
        found = found | here
        choice = choice - chance
    return picked, picked_chance


@inner
def rays_aimed(scene, path, lamp, later):
    """How many rays are aimed at a lamp from the vertices paths left, on average."""
    count = scene.light_count
    if count == 1:
        return 0.0 * path.t_near + 1.0
    chance = _chance(count, _reach(scene, lamp, path.origin), path.reach_total)
    first = 1.0 if count <= FEW else PICKS * 1.0
    return where(later, chance, first if count <= FEW else first * chance)


@inner
def rows_at(scene, lights, time):
    """Rows of lights where they are at a time."""
    if scene.light_steps == 0:
        return lights
    first = light_at(scene.lights, lights).track
    step = min(to_ints(time * scene.light_steps), scene.light_steps - 1)
    return where(first >= 0, first + step, lights)
