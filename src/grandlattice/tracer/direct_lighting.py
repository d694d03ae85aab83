"""Next-event estimation: shadow rays from the vertices of paths to lamps, and surfaces that catch shadow.

The two ways light is gathered, aiming and following, are weighted by the balance heuristic (Veach
and Guibas, 1995).  From the first vertex all lights are aimed at where they are few, and some of
them, drawn by their reach, where they are many; from the others one.
"""

from __future__ import annotations

import math

from grandlattice.tracer.lamp_choice import FEW, PICKS, pick_lamp, reach_of_all, rows_at
from grandlattice.tracer.lanes import (
    all_lanes,
    any_of,
    count_of,
    inner,
    where,
)
from grandlattice.tracer.light_arrival import (
    BLACK,
    Drawn,
    light_arriving,
    transmittance,
)
from grandlattice.tracer.light_passes import (
    is_wanted,
)
from grandlattice.tracer.light_sampling import aims
from grandlattice.tracer.light_table import light_at
from grandlattice.tracer.lights_met import light_behind
from grandlattice.tracer.path_state import (
    CAUGHT,
    MATERIAL,
    changed,
    keep_triple,
)
from grandlattice.tracer.sampling import pair
from grandlattice.tracer.sky_lighting import GOLDEN, aim_at_turned_skies
from grandlattice.tracer.vectors import (
    add,
    choose,
    dot,
    luminance,
    scale,
)
from grandlattice.tracer.vertices import hit_vertex, lifted, of_placements

# mypy: disable-error-code="no-untyped-def"

LIGHT = 66  # dimensions of the sample sequence from here on, one for each light, in a path's stride
KEEP = 92  # dimensions from here on decide which shadow rays are traced, one for each lamp


@inner
def _aim(scene, room, options, active, lit, drawn):
    """Light as it gets from vertices to the camera, weighted against following; and the rays.

    Where lightings are traced together it is added to their light sums, and none is returned.
    """
    vertex = lit.shaded.vertex
    rows = rows_at(scene, drawn.lights, lit.path.time)
    reached = of_placements(scene.reached, vertex.placement)
    aim = aims(scene, room + 4 * MATERIAL, rows, active, vertex.point, reached, drawn.u, drawn.v)
    return light_arriving(scene, room, options, active, lit, drawn, aim)


@inner
def _aim_at_versions(scene, room, options, active, lit, drawn):
    """`_aim` at lamps in each of the ways they stand that a film has; the rays."""
    rays, lamps = 0, light_at(scene.lights, drawn.lights)
    versions, others = lamps.versions, lamps.others
    turned = active & (lamps.turned == 1) & (versions > 1)
    if any_of(turned):
        rays += aim_at_turned_skies(scene, room, options, turned, lit, drawn)
        active = active & ~turned
    keep = drawn.keep
    for k in range(options.most_versions):
        if not any_of(active & (versions > k)):
            break
        rows = drawn.lights if k == 0 else where(versions > k, others + (k - 1), drawn.lights)
        aiming = active & (versions > k) & is_wanted(options, rows)
        if any_of(aiming):
            kept_at = where(versions > 1, keep, 0.0)
            one = Drawn(rows, drawn.often, drawn.u, drawn.v, kept_at, drawn.number)
            _, shot = _aim(scene, room, options, aiming, lit, one)
            rays += shot
        keep = keep + GOLDEN
        keep = keep - math.floor(keep)
    return rays


# --- a sky turned in several ways --------------------------------------------------------------------------


@inner
def gather(scene, room, options, active, lit, turn, dimension):
    """What lights send to vertices and on to the camera; the reach of all lights; the rays."""
    path, point, later = lit.path, lit.shaded.vertex.point, lit.later
    first = active & ~later
    gathered, rays = scale(point, 0.0), 0
    reach_total = 0.0 * turn
    few, several = scene.light_count <= FEW, scene.light_count > 1
    if several and (any_of(active & later) or not few):
        reach_total = reach_of_all(scene, point)
    rounds = 1
    if any_of(first):
        rounds = scene.light_count if few else PICKS
    for i in range(rounds):
        u, v = pair(path.seed, path.sample, all_lanes(dimension + LIGHT + i))
        aiming = active if i == 0 else first
        lights, often = all_lanes(0) + i, 0.0 * turn + 1.0
        if several and (any_of(aiming & later) or not few):
            # Drawn from equal parts of the chances: few draws fall on the same light.
            choice = where(later, turn, (turn + i) * (1.0 / PICKS))
            picked, chance = pick_lamp(scene, point, reach_total, choice)
            lights = where(later if few else aiming, picked, lights)
            often = where(later, chance, often if few else PICKS * chance)
        keep = 0.0 * turn
        if options.sum_count > 0:
            keep, _ = pair(path.seed, path.sample, all_lanes(dimension + KEEP + i))
        drawn = Drawn(lights, often, u, v, keep, dimension + LIGHT + i)
        if options.sum_count > 0:
            rays += _aim_at_versions(scene, room, options, aiming, lit, drawn)
        else:
            light, shot = _aim(scene, room, options, aiming, lit, drawn)
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
        rows = rows_at(scene, all_lanes(0) + i, path.time)
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
