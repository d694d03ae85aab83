"""What lights send to the vertices of paths: aimed at, met on the way, seen behind, caught as shadow.

The two ways light is gathered, aiming and following, are weighted by the balance heuristic (Veach
and Guibas, 1995).  From the first vertex all lights are aimed at where they are few, and some of
them, drawn by their reach, where they are many; from the others one.
"""

from __future__ import annotations

from typing import Any, NamedTuple

from grandlattice.tracer.embree import blocked, closest_hits
from grandlattice.tracer.lanes import all_lanes, any_of, count_of, inner, mask_of, to_ints, where
from grandlattice.tracer.light_passes import credit, credit_lux, credit_shadow
from grandlattice.tracer.light_sampling import (
    FAR,
    aims,
    background,
    glow_density,
    light_reach,
    meet_light,
    reaches,
)
from grandlattice.tracer.light_table import DISTANT, DOME, HELD_OUT, light_at
from grandlattice.tracer.material_table import see_through, sharp_at, surface_at
from grandlattice.tracer.path_state import (
    CAUGHT,
    FIRST_MATT,
    HIDDEN,
    MATERIAL,
    MIRRORED,
    THROUGH,
    VERTICES,
    changed,
    keep_triple,
    kept,
    share_of,
    shown,
)
from grandlattice.tracer.sampling import pair
from grandlattice.tracer.scattering import scatter
from grandlattice.tracer.vectors import (
    add,
    choose,
    dot,
    largest,
    luminance,
    multiply,
    scale,
    subtract,
    to_local,
)
from grandlattice.tracer.vertices import hit_vertex, just_behind, lifted, of_placements, solid_at

# mypy: disable-error-code="no-untyped-def"

LIGHT = 66  # dimensions of the sample sequence from here on, one for each light, in a path's stride
FEW, _PICKS = 8, 4  # lights that are all aimed at; how many are drawn where there are more
MOST_PASSES_THROUGH = 48
BLACK = (0.0, 0.0, 0.0)


@inner
def transmittance(scene, room, active, origin, direction, distance, masks, time):
    """Share of light that gets from `distance` to `origin`, a triple: 0 behind anything opaque.

    It goes straight through glass, also where that is solid.

    `masks` say who blocks it, see `embree.Placements`.
    """
    stop = where(distance >= FAR, distance, distance * (1.0 - 1e-4))
    dark = blocked(scene.opaque, room, active, origin, direction, stop, masks, time)
    clear = where(active & ~dark, 1.0, 0.0)
    share = (clear, clear, clear)
    if scene.clear == 0:
        return share
    t_near = 0.0 * distance
    nothing = 0 * scene.clear  # a plain 0 would be a type of its own, and compiled for
    for _ in range(MOST_PASSES_THROUGH):
        active = active & (largest(share) > 1e-4)
        if not any_of(active):
            break
        hit = closest_hits(
            nothing, scene.clear, room, active, origin, direction, t_near, stop,
            masks, time, False,
        )  # fmt: skip
        active = active & hit.found
        if any_of(active):
            vertex = hit_vertex(scene, hit, origin, direction, time)
            surface = surface_at(scene, vertex.material, sharp_at(vertex), room + 4 * MATERIAL)
            solid, _ = solid_at(scene, vertex)
            through = see_through(surface, scene.tables, -dot(direction, vertex.normal), solid)
            share = choose(active, multiply(share, through), share)
            t_near = where(active, just_behind(hit.distance, origin), t_near)
    return choose(active | (largest(share) <= 1e-4), BLACK, share)


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
def _aims(scene, path, lamp, later):
    """How many rays are aimed at a light from the vertices paths left, on average."""
    count = scene.light_count
    if count == 1:
        return 0.0 * path.t_near + 1.0
    chance = _chance(count, light_reach(lamp, path.origin), path.reach_total)
    first = 1.0 if count <= FEW else _PICKS * 1.0
    return where(later, chance, first if count <= FEW else first * chance)


