"""The path tracer: for each pixel and sample, one path, and every pass from that same path.

At each vertex light is gathered in two ways, by aiming at lights and by following the scattered
direction, weighted by the balance heuristic (Veach and Guibas, 1995).  All lights are aimed at
from the first vertex, one from the others.

Where a path goes never depends on light: it ends by its throughput, its directions come from
materials alone, and light shapes block nothing.  Only the choice of shadow rays looks at lights.

Light passes straight through what is clear: the ray then goes on from where it was, with a
larger nearest distance, so that the vertex it left stays the one the weights refer to.
"""

from __future__ import annotations

import math
from typing import NamedTuple

import numpy as np
from numba import njit

from grandlattice.tracer.embree import (
    CAMERA,
    OTHER,
    closest_hit,
    hit_distance,
    is_blocked,
)
from grandlattice.tracer.lens import pixel_width_at, shoot
from grandlattice.tracer.lights import DOME, FAR, light_at, light_reach, meet_light, sample_light
from grandlattice.tracer.materials import see_through
from grandlattice.tracer.memory import bytes_at, float32s, float64s
from grandlattice.tracer.sampling import (
    cosine_direction,
    filter_offset,
    on_disk,
    pair,
    pixel_seed,
)
from grandlattice.tracer.scattering import prepare_lobes, reflectance, sample_direction, scatter
from grandlattice.tracer.vectors import (
    add,
    dot,
    frame,
    largest,
    multiply,
    normalized,
    scale,
    subtract,
    to_local,
    to_world,
    triple,
)
from grandlattice.tracer.vertices import (
    OTHER_SURFACE,
    PATH_SURFACE,
    bumped,
    hit_surface,
    hit_vertex,
    just_behind,
    lifted,
)

# mypy: disable-error-code="no-untyped-def"

# Dimensions of the sample sequence: the picture's own, then a stride for each step of the path.
_FILTER, _LENS, _OPENNESS = 0, 1, 2
_STRIDE, _CHOICE, _DIRECTION, _LIGHT = 64, 64, 65, 66
_MOST_PASSES_THROUGH = 48
_ROULETTE_FROM = 2
_CLEAR = 0.5  # a surface that lets more through leaves the data passes to what is behind it


OPTIONS = np.dtype(
    [
        ("seed", "i8"), ("bounces", "i8"),
        ("show_background", "i8"),
        ("occlusion", "i8"), ("occlusion_radius", "f8"),
        ("clamp", "f8"),  # most that light scattered more than once adds at a time; may be inf
    ],
    align=True,
)  # fmt: skip

FILM = np.dtype(
    [
        ("width", "i8"),
        # Addresses of float32 pixels: sums over samples …
        ("beauty", "i8"), ("albedo", "i8"), ("occlusion", "i8"),
        # … and what the nearest sample of each pixel met; depth is +inf where nothing.
        ("depth", "i8"), ("normal", "i8"),
    ],
    align=True,
)  # fmt: skip


@njit(error_model="numpy")
def _transmittance(scene, ray, origin, direction, distance):
    """Share of light that gets from `distance` to `origin`: 0 behind anything opaque."""
    stop = distance if distance >= FAR else distance * (1.0 - 1e-4)
    if is_blocked(scene.opaque, ray, origin, direction, 0.0, stop, OTHER):
        return 0.0
    share = 1.0
    if scene.clear == 0:
        return share
    t_near = 0.0
    for _ in range(_MOST_PASSES_THROUGH):
        if not closest_hit(0, scene.clear, ray, origin, direction, t_near, stop, OTHER):
            return share
        t_near = just_behind(hit_distance(ray), origin)
        vertex = hit_vertex(scene, ray, origin, direction)
        surface = hit_surface(scene, ray, vertex, OTHER_SURFACE)
        share *= see_through(surface, scene.tables, -dot(direction, vertex.normal))
        if share < 1e-4:
            return 0.0
    return 0.0


