"""What lights send to the vertices of paths: aimed at, met on the way, seen behind, caught as shadow.

The two ways light is gathered, aiming and following, are weighted by the balance heuristic (Veach
and Guibas, 1995).  All lights are aimed at from the first vertex, one from the others.
"""

from __future__ import annotations

from typing import Any, NamedTuple

from grandlattice.tracer.embree import OTHER, blocked, closest_hits
from grandlattice.tracer.lanes import all_lanes, any_of, count_of, inner, where
from grandlattice.tracer.lights import (
    FAR,
    background,
    light_at,
    light_reach,
    meet_light,
    sample_light,
)
from grandlattice.tracer.materials import see_through, surface_at
from grandlattice.tracer.sampling import pair
from grandlattice.tracer.scattering import scatter
from grandlattice.tracer.stream import CAUGHT, MATERIAL, keep_triple, with_light
from grandlattice.tracer.vectors import (
    add,
    choose,
    dot,
    largest,
    luminance,
    multiply,
    scale,
    to_local,
)
from grandlattice.tracer.vertices import hit_vertex, just_behind, lifted

# mypy: disable-error-code="no-untyped-def"

LIGHT = 66  # dimensions of the sample sequence from here on, one for each light, in a path's stride
MOST_PASSES_THROUGH = 48
BLACK = (0.0, 0.0, 0.0)


@inner
def transmittance(scene, room, active, origin, direction, distance):
    """Share of light that gets from `distance` to `origin`: 0 behind anything opaque."""
    stop = where(distance >= FAR, distance, distance * (1.0 - 1e-4))
    dark = blocked(scene.opaque, room, active, origin, direction, stop, all_lanes(OTHER))
    share = where(active & ~dark, 1.0, 0.0)
    if scene.clear == 0:
        return share
    t_near = 0.0 * distance
    nothing = 0 * scene.clear  # a plain 0 would be a type of its own, and compiled for
    for _ in range(MOST_PASSES_THROUGH):
        active = active & (share > 1e-4)
        if not any_of(active):
            break
        hit = closest_hits(
            nothing, scene.clear, room, active, origin, direction, t_near, stop,
            all_lanes(OTHER), False,
        )  # fmt: skip
        active = active & hit.found
        if any_of(active):
            vertex = hit_vertex(scene, hit, origin, direction)
            surface = surface_at(scene, vertex.material, vertex.u, vertex.v, room + 4 * MATERIAL)
            through = see_through(surface, scene.tables, -dot(direction, vertex.normal))
            share = where(active, share * through, share)
            t_near = where(active, just_behind(hit.distance, origin), t_near)
    return where(active | (share <= 1e-4), 0.0, share)


@inner
def _reach_of_all(scene, point):
    total = 0.0 * point[0]
    for i in range(scene.light_count):
        total += light_reach(light_at(scene.lights, i), point)
    return total


@inner
def _chance(light_count, reach, total):
    """Chance that a light is the one aimed at from a later vertex; half of it is even."""
    even = 1.0 / light_count
    return where(total > 0.0, 0.5 * even + 0.5 * reach / max(total, 1e-30), even)


@inner
def _pick(scene, point, total, choice):
    """The light each lane aims at from a later vertex, and its chance."""
    picked, picked_chance, found = all_lanes(0), 0.0 * choice, choice < 0.0
    light_count = scene.light_count
    for i in range(light_count):
        chance = _chance(light_count, light_reach(light_at(scene.lights, i), point), total)
        here = ~found & ((choice < chance) | (i == light_count - 1))
        picked, picked_chance = where(here, i, picked), where(here, chance, picked_chance)
        found = found | here
        choice = choice - chance
    return picked, picked_chance


@inner
def limited(light, most, applies):
    """Light scaled down where it `applies` and its largest part is more than `most`."""
    brightest = largest(light)
    return scale(light, where(applies & (brightest > most), most / max(brightest, 1e-30), 1.0))


@inner
def light_met(scene, options, active, path, later, distance):
    """Light of the lamps that rays met on their way, weighted against aiming at them."""
    light = scale(path.throughput, 0.0)
    for i in range(scene.light_count):
        lamp = light_at(scene.lights, i)
        met, density = meet_light(
            lamp, scene.domes, active, path.origin, path.direction, path.t_near, distance
        )  # fmt: skip
        here = active & (density > 0.0)
        if any_of(here):
            chance = _chance(scene.light_count, light_reach(lamp, path.origin), path.reach_total)
            density = where(later, density * chance, density)
            weight = path.followed / max(path.followed + density, 1e-30)
            share = limited(scale(multiply(path.throughput, met), weight), options.clamp, later)
            light = add(light, choose(here, share, BLACK))
    return light


