"""From a point of the film to a ray: pinhole, thin lens, orthographic.

Image coordinates are in pixels from the upper left corner of the whole picture.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from grandlattice.errors import Place, TracerError
from grandlattice.snapshot import Camera
from grandlattice.tracer.lanes import inner
from grandlattice.tracer.memory import Pinned
from grandlattice.tracer.sampling import filter_table
from grandlattice.tracer.vectors import add, dot, normalized, to_world, triple

# mypy: disable-error-code="no-untyped-def"


@dataclass(frozen=True)
class Sensor:
    """The film behind a camera: its size in pixels.

    Where the aspect of the pixels differs from the camera's, the picture shows more at the
    sides or at top and bottom, and nothing the camera frames is lost; with `crop` it shows
    nothing beyond what the camera frames.
    """

    camera: Camera
    width: int
    height: int
    crop: bool = False


LENS = np.dtype(
    [
        ("axes", "f8", (9,)),  # right, up, backward, unit length
        ("position", "f8", (3,)),
        ("left", "f8"), ("top", "f8"),  # film position of the upper left corner
        ("pixel", "f8"),  # film size of a pixel
        ("radius", "f8"), ("focus", "f8"), ("near", "f8"), ("far", "f8"),
        ("orthographic", "i8"),
        ("filter", "i8"),  # address of sampling.filter_table
    ],
    align=True,
)  # fmt: skip
"""A camera as the kernel wants it.  The film of a perspective camera is at distance 1; that of an
orthographic one is in scene units."""


def make_lens(sensor: Sensor) -> Pinned:
    """Work out the lens of a sensor.

    Raises
    ------
    TracerError
        For a camera with no aperture, focal length or orientation.
    """
    camera = sensor.camera
    matrix = np.asarray(camera.to_world, float)
    axes = matrix[:3, :3].copy()
    lengths = np.linalg.norm(axes, axis=1)
    usable = min(camera.aperture) > 0 and camera.focal_length > 0 and lengths.min() > 0
    if not usable or not np.isfinite(matrix).all():
        raise TracerError(
            "The camera has no picture: its aperture, focal length or scale is zero.",
            place=Place(prim=camera.path),
            cure="give the camera an aperture and a focal length above zero",
        )
    axes /= lengths[:, None]
    # Image plane at distance 1 for a perspective camera, in scene units for a parallel one.
    unit = 1.0 if camera.orthographic else 1.0 / camera.focal_length
    width, height = camera.aperture[0] * unit, camera.aperture[1] * unit
    inside = min if sensor.crop else max
    pixel = inside(width / sensor.width, height / sensor.height)
    centre = camera.offset[0] * unit, camera.offset[1] * unit
    return Pinned(
        LENS,
        axes=axes.ravel(),
        position=matrix[3, :3],
        left=centre[0] - pixel * sensor.width / 2,
        top=centre[1] + pixel * sensor.height / 2,
        pixel=pixel,
        radius=0.0 if camera.orthographic else camera.lens_radius,
        focus=camera.focus_distance if camera.focus_distance > 0 else 1.0,
        near=camera.clipping[0],
        far=camera.clipping[1],
        orthographic=camera.orthographic,
        filter=filter_table(),
    )


@inner
def shoot(lens, x, y, lens_x, lens_y):
    """The ray through film point (x, y) in pixels and lens point in the unit disk.

    Returns origin, unit direction, and how far along the view axis one step of the ray goes.
    """
    film_x, film_y = x * lens.pixel + lens.left, lens.top - y * lens.pixel
    right, up, back = triple(lens.axes, 0), triple(lens.axes, 3), triple(lens.axes, 6)
    if lens.orthographic:
        start = to_world((film_x, film_y, 0.0), right, up, back)
        direction = (0.0 * x - back[0], 0.0 * x - back[1], 0.0 * x - back[2])
    else:
        lx, ly = lens_x * lens.radius, lens_y * lens.radius
        start = to_world((lx, ly, 0.0), right, up, back)
        to_focus = (film_x * lens.focus - lx, film_y * lens.focus - ly, -lens.focus)
        direction = normalized(to_world(to_focus, right, up, back))
    return add(triple(lens.position, 0), start), direction, max(-dot(direction, back), 1e-9)


@inner
def pixel_width_at(lens, depth):
    """The width of a pixel at a depth, in scene units."""
    return lens.pixel if lens.orthographic else lens.pixel * depth
