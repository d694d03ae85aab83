"""What lights send to the vertices of paths: aimed at, met on the way, seen behind, caught as shadow.

The two ways light is gathered, aiming and following, are weighted by the balance heuristic (Veach
and Guibas, 1995).  From the first vertex all lights are aimed at where they are few, and some of
them, drawn by their reach, where they are many; from the others one.
"""

from __future__ import annotations

import math
from typing import Any, NamedTuple

from grandlattice.tracer.embree import blocked, closest_hits
from grandlattice.tracer.kernel_memory import float32s, other_fields
from grandlattice.tracer.lanes import (
    all_lanes,
    any_of,
    count_of,
    inner,
    mask_of,
    number_in,
    to_ints,
    where,
)
from grandlattice.tracer.light_passes import (
    Arriving,
    cover_in_sight,
    credit,
    credit_lux,
    credit_shadow,
    is_wanted,
    limited,
    row_is_wanted,
    spread,
    spread_lux,
    spread_shadow,
)
from grandlattice.tracer.light_sampling import (
    FAR,
    Aim,
    aims,
    background,
    direction_in_sky,
    draw_rest_of_sky,
    draw_sun,
    glow_density,
    image_at,
    in_sun,
    light_reach,
    meet_light,
    reaches,
    sky_radiance,
    sky_seen,
    sun_density,
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
from grandlattice.tracer.turned_sky import SkyLook, add_sky
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
    to_world,
)
from grandlattice.tracer.vertices import hit_vertex, just_behind, lifted, of_placements, solid_at

# mypy: disable-error-code="no-untyped-def"

LIGHT = 66  # dimensions of the sample sequence from here on, one for each light, in a path's stride
SUN_DRAW = 12  # behind that of its lamp, the dimension that places in a sun are drawn from
KEEP = 92  # dimensions from here on decide which shadow rays are traced, one for each lamp
FEW, _PICKS = 8, 4  # lights that are all aimed at; how many are drawn where there are more
MOST_PASSES_THROUGH = 48
BLACK = (0.0, 0.0, 0.0)
_LUMA = (0.2126, 0.7152, 0.0722)  # of the channels, in what is seen

arriving = other_fields(Arriving)
"""Light as it is, but for some fields."""
aimed = other_fields(Aim)
"""An aim as it is, but for some fields."""


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
def _reach_of_all(scene, point):
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
def _pick(scene, point, total, choice):
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
def _aims(scene, path, lamp, later):
    """How many rays are aimed at a lamp from the vertices paths left, on average."""
    count = scene.light_count
    if count == 1:
        return 0.0 * path.t_near + 1.0
    chance = _chance(count, _reach(scene, lamp, path.origin), path.reach_total)
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
    last = scene.light_count - 1
    density = glow_density(scene, light_at(scene.lights, last), vertex, cosine)
    density = density * _aims(scene, path, last, later)
    return where(active, path.followed / max(path.followed + density, 1e-30), 1.0)


@inner
def _first_matt(room, options, path):
    """Diffuse fraction of the first bounce; undefined before it, or when no pass needs it."""
    if options.share_count == 0:
        return path.matt
    return kept(room, FIRST_MATT, path)


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
            placed = light_at(scene.lights, _rows_at(scene, all_lanes(0) + i, ray.time))
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
        first_matt = _first_matt(room, options, path)
        for i in range(scene.light_count):
            met, here = _meets(scene, shows, seen, path, distance, i)
            if any_of(here):
                share = _light_of_one(scene, seen, path, later, met, i, first_matt)
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
        _spread_met(scene, room, options, follows, seen, path, later, distance, -1)
    state, alpha, cover = path.state, path.alpha, path.cover
    if any_of(looks):
        for sight in range(options.sights):
            hidden, nearest, held_out = nearest_light(scene, options, looks, _ray_of(path, distance), sight)
            stop = where(hidden, nearest * (1.0 + 1e-6), distance)
            shows = looks & (~seen | (hidden & ~held_out))
            if any_of(shows):
                _spread_met(scene, room, options, shows, seen, path, later, stop, HIDDEN << sight)
            free = (path.state & (HIDDEN << sight)) == 0
            covers = hidden & seen & free & ~held_out
            here = changed(path, alpha=alpha)
            alpha = cover_in_sight(room, options, here, covers, path.cover, sight)
            if options.sights == 1:
                cover = where(hidden & seen, 0.0, cover)
            state = where(hidden, state | (HIDDEN << sight), state)
    return changed(path, alpha=alpha, cover=cover, state=state)


