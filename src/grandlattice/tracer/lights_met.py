"""Lights that rays meet: lamps on the way, domes behind all, and what lamps hide from the camera."""

from __future__ import annotations

from typing import Any, NamedTuple

from grandlattice.tracer.lamp_choice import rays_aimed, rows_at
from grandlattice.tracer.lanes import (
    all_lanes,
    any_of,
    inner,
    mask_of,
    number_in,
    where,
)
from grandlattice.tracer.light_arrival import (
    BLACK,
    arriving,
    kept_first_matt,
)
from grandlattice.tracer.light_passes import (
    Arriving,
    cover_in_sight,
    credit,
    limited,
    row_is_wanted,
    spread,
)
from grandlattice.tracer.light_sampling import background, glow_density, meet_light, reaches
from grandlattice.tracer.light_table import DISTANT, DOME, HELD_OUT, light_at
from grandlattice.tracer.path_state import (
    HIDDEN,
    MIRRORED,
    THROUGH,
    VERTICES,
    changed,
    share_of,
    shown,
)
from grandlattice.tracer.sky_lighting import add_sky_behind, has_own_sums, spread_met_sky
from grandlattice.tracer.vectors import (
    add,
    choose,
    multiply,
    scale,
)

# mypy: disable-error-code="no-untyped-def"


@inner
def glow_weight(scene, path, active, later, vertex, cosine):
    """Weight of light that paths meet where a surface glows, against aiming at it."""
    last = scene.light_count - 1
    density = glow_density(scene, light_at(scene.lights, last), vertex, cosine)
    density = density * rays_aimed(scene, path, last, later)
    return where(active, path.followed / max(path.followed + density, 1e-30), 1.0)


class Ray(NamedTuple):
    """Rays between two distances, a lane each, at a time while the shutter is open."""

    origin: Any
    direction: Any
    t_near: Any
    t_far: Any
    time: Any


@inner
def nearest_light(scene, options, active, ray, sight):
    """The shape of a light that the camera sees first along rays.

    Parameters
    ----------
    sight : number of the sight that is meant, where lightings are traced together.

    Returns
    -------
    Who sees one, how far it is (elsewhere `t_far`), and whether it is held out.
    """
    found, held_out, t_far = mask_of(0), mask_of(0), ray.t_far
    for i in range(scene.row_count):
        lamp = light_at(scene.lights, i)
        shows = (lamp.seen != 0) & ((lamp.kind != DISTANT) | (options.show_background != 0))
        if options.sum_count > 0:
            shows = shows & ((lamp.in_sight & (1 << sight)) != 0)
        if any_of(shows):
            placed = light_at(scene.lights, rows_at(scene, all_lanes(0) + i, ray.time))
            met = meet_light(placed, scene.domes, active, ray.origin, ray.direction, ray.t_near, t_far)
            t_far = where(met.there, met.distance, t_far)
            found, held_out = found | met.there, where(met.there, lamp.seen == HELD_OUT, held_out)
    return found, t_far, held_out


@inner
def _ray_of(path, distance):
    return Ray(path.origin, path.direction, path.t_near, distance, path.time)


@inner
def light_met(scene, room, options, active, path, later, distance):
    """Paths with the light of the lamps that they met on their way.

    Along a ray that was scattered it is weighted against aiming at them, and what stands behind is lit
    through them.  What the camera sees, itself or in a mirror, ends at the first: what it hides is
    marked as `HIDDEN`, and adds no more.
    """
    if options.sum_count > 0:
        return _met_by_many(scene, room, options, active, path, later, distance)
    seen = active & ((path.state & VERTICES) == 0)
    looks = seen | (active & ((path.state & MIRRORED) != 0))
    hidden, held_out = mask_of(0), mask_of(0)
    if any_of(looks):
        hidden, nearest, held_out = nearest_light(scene, options, looks, _ray_of(path, distance), 0)
        distance = where(hidden, nearest * (1.0 + 1e-6), distance)
    light = scale(path.throughput, 0.0)
    shows = active & (~seen | (hidden & ~held_out))
    if any_of(shows):
        first_matt = kept_first_matt(room, options, path)
        for i in range(scene.light_count):
            met, here = _meets(scene, shows, seen, path, distance, i)
            if any_of(here):
                share = _light_of_one(scene, seen, path, later, met, (i, i), first_matt)
                most = options.clamp * share_of(path, options.halvings)
                share = arriving(share, value=limited(share.value, most, later))
                if options.share_count > 0:
                    credit(room, options, path, here, share)
                light = add(light, choose(here, share.value, BLACK))
    covers = hidden & seen
    return changed(
        path,
        radiance=add(path.radiance, shown(path, light)),
        alpha=where(covers & ~held_out, path.alpha + path.cover, path.alpha),
        cover=where(covers, 0.0, path.cover),
        state=where(hidden, path.state | HIDDEN, path.state),
    )