@inner
def _rows_at(scene, lights, time):
    """Rows of lights where they are at a time."""
    if scene.light_steps == 0:
        return lights
    first = light_at(scene.lights, lights).track
    step = min(to_ints(time * scene.light_steps), scene.light_steps - 1)
    return where(first >= 0, first + step, lights)


@inner
def glow_weight(scene, path, active, later, vertex, cosine):
    """Weight of light that paths meet where a surface glows, against aiming at it."""
    glow = light_at(scene.lights, scene.light_count - 1)
    density = glow_density(scene, glow, vertex, cosine) * _aims(scene, path, glow, later)
    return where(active, path.followed / max(path.followed + density, 1e-30), 1.0)


@inner
def limited(light, most, applies):
    """Light scaled down where it `applies` and its largest part is more than `most`."""
    brightest = largest(light)
    return scale(light, where(applies & (brightest > most), most / max(brightest, 1e-30), 1.0))


@inner
def nearest_light(scene, options, active, origin, direction, t_near, t_far, time):
    """The shape of a light that the camera sees first along rays, between two distances.

    Returns
    -------
    Who sees one, how far it is (elsewhere `t_far`), and whether it is held out.
    """
    found, held_out = mask_of(0), mask_of(0)
    for i in range(scene.light_count):
        lamp = light_at(scene.lights, i)
        if any_of((lamp.seen != 0) & ((lamp.kind != DISTANT) | (options.show_background != 0))):
            placed = light_at(scene.lights, _rows_at(scene, all_lanes(0) + i, time))
            met = meet_light(placed, scene.domes, active, origin, direction, t_near, t_far)
            t_far = where(met.there, met.distance, t_far)
            found, held_out = found | met.there, where(met.there, lamp.seen == HELD_OUT, held_out)
    return found, t_far, held_out


@inner
def light_met(scene, room, options, active, path, later, distance):
    """Paths with the light of the lamps that they met on their way.

    Along a ray that was scattered it is weighted against aiming at them, and what stands behind is lit
    through them.  What the camera sees, itself or in a mirror, ends at the first: what it hides is
    marked as `HIDDEN`, and adds no more.
    """
    seen = active & ((path.state & VERTICES) == 0)
    looks = seen | (active & ((path.state & MIRRORED) != 0))
    hidden, held_out = mask_of(0), mask_of(0)
    if any_of(looks):
        hidden, nearest, held_out = nearest_light(
            scene, options, looks, path.origin, path.direction, path.t_near, distance, path.time
        )  # fmt: skip
        distance = where(hidden, nearest * (1.0 + 1e-6), distance)
    light = scale(path.throughput, 0.0)
    shows = active & (~seen | (hidden & ~held_out))
    if any_of(shows):
        for i in range(scene.light_count):
            light = add(light, _light_of_one(scene, room, options, shows, seen, path, later, distance, i))
    covers = hidden & seen
    return changed(
        path,
        radiance=add(path.radiance, shown(path, light)),
        alpha=where(covers & ~held_out, path.alpha + path.cover, path.alpha),
        cover=where(covers, 0.0, path.cover),
        state=where(hidden, path.state | HIDDEN, path.state),
    )