@inner
def _spread_met(scene, room, options, active, seen, path, later, distance, sights):
    """Add the light of lamps that rays met before a distance to every film it is in."""
    first_matt = _first_matt(room, options, path)
    for i in range(scene.light_count):
        light = light_at(scene.lights, i)
        if any_of(light.turned == 1):
            _spread_met_sky(scene, room, options, active, path, later, distance, i, sights)
            continue
        for k in range(number_in(light.versions, 0)):
            row = i if k == 0 else number_in(light.others, 0) + k - 1
            if row_is_wanted(options, row):
                met, here = _meets(scene, active, seen, path, distance, row)
                if any_of(here):
                    share = _light_of_one(scene, seen, path, later, met, i, first_matt)
                    share = arriving(share, row=all_lanes(0) + row)
                    spread(room, options, path, here, share, later, sights)


@inner
def _spread_met_sky(scene, room, options, active, path, later, distance, lamp, sights):
    """Add the light of a turned sky that scattered rays end in to every film it is in."""
    head, scattered = light_at(scene.lights, lamp), path.state & VERTICES
    active = active & (scattered > 0) & (distance >= FAR) & (head.followed == 1) & reaches(head, path.linked)
    if not any_of(active):
        return
    seen, often = sky_seen(head, scene.domes, active, path.direction), _aims(scene, path, lamp, later)
    matt = path.matt * head.diffuse + (1.0 - path.matt) * head.specular
    first_matt, through = _first_matt(room, options, path), (path.state & THROUGH) != 0
    first, quick = number_in(head.others, 0), _is_quick(options, head)
    if quick:
        weight = matt * path.followed / max(path.followed + seen.density * often, 1e-30)
        carried = scale(path.throughput, weight)
        looks = SkyLook(seen, path.direction, carried, sights)
        add_sky(room, options, _number_of_sky(scene, lamp), active, path, looks, later)
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
def _is_quick(options, head):
    """Whether a turned sky has sums of its own; those of light passes are added up one by one."""
    return options.sky_words > 0 and options.share_count == 0 and any_of(head.one_pole == 1)


@inner
def _number_of_sky(scene, lamp):
    """The number of a turned sky among those with sums of their own."""
    number = 0
    for k in range(lamp):
        if any_of(light_at(scene.lights, k).one_pole == 1):
            number += 1
    return number


@inner
def _meets(scene, active, seen, path, distance, row):
    """What rays meet of a row of the light table before a distance, and which of them count."""
    lamp = light_at(scene.lights, row)
    placed = light_at(scene.lights, _rows_at(scene, all_lanes(0) + row, path.time))
    met = meet_light(placed, scene.domes, active, path.origin, path.direction, path.t_near, distance)
    here = active & where(
        seen, met.there & (lamp.seen == 1), (met.density > 0.0) & reaches(lamp, path.linked)
    )
    return met, here


@inner
def _light_of_one(scene, seen, path, later, met, number, first_matt):
    """Light of one lamp that rays met, not limited; the camera sees it as it is."""
    lamp = light_at(scene.lights, number)
    density = met.density * _aims(scene, path, number, later)
    weight = path.followed / max(path.followed + density, 1e-30)
    weight = weight * (path.matt * lamp.diffuse + (1.0 - path.matt) * lamp.specular)
    weight = where(seen, 1.0, weight)
    return Arriving(
        scale(multiply(path.throughput, met.radiance), weight), path.state & VERTICES,
        first_matt, (path.state & THROUGH) != 0, all_lanes(0) + lamp.groups, all_lanes(0) + number,
        0.0 * weight + 1.0,
    )  # fmt: skip


