"""Lights for kernels: sampling a direction towards one, and meeting one along a ray.

Light shapes do not block paths and are not seen by the camera; they show in reflections.  The
dome is seen as the background.  Densities are over solid angle at the point that is lit.

A dome is sampled by its brightness: its image, averaged to a grid of at most 256×128 and
smoothed as it is when it is read, gives rows and columns their probabilities.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence

import numpy as np
from numba import njit
from numpy.typing import NDArray

from grandlattice.snapshot import Light
from grandlattice.tracer.memory import float32s, float64s, records, table
from grandlattice.tracer.sampling import cone_direction, on_disk
from grandlattice.tracer.textures import srgb_to_linear
from grandlattice.tracer.vectors import add, along, cross, dot, normalized, scale, subtract, triple

# mypy: disable-error-code="no-untyped-def"

DOME, DISTANT, RECT, DISK, SPHERE = 0, 1, 2, 3, 4
_KINDS = {"dome": DOME, "distant": DISTANT, "rect": RECT, "disk": DISK, "sphere": SPHERE}
_LUMA = np.array([0.2126, 0.7152, 0.0722])
_NARROWEST = 0.01  # degrees; a distant light of no width still has to be sampled


LIGHT = np.dtype(
    [
        ("kind", "i8"),
        ("radiance", "f8", (3,)),
        ("position", "f8", (3,)),
        ("across", "f8", (3,)),  # half the width as a vector; a dome's local X
        ("upward", "f8", (3,)),  # half the height; a dome's local Y
        ("facing", "f8", (3,)),  # where it shines; a dome's local Z
        ("extent", "f8"),  # area; a sphere's radius; a distant light's 1 − cos(half its angle)
        ("width", "i8"), ("height", "i8"), ("texels", "i8"),  # a dome's image: float32 RGB
        ("columns", "i8"), ("lines", "i8"),  # the grid it is sampled by
        ("rows", "i8"),  # cumulated chances of the grid's lines, lines + 1
        ("cells", "i8"),  # cumulated along each line, columns + 1 for each
    ],
    align=True,
)  # fmt: skip

light_at = records(LIGHT)


def _dome_grid(texels: NDArray[np.float32]) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Cumulated probabilities of rows (h + 1,) and, within rows, of cells (h, w + 1)."""
    brightness = texels.astype(np.float64) @ _LUMA
    height, width = brightness.shape
    grid_height, grid_width = min(max(height, 32), 128), min(max(width, 64), 256)
    if height > grid_height or width > grid_width:
        row_edges = np.linspace(0, height, grid_height + 1).astype(int)[:-1]
        column_edges = np.linspace(0, width, grid_width + 1).astype(int)[:-1]
        sums = np.add.reduceat(np.add.reduceat(brightness, row_edges, 0), column_edges, 1)
        counts = np.add.reduceat(np.add.reduceat(np.ones_like(brightness), row_edges, 0), column_edges, 1)
        brightness = sums / counts
    else:
        brightness = brightness[np.arange(grid_height) * height // grid_height]
        brightness = brightness[:, np.arange(grid_width) * width // grid_width]
    # The mean of the bilinear image over each texel: no bright texel is left without a chance.
    padded = np.pad(brightness, ((1, 1), (0, 0)), "edge")
    tall = 0.75 * brightness + 0.125 * (padded[:-2] + padded[2:])
    brightness = 0.75 * tall + 0.125 * (np.roll(tall, 1, 1) + np.roll(tall, -1, 1))
    brightness = np.maximum(brightness, 1e-3 * brightness.mean() + 1e-12)
    latitude = (np.arange(grid_height) + 0.5) / grid_height * np.pi
    weight = brightness * np.sin(latitude)[:, None]
    along_row = np.concatenate([np.zeros((grid_height, 1)), np.cumsum(weight, 1)], 1)
    over_rows = np.concatenate([[0.0], np.cumsum(along_row[:, -1])])
    return over_rows / over_rows[-1], np.ascontiguousarray(along_row / along_row[:, -1:])


def pack_lights(
    lights: Sequence[Light], images: Mapping[str, NDArray | None]
) -> tuple[NDArray, list[NDArray]]:
    """A table of `LIGHT` and the arrays it points at; `images` as in `pack_textures`."""
    held: list[NDArray] = []
    rows_of_table = table(LIGHT, len(lights))
    for row, light in zip(rows_of_table, lights, strict=False):
        row["kind"], row["radiance"] = _KINDS[light.kind], light.radiance
        matrix = np.asarray(light.to_world, float)
        x, y, z, row["position"] = matrix[0, :3], matrix[1, :3], matrix[2, :3], matrix[3, :3]
        if light.kind == "dome":
            for name, axis in (("across", x), ("upward", y), ("facing", z)):
                row[name] = axis / np.linalg.norm(axis)
            image = np.ascontiguousarray(_dome_image(light, images))
            over_rows, along_rows = _dome_grid(image)
            row["height"], row["width"] = image.shape[:2]
            row["lines"], row["columns"] = along_rows.shape[0], along_rows.shape[1] - 1
            row["texels"], row["rows"] = image.ctypes.data, over_rows.ctypes.data
            row["cells"] = along_rows.ctypes.data
            held += [image, over_rows, along_rows]
        elif light.kind == "distant":
            row["facing"] = -z / np.linalg.norm(z)
            half = np.radians(max(light.size[0], _NARROWEST)) / 2
            row["extent"] = 2.0 * np.sin(half / 2) ** 2
        elif light.kind == "sphere":
            volume = abs(np.linalg.det(matrix[:3, :3]))
            row["extent"] = light.size[0] * volume ** (1 / 3)
        else:
            row["facing"] = -z / np.linalg.norm(z)
            half = 1.0 if light.kind == "disk" else 0.5
            across, upward = x * light.size[0] * half, y * light.size[1] * half
            row["across"], row["upward"] = across, upward
            shape = np.pi if light.kind == "disk" else 4.0
            row["extent"] = shape * np.linalg.norm(np.cross(across, upward))
    return rows_of_table, held


def _dome_image(light: Light, images: Mapping[str, NDArray | None]) -> NDArray[np.float32]:
    """The dome's texels as linear floats, (H, W, 3); one white texel where it has no image."""
    pixels = images.get(light.texture.file) if light.texture is not None else None
    if pixels is None:
        return np.ones((1, 1, 3), np.float32)
    if pixels.dtype == np.uint8:
        pixels = srgb_to_linear(pixels / 255.0).astype(np.float32)
    if pixels.shape[2] < 3:
        pixels = np.repeat(pixels[..., :1], 3, axis=2)
    # An infinite texel (a badly stored sun) would make every pixel infinite.
    return np.clip(np.nan_to_num(pixels[..., :3], posinf=65504.0), 0.0, None).astype(np.float32)


@njit(error_model="numpy")
def _find(steps, first, count, u):
    """The step of a cumulated table (`count` + 1 entries from `first`) that holds `u`."""
    low, high = 0, count
    while high - low > 1:
        middle = (low + high) // 2
        if steps[first + middle] <= u:
            low = middle
        else:
            high = middle
    return low


@njit(error_model="numpy")
def _dome_coordinates(light, direction):
    """Texture coordinates of a direction: u from longitude +180° leftmost, v from the top."""
    x = dot(direction, triple(light.across, 0))
    y = dot(direction, triple(light.upward, 0))
    z = dot(direction, triple(light.facing, 0))
    u = 0.5 - math.atan2(x, z) / (2.0 * math.pi)
    v = math.acos(min(max(y, -1.0), 1.0)) / math.pi
    return min(max(u, 0.0), 1.0 - 1e-12), min(max(v, 0.0), 1.0 - 1e-12)


@njit(error_model="numpy")
def _dome_radiance(light, u, v):
    width, height = light.width, light.height
    r = triple(light.radiance, 0)
    t = float32s(light.texels)
    if width == 1 and height == 1:
        return (r[0] * t[0], r[1] * t[1], r[2] * t[2])
    x, y = u * width - 0.5, v * height - 0.5
    x0, y0 = math.floor(x), math.floor(y)
    a, b = x - x0, y - y0
    left, right = (x0 + width) % width, (x0 + 1) % width
    top, bottom = max(y0, 0), min(y0 + 1, height - 1)
    k00, k10 = 3 * (top * width + left), 3 * (top * width + right)
    k01, k11 = 3 * (bottom * width + left), 3 * (bottom * width + right)
    w00, w10, w01, w11 = (1 - a) * (1 - b), a * (1 - b), (1 - a) * b, a * b
    return (
        r[0] * (w00 * t[k00] + w10 * t[k10] + w01 * t[k01] + w11 * t[k11]),
        r[1] * (w00 * t[k00 + 1] + w10 * t[k10 + 1] + w01 * t[k01 + 1] + w11 * t[k11 + 1]),
        r[2] * (w00 * t[k00 + 2] + w10 * t[k10 + 2] + w01 * t[k01 + 2] + w11 * t[k11 + 2]),
    )


@njit(error_model="numpy")
def _dome_density(light, u, v):
    width, height = light.columns, light.lines
    rows, cells = float64s(light.rows), float64s(light.cells)
    x, y = min(int(u * width), width - 1), min(int(v * height), height - 1)
    k = y * (width + 1) + x
    share = rows[y + 1] - rows[y]
    share *= cells[k + 1] - cells[k]
    sine = math.sin(v * math.pi)
    if sine <= 0.0:
        return 0.0
    return share * width * height / (2.0 * math.pi * math.pi * sine)


@njit(error_model="numpy")
def _sample_dome(light, s, t):
    width, height = light.columns, light.lines
    rows, cells = float64s(light.rows), float64s(light.cells)
    y = _find(rows, 0, height, t)
    low, high = rows[y], rows[y + 1]
    v = (y + (t - low) / (high - low)) / height
    base = y * (width + 1)
    x = _find(cells, base, width, s)
    low, high = cells[base + x], cells[base + x + 1]
    u = (x + (s - low) / (high - low)) / width
    longitude, polar = (0.5 - u) * 2.0 * math.pi, v * math.pi
    sine = math.sin(polar)
    local = (sine * math.sin(longitude), math.cos(polar), sine * math.cos(longitude))
    a, b, c = triple(light.across, 0), triple(light.upward, 0), triple(light.facing, 0)
    direction = add(add(scale(a, local[0]), scale(b, local[1])), scale(c, local[2]))
    return direction, _dome_radiance(light, u, v), _dome_density(light, u, v)


FAR = 3e38


@njit(error_model="numpy")
def sample_light(light, point, s, t):
    """A direction from `point` towards a light.

    Returns (direction, distance, radiance, density); density 0 where the light cannot reach.
    """
    none = (0.0, 0.0, 0.0)
    kind = light.kind
    radiance = triple(light.radiance, 0)
    if kind == DOME:
        direction, radiance, density = _sample_dome(light, s, t)
        return direction, FAR, radiance, density
    if kind == DISTANT:
        direction = cone_direction(scale(triple(light.facing, 0), -1.0), light.extent, s, t)
        return direction, FAR, radiance, 1.0 / (2.0 * math.pi * light.extent)
    to_centre = subtract(triple(light.position, 0), point)
    if kind == SPHERE:
        radius = light.extent
        squared = dot(to_centre, to_centre)
        if squared <= radius * radius:
            return none, 0.0, none, 0.0
        sine_squared = radius * radius / squared
        # 1 − cos without cancellation for small, far lights.
        narrow = sine_squared / (1.0 + math.sqrt(1.0 - sine_squared))
        direction = cone_direction(scale(to_centre, 1.0 / math.sqrt(squared)), narrow, s, t)
        middle = dot(to_centre, direction)
        inside = max(radius * radius - (squared - middle * middle), 0.0)
        return direction, middle - math.sqrt(inside), radiance, 1.0 / (2.0 * math.pi * narrow)
    x, y = 2.0 * s - 1.0, 2.0 * t - 1.0
    if kind == DISK:
        x, y = on_disk(s, t)
    offset = add(scale(triple(light.across, 0), x), scale(triple(light.upward, 0), y))
    to_light = add(to_centre, offset)
    squared = dot(to_light, to_light)
    distance = math.sqrt(squared)
    if distance == 0.0:
        return none, 0.0, none, 0.0
    direction = scale(to_light, 1.0 / distance)
    cosine = -dot(direction, triple(light.facing, 0))
    if cosine <= 0.0:
        return none, 0.0, none, 0.0
    return direction, distance, radiance, squared / (cosine * light.extent)


@njit(error_model="numpy")
def meet_light(light, origin, direction, t_near, t_far):
    """What a ray meets of a light between two distances: (radiance, density of sampling it)."""
    none = (0.0, 0.0, 0.0)
    kind = light.kind
    radiance = triple(light.radiance, 0)
    if kind == DOME or kind == DISTANT:
        if t_far < FAR:
            return none, 0.0
        if kind == DOME:
            u, v = _dome_coordinates(light, direction)
            return _dome_radiance(light, u, v), _dome_density(light, u, v)
        # `facing` is where the light goes; a ray that meets it goes the other way.
        off_axis = add(direction, triple(light.facing, 0))
        if dot(off_axis, off_axis) > 2.0 * light.extent:  # |off|² = 2 (1 − cos)
            return none, 0.0
        return radiance, 1.0 / (2.0 * math.pi * light.extent)
    to_centre = subtract(triple(light.position, 0), origin)
    if kind == SPHERE:
        radius = light.extent
        squared = dot(to_centre, to_centre)
        middle = dot(to_centre, direction)
        inside = radius * radius - (squared - middle * middle)
        if squared <= radius * radius or middle <= 0.0 or inside < 0.0:
            return none, 0.0
        t = middle - math.sqrt(inside)
        if t <= t_near or t > t_far:
            return none, 0.0
        sine_squared = radius * radius / squared
        narrow = sine_squared / (1.0 + math.sqrt(1.0 - sine_squared))
        return radiance, 1.0 / (2.0 * math.pi * narrow)
    facing = triple(light.facing, 0)
    cosine = -dot(direction, facing)
    if cosine <= 0.0:
        return none, 0.0
    t = -dot(to_centre, facing) / cosine
    if t <= t_near or t > t_far:
        return none, 0.0
    offset = subtract(along(origin, direction, t), triple(light.position, 0))
    a, b = triple(light.across, 0), triple(light.upward, 0)
    # Solve offset = x·a + y·b in the light's plane, whatever the angle between a and b.
    normal = cross(a, b)
    area = dot(normal, normal)
    x, y = dot(cross(offset, b), normal) / area, dot(cross(a, offset), normal) / area
    outside = x * x + y * y > 1.0 if kind == DISK else max(abs(x), abs(y)) > 1.0
    if outside:
        return none, 0.0
    return radiance, t * t / (cosine * light.extent)


@njit(error_model="numpy")
def light_reach(light, point, normal):
    """A guess at what a light sends to `point`, unshadowed; only steers which one is sampled."""
    r = triple(light.radiance, 0)
    brightness = r[0] + r[1] + r[2]
    kind = light.kind
    if kind == DOME:
        return brightness * math.pi
    if kind == DISTANT:
        return brightness * light.extent * 2.0 * math.pi
    to_centre = subtract(triple(light.position, 0), point)
    squared = dot(to_centre, to_centre) + 1e-9
    if kind == SPHERE:
        return brightness * math.pi * light.extent**2 / squared
    cosine = max(-dot(normalized(to_centre), triple(light.facing, 0)), 0.05)
    return brightness * light.extent * cosine / (squared + light.extent)
