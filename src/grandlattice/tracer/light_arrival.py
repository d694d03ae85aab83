"""Light from a known direction, over a vertex, to the camera: its shadow ray, the BSDF, its MIS weight."""

from __future__ import annotations

from typing import Any, NamedTuple

from grandlattice.tracer.embree import Rays, blocked, closest_hits
from grandlattice.tracer.kernel_memory import float32s, other_fields
from grandlattice.tracer.lanes import (
    any_of,
    count_of,
    inner,
    where,
)
from grandlattice.tracer.light_passes import (
    Arriving,
    credit,
    credit_lux,
    credit_shadow,
    limited,
    spread,
    spread_lux,
    spread_shadow,
)
from grandlattice.tracer.light_sampling import FAR, Aim
from grandlattice.tracer.material_table import see_through, sharp_at, surface_at
from grandlattice.tracer.path_state import (
    FIRST_MATT,
    MATERIAL,
    kept,
    share_of,
)
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
from grandlattice.tracer.vertices import hit_vertex, just_behind, lifted, solid_at

# mypy: disable-error-code="no-untyped-def"

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
        rays = Rays(origin, direction, t_near, stop, masks, time)
        hit = closest_hits(nothing, scene.clear, room, active, rays, False)
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
def kept_first_matt(room, options, path):
    """Diffuse fraction of the first bounce; undefined before it, or when no pass needs it."""
    if options.share_count == 0:
        return path.matt
    return kept(room, FIRST_MATT, path)


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
def local_direction(shaded, direction):
    """A direction in the frame of vertices, and whether it lies above their surfaces."""
    wi = to_local(direction, shaded.s, shaded.t, shaded.normal)
    return wi, (wi[2] > 0.0) & (dot(direction, shaded.vertex.facing) > 0.0)


@inner
def scattered_from(scene, shaded, aim, wi):
    """The BSDF × cosine for light from a direction, its diffuse part, and the pdf of following it."""
    value, matt, followed = scatter(shaded.surface, shaded.lobes, scene.tables, shaded.wo, wi)
    value = add(scale(subtract(value, matt), aim.specular), scale(matt, aim.diffuse))
    return value, matt, where(aim.followed == 1, followed, 0.0)


@inner
def first_bounce_diffuse(lit, aim, value, matt):
    """Diffuse fraction of the first bounce, 0..1."""
    now = luminance(matt) * aim.diffuse / max(luminance(value), 1e-30)
    return where(lit.later, lit.seen_as.matt, min(now, 1.0))


_LEAST_CHANCE = 0.02
"""Of a shadow ray towards light however faint: light of rarer rays would be right on average over many
pictures, and black in most of them."""


@inner
def light_arriving(scene, room, options, active, lit, drawn, aim):
    """`_aim` in directions that are known."""
    path, shaded, later, seen_as = lit.path, lit.shaded, lit.later, lit.seen_as
    vertex, lights, often = shaded.vertex, drawn.lights, drawn.often
    wi, up = local_direction(shaded, aim.direction)
    active = active & up & (aim.density > 0.0) & (largest(aim.radiance) > 0.0)
    gathered = scale(vertex.point, 0.0)
    if not any_of(active):
        return gathered, 0
    value, matt, followed = scattered_from(scene, shaded, aim, wi)
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
        chance = where(threshold > 0.0, max(min(faint / max(threshold, 1e-30), 1.0), _LEAST_CHANCE), 1.0)
        chance = where(at_first & (options.illuminance != 0), 1.0, chance)
        active = active & (drawn.keep < chance)
        at_first = at_first & active
        whole = 1.0 / chance
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
        matt_now = first_bounce_diffuse(lit, aim, value, matt)
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


@inner
def spread_sky(room, options, active, at_first, lit, arrives, seen):
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