@inner
def light_behind(scene, room, options, active, path, part):
    """Light of the domes where the camera sees them, `part` of it."""
    light, through = scale(path.throughput, 0.0), (path.state & THROUGH) != 0
    for i in range(scene.row_count):
        lamp = light_at(scene.lights, i)
        if any_of(lamp.kind == DOME):
            placed = light_at(scene.lights, _rows_at(scene, all_lanes(0) + i, path.time))
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


class Lit(NamedTuple):
    """Vertices at which light is gathered, a lane each."""

    path: Any
    shaded: Any
    later: Any  # whether the path was scattered before
    at_first: Any  # whether illuminance is asked for there
    seen_as: Any


class Drawn(NamedTuple):
    """What is aimed at from vertices, a lane each."""

    lights: Any  # rows of the light table
    often: Any  # how many rays are aimed at the lamp from here, on average
    u: Any
    v: Any
    keep: Any  # uniform in [0, 1), for shadow rays that are traced in part of the cases
    number: Any  # dimension of the sample sequence this was drawn from, one number


@inner
def _aim(scene, room, options, active, lit, drawn):
    """Light as it gets from vertices to the camera, weighted against following; and the rays.

    Where lightings are traced together it is added to their light sums, and none is returned.
    """
    vertex = lit.shaded.vertex
    rows = _rows_at(scene, drawn.lights, lit.path.time)
    reached = of_placements(scene.reached, vertex.placement)
    aim = aims(scene, room + 4 * MATERIAL, rows, active, vertex.point, reached, drawn.u, drawn.v)
    return _arriving_from(scene, room, options, active, lit, drawn, aim)


@inner
def _local_direction(shaded, direction):
    """A direction in the frame of vertices, and whether it lies above their surfaces."""
    wi = to_local(direction, shaded.s, shaded.t, shaded.normal)
    return wi, (wi[2] > 0.0) & (dot(direction, shaded.vertex.facing) > 0.0)


@inner
def _scattered_from(scene, shaded, aim, wi):
    """The BSDF × cosine for light from a direction, its diffuse part, and the pdf of following it."""
    value, matt, followed = scatter(shaded.surface, shaded.lobes, scene.tables, shaded.wo, wi)
    value = add(scale(subtract(value, matt), aim.specular), scale(matt, aim.diffuse))
    return value, matt, where(aim.followed == 1, followed, 0.0)


@inner
def _matt_share(lit, aim, value, matt):
    """Diffuse fraction of the first bounce, 0..1."""
    now = luminance(matt) * aim.diffuse / max(luminance(value), 1e-30)
    return where(lit.later, lit.seen_as.matt, min(now, 1.0))


@inner
def _arriving_from(scene, room, options, active, lit, drawn, aim):
    """`_aim` in directions that are known."""
    path, shaded, later, seen_as = lit.path, lit.shaded, lit.later, lit.seen_as
    vertex, lights, often = shaded.vertex, drawn.lights, drawn.often
    wi, up = _local_direction(shaded, aim.direction)
    active = active & up & (aim.density > 0.0) & (largest(aim.radiance) > 0.0)
    gathered = scale(vertex.point, 0.0)
    if not any_of(active):
        return gathered, 0
    value, matt, followed = _scattered_from(scene, shaded, aim, wi)
    at_first = lit.at_first & active
    if options.illuminance:
        active = active & ((largest(value) > 0.0) | at_first)
    else:
        active = active & (largest(value) > 0.0)
    many, parts, whole = options.sum_count > 0, options.share_count > 0, 0.0 * often + 1.0
    weight = 1.0 / max(aim.density * often + followed, 1e-30)
    light = multiply(seen_as.throughput, scale(multiply(value, aim.radiance), weight))
    if many and options.thresholds != 0:
        # Faint light is looked at in part of the cases, and counts for as much more.
        faint = largest(light)
        threshold = float32s(options.thresholds)[lights]
        chance = where(threshold > 0.0, min(faint / max(threshold, 1e-30), 1.0), 1.0)
        chance = where(at_first & (options.illuminance != 0), 1.0, chance)
        active = active & (drawn.keep < chance)
        at_first = at_first & active
        whole = 1.0 / max(chance, 1e-6)
        if not any_of(active):
            return gathered, 0
    origin = lifted(vertex, aim.direction)
    share = transmittance(
        scene, room, active, origin, aim.direction, aim.distance, aim.shadows, path.time
    )  # fmt: skip
    if options.illuminance:
        if many:
            falls = max(wi[2], 0.0) / max(aim.density * often, 1e-30)
            arrives = multiply(_LUMA, scale(multiply(aim.radiance, share), falls))
            spread_lux(room, options, path, at_first, lights, arrives)
        else:
            lux = luminance(multiply(aim.radiance, share)) * max(wi[2], 0.0) / max(aim.density * often, 1e-30)
            credit_lux(room, options, path, at_first, lux)
    matt_now = 0.0 * often
    if parts:
        matt_now = _matt_share(lit, aim, value, matt)
    arrives = Arriving(light, seen_as.scattered, matt_now, seen_as.through, aim.groups, lights, whole)
    if parts:
        if many:
            spread_shadow(room, options, path, active & ~later, arrives, share)
        else:
            credit_shadow(room, options, path, active & ~later, light, share)
    here = active & (largest(share) > 0.0)
    if many:
        arrives = arriving(arrives, value=multiply(light, share))
        spread(room, options, path, here, arrives, later, -1)
        return gathered, count_of(active)
    most = options.clamp * share_of(path, options.halvings)
    light = limited(multiply(light, share), most, later)
    if parts:
        credit(room, options, path, here, arriving(arrives, value=light))
    return choose(largest(share) > 0.0, light, gathered), count_of(active)


