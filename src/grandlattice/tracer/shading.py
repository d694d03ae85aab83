"""What happens to paths where they hit: some go on behind, all others are shaded, gather light and scatter.

What happens where something is clear stands in `clear_surfaces`.  Where a path is scattered for the first
time it parts, see `path_state.branch_of`.
"""

from __future__ import annotations

import math

from grandlattice.tracer.clear_surfaces import Clear, past_clear
from grandlattice.tracer.direct_lighting import gather
from grandlattice.tracer.first_hit import record_first
from grandlattice.tracer.kernel_memory import float32s, int32s
from grandlattice.tracer.lanes import all_lanes, any_of, inner, logarithm, mask_of, where
from grandlattice.tracer.lens import pixel_width_at
from grandlattice.tracer.light_arrival import BLACK, Lit, SeenAs, Shaded, arriving, kept_first_matt
from grandlattice.tracer.light_passes import Arriving, covered, credit, credit_lit, limited, spread
from grandlattice.tracer.light_sampling import FAR
from grandlattice.tracer.lights_met import glow_weight
from grandlattice.tracer.material_table import (
    Spot,
    bumps_by_second,
    see_through,
    sharp_at,
    surface_at,
)
from grandlattice.tracer.path_state import (
    ALBEDO,
    CAPACITY,
    DIRECTION,
    FIRST_LUX,
    FIRST_MATT,
    MATERIAL,
    MIRRORED,
    THROUGH,
    VERTICES,
    WRITTEN,
    branch_of,
    changed,
    keep,
    kept,
    part,
    share_of,
    shown,
)
from grandlattice.tracer.sampling import pair
from grandlattice.tracer.scattering import lobes_of, reflectance, sample_direction, scatter
from grandlattice.tracer.vectors import (
    add,
    choose,
    dot,
    frame,
    largest,
    luminance,
    multiply,
    negative,
    normalized,
    scale,
    to_local,
    to_world,
)
from grandlattice.tracer.vertices import bumped, hit_vertex, lifted, of_placements, solid_at

# mypy: disable-error-code="no-untyped-def"

# Dimensions of the sample sequence: a stride for each step of the path, whose lights come from
# `direct_lighting.LIGHT` on.
_STRIDE, _CHOICE, _BRANCH, _TEXTURES = 64, 64, 126, 127
_ROULETTE_FROM = 2
_LUMA = (0.2126, 0.7152, 0.0722)
_PART_OF_LOBE = 0.15  # of the root of the solid angle a scattered ray stands for
_MIRROR = 100.0  # density, per steradian, from which a lobe is so narrow that things are seen in it
_CLEAR = 0.5  # a surface that lets more through leaves the data passes to what is behind it


@inner
def _spot(scene, lens, path, vertex, dimension):
    """Where textures are read at vertices, and how much of them the rays cover there.

    A camera ray is as wide as a pixel; one that was scattered covers a part of the solid angle that its
    density stands for.
    """
    if scene.densities == 0:
        return sharp_at(vertex)
    wide = pixel_width_at(lens, vertex.distance)
    spread = _PART_OF_LOBE * vertex.distance / math.sqrt(max(path.followed, 1e-6))
    width = where((path.state & VERTICES) == 0, wide, spread)
    slant = max(-dot(path.direction, vertex.facing), 0.05)
    covered = width * width / (slant * vertex.stretch)
    chance, _ = pair(path.seed, path.sample, dimension)
    area = logarithm(max(covered * float32s(scene.densities)[vertex.triangle], 1e-30))
    more = area
    if scene.more_densities != 0:
        more = logarithm(max(covered * float32s(scene.more_densities)[vertex.triangle], 1e-30))
    return Spot(vertex.u, vertex.v, area, chance, vertex.paint, vertex.more_u, vertex.more_v, more)


