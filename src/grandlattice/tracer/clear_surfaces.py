"""What happens to paths at something clear: some go on behind it, the others turn away.

Light passes straight through what is clear: the ray then goes on from where it was, with a
larger nearest distance, so that the vertex it left stays the one the weights refer to.  Only what the
camera sees through solid glass is bent.

Where the camera sees something clear for the first time, a path parts and does both: by chance alone
few would bring home what is mirrored there, and each of them much of it.
"""

from __future__ import annotations

from typing import Any, NamedTuple

from grandlattice.tracer.first_hit import alpha_behind
from grandlattice.tracer.lanes import all_lanes, any_of, inner, mask_of, where
from grandlattice.tracer.light_passes import cover_in_sight, covered
from grandlattice.tracer.light_sampling import FAR
from grandlattice.tracer.material_table import face_colour
from grandlattice.tracer.path_state import (
    DIRECTION,
    HIDDEN,
    THROUGH,
    VERTICES,
    WRITTEN,
    changed,
    turned_away,
)
from grandlattice.tracer.sampling import pair
from grandlattice.tracer.scattering import bend
from grandlattice.tracer.vectors import (
    choose,
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
from grandlattice.tracer.vertices import just_behind, lifted

# mypy: disable-error-code="no-untyped-def"


class Clear(NamedTuple):
    """Vertices where something is clear, a lane each."""

    there: Any
    through: Any  # share of light that gets through, a triple
    bends: Any  # whether light that gets through is bent
    solid: Any
    within: Any  # whether the ray comes from within it
    written: Any  # whether data passes are written here
    vertex: Any
    surface: Any
    normal: Any


@inner
def past_clear(tracing, dimension, pane, path, choice, places):
    """What happens to paths at something clear.

    Returns
    -------
    Who goes on behind it, who does both, the paths that go on, those that turn away, the choice that is
    left to them, and the rays.
    """
    room, options = tracing.room, tracing.options
    vertex, surface, normal = pane.vertex, pane.surface, pane.normal
    seen, most = (path.state & VERTICES) == 0, largest(pane.through)
    passing = where((most >= 1.0) | (pane.bends & pane.within), 1.0, min(max(most, 0.2), 0.8))
    both = pane.there & seen & ((path.state & THROUGH) == 0) & (passing < 1.0)
    if options.halvings == 0:
        both = mask_of(0)
    passes = both | (pane.there & (choice < passing))
    turns, past = pane.there & (both | ~passes), 1.0 - min(passing, 0.8)
    left = where(turns, (choice - passing) / past, where(passes, choice / passing, choice))
    left = where(both, choice, left)
    passing, past = where(both, 1.0, passing), where(both, 1.0, past)

    carried = scale(multiply(path.throughput, pane.through), 1.0 / passing)
    origin, direction = path.origin, path.direction
    t_near, t_last = just_behind(vertex.distance, origin), path.t_last
    if any_of(pane.bends & passes):
        u, v = pair(path.seed, path.sample, all_lanes(dimension + DIRECTION))
        s, t = frame(normal)
        wo = to_local(negative(direction), s, t, normal)
        bent, crosses = bend(surface, wo, pane.within, left, u, v)
        bent = normalized(to_world(bent, s, t, normal))
        tinted = choose(crosses, multiply(path.throughput, face_colour(surface, pane.solid)), path.throughput)
        carried = choose(pane.bends & pane.within, tinted, carried)
        direction = choose(pane.bends, bent, direction)
        origin = choose(pane.bends, lifted(vertex, bent), origin)
        t_near, t_last = where(pane.bends, 0.0, t_near), where(pane.bends, FAR, t_last)
    # Alpha is what the camera sees straight ahead: solid glass covers what is behind it.
    seen_through = where(pane.bends, 0.0, luminance(pane.through))
    alpha, cover, rays = path.alpha, path.cover, 0
    ahead = changed(
        path,
        origin=origin,
        direction=direction,
        throughput=carried,
        t_near=t_near,
        t_last=t_last,
        alpha=covered(room, options, path, seen & passes, cover * (1.0 - seen_through), -1),
        cover=where(seen, cover * seen_through, cover),
        state=path.state | where(seen, THROUGH, 0) | where(pane.written, WRITTEN, 0),
    )
    asking = turns & seen & ~both & ~pane.bends
    if any_of(asking):  # alpha still wants to know what stands behind
        for sight in range(max(options.sights, 1)):
            free = asking
            if options.sights > 1:
                free = asking & ((path.state & (HIDDEN << sight)) == 0)
            behind, shot = alpha_behind(tracing.scene, room, options, free, path, t_near, sight)
            more = cover * (1.0 - seen_through + seen_through * behind)
            alpha = cover_in_sight(room, options, changed(path, alpha=alpha), free, more, sight)
            rays += shot
        cover = where(asking, 0.0, cover)
    throughput = choose(turns, scale(path.throughput, surface.presence / past), path.throughput)
    turned = turned_away(path, both, throughput, alpha, cover, places << options.halvings)
    return passes, both, ahead, turned, left, rays