_GOLDEN = 0.6180339887498949


@inner
def _aim_at_versions(scene, room, options, active, lit, drawn):
    """`_aim` at lamps in each of the ways they stand that a film has; the rays."""
    rays, lamps = 0, light_at(scene.lights, drawn.lights)
    versions, others = lamps.versions, lamps.others
    turned = active & (lamps.turned == 1) & (versions > 1)
    if any_of(turned):
        rays += _aim_at_turned_skies(scene, room, options, turned, lit, drawn)
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
        keep = keep + _GOLDEN
        keep = keep - math.floor(keep)
    return rays


# --- a sky turned in several ways --------------------------------------------------------------------------


@inner
def _aim_at_turned_skies(scene, room, options, active, lit, drawn):
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
    wi, up = _local_direction(lit.shaded, direction)
    value, matt, followed = _scattered_from(scene, lit.shaded, aim, wi)
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
    if _is_quick(options, head):
        light = multiply(carried, share)
        here = active & (largest(share) > 0.0)
        looks = SkyLook(seen, direction, light, -1)
        add_sky(room, options, _number_of_sky(scene, lamp), here, path, looks, lit.later)
        return count_of(active)
    falls = max(wi[2], 0.0) / max(density * drawn.often, 1e-30)
    matt_now = _matt_share(lit, aim, value, matt)
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
            _spread_sky(room, options, active, at_first, lit, arrives, (radiance, falls, share))
    return count_of(active)


@inner
def _spread_sky(room, options, active, at_first, lit, arrives, seen):
    """Add unshadowed light of a sky to the films it is in.

    `seen` is the sky's radiance, the factor from radiance to illuminance, and the transmittance.
    """
    path, (radiance, falls, share) = lit.path, seen
    if options.illuminance:
        lux = multiply(_LUMA, scale(multiply(radiance, share), falls))
        spread_lux(room, options, path, at_first, arrives.row, lux)
    if options.share_count > 0:
        spread_shadow(room, options, path, active & ~lit.later, arrives, share)
    here = active & (largest(share) > 0.0)
    spread(
        room, options, path, here, arriving(arrives, value=multiply(arrives.value, share)), lit.later, -1
    )  # fmt: skip


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
            _, shot = _arriving_from(scene, room, options, active, lit, one, aim)
            rays += shot
        keep = keep + _GOLDEN
        keep = keep - math.floor(keep)
    return rays


@inner
def gather(scene, room, options, active, lit, turn, dimension):
    """What lights send to vertices and on to the camera; the reach of all lights; the rays."""
    path, point, later = lit.path, lit.shaded.vertex.point, lit.later
    first = active & ~later
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
            lights = where(later if few else aiming, picked, lights)
            often = where(later, chance, often if few else _PICKS * chance)
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