@inner
def shade(tracing, step, active, on, path, hit, places, going):
    """What happens to paths where they hit; how many go on in all, and the rays.

    Those that do are packed behind the `going` that are there already.
    """
    scene, room, lens, options = tracing
    tables, dimension, rays = scene.tables, _STRIDE * step, 0
    vertices, direction = path.state & VERTICES, path.direction
    seen, deep = vertices == 0, vertices > 0
    vertex = hit_vertex(scene, hit, path.origin, direction, path.time)
    spot = _spot(scene, lens, path, vertex, all_lanes(dimension + _TEXTURES))
    surface = surface_at(scene, vertex.material, spot, room + 4 * MATERIAL)
    cosine = min(-dot(direction, vertex.normal), 1.0)
    choice, turn = pair(path.seed, path.sample, all_lanes(dimension + _CHOICE))
    solid, within = solid_at(scene, vertex)
    through = see_through(surface, tables, cosine, solid)
    normal = vertex.normal
    if any_of(on & (surface.bump[2] != 1.0)):
        by_second = bumps_by_second(room + 4 * MATERIAL)
        normal = bumped(scene, vertex, surface.bump, by_second, direction)
    clear = on & (largest(through) > 0.0)
    # What the camera sees through solid glass is bent; other light goes straight, as shadow rays do.
    bends = clear & seen & solid & (surface.presence >= 1.0)
    new = on & seen & ((path.state & WRITTEN) == 0)
    writing = new & ((largest(through) < _CLEAR) | bends)
    lit = writing  # where illuminance is asked for

    first, both = path, mask_of(0)
    if any_of(clear):
        pane = Clear(clear, through, bends, solid, within, writing, vertex, surface, normal)
        passes, both, ahead, path, choice, shot = past_clear(tracing, dimension, pane, path, choice, places)
        rays += shot
        going = part(room, 1 - (step & 1), ahead, passes, passes, going)
        stays = both | ~passes
        active, on = active & stays, on & stays
    aside = new & on & ~writing & ~both
    if (options.firsts or options.occlusion) and any_of(writing | aside):
        rays += record_first(tracing, writing, aside, first, vertex, normal)
    radiance, alpha, throughput = path.radiance, path.alpha, path.throughput
    if any_of(on & seen):
        alpha = covered(room, options, path, on & seen, path.cover, -1)
        if options.albedo:
            albedo = multiply(throughput, reflectance(surface, tables, cosine))
            for channel in range(3):
                known = kept(room, ALBEDO + channel * CAPACITY, first)
                keep(room, ALBEDO + channel * CAPACITY, first, known + albedo[channel], on & seen)
    through_clear = (path.state & THROUGH) != 0
    if any_of(on & (largest(surface.emission) > 0.0)):
        seen_light = multiply(throughput, surface.emission)
        if scene.glows == 1:
            aimed = -dot(direction, vertex.facing)
            seen_light = scale(seen_light, glow_weight(scene, path, on & deep, vertices > 1, vertex, aimed))
        of_glow = Arriving(
            seen_light, vertices, kept_first_matt(room, options, path), through_clear,
            int32s(scene.glow_groups)[vertex.placement], all_lanes(options.own_row), 0.0 * path.time + 1.0,
        )  # fmt: skip
        if options.sum_count > 0:
            spread(room, options, path, on, of_glow, vertices > 1, -1)
        else:
            most = options.clamp * share_of(path, options.halvings)
            seen_light = limited(seen_light, most, vertices > 1)
            radiance = add(radiance, shown(path, choose(on, seen_light, BLACK)))
            if options.share_count > 0:
                credit(room, options, path, on, arriving(of_glow, value=seen_light))

    on = on & (vertices < options.bounces)
    path = changed(path, radiance=radiance, alpha=alpha)
    s, t = frame(normal)
    wo = to_local(negative(direction), s, t, normal)
    lobes = lobes_of(surface, tables, wo[2])
    shaded = Shaded(vertex, surface, lobes, wo, s, t, normal)
    at_first = on & seen & lit
    on = on & (lobes.chance_coat + lobes.chance_interface + lobes.chance_base > 0.0)
    gathers = on
    if options.illuminance:
        credit_lit(room, options, path, at_first)
        gathers = on | at_first  # light falls on what is black, too
    if scene.light_count > 0 and any_of(gathers):
        seen_as = SeenAs(throughput, vertices + 1, kept_first_matt(room, options, path), through_clear)
        lit_there = Lit(path, shaded, deep, at_first, seen_as)
        light, total, shot = gather(scene, room, options, gathers, lit_there, turn, dimension)
        rays += shot
        total = where(on, total, path.reach_total)
        path = changed(path, radiance=add(path.radiance, shown(path, light)), reach_total=total)
    scatters, chosen = on & seen, choice
    parts = scatters & ~both
    for branch in range(1 << options.halvings):
        own = branch_of(path, scatters, parts, branch, options.halvings, places)
        if options.halvings > 0 and any_of(parts & (lobes.chance_coat + lobes.chance_interface > 0.0)):
            again, _ = pair(own.seed, own.sample, all_lanes(dimension + _BRANCH))
            chosen = where(parts, again, choice)
        if branch > 0:
            active, on = parts, parts
        own, goes_on = _scattered(tracing, dimension, on, own, shaded, chosen, turn, at_first)
        going = part(room, 1 - (step & 1), own, active, goes_on, going)
        if not any_of(parts):
            break
    return going, rays