@inner
def _light_of_one(scene, room, options, active, seen, path, later, distance, number):
    """Light of one lamp that rays met before a distance; the camera sees it as it is."""
    lamp = light_at(scene.lights, number)
    placed = light_at(scene.lights, _rows_at(scene, all_lanes(0) + number, path.time))
    met = meet_light(placed, scene.domes, active, path.origin, path.direction, path.t_near, distance)
    here = active & where(
        seen, met.there & (lamp.seen == 1), (met.density > 0.0) & reaches(lamp, path.linked)
    )
    if not any_of(here):
        return scale(path.throughput, 0.0)
    density = met.density * _aims(scene, path, lamp, later)
    weight = path.followed / max(path.followed + density, 1e-30)
    weight = weight * (path.matt * lamp.diffuse + (1.0 - path.matt) * lamp.specular)
    most = options.clamp * share_of(path, options.halvings)
    weight = where(seen, 1.0, weight)
    share = limited(scale(multiply(path.throughput, met.radiance), weight), most, later)
    if options.share_count > 0:
        credit(
            room, options, path, here, share, path.state & VERTICES,
            kept(room, FIRST_MATT, path), (path.state & THROUGH) != 0,
            all_lanes(0) + lamp.groups,
        )  # fmt: skip
    return choose(here, share, BLACK)


@inner
def light_behind(scene, room, options, active, path, part):
    """Light of the domes where the camera sees them, `part` of it."""
    light = scale(path.throughput, 0.0)
    for i in range(scene.light_count):
        lamp = light_at(scene.lights, i)
        if any_of(lamp.kind == DOME):
            placed = light_at(scene.lights, _rows_at(scene, all_lanes(0) + i, path.time))
            seen = background(placed, scene.domes, active, path.direction)
            seen = scale(multiply(path.throughput, seen), part)
            light = add(light, seen)
            if options.share_count > 0:
                through = (path.state & THROUGH) != 0
                credit(
                    room, options, path, active, seen, all_lanes(0), part, through,
                    all_lanes(0) + lamp.groups,
                )  # fmt: skip
    return shown(path, choose(active, light, BLACK))


class SeenAs(NamedTuple):
    """How the camera sees what light does at vertices, for `light_passes.credit`."""

    throughput: Any
    scattered: Any
    matt: Any
    through: Any


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
def _aim(scene, room, options, active, path, shaded, lights, often, u, v, later, at_first, seen_as):
    """Light as it gets from vertices to the camera, weighted against following; and the rays.

    `often` is how many rays are aimed at the lanes' `lights` from here, on average.
    """
    vertex, normal = shaded.vertex, shaded.normal
    rows, reached = _rows_at(scene, lights, path.time), of_placements(scene.reached, vertex.placement)
    aim = aims(scene, room + 4 * MATERIAL, rows, active, vertex.point, reached, u, v)
    wi = to_local(aim.direction, shaded.s, shaded.t, normal)
    up = (wi[2] > 0.0) & (dot(aim.direction, vertex.facing) > 0.0)
    active = active & up & (aim.density > 0.0) & (largest(aim.radiance) > 0.0)
    gathered = scale(vertex.point, 0.0)
    if not any_of(active):
        return gathered, 0
    value, matt, followed = scatter(shaded.surface, shaded.lobes, scene.tables, shaded.wo, wi)
    value = add(scale(subtract(value, matt), aim.specular), scale(matt, aim.diffuse))
    at_first = at_first & active
    if options.illuminance:
        active = active & ((largest(value) > 0.0) | at_first)
    else:
        active = active & (largest(value) > 0.0)
    origin = lifted(vertex, aim.direction)
    share = transmittance(
        scene, room, active, origin, aim.direction, aim.distance, aim.shadows, path.time
    )  # fmt: skip
    if options.illuminance:
        lux = luminance(multiply(aim.radiance, share)) * max(wi[2], 0.0) / max(aim.density * often, 1e-30)
        credit_lux(room, options, path, at_first, lux)
    followed = where(aim.followed == 1, followed, 0.0)
    weight = 1.0 / max(aim.density * often + followed, 1e-30)
    light = multiply(seen_as.throughput, scale(multiply(value, aim.radiance), weight))
    if options.share_count > 0:
        credit_shadow(room, options, path, active & ~later, light, share)
    most = options.clamp * share_of(path, options.halvings)
    light = limited(multiply(light, share), most, later)
    if options.share_count > 0:
        matt_now = luminance(matt) * aim.diffuse / max(luminance(value), 1e-30)
        credit(
            room, options, path, active & (largest(share) > 0.0), light, seen_as.scattered,
            where(later, seen_as.matt, min(matt_now, 1.0)), seen_as.through, aim.groups,
        )  # fmt: skip
    return choose(largest(share) > 0.0, light, gathered), count_of(active)


