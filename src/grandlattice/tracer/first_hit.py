"""What the camera sees first: where it looks, what the data passes keep of it, how open it is there.

Also what stands behind clear surfaces, for alpha: other surfaces, and the shapes of lights.  Nothing is
lit here.
"""

from __future__ import annotations

from grandlattice.tracer.embree import CAMERA, OTHER, Rays, blocked, closest_hits
from grandlattice.tracer.kernel_memory import float32s, int32s
from grandlattice.tracer.lanes import all_lanes, any_of, count_of, inner, to_floats, where
from grandlattice.tracer.lens import pixel_width_at, shoot
from grandlattice.tracer.light_arrival import MOST_PASSES_THROUGH
from grandlattice.tracer.light_passes import CLOSED
from grandlattice.tracer.light_sampling import FAR
from grandlattice.tracer.lights_met import Ray, nearest_light
from grandlattice.tracer.material_table import see_through, sharp_at, surface_at
from grandlattice.tracer.path_state import (
    CAPACITY,
    COLUMN,
    DEPTH,
    LINE,
    LOOK,
    MATERIAL,
    NORMAL,
    OBJECT,
    POSITION,
    SHARES,
    UV,
    keep,
    keep_number,
    keep_triple,
    kept,
    kept_number,
)
from grandlattice.tracer.sampling import cosine_direction, pair
from grandlattice.tracer.vectors import along, choose, dot, frame, luminance, subtract, to_world
from grandlattice.tracer.vertices import (
    hit_vertex,
    just_behind,
    lifted,
    of_placements,
    slid_coordinates,
    solid_at,
)

# mypy: disable-error-code="no-untyped-def"

_OPENNESS = 2  # dimension of the sample sequence, see `integrator`


@inner
def centre_of(pixel):
    """The middle of pixels, from their numbers."""
    return to_floats(pixel) + 0.5


@inner
def alpha_behind(scene, room, options, active, path, t_near, sight):
    """Coverage of what the camera sees straight behind clear surfaces, and the rays it took.

    `sight` is as in `nearest_light`.
    """
    alpha, cover, rays = 0.0 * t_near, 0.0 * t_near + 1.0, 0
    origin, direction = path.origin, path.direction
    for _ in range(1, MOST_PASSES_THROUGH):
        if not any_of(active):
            break
        rays += count_of(active)
        shot = Rays(origin, direction, t_near, path.t_last, all_lanes(CAMERA), path.time)
        hit = closest_hits(scene.opaque, scene.clear, room, active, shot, False)
        distance = where(hit.found, hit.distance, FAR)
        ray = Ray(origin, direction, t_near, distance, path.time)
        hidden, _, held_out = nearest_light(scene, options, active, ray, sight)
        alpha = where(hidden & ~held_out, alpha + cover, alpha)
        active = active & ~hidden
        if options.show_background and (options.sky >> sight) & 1:
            alpha = where(active & ~hit.found, alpha + cover, alpha)
        active = active & hit.found
        if any_of(active):
            t_near = where(active, just_behind(hit.distance, origin), t_near)
            active = active & (of_placements(scene.held_out, hit.placement) == 0)
            vertex = hit_vertex(scene, hit, origin, direction, path.time)
            surface = surface_at(scene, vertex.material, sharp_at(vertex), room + 4 * MATERIAL)
            cosine = min(-dot(direction, vertex.normal), 1.0)
            solid, _ = solid_at(scene, vertex)
            through = luminance(see_through(surface, scene.tables, cosine, solid))
            through = where(solid & (surface.presence >= 1.0), 0.0, through)
            alpha = where(active, alpha + cover * (1.0 - through), alpha)
            cover = where(active, cover * through, cover)
            active = active & (cover > 0.0)
    return alpha, rays


@inner
def _depth_at_centre(lens, column, line, depth, vertex, time):
    """Depth and point of surfaces under their pixels' centres, on their tangent planes.

    Two samples of one slanted surface then agree on them, to the edge of the object; where the plane
    is seen edge-on, the sample's own depth and point stand.
    """
    origin, direction, forward = shoot(
        lens, centre_of(column), centre_of(line), 0.0 * depth, 0.0 * depth, time
    )  # fmt: skip
    slope = min(dot(direction, vertex.facing), -0.02)
    centred = dot(subtract(vertex.point, origin), vertex.facing) / slope * forward
    bound = 3.0 * pixel_width_at(lens, depth) / -slope
    edge_on = dot(direction, vertex.facing) > -0.02
    stays = edge_on | ~(abs(centred - depth) <= bound)
    point = choose(stays, vertex.point, along(origin, direction, centred / forward))
    return where(stays, depth, centred), point


@inner
def record_first(tracing, writing, aside, path, vertex, normal):
    """Keep what the data passes say of the first surfaces the camera sees; the rays it took.

    Paths that something clear turned `aside` say it with a negative depth.
    """
    scene, room, lens, options = tracing
    both = writing | aside
    column, line = kept_number(room, COLUMN, path), kept_number(room, LINE, path)
    away = path.direction
    forward = 0.0 * path.time + 1.0
    if lens.around == 0:
        forward = -dot(away, (lens.axes[6], lens.axes[7], lens.axes[8]))
    depth, point = _depth_at_centre(lens, column, line, vertex.distance * forward, vertex, path.time)
    u, v = slid_coordinates(scene, vertex, subtract(point, vertex.point))
    keep(room, DEPTH, path, where(aside, -depth, depth), both)
    keep_triple(room, NORMAL, path, normal, both)
    keep_triple(room, POSITION, path, point, both)
    keep(room, UV, path, u, both)
    keep(room, UV + CAPACITY, path, v, both)
    keep_number(room, OBJECT, path, int32s(scene.item)[vertex.placement], both)
    keep_number(room, LOOK, path, vertex.material, both)
    if not options.occlusion:
        return 0
    s, t = frame(vertex.normal)
    x, y = pair(path.seed, path.sample, all_lanes(_OPENNESS))
    up = to_world(cosine_direction(x, y), s, t, vertex.normal)
    origin, rays = lifted(vertex, up), 0
    wanted, reaches = int32s(options.shares), float32s(options.shares)
    for k in range(options.share_count):
        if wanted[2 * k] == CLOSED:
            radius = 0.0 * x + reaches[2 * k + 1]
            closed = blocked(
                scene.opaque, room, writing, origin, up, radius, all_lanes(OTHER), path.time
            )  # fmt: skip
            field = SHARES + 3 * k * CAPACITY
            keep(room, field, path, kept(room, field, path) + where(closed, 1.0, 0.0), writing)
            rays += count_of(writing)
    return rays