@inner
def _scattered(tracing, dimension, on, path, shaded, choice, turn, at_first):
    """Paths on their way from vertices, and which of those that are `on` go on."""
    scene, room, options = tracing.scene, tracing.room, tracing.options
    vertex, seen = shaded.vertex, (path.state & VERTICES) == 0
    u, v = pair(path.seed, path.sample, all_lanes(dimension + DIRECTION))
    wi = sample_direction(shaded.surface, shaded.lobes, shaded.wo, choice, u, v)
    value, matt, density = scatter(shaded.surface, shaded.lobes, scene.tables, shaded.wo, wi)
    leaving = normalized(to_world(wi, shaded.s, shaded.t, shaded.normal))
    carried = multiply(path.throughput, scale(value, 1.0 / max(density, 1e-30)))
    on = on & (density > 0.0) & (largest(carried) > 0.0) & (dot(leaving, vertex.facing) > 0.0)
    looks = on & (seen | ((path.state & MIRRORED) != 0)) & (density > _MIRROR)
    state = path.state & ~MIRRORED | where(looks, MIRRORED, 0)
    state = where(on, state + 1, path.state)
    share = share_of(path, options.halvings)
    of_whole = largest(carried) / share  # what a path carried that had not parted
    survive = where((state & VERTICES) >= _ROULETTE_FROM, min(of_whole, 0.95), 1.0)
    on = on & (turn < survive)
    carried = scale(carried, 1.0 / survive)
    matt_share = where(on, luminance(matt) / max(luminance(value), 1e-30), path.matt)
    if options.share_count > 0:
        keep(room, FIRST_MATT, path, matt_share, on & seen)
    if options.illuminance:
        # What arrives is what is carried to the camera over what the surface carries of it.
        lux = share * wi[2] / max(density * survive, 1e-30)
        for channel in range(3):
            gets = carried[channel]
            arriving = where(gets > 1e-6, _LUMA[channel] * lux / max(gets, 1e-6), 0.0)
            keep(room, FIRST_LUX + channel * CAPACITY, path, arriving, on & at_first)
    path = changed(
        path,
        origin=choose(on, lifted(vertex, leaving), path.origin),
        direction=choose(on, leaving, path.direction),
        throughput=choose(on, carried, path.throughput),
        t_near=where(on, 0.0, path.t_near),
        t_last=where(on, FAR, path.t_last),
        followed=where(on, density, path.followed),
        state=state,
        matt=matt_share,
        linked=where(on, of_placements(scene.reached, vertex.placement), path.linked),
    )
    return path, on
