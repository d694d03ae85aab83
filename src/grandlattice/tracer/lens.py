"""From a point of the film to a ray: pinhole, thin lens, orthographic, all around.

Image coordinates are in pixels from the upper left corner of the whole picture.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from grandlattice.errors import Place, TracerError
from grandlattice.scene_records import Camera
from grandlattice.tracer.kernel_memory import Pinned, float32s
from grandlattice.tracer.lanes import inner, to_floats, to_ints, where
from grandlattice.tracer.sampling import filter_table, sine_and_cosine
from grandlattice.tracer.vectors import add, dot, normalized, scale, subtract, to_world, triple

# mypy: disable-error-code="no-untyped-def"


@dataclass(frozen=True)
class Sensor:
    """The film behind a camera: its size in pixels.

    Where the aspect of the pixels differs from the camera's, the picture shows more at the
    sides or at top and bottom, and nothing the camera frames is lost; with `crop` it shows
    nothing beyond what the camera frames.

    Attributes
    ----------
    region : left, top, right, bottom in pixels of the part that is traced; None is all of it.
    projection : ``camera``; ``panorama``, everything around the camera, longitude across and latitude
        down with its front in the middle; ``stereo-panorama``, two of these, the left eye's above the
        right eye's.
    eye_distance : between the two eyes, scene units.
    """

    camera: Camera
    width: int
    height: int
    crop: bool = False
    region: tuple[int, int, int, int] | None = None
    projection: str = "camera"
    eye_distance: float = 0.0

    @property
    def window(self) -> tuple[int, int, int, int]:
        """Left, top, right, bottom of what is traced."""
        return self.region or (0, 0, self.width, self.height)


LENS = np.dtype(
    [
        ("axes", "f8", (9,)),  # right, up, backward, unit length
        ("position", "f8", (3,)),
        ("left", "f8"), ("top", "f8"),  # film position of the upper left corner
        ("pixel", "f8"),  # film size of a pixel
        ("radius", "f8"), ("focus", "f8"), ("near", "f8"), ("far", "f8"),
        ("orthographic", "i8"),
        ("around", "i8"),  # pictures of everything around, one above the other; 0 for a film
        ("width", "f8"), ("height", "f8"),  # of each of these, in pixels
        ("eye", "f8"),  # from between the eyes to each of them
        # Where the camera moves while the shutter is open: how many steps, and the address of their
        # ends, (steps + 1, 12) float32, axes and position.
        ("steps", "i8"), ("track", "i8"),
        ("filter", "i8"),  # address of sampling.filter_table
    ],
    align=True,
)  # fmt: skip
"""A camera as the kernel wants it.  The film of a perspective camera is at distance 1; that of an
orthographic one is in scene units."""


def _film(sensor: Sensor) -> tuple[float, float]:
    """What lengths at the film are multiplied by, and the pitch of pixels: on the plane at distance 1 for a
    perspective camera, in scene units for a parallel one."""
    camera = sensor.camera
    unit = 1.0 if camera.orthographic else 1.0 / camera.focal_length
    inside = min if sensor.crop else max
    return unit, unit * inside(camera.aperture[0] / sensor.width, camera.aperture[1] / sensor.height)


def pixel_pitch(sensor: Sensor) -> float:
    """How far apart pixels are at a distance of 1; 0 where no lens throws them out of focus."""
    camera = sensor.camera
    if camera.orthographic or _AROUND[sensor.projection] or not camera.focal_length > 0:
        return 0.0
    return _film(sensor)[1]


def make_lens(sensor: Sensor) -> Pinned:
    """Work out the lens of a sensor.

    Raises
    ------
    TracerError
        For a camera with no aperture, focal length or orientation.
    """
    camera = sensor.camera
    matrix = np.asarray(camera.to_world, float)
    axes, lengths = _axes_of(matrix)
    around = _AROUND[sensor.projection]
    usable = around or (min(camera.aperture) > 0 and camera.focal_length > 0)
    if not usable or not lengths.min() > 0 or not np.isfinite(matrix).all():
        raise TracerError(
            "The camera has no picture: its aperture, focal length or scale is zero.",
            place=Place(prim=camera.path),
            cure="give the camera an aperture and a focal length above zero",
        )
    unit, pixel = _film(sensor)
    centre = camera.offset[0] * unit, camera.offset[1] * unit
    if around:
        pixel = 2.0 * np.pi / sensor.width
    track = np.zeros((1, 12), np.float32)
    if camera.track is not None:
        track = np.array([[*_axes_of(m)[0].ravel(), *m[3, :3]] for m in camera.track], np.float32)
    return Pinned(
        LENS,
        axes=axes.ravel(),
        around=around,
        width=sensor.width,
        height=sensor.height / max(around, 1),
        eye=0.5 * sensor.eye_distance if around == 2 else 0.0,
        steps=len(track) - 1,
        track=track,
        position=matrix[3, :3],
        left=centre[0] - pixel * sensor.width / 2,
        top=centre[1] + pixel * sensor.height / 2,
        pixel=pixel,
        radius=0.0 if camera.orthographic or around else camera.lens_radius,
        focus=camera.focus_distance if camera.focus_distance > 0 else 1.0,
        near=camera.clipping[0],
        far=camera.clipping[1],
        orthographic=camera.orthographic and not around,
        filter=filter_table(),
    )


_AROUND = {"camera": 0, "panorama": 1, "stereo-panorama": 2}


def _axes_of(matrix: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Right, up and backward of a camera, unit length, (3, 3); and their lengths before."""
    axes = np.array(matrix, float)[:3, :3]
    lengths = np.linalg.norm(axes, axis=1)
    return axes / np.where(lengths > 0, lengths, 1.0)[:, None], lengths


