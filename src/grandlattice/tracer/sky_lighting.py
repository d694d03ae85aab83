"""Skies that lightings turn in several ways: aimed at from vertices, and met by rays that escape.

One ray into the rest of a sky serves all the ways it is turned, drawn from their mean and weighted by the
balance heuristic (Veach and Guibas, 1995); into the sun each way has a ray of its own.
"""

from __future__ import annotations

import math

from grandlattice.tracer.dome_sampling import (
    SkySeen,
    direction_in_sky,
    dome_coordinates,
    draw_rest_of_sky,
    draw_sun,
    image_at,
    in_sun,
    sky_radiance,
    sky_seen,
    sun_density,
)
from grandlattice.tracer.lamp_choice import rays_aimed
from grandlattice.tracer.lanes import (
    all_lanes,
    any_of,
    count_of,
    inner,
    mask_of,
    number_in,
    where,
)
from grandlattice.tracer.light_arrival import (
    BLACK,
    Drawn,
    aimed,
    first_bounce_diffuse,
    kept_first_matt,
    light_arriving,
    local_direction,
    scattered_from,
    spread_sky,
    transmittance,
)
from grandlattice.tracer.light_passes import (
    Arriving,
    row_is_wanted,
    spread,
)
from grandlattice.tracer.light_sampling import FAR, Aim, reaches
from grandlattice.tracer.light_table import light_at
from grandlattice.tracer.path_state import (
    MIRRORED,
    THROUGH,
    VERTICES,
)
from grandlattice.tracer.sampling import pair
from grandlattice.tracer.turned_sky import SkyLook, add_sky
from grandlattice.tracer.vectors import (
    choose,
    largest,
    multiply,
    scale,
    to_world,
)
from grandlattice.tracer.vertices import lifted, of_placements

# mypy: disable-error-code="no-untyped-def"

SUN_DRAW = 12  # behind that of its lamp, the dimension that places in a sun are drawn from


@inner
def spread_met_sky(scene, room, options, active, path, distance, lamp, sights):
    """Add the light of a turned sky that scattered rays end in to every film it is in."""
    head, scattered = light_at(scene.lights, lamp), path.state & VERTICES
    later = scattered > 1
    active = active & (scattered > 0) & (distance >= FAR) & (head.followed == 1) & reaches(head, path.linked)
    if not any_of(active):
        return
    seen, often = sky_seen(head, scene.domes, active, path.direction), rays_aimed(scene, path, lamp, later)
    matt = path.matt * head.diffuse + (1.0 - path.matt) * head.specular
    first_matt, through = kept_first_matt(room, options, path), (path.state & THROUGH) != 0
    first, quick = number_in(head.others, 0), has_own_sums(options, head)
    if quick:
        weight = matt * path.followed / max(path.followed + seen.density * often, 1e-30)
        carried = scale(path.throughput, weight)
        looks = SkyLook(seen, path.direction, carried, sights, 0, (path.state & MIRRORED) != 0)
        add_sky(room, options, number_of_sky(scene, lamp), active, path, looks)
    if quick and any_of(head.sun_count == 0):
        return
    for k in range(number_in(head.versions, 0)):
        row = lamp if k == 0 else first + k - 1
        here = active
        if quick:
            here = active & in_sun(light_at(scene.lights, row), path.direction)
        if any_of(here) and row_is_wanted(options, row):
            light = light_at(scene.lights, row)
            radiance, of_sun = sky_radiance(light, scene.domes, active, seen, path.direction)
            density = seen.density
            if any_of(active & of_sun):
                density = where(of_sun, sun_density(light, scene.domes, active, path.direction), density)
            weight = matt * path.followed / max(path.followed + density * often, 1e-30)
            share = Arriving(
                scale(multiply(path.throughput, radiance), weight), scattered, first_matt, through,
                all_lanes(0) + light.groups, all_lanes(0) + row, 0.0 * weight + 1.0,
            )  # fmt: skip
            spread(room, options, path, here, share, later, sights)


@inner
def add_sky_behind(scene, room, options, active, path, light, lamp):
    """Add a turned sky with its sun where the camera sees it, to every film it is in."""
    u, v = dome_coordinates(light_at(scene.lights, lamp), path.direction)
    looks = SkyLook(SkySeen(u, v, 0.0 * u), path.direction, light, -1, 1, mask_of(0xFFFF))
    add_sky(room, options, number_of_sky(scene, lamp), active, path, looks)


@inner
def has_own_sums(options, head):
    """Whether a turned sky has sums of its own; those of light passes are added up one by one."""
    return options.sky_words > 0 and options.share_count == 0 and any_of(head.one_pole == 1)


@inner
def number_of_sky(scene, lamp):
    """The number of a turned sky among those with sums of their own."""
    number = 0
    for k in range(lamp):
        if any_of(light_at(scene.lights, k).one_pole == 1):
            number += 1
    return number


GOLDEN = 0.6180339887498949


