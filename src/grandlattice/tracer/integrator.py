"""The path tracer: for each pixel and sample, one path, and every pass from that same path.

At each vertex light is gathered in two ways, by aiming at lights and by following the scattered
direction, see `shading` and `direct_lighting`.

Where a path goes never depends on light: it ends by its throughput, its directions come from
materials alone, and light shapes block nothing: what one hides from the camera is a mark of the path, and
what that gathers afterwards is not shown.  Only the choice of shadow rays looks at lights.

Paths travel in a stream (see `path_state`): each round takes sixteen neighbours of it one vertex further
(see `lanes`), and those that go on are packed together at the front of another for the next round.
"""

from __future__ import annotations

import numpy as np

from grandlattice.tracer.batches import FILM, TILE, Batch, develop, line_up
from grandlattice.tracer.direct_lighting import catch
from grandlattice.tracer.embree import CAMERA, OTHER, Rays, closest_hits
from grandlattice.tracer.first_hit import centre_of
from grandlattice.tracer.kernel_memory import float32s, int32s, load, record
from grandlattice.tracer.lanes import LANES, all_lanes, any_of, count_of, inner, lane_numbers, where
from grandlattice.tracer.lens import LENS, shoot
from grandlattice.tracer.light_arrival import MOST_PASSES_THROUGH
from grandlattice.tracer.light_passes import covered
from grandlattice.tracer.light_sampling import FAR
from grandlattice.tracer.lights_met import light_behind, light_met
from grandlattice.tracer.path_state import (
    COLUMN,
    LINE,
    SAMPLE,
    VERTICES,
    Path,
    Tracing,
    bring_home,
    changed,
    load_path,
    shutter_time,
)
from grandlattice.tracer.sampling import filter_offset, on_disk, pair, pixel_seed
from grandlattice.tracer.shading import shade
from grandlattice.tracer.turned_sky import clear_skies, develop_skies, fields_of
from grandlattice.tracer.vectors import add
from grandlattice.tracer.vertices import CATCHES, SCENE, of_placements

# mypy: disable-error-code="no-untyped-def"

# Dimensions of the sample sequence: the picture's own; those of the steps of a path follow, see `shading`.
_FILTER, _LENS = 0, 1  # 2 is that of `first_hit`


OPTIONS = np.dtype(
    [
        ("seed", "i8"), ("bounces", "i8"),
        ("halvings", "i8"),  # how often paths part in two at their first vertex
        ("branches", "i8"),  # that a path has at most
        ("show_background", "i8"),  # whether the camera sees what is infinitely far,
        ("sky", "i8"),  # and bits of the sights in which a sky is there that covers all of it
        ("occlusion", "i8"), ("illuminance", "i8"), ("albedo", "i8"),  # whether anybody asks for them,
        ("firsts", "i8"),  # and for what data passes say of the first surfaces
        ("clamp", "f8"),  # most that light scattered more than once adds at a time; may be inf
        ("shares", "i8"), ("share_count", "i8"),  # parts of the beauty, see `light_passes.SharePlan`
        # Where lightings are traced together, see `company.LightSums`; `sum_count` is 0 otherwise.  The
        # fields of a path's results behind its parts: the parts of each light sum (`pairs`, −1 where there
        # is none), the light sums, alpha in all sights but the first.
        ("sum_count", "i8"), ("first", "i8"), ("sums", "i8"), ("bits", "i8"), ("weights", "i8"),
        ("pairs", "i8"), ("alphas", "i8"), ("sums_from", "i8"),
        ("sights", "i8"),  # how many there are
        ("most_versions", "i8"),  # of any lamp
        ("own_row", "i8"),  # of the light table, for what glows
        # Of each row, float32: what a light adds to a pixel from which on its shadow ray is always traced;
        # fainter ones are traced in part of the cases.
        ("thresholds", "i8"),
        ("skies", "i8"), ("sky_words", "i8"),  # skies that are turned in several ways, see `turned_sky`
    ],
    align=True,
)  # fmt: skip


@inner
def _start(lens, options, column, line, number, sample, lined, moves):
    """Paths on their way from the camera."""
    seed = pixel_seed(options.seed, column, line)
    fx, fy = pair(seed, sample, all_lanes(_FILTER))
    lens_x, lens_y = 0.0 * fx, 0.0 * fx
    if lens.radius > 0.0:
        lens_u, lens_v = pair(seed, sample, all_lanes(_LENS))
        lens_x, lens_y = on_disk(lens_u, lens_v)
    x = centre_of(column) + filter_offset(float32s(lens.filter), fx)
    y = centre_of(line) + filter_offset(float32s(lens.filter), fy)
    time = shutter_time(moves, seed, sample)
    origin, direction, forward = shoot(lens, x, y, lens_x, lens_y, time)
    nought = 0.0 * fx
    dark = (nought, nought, nought)
    return Path(
        origin=origin,
        direction=direction,
        throughput=(nought + 1.0, nought + 1.0, nought + 1.0),
        radiance=dark,
        t_near=lens.near / forward,
        t_last=lens.far / forward,
        followed=nought,
        reach_total=nought,
        alpha=nought,
        cover=nought + 1.0,
        state=all_lanes(0),
        number=number,
        seed=seed,
        sample=sample,
        matt=nought,
        linked=all_lanes(0),
        time=time,
        lined=lined,
    )