@njit(error_model="numpy")
def _aim(scene, ray, i, chance, point, lifted_from, surface, wo, s, t, n, u, v):
    """Light `i` as scattered from a vertex towards `wo`, weighted against following."""
    none = (0.0, 0.0, 0.0)
    direction, distance, radiance, density = sample_light(light_at(scene.lights, i), point, u, v)
    if density <= 0.0 or largest(radiance) <= 0.0:
        return none
    wi = to_local(direction, s, t, n)
    if wi[2] <= 0.0 or dot(direction, lifted_from.facing) <= 0.0:
        return none
    value, followed = scatter(surface, scene.tables, wo, wi)
    if largest(value) <= 0.0:
        return none
    origin = lifted(lifted_from, direction)
    share = _transmittance(scene, ray, origin, direction, distance)
    if share <= 0.0:
        return none
    return scale(multiply(value, radiance), share / (density * chance + followed))


@njit(error_model="numpy")
def _reach_of_all(scene, point, normal):
    total = 0.0
    for i in range(scene.light_count):
        total += light_reach(light_at(scene.lights, i), point, normal)
    return total


@njit(error_model="numpy")
def _chance(light_count, reach, total):
    """Chance that a light is the one aimed at from a later vertex; half of it is even."""
    even = 1.0 / light_count
    return 0.5 * even + 0.5 * reach / total if total > 0.0 else even


@njit(error_model="numpy")
def _pick(scene, point, normal, total, choice):
    """The light to aim at from a later vertex, and its chance."""
    chance = 0.0
    light_count = scene.light_count
    for i in range(light_count):
        chance = _chance(light_count, light_reach(light_at(scene.lights, i), point, normal), total)
        if choice < chance or i == light_count - 1:
            return i, chance
        choice -= chance
    return 0, chance


@njit(error_model="numpy")
def _alpha_behind(scene, ray, origin, direction, t_near, t_last, options):
    """Coverage of what the camera sees straight behind a clear surface, and the rays it took."""
    alpha, cover = 0.0, 1.0
    for shot in range(1, _MOST_PASSES_THROUGH):
        if not closest_hit(scene.opaque, scene.clear, ray, origin, direction, t_near, t_last, CAMERA):
            return alpha + (cover if options.show_background else 0.0), shot
        t_near = just_behind(hit_distance(ray), origin)
        vertex = hit_vertex(scene, ray, origin, direction)
        if bytes_at(scene.matte)[vertex.geometry]:
            return alpha, shot
        surface = hit_surface(scene, ray, vertex, OTHER_SURFACE)
        through = see_through(surface, scene.tables, min(-dot(direction, vertex.normal), 1.0))
        alpha += cover * (1.0 - through)
        cover *= through
        if cover <= 0.0:
            return alpha, shot
    return alpha, _MOST_PASSES_THROUGH


@njit(error_model="numpy")
def _limited(light, most):
    """Light scaled down where its largest part is more than `most`."""
    brightest = largest(light)
    return scale(light, most / brightest) if brightest > most else light


class Sample(NamedTuple):
    """What one path brings home."""

    radiance: tuple[float, float, float]
    alpha: float
    albedo: tuple[float, float, float]
    openness: float
    depth: float
    normal: tuple[float, float, float]
    facing: tuple[float, float, float]
    point: tuple[float, float, float]
    rays: int