@inner
def aim_at_turned_skies(scene, room, options, active, lit, drawn):
    """Light of skies that are turned in several ways: one ray into the rest of the sky, for all of them,
    and a ray into the sun of each; the rays.

    The ray into the rest is drawn from the mixture of all the ways the sky is turned, so that it serves each
    of them with the balance heuristic's weight (Veach and Guibas, 1995).
    """
    rays = 0
    for lamp in range(scene.light_count):
        head = light_at(scene.lights, lamp)
        here = active & (drawn.lights == lamp)
        if any_of(here & (head.turned == 1)):
            rays += _aim_at_rest_of_sky(scene, room, options, here, lit, drawn, lamp)
            if any_of(head.sun_count > 0):
                rays += _aim_at_suns(scene, room, options, here, lit, drawn, lamp)
    return rays


@inner
def _sky_aim(light, direction, density):
    """An `Aim` at a turned sky; its radiance is put in later."""
    nought = 0.0 * density
    return Aim(
        direction, nought + FAR, (nought, nought, nought), density, light.groups, light.diffuse,
        light.specular, light.shadows, light.followed,
    )  # fmt: skip


@inner
def _aim_at_rest_of_sky(scene, room, options, active, lit, drawn, lamp):
    """Light of a turned sky but for its sun; the rays."""
    path, vertex = lit.path, lit.shaded.vertex
    head = light_at(scene.lights, lamp)
    reached = of_placements(scene.reached, vertex.placement)
    active = active & reaches(head, reached)
    direction, density = draw_rest_of_sky(head, scene.domes, active, drawn.u, drawn.v)
    seen = sky_seen(head, scene.domes, active, direction)
    aim = _sky_aim(head, direction, density)
    wi, up = local_direction(lit.shaded, direction)
    value, matt, followed = scattered_from(scene, lit.shaded, aim, wi)
    active = active & up & (density > 0.0)
    at_first = lit.at_first & active & (options.illuminance != 0)
    active = active & ((largest(value) > 0.0) | at_first)
    if not any_of(active):
        return 0
    origin = lifted(vertex, direction)
    share = transmittance(scene, room, active, origin, direction, aim.distance, aim.shadows, path.time)
    carried = multiply(
        lit.seen_as.throughput, scale(value, 1.0 / max(density * drawn.often + followed, 1e-30))
    )
    if has_own_sums(options, head):
        light = multiply(carried, share)
        here = active & (largest(share) > 0.0)
        looks = SkyLook(seen, direction, light, -1, 0, mask_of(0))
        add_sky(room, options, number_of_sky(scene, lamp), here, path, looks)
        return count_of(active)
    falls = max(wi[2], 0.0) / max(density * drawn.often, 1e-30)
    matt_now = first_bounce_diffuse(lit, aim, value, matt)
    first = number_in(head.others, 0)
    for k in range(number_in(head.versions, 0)):
        row = lamp if k == 0 else first + k - 1
        if row_is_wanted(options, row):
            light = light_at(scene.lights, row)
            radiance, of_sun = sky_radiance(light, scene.domes, active, seen, direction)
            radiance = choose(of_sun, BLACK, radiance)
            arrives = Arriving(
                multiply(carried, radiance), lit.seen_as.scattered, matt_now, lit.seen_as.through,
                aim.groups, all_lanes(0) + row, 0.0 * falls + 1.0,
            )  # fmt: skip
            spread_sky(room, options, active, at_first, lit, arrives, (radiance, falls, share))
    return count_of(active)


@inner
def _aim_at_suns(scene, room, options, active, lit, drawn, lamp):
    """Light of the sun of a turned sky, in each of the ways it is turned that a film has; the rays."""
    path, rays = lit.path, 0
    head = light_at(scene.lights, lamp)
    reached = of_placements(scene.reached, lit.shaded.vertex.placement)
    active = active & reaches(head, reached)
    s, t = pair(path.seed, path.sample, all_lanes(0) + (drawn.number + SUN_DRAW))
    u, v = draw_sun(head, scene.domes, s, t)
    # What is drawn is the same place of the sun for all of them.
    local, first, keep = direction_in_sky(u, v), number_in(head.others, 0), drawn.keep
    image = image_at(head, scene.domes, active & (head.turned == 1), u, v)
    direction = to_world(local, head.across, head.upward, head.facing)
    density = sun_density(head, scene.domes, active, direction)
    density = where(in_sun(head, direction), density, 0.0)
    for k in range(number_in(head.versions, 0)):
        row = lamp if k == 0 else first + k - 1
        if row_is_wanted(options, row):
            light = light_at(scene.lights, row)
            direction = to_world(local, light.across, light.upward, light.facing)
            aim = aimed(_sky_aim(light, direction, density), radiance=multiply(light.radiance, image))
            one = Drawn(all_lanes(0) + row, drawn.often, u, v, keep, drawn.number)
            _, shot = light_arriving(scene, room, options, active, lit, one, aim)
            rays += shot
        keep = keep + GOLDEN
        keep = keep - math.floor(keep)
    return rays