@inner
def _met_by_many(scene, room, options, active, path, later, distance):
    """`light_met` where lightings are traced together: what hides is another thing in each sight."""
    seen = active & ((path.state & VERTICES) == 0)
    looks = seen | (active & ((path.state & MIRRORED) != 0))
    follows = active & ~looks
    if any_of(follows):
        _spread_met(scene, room, options, follows, path, later, distance, -1)
    state, alpha, cover = path.state, path.alpha, path.cover
    if any_of(looks):
        for sight in range(options.sights):
            hidden, nearest, held_out = nearest_light(scene, options, looks, _ray_of(path, distance), sight)
            stop = where(hidden, nearest * (1.0 + 1e-6), distance)
            shows = looks & (~seen | (hidden & ~held_out))
            if any_of(shows):
                _spread_met(scene, room, options, shows, path, later, stop, HIDDEN << sight)
            free = (path.state & (HIDDEN << sight)) == 0
            covers = hidden & seen & free & ~held_out
            here = changed(path, alpha=alpha)
            alpha = cover_in_sight(room, options, here, covers, path.cover, sight)
            if options.sights == 1:
                cover = where(hidden & seen, 0.0, cover)
            state = where(hidden, state | (HIDDEN << sight), state)
    return changed(path, alpha=alpha, cover=cover, state=state)


@inner
def _spread_met(scene, room, options, active, path, later, distance, sights):
    """Add the light of lamps that rays met before a distance to every film it is in."""
    seen = active & ((path.state & VERTICES) == 0)
    first_matt = kept_first_matt(room, options, path)
    for i in range(scene.light_count):
        light = light_at(scene.lights, i)
        if any_of(light.turned == 1):
            spread_met_sky(scene, room, options, active, path, distance, i, sights)
            continue
        for k in range(number_in(light.versions, 0)):
            row = i if k == 0 else number_in(light.others, 0) + k - 1
            if row_is_wanted(options, row):
                met, here = _meets(scene, active, seen, path, distance, row)
                if any_of(here):
                    share = _light_of_one(scene, seen, path, later, met, (i, row), first_matt)
                    spread(room, options, path, here, share, later, sights)


@inner
def _meets(scene, active, seen, path, distance, row):
    """What rays meet of a row of the light table before a distance, and which of them count."""
    lamp = light_at(scene.lights, row)
    placed = light_at(scene.lights, rows_at(scene, all_lanes(0) + row, path.time))
    met = meet_light(placed, scene.domes, active, path.origin, path.direction, path.t_near, distance)
    here = active & where(
        seen, met.there & (lamp.seen == 1), (met.density > 0.0) & reaches(lamp, path.linked)
    )
    return met, here


@inner
def _light_of_one(scene, seen, path, later, met, which, first_matt):
    """Light of a lamp that rays met, not limited; the camera sees it as it is.

    `which` is the number of the lamp, and its row in the light table: of one of the ways it stands.
    """
    number, row = which
    lamp = light_at(scene.lights, row)
    density = met.density * rays_aimed(scene, path, number, later)
    weight = path.followed / max(path.followed + density, 1e-30)
    weight = weight * (path.matt * lamp.diffuse + (1.0 - path.matt) * lamp.specular)
    weight = where(seen, 1.0, weight)
    return Arriving(
        scale(multiply(path.throughput, met.radiance), weight), path.state & VERTICES,
        first_matt, (path.state & THROUGH) != 0, all_lanes(0) + lamp.groups, all_lanes(0) + row,
        0.0 * weight + 1.0,
    )  # fmt: skip


@inner
def light_behind(scene, room, options, active, path, part):
    """Light of the domes where the camera sees them, `part` of it."""
    light, through = scale(path.throughput, 0.0), (path.state & THROUGH) != 0
    for i in range(scene.row_count):
        lamp = light_at(scene.lights, i)
        if has_own_sums(options, lamp):
            if i < scene.light_count:  # in all ways it is turned
                add_sky_behind(scene, room, options, active, path, scale(path.throughput, part), i)
        elif any_of(lamp.kind == DOME):
            placed = light_at(scene.lights, rows_at(scene, all_lanes(0) + i, path.time))
            seen = background(placed, scene.domes, active, path.direction)
            seen = scale(multiply(path.throughput, seen), part)
            groups, row = all_lanes(0) + lamp.groups, all_lanes(0) + i
            share = Arriving(seen, all_lanes(0), part, through, groups, row, 0.0 * path.time + 1.0)
            if options.sum_count > 0:
                spread(room, options, path, active, share, mask_of(0), -1)
            else:
                light = add(light, seen)
                if options.share_count > 0:
                    credit(room, options, path, active, share)
    return shown(path, choose(active, light, BLACK))