@njit(error_model="numpy")
def _trace_path(scene, ray, lens, options, seed, sample, column, line):
    tables, light_count = scene.tables, scene.light_count
    none = (0.0, 0.0, 0.0)
    fx, fy = pair(seed, sample, _FILTER)
    lens_x, lens_y = 0.0, 0.0
    if lens.radius > 0.0:
        lens_x, lens_y = on_disk(*pair(seed, sample, _LENS))
    x = column + 0.5 + filter_offset(float64s(lens.filter), fx)
    y = line + 0.5 + filter_offset(float64s(lens.filter), fy)
    origin, direction, forward = shoot(lens, x, y, lens_x, lens_y)
    t_near, t_last = lens.near / forward, lens.far / forward

    radiance, throughput = none, (1.0, 1.0, 1.0)
    alpha, cover = 0.0, 1.0
    albedo, openness = none, 1.0
    depth, seen_normal, seen_facing, seen_point = math.inf, none, none, none
    from_camera, recorded = True, False
    followed, reach_total = 0.0, 0.0
    left_normal = none
    vertices, rays = 0, 0

    for step in range(options.bounces + _MOST_PASSES_THROUGH):
        rays += 1
        hit = closest_hit(scene.opaque, scene.clear, ray, origin, direction, t_near,
            t_last, CAMERA if from_camera else OTHER,
        )  # fmt: skip
        distance = hit_distance(ray) if hit else FAR
        if not from_camera:
            for i in range(light_count):
                met, density = meet_light(light_at(scene.lights, i), origin, direction, t_near, distance)
                if density > 0.0:
                    if vertices > 1:
                        reach = light_reach(light_at(scene.lights, i), origin, left_normal)
                        density *= _chance(light_count, reach, reach_total)
                    weight = followed / (followed + density)
                    share = scale(multiply(throughput, met), weight)
                    radiance = add(radiance, _limited(share, options.clamp if vertices > 1 else FAR))
        if not hit:
            if from_camera and options.show_background:
                alpha += cover
                for i in range(light_count):
                    if light_at(scene.lights, i).kind == DOME:
                        met, density = meet_light(light_at(scene.lights, i), origin, direction, 0.0, FAR)
                        radiance = add(radiance, multiply(throughput, met))
            break

        vertex = hit_vertex(scene, ray, origin, direction)
        if from_camera and bytes_at(scene.matte)[vertex.geometry]:
            break
        surface = hit_surface(scene, ray, vertex, PATH_SURFACE)
        cosine = min(-dot(direction, vertex.normal), 1.0)
        dimension = _STRIDE * step
        choice, turn = pair(seed, sample, dimension + _CHOICE)
        through = see_through(surface, tables, cosine)

        if from_camera and not recorded and through < _CLEAR:
            recorded = True
            depth = distance * forward
            seen_normal, seen_facing, seen_point = vertex.normal, vertex.facing, vertex.point
            if options.occlusion:
                s, t = frame(vertex.normal)
                u, v = pair(seed, sample, _OPENNESS)
                up = to_world(cosine_direction(u, v), s, t, vertex.normal)
                rays += 1
                if is_blocked(scene.opaque, ray, lifted(vertex, up), up,
                    0.0, options.occlusion_radius, OTHER,
                ):  # fmt: skip
                    openness = 0.0

        if through > 0.0:
            passing = 1.0 if through >= 1.0 else min(max(through, 0.2), 0.8)
            behind_at = just_behind(distance, origin)
            if choice < passing:
                throughput = scale(throughput, through / passing)
                if from_camera:
                    alpha += cover * (1.0 - through)
                    cover *= through
                choice /= passing
                t_near = behind_at
                continue
            choice = (choice - passing) / (1.0 - passing)
            throughput = scale(throughput, surface.presence / (1.0 - passing))
            if from_camera:
                # The path turns away here; alpha still wants to know what stands behind.
                behind, shot = _alpha_behind(scene, ray, origin, direction, behind_at, t_last, options)
                alpha += cover * (1.0 - through + through * behind)
                cover = 0.0
                rays += shot

        normal = vertex.normal
        if surface.bump[2] != 1.0:
            normal = bumped(scene, vertex, triple(surface.bump, 0), direction)
        if from_camera:
            alpha += cover
            albedo = multiply(throughput, reflectance(surface, tables, cosine))
            if through < _CLEAR:
                seen_normal = normal
            from_camera = False
        if largest(triple(surface.emission, 0)) > 0.0:
            radiance = add(radiance, multiply(throughput, triple(surface.emission, 0)))
        if vertices >= options.bounces:
            break

        s, t = frame(normal)
        wo = to_local(scale(direction, -1.0), s, t, normal)
        prepare_lobes(surface, tables, wo[2])
        if surface.chance_coat + surface.chance_interface + surface.chance_base <= 0.0:
            break
        if light_count > 0:
            gathered = none
            if vertices == 0:
                for i in range(light_count):
                    u, v = pair(seed, sample, dimension + _LIGHT + i)
                    rays += 1
                    gathered = add(gathered, _aim(
                        scene, ray, i, 1.0, vertex.point, vertex, surface, wo, s, t,
                        normal, u, v,
                    ))  # fmt: skip
            else:
                u, v = pair(seed, sample, dimension + _LIGHT)
                reach_total = _reach_of_all(scene, vertex.point, normal)
                i, chance = _pick(scene, vertex.point, normal, reach_total, turn)
                rays += 1
                gathered = _aim(
                    scene, ray, i, chance, vertex.point, vertex, surface, wo, s, t,
                    normal, u, v,
                )  # fmt: skip
            share = multiply(throughput, gathered)
            radiance = add(radiance, _limited(share, options.clamp if vertices > 0 else FAR))

        u, v = pair(seed, sample, dimension + _DIRECTION)
        wi = sample_direction(surface, wo, choice, u, v)
        value, followed = scatter(surface, tables, wo, wi)
        if followed <= 0.0:
            break
        throughput = multiply(throughput, scale(value, 1.0 / followed))
        direction = normalized(to_world(wi, s, t, normal))
        if dot(direction, vertex.facing) <= 0.0 or largest(throughput) <= 0.0:
            break
        vertices += 1
        if vertices >= _ROULETTE_FROM:
            survive = min(largest(throughput), 0.95)
            if turn >= survive:
                break
            throughput = scale(throughput, 1.0 / survive)
        origin, left_normal = lifted(vertex, direction), normal
        t_near, t_last = 0.0, FAR
    return Sample(radiance, alpha, albedo, openness, depth, seen_normal, seen_facing, seen_point, rays)