@inner
def light_behind(scene, active, path):
    """Light of the domes where the camera sees them."""
    light = scale(path.throughput, 0.0)
    for i in range(scene.light_count):
        seen = background(light_at(scene.lights, i), scene.domes, active, path.direction)
        light = add(light, multiply(path.throughput, seen))
    return light


class Shaded(NamedTuple):
    """Vertices ready to scatter."""

    vertex: Any
    surface: Any
    lobes: Any
    wo: Any
    s: Any
    t: Any
    normal: Any


@inner
def _aim(scene, room, active, shaded, lights, chance, u, v):
    """Light as scattered from vertices towards `wo`, weighted against following; and the rays."""
    vertex, normal = shaded.vertex, shaded.normal
    aim = sample_light(light_at(scene.lights, lights), scene.domes, active, vertex.point, u, v)
    wi = to_local(aim.direction, shaded.s, shaded.t, normal)
    up = (wi[2] > 0.0) & (dot(aim.direction, vertex.facing) > 0.0)
    active = active & up & (aim.density > 0.0) & (largest(aim.radiance) > 0.0)
    gathered = scale(vertex.point, 0.0)
    if not any_of(active):
        return gathered, 0
    value, followed = scatter(shaded.surface, shaded.lobes, scene.tables, shaded.wo, wi)
    active = active & (largest(value) > 0.0)
    origin = lifted(vertex, aim.direction)
    share = transmittance(scene, room, active, origin, aim.direction, aim.distance)
    weight = share / max(aim.density * chance + followed, 1e-30)
    light = scale(multiply(value, aim.radiance), weight)
    return choose(share > 0.0, light, gathered), count_of(active)


@inner
def gather(scene, room, active, path, shaded, later, turn, dimension):
    """What lights send to vertices and on towards `wo`; the reach of all lights; the rays."""
    first, point = active & ~later, shaded.vertex.point
    gathered, rays, chance = scale(point, 0.0), 0, 0.0 * turn + 1.0
    picked, reach_total = all_lanes(0), 0.0 * turn
    if any_of(active & later):
        reach_total = _reach_of_all(scene, point)
        picked, chance = _pick(scene, point, reach_total, turn)
        chance = where(later, chance, 1.0)
    rounds = scene.light_count if any_of(first) else 1
    for i in range(rounds):
        u, v = pair(path.seed, path.sample, all_lanes(dimension + LIGHT + i))
        aiming = active if i == 0 else first
        lights = where(first, i, picked)
        light, shot = _aim(scene, room, aiming, shaded, lights, chance, u, v)
        gathered = add(gathered, light)
        rays += shot
    return choose(active, gathered, BLACK), reach_total, rays


@inner
def catch(scene, room, options, catching, path, hit):
    """What falls on surfaces that catch shadow: paths end here, and alpha will carry the shadow.

    Kept are the light a white surface would have here, and what of it is blocked; their ratio is
    taken when the film is developed, over all samples of a pixel.
    """
    vertex = hit_vertex(scene, hit, path.origin, path.direction)
    lit, dark, rays = 0.0 * path.t_near, 0.0 * path.t_near, 0
    for i in range(scene.light_count):
        u, v = pair(path.seed, path.sample, all_lanes(LIGHT + i))
        lamp = light_at(scene.lights, i)
        aim = sample_light(lamp, scene.domes, catching, vertex.point, u, v)
        cosine = dot(aim.direction, vertex.facing)
        aiming = catching & (cosine > 0.0) & (aim.density > 0.0)
        if any_of(aiming):
            light = luminance(aim.radiance) * cosine / max(aim.density, 1e-30)
            origin = lifted(vertex, aim.direction)
            share = transmittance(scene, room, aiming, origin, aim.direction, aim.distance)
            lit = where(aiming, lit + light, lit)
            dark = where(aiming, dark + light * (1.0 - share), dark)
            rays += count_of(aiming)
    keep_triple(room, CAUGHT, path.number, (path.cover, lit, dark), catching)
    radiance, alpha = path.radiance, path.alpha
    if options.show_background:
        # Before a sky that is seen the surface is see-through, and its shadow darkens the sky.
        past = 1.0 - where(lit > 0.0, dark / max(lit, 1e-30), 0.0)
        behind = scale(light_behind(scene, catching, path), past)
        radiance = add(radiance, choose(catching, behind, BLACK))
        alpha = where(catching, alpha + path.cover * past, alpha)
    return with_light(path, radiance, alpha), rays