@inner
def _advance(tracing, step, active, path, places, going):
    """Take paths to their next vertex, pack those that go on behind the `going` that are there already;
    how many those are then, and the rays."""
    scene, room, options = tracing.scene, tracing.room, tracing.options
    vertices = path.state & VERTICES
    seen, later = vertices == 0, vertices > 1
    masks = where(seen, CAMERA, OTHER)
    shot = Rays(path.origin, path.direction, path.t_near, path.t_last, masks, path.time)
    hit = closest_hits(scene.opaque, scene.clear, room, active, shot, step == 0)
    found = active & hit.found
    if scene.light_count > 0:
        path = light_met(scene, room, options, active, path, later, where(found, hit.distance, FAR))
    away = active & seen & ~found
    if options.show_background and options.sky and any_of(away):
        light = light_behind(scene, room, options, away, path, path.alpha * 0.0 + 1.0)
        alpha = covered(room, options, path, away, path.cover, options.sky)
        path = changed(path, radiance=add(path.radiance, light), alpha=alpha)
    held_out = of_placements(scene.held_out, hit.placement)
    catching, rays = found & seen & (held_out == CATCHES), count_of(active)
    if any_of(catching):
        path, shot = catch(scene, room, options, catching, path, hit)
        rays += shot
    on = found & ~(seen & (held_out != 0))
    if not any_of(on):
        bring_home(room, path, active)
        return going, rays
    going, shot = shade(tracing, step, active, on, path, hit, places, going)
    return going, rays + shot


@inner
def _trace_batch(tracing, film, batch):
    """Trace the samples of a batch to their ends, into `film`; the rays."""
    scene, room, lens, options = tracing
    pixels, count, stride = batch.pixels, batch.count, batch.stride
    words, rays, places = int32s(room), 0, pixels * stride
    moves = scene.steps + lens.steps + scene.light_steps > 0
    branches, under_way = options.branches, places
    fields = fields_of(options)
    line_up(room, film, fields, batch, branches)
    clear_skies(room, options, branches * places)
    last = 0
    for step in range(options.bounces + MOST_PASSES_THROUGH):
        going = 0 * places  # a plain 0 would be a type of its own, and compiled for
        for k in range(0, under_way, LANES):
            number = lane_numbers() + k
            active = number < under_way
            if step == 0:
                column, line = load(words, COLUMN + k), load(words, LINE + k)
                sample = load(words, SAMPLE + k)
                active = active & (sample >= 0)
                path = _start(lens, options, column, line, number, sample, k, moves)
            else:
                path = load_path(room, step & 1, k, moves, options.halvings)
            going, shot = _advance(tracing, step, active, path, places, going)
            rays += shot
        under_way, last = going, 1 - (step & 1)
        if under_way == 0:
            break
    for k in range(0, under_way, LANES):
        path = load_path(room, last, k, moves, options.halvings)
        bring_home(room, path, lane_numbers() + k < under_way)
    develop(room, film, options.sums_from, fields - options.sums_from, pixels, stride, count, branches)
    if options.sky_words > 0:
        develop_skies(room, film, options, pixels, stride, count)
    return rays


_scene_at, _lens_at, _options_at, _film_at = record(SCENE), record(LENS), record(OPTIONS), record(FILM)
_tile_at = record(TILE)


def trace_tile(scene_at, room, lens_at, options_at, film_at, tile_at):
    """Trace samples of a rectangle of pixels, some pixels at a time.

    Adds to the film's sums and keeps the nearest of its nearest; the number of rays is returned.
    `room` is the address of `room_for(parts)` words, the others are those of records.
    """
    tracing = Tracing(_scene_at(scene_at), room, _lens_at(lens_at), _options_at(options_at))
    film, tile = _film_at(film_at), _tile_at(tile_at)
    width, rays = tile.right - tile.left, 0
    pixels = width * (tile.bottom - tile.top)
    for pixel in range(0, pixels, tile.at_once):
        some = min(tile.at_once, pixels - pixel)
        batch = Batch(tile.left, tile.top, width, pixel, some, tile.first, tile.count, tile.stride)
        rays += _trace_batch(tracing, film, batch)
    return rays