@inner
def gather(scene, room, options, active, path, shaded, later, at_first, turn, dimension, seen_as):
    """What lights send to vertices and on to the camera; the reach of all lights; the rays.

    `at_first` are those whose illuminance is asked for.
    """
    first, point = active & ~later, shaded.vertex.point
    gathered, rays = scale(point, 0.0), 0
    reach_total = 0.0 * turn
    few, several = scene.light_count <= FEW, scene.light_count > 1
    if several and (any_of(active & later) or not few):
        reach_total = _reach_of_all(scene, point)
    rounds = 1
    if any_of(first):
        rounds = scene.light_count if few else _PICKS
    for i in range(rounds):
        u, v = pair(path.seed, path.sample, all_lanes(dimension + LIGHT + i))
        aiming = active if i == 0 else first
        lights, often = all_lanes(0) + i, 0.0 * turn + 1.0
        if several and (any_of(aiming & later) or not few):
            # Drawn from equal parts of the chances: few draws fall on the same light.
            choice = where(later, turn, (turn + i) * (1.0 / _PICKS))
            picked, chance = _pick(scene, point, reach_total, choice)
            drawn = later if few else aiming
            lights = where(drawn, picked, lights)
            often = where(later, chance, often if few else _PICKS * chance)
        light, shot = _aim(
            scene, room, options, aiming, path, shaded, lights, often, u, v, later, at_first, seen_as
        )  # fmt: skip
        gathered = add(gathered, light)
        rays += shot
    return choose(active, gathered, BLACK), reach_total, rays


@inner
def catch(scene, room, options, catching, path, hit):
    """What falls on surfaces that catch shadow: paths end here, and alpha will carry the shadow.

    Kept are the light a white surface would have here, and what of it is blocked; their ratio is
    taken when the film is developed, over all samples of a pixel.
    """
    vertex = hit_vertex(scene, hit, path.origin, path.direction, path.time)
    reached = of_placements(scene.reached, vertex.placement)
    lit, dark, rays = 0.0 * path.t_near, 0.0 * path.t_near, 0
    for i in range(scene.light_count):
        u, v = pair(path.seed, path.sample, all_lanes(LIGHT + i))
        rows = _rows_at(scene, all_lanes(0) + i, path.time)
        aim = aims(scene, room + 4 * MATERIAL, rows, catching, vertex.point, reached, u, v)
        cosine = dot(aim.direction, vertex.facing)
        aiming = catching & (cosine > 0.0) & (aim.density > 0.0)
        if any_of(aiming):
            light = luminance(aim.radiance) * cosine / max(aim.density, 1e-30)
            origin = lifted(vertex, aim.direction)
            share = transmittance(
                scene, room, aiming, origin, aim.direction, aim.distance, aim.shadows, path.time
            )  # fmt: skip
            lit = where(aiming, lit + light, lit)
            dark = where(aiming, dark + light * (1.0 - luminance(share)), dark)
            rays += count_of(aiming)
    keep_triple(room, CAUGHT, path, (path.cover, lit, dark), catching)
    radiance, alpha = path.radiance, path.alpha
    if options.show_background and options.sky:
        # Before a sky that is seen the surface is see-through, and its shadow darkens the sky.
        past = 1.0 - where(lit > 0.0, dark / max(lit, 1e-30), 0.0)
        behind = light_behind(scene, room, options, catching, path, past)
        radiance = add(radiance, choose(catching, behind, BLACK))
        alpha = where(catching, alpha + path.cover * past, alpha)
    return changed(path, radiance=radiance, alpha=alpha), rays