def project(lens: Pinned, points: np.ndarray) -> np.ndarray:
    """Where points show in the picture: the inverse of `shoot`, for a pinhole or the middle of a lens.

    Parameters
    ----------
    points : (…, 3) in world space.

    Returns
    -------
    (…, 2) pixels from the upper left corner of the whole picture; of two pictures all around, the
    upper one.
    """
    held = lens.record
    right, up, back = held["axes"].reshape(3, 3)
    away = points - held["position"]
    x, y, z = away @ right, away @ up, -(away @ back)
    if held["around"]:
        across = np.arctan2(x, z) / (2 * np.pi) + 0.5
        down = 0.5 - np.arctan2(y, np.hypot(x, z)) / np.pi
        return np.stack([across * held["width"], down * held["height"]], -1)
    depth = 1.0 if held["orthographic"] else np.where(np.abs(z) > 1e-12, z, 1e-12)
    across, down = x / depth - held["left"], held["top"] - y / depth
    return np.stack([across, down], -1) / held["pixel"]


@inner
def _stand(lens, time):
    """Axes and position of the camera at times of the shutter, 0 open … 1 closed."""
    if lens.steps == 0:
        nought = 0.0 * time
        axes = lens.axes
        right = (axes[0] + nought, axes[1] + nought, axes[2] + nought)
        up = (axes[3] + nought, axes[4] + nought, axes[5] + nought)
        back = (axes[6] + nought, axes[7] + nought, axes[8] + nought)
        at = lens.position
        return right, up, back, (at[0] + nought, at[1] + nought, at[2] + nought)
    track = float32s(lens.track)
    place = time * lens.steps
    step = min(to_ints(place), lens.steps - 1)
    part, k = place - to_floats(step), step * 12
    right = _between(triple(track, k), triple(track, k + 12), part)
    up = _between(triple(track, k + 3), triple(track, k + 15), part)
    back = _between(triple(track, k + 6), triple(track, k + 18), part)
    return right, up, back, _between(triple(track, k + 9), triple(track, k + 21), part)


@inner
def _between(a, b, part):
    return add(a, scale(subtract(b, a), part))


@inner
def shoot(lens, x, y, lens_x, lens_y, time):
    """The ray through film point (x, y) in pixels and lens point in the unit disk at a time.

    Returns origin, unit direction, and how far along the view axis one step of the ray goes.
    """
    film_x, film_y = x * lens.pixel + lens.left, lens.top - y * lens.pixel
    right, up, back, position = _stand(lens, time)
    if lens.around > 0:
        # Longitude across, latitude down; the lower picture is the right eye's.
        lower = (y >= lens.height) & (lens.around == 2)
        down = where(lower, y - lens.height, y) / lens.height
        sine, cosine = sine_and_cosine(x / lens.width - 0.5)
        rise, level = sine_and_cosine(0.5 * (0.5 - down))
        direction = to_world((sine * level, rise, -cosine * level), right, up, back)
        eye = where(lower, lens.eye, -lens.eye)
        aside = to_world((cosine * eye, 0.0, sine * eye), right, up, back)
        return add(position, aside), normalized(direction), 0.0 * x + 1.0
    if lens.orthographic:
        start = to_world((film_x, film_y, 0.0), right, up, back)
        direction = (0.0 * x - back[0], 0.0 * x - back[1], 0.0 * x - back[2])
    else:
        lx, ly = lens_x * lens.radius, lens_y * lens.radius
        start = to_world((lx, ly, 0.0), right, up, back)
        to_focus = (film_x * lens.focus - lx, film_y * lens.focus - ly, -lens.focus)
        direction = normalized(to_world(to_focus, right, up, back))
    return add(position, start), direction, max(-dot(direction, back), 1e-9)


@inner
def pixel_width_at(lens, depth):
    """The width of a pixel at a depth, in scene units."""
    return lens.pixel if lens.orthographic else lens.pixel * depth