@njit(error_model="numpy")
def _depth_at_centre(lens, column, line, sample):
    """Depth of the nearest surface under the pixel's centre, from its tangent plane there.

    Two samples of one slanted surface then agree on its depth, to the edge of the object; where
    the plane is seen edge-on, the sample's own depth stands.
    """
    origin, direction, forward = shoot(lens, column + 0.5, line + 0.5, 0.0, 0.0)
    slope = dot(direction, sample.facing)
    if slope > -0.02:
        return sample.depth
    depth = dot(subtract(sample.point, origin), sample.facing) / slope * forward
    bound = 3.0 * pixel_width_at(lens, sample.depth) / -slope
    return depth if abs(depth - sample.depth) <= bound else sample.depth


def trace_tile(scene, ray, lens, options, film, left, top, right, bottom, first, count):
    """Trace samples `first` … `first + count` of a rectangle of pixels into `film`.

    Adds to the film's sums and keeps the nearest of its nearest; the number of rays is returned.
    """
    rays = 0
    beauty, albedo, openness = (
        float32s(film.beauty), float32s(film.albedo), float32s(film.occlusion)
    )  # fmt: skip
    depths, normals = float32s(film.depth), float32s(film.normal)
    for line in range(top, bottom):
        for column in range(left, right):
            seed = pixel_seed(options.seed, column, line)
            pixel = line * film.width + column
            light, tint, alpha, clear = (0.0, 0.0, 0.0), (0.0, 0.0, 0.0), 0.0, 0.0
            nearest = float(depths[pixel])
            for sample in range(first, first + count):
                path = _trace_path(scene, ray, lens, options, seed, sample, column, line)
                rays += path.rays
                got = path.radiance
                if math.isfinite(got[0] + got[1] + got[2]):
                    light = add(light, got)
                tint = add(tint, path.albedo)
                alpha += path.alpha
                clear += path.openness
                if path.depth < math.inf:
                    depth = _depth_at_centre(lens, column, line, path)
                    if depth < nearest:
                        nearest = depth
                        for k in range(3):
                            normals[3 * pixel + k] = path.normal[k]
            for k in range(3):
                beauty[4 * pixel + k] += light[k]
                albedo[3 * pixel + k] += tint[k]
            beauty[4 * pixel + 3] += alpha
            openness[pixel] += clear
            depths[pixel] = nearest
    return rays
