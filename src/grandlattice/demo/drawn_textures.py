"""Textures and skies of the demo, drawn by code with fixed seeds: the same bytes every time."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import OpenImageIO as oiio
from numpy.typing import NDArray
from PIL import Image, ImageDraw, ImageFont

Floats = NDArray[np.float64]


def noise(height: int, width: int, cells_y: int, cells_x: int, seed: int) -> Floats:
    """Smooth noise that tiles, 0..1: random values on a lattice, blended with a smooth step."""
    values = np.random.default_rng(seed).random((cells_y, cells_x))
    y, x = np.arange(height) * cells_y / height, np.arange(width) * cells_x / width
    y0, x0 = y.astype(int), x.astype(int)
    fy, fx = (y - y0)[:, None], (x - x0)[None, :]
    fy, fx = fy * fy * (3 - 2 * fy), fx * fx * (3 - 2 * fx)
    y1, x1 = (y0 + 1) % cells_y, (x0 + 1) % cells_x
    top = values[y0][:, x0] * (1 - fx) + values[y0][:, x1] * fx
    bottom = values[y1][:, x0] * (1 - fx) + values[y1][:, x1] * fx
    return np.asarray(top * (1 - fy) + bottom * fy)


def layered_noise(height: int, width: int, cells_y: int, cells_x: int, seed: int, layers: int = 4) -> Floats:
    """Noise of several sizes, finer ones weaker, 0..1."""
    total, weight = np.zeros((height, width)), 0.0
    for k in range(layers):
        total += noise(height, width, cells_y << k, cells_x << k, seed + k) * 0.5**k
        weight += 0.5**k
    return total / weight


def _blend(dark: tuple[float, ...], light: tuple[float, ...], share: Floats) -> Floats:
    return np.asarray(dark) + (np.asarray(light) - np.asarray(dark)) * share[..., None]


def save(path: Path, pixels: Floats) -> None:
    """Write 0..1 values as an eight-bit PNG; grey for two dimensions."""
    Image.fromarray(np.rint(np.clip(pixels, 0, 1) * 255).astype(np.uint8)).save(path, compress_level=2)


def _wood(height: int, width: int, seed: int) -> Floats:
    """Share of light wood: long wavering grain along x with dark pores."""
    wander = layered_noise(height, width, 3, 2, seed, 3)
    rows = np.linspace(0, 1, height, endpoint=False)[:, None]
    grain = 0.5 + 0.5 * np.sin(2 * np.pi * (9 * rows + 5.0 * wander))
    fine = layered_noise(height, width, 96, 4, seed + 20, 3)
    pores = noise(height, width, 256, 10, seed + 40) ** 6
    return np.clip(0.52 * grain + 0.55 * fine - 0.5 * pores, 0, 1)


def walnut(size: int = 1024) -> tuple[Floats, Floats]:
    """Walnut for furniture: colour (sRGB) and roughness."""
    share = _wood(size, size, 3)
    return _blend((0.24, 0.125, 0.065), (0.60, 0.37, 0.215), share), 0.30 + 0.18 * (1 - share)


def floor_boards(size: int = 1024, boards: int = 8) -> tuple[Floats, Floats, Floats]:
    """Boards along x with staggered joints: colour, roughness, and a normal map of the gaps."""
    grain = _wood(size, size, 11)
    rng = np.random.default_rng(5)
    colour = _blend((0.24, 0.135, 0.075), (0.56, 0.36, 0.22), grain)
    height = np.ones((size, size))
    wide = size // boards
    for b in range(boards):
        rows = slice(b * wide, (b + 1) * wide)
        joint, half = int(rng.integers(size)), size // 2
        for start, tone in ((joint, rng.uniform(0.72, 1.12)), (joint + half, rng.uniform(0.72, 1.12))):
            columns = (start + np.arange(half)) % size
            piece = np.roll(colour[rows], int(rng.integers(size)), axis=1)[:, columns]
            colour[rows.start : rows.stop, columns] = (
                piece * tone * (1.0, rng.uniform(0.95, 1.03), rng.uniform(0.9, 1.05))
            )
            for edge in range(-1, 2):
                height[rows, (start + edge) % size] = 0.0
        height[rows.start : rows.start + 2] = 0.0
    colour *= (0.25 + 0.75 * height)[..., None]
    soft = (
        height
        + np.roll(height, 1, 0)
        + np.roll(height, -1, 0)
        + np.roll(height, 1, 1)
        + np.roll(height, -1, 1)
    ) / 5
    soft = soft + 0.06 * grain
    slope_x = (np.roll(soft, -1, 1) - np.roll(soft, 1, 1)) * 0.7
    slope_y = (np.roll(soft, -1, 0) - np.roll(soft, 1, 0)) * 0.7
    normal = np.stack([-slope_x, slope_y, np.ones_like(soft)], -1)
    normal /= np.linalg.norm(normal, axis=-1, keepdims=True)
    rough = 0.30 + 0.2 * layered_noise(size, size, 6, 6, 31) + 0.1 * (1 - grain)
    return colour, rough, normal * 0.5 + 0.5


def brushed(size: int = 512) -> Floats:
    """Roughness of handled metal: fine turning marks, and smudges where it was touched."""
    marks = noise(size, size, 256, 3, 51)
    smudges = layered_noise(size, size, 4, 4, 52, 4)
    return 0.17 + 0.10 * marks + 0.16 * np.clip(smudges * 2.2 - 0.95, 0, 1)


def verdigris(size: int = 1024) -> tuple[Floats, Floats, Floats]:
    """Old bronze: colour, roughness and metalness, green where it has weathered."""
    patches = layered_noise(size, size, 6, 6, 61, 6)
    weathered = np.clip((patches - 0.40) * 6.0, 0, 1)
    speckle = layered_noise(size, size, 48, 48, 62, 3)
    green = _blend((0.16, 0.34, 0.30), (0.46, 0.66, 0.56), speckle)
    bronze = _blend((0.34, 0.20, 0.10), (0.62, 0.42, 0.22), layered_noise(size, size, 12, 12, 63, 3))
    colour = bronze + (green - bronze) * weathered[..., None]
    return colour, 0.34 + 0.45 * weathered, 1.0 - weathered


def _font(size: int) -> ImageFont.FreeTypeFont | ImageFont.ImageFont:
    return ImageFont.load_default(size)


def dial(size: int = 2048) -> Floats:
    """Share of engraving on the dial, 0 bare and 1 cut: degrees, months, hours, a rose."""
    sheet = Image.new("L", (size, size), 0)
    draw = ImageDraw.Draw(sheet)
    middle = size / 2

    def circle(radius: float, width: int) -> None:
        r = radius * middle
        draw.ellipse((middle - r, middle - r, middle + r, middle + r), outline=255, width=width)

    def ray(angle: float, inner: float, outer: float, width: int) -> None:
        c, s = np.sin(angle), -np.cos(angle)
        draw.line(
            (middle + c * inner * middle, middle + s * inner * middle,
             middle + c * outer * middle, middle + s * outer * middle), fill=255, width=width,
        )  # fmt: skip

    for radius, width in (
        (0.985, 8),
        (0.945, 3),
        (0.90, 5),
        (0.78, 5),
        (0.765, 2),
        (0.62, 4),
        (0.60, 2),
        (0.40, 5),
    ):
        circle(radius, width)
    for degree in range(360):
        a = np.radians(degree)
        ray(a, 0.905 if degree % 5 else 0.90, 0.945 if degree % 10 else 0.985, 2 if degree % 5 else 4)
    for k in range(12):
        ray(2 * np.pi * k / 12, 0.62, 0.90, 5)
    for k in range(96):
        ray(2 * np.pi * k / 96, 0.60 if k % 4 else 0.575, 0.62, 3)
    months = [
        "JANUARY",
        "FEBRUARY",
        "MARCH",
        "APRIL",
        "MAY",
        "JUNE",
        "JULY",
        "AUGUST",
        "SEPTEMBER",
        "OCTOBER",
        "NOVEMBER",
        "DECEMBER",
    ]
    hours = ["I", "II", "III", "IV", "V", "VI", "VII", "VIII", "IX", "X", "XI", "XII"]
    for k in range(12):
        _around(sheet, months[k], 2 * np.pi * (k + 0.5) / 12, 0.84, size, 62, 0.052)
        _around(sheet, hours[k], 2 * np.pi * (k + 0.5) / 12, 0.69, size, 84, 0.062)
    for k in range(32):
        a = 2 * np.pi * k / 32
        reach = 0.575 if k % 8 == 0 else 0.53 if k % 4 == 0 else 0.48
        b = np.pi / 32 * (1.6 if k % 8 == 0 else 1.0)
        tip = (middle + np.sin(a) * reach * middle, middle - np.cos(a) * reach * middle)
        for side in (-1, 1):
            foot = (
                middle + np.sin(a + side * b) * 0.42 * middle,
                middle - np.cos(a + side * b) * 0.42 * middle,
            )
            draw.line((*tip, *foot), fill=255, width=4)
        if k % 2 == 0:
            foot = (middle + np.sin(a + b) * 0.42 * middle, middle - np.cos(a + b) * 0.42 * middle)
            base = (middle + np.sin(a) * 0.42 * middle, middle - np.cos(a) * 0.42 * middle)
            draw.polygon([tip, foot, base], fill=200)
    return np.asarray(sheet, float) / 255.0


def _around(
    sheet: Image.Image, word: str, angle: float, radius: float, size: int, height: int, step: float
) -> None:
    """Letters along a circle, their feet outward: to be read by who stands before the dial."""
    for n, letter in enumerate(word):
        a = angle - (n - (len(word) - 1) / 2) * step
        tile = Image.new("L", (height * 2, height * 2), 0)
        ImageDraw.Draw(tile).text((height, height), letter, 255, font=_font(height), anchor="mm")
        tile = tile.rotate(180 - np.degrees(a), Image.Resampling.BICUBIC)
        x = size / 2 + np.sin(a) * radius * size / 2 - height
        y = size / 2 - np.cos(a) * radius * size / 2 - height
        sheet.paste(255, (round(x), round(y)), tile)


def planet(name: str, width: int = 512) -> Floats:
    """A painted globe, lat-long, sRGB."""
    height = width // 2
    latitude = np.linspace(-1, 1, height)[:, None]
    cloud = layered_noise(height, width, 4, 8, sum(map(ord, name)), 5)
    bands = 0.5 + 0.5 * np.sin(latitude * 17 + 2.2 * layered_noise(height, width, 2, 6, 71, 4))
    if name == "Jupiter":
        return _blend((0.56, 0.36, 0.22), (0.90, 0.82, 0.68), np.clip(0.75 * bands + 0.3 * cloud, 0, 1))
    if name == "Saturn":
        return _blend((0.66, 0.52, 0.32), (0.90, 0.80, 0.58), np.clip(0.6 * bands + 0.3 * cloud, 0, 1))
    if name == "Earth":
        land = np.clip((layered_noise(height, width, 3, 6, 77, 6) - 0.5) * 16, 0, 1)
        sea = _blend((0.04, 0.13, 0.28), (0.08, 0.26, 0.42), cloud)
        ground = _blend((0.25, 0.33, 0.16), (0.56, 0.47, 0.30), cloud)
        world = sea + (ground - sea) * land[..., None]
        ice = np.clip((np.abs(latitude) - 0.84 + 0.1 * cloud) * 14, 0, 1)[..., None]
        return np.asarray(world + (0.92 - world) * ice)
    pairs = {
        "Mercury": ((0.32, 0.29, 0.27), (0.62, 0.58, 0.53)),
        "Venus": ((0.74, 0.58, 0.36), (0.95, 0.87, 0.70)),
        "Mars": ((0.42, 0.15, 0.07), (0.76, 0.38, 0.20)),
        "Uranus": ((0.45, 0.68, 0.72), (0.68, 0.85, 0.86)),
        "Neptune": ((0.09, 0.19, 0.50), (0.25, 0.45, 0.78)),
        "Moon": ((0.45, 0.44, 0.42), (0.78, 0.77, 0.74)),
    }
    return _blend(*pairs[name], cloud)


def sky(kind: str, width: int = 1024) -> NDArray[np.float32]:
    """A lat-long sky (height, width, 3), to be multiplied by the nits of a bright day's blue."""
    height = width // 2
    up = np.cos((np.arange(height) + 0.5) / height * np.pi)[:, None]
    longitude = (0.5 - (np.arange(width) + 0.5) / width)[None, :] * 2 * np.pi
    level = np.sqrt(1 - up**2)
    x, z = level * np.sin(longitude), level * np.cos(longitude)
    above = np.clip(up, 0, 1)
    clouds = np.clip(layered_noise(height, width, 5, 8, 81, 6) * 2.4 - 1.05, 0, 1) * np.clip(above * 4, 0, 1)

    def towards(sx: float, sy: float, sz: float) -> Floats:
        s = np.array([sx, sy, sz]) / np.linalg.norm([sx, sy, sz])
        return np.clip(x * s[0] + up * s[1] + z * s[2], -1, 1)

    if kind == "noon":
        sun = towards(-0.62, 0.66, 0.42)
        colour = _blend((0.80, 0.92, 1.10), (0.22, 0.42, 0.86), np.broadcast_to(above**0.45, x.shape))
        colour = colour + (np.array([1.5, 1.42, 1.3]) - colour) * (0.75 * clouds)[..., None]
        colour = colour + np.clip(sun, 0, 1)[..., None] ** 40 * np.array([2.6, 2.4, 2.0])
        ground = (0.30, 0.28, 0.24)
    elif kind == "clear":  # with the sun in it, as such pictures are taken
        sun = towards(-0.52, 0.74, 0.42)
        colour = _blend((0.62, 0.76, 0.98), (0.16, 0.33, 0.78), np.broadcast_to(above**0.4, x.shape))
        colour = colour + np.clip(sun, 0, 1)[..., None] ** 60 * np.array([1.8, 1.6, 1.3])
        disc_of_sun = (sun > np.cos(np.radians(0.6)))[..., None]
        colour = np.where(disc_of_sun, np.array([5.2e4, 4.6e4, 3.7e4]), colour)
        ground = (0.24, 0.22, 0.19)
    elif kind == "evening":
        sun = towards(-0.90, 0.10, 0.25)
        glow = np.clip(sun * 0.5 + 0.5, 0, 1)[..., None] ** 5
        colour = _blend((0.55, 0.36, 0.30), (0.07, 0.10, 0.22), np.broadcast_to(above**0.35, x.shape))
        colour = colour + glow * np.array([1.9, 0.72, 0.22]) * (1 - 0.8 * above[..., None])
        colour = colour + (np.array([0.80, 0.36, 0.30]) - colour) * (0.55 * clouds)[..., None]
        colour = colour + np.clip(sun, 0, 1)[..., None] ** 120 * np.array([9.0, 4.2, 1.4])
        ground = (0.10, 0.08, 0.07)
    else:
        moon = towards(-0.55, 0.60, 0.55)
        colour = _blend((0.055, 0.075, 0.12), (0.012, 0.02, 0.045), np.broadcast_to(above**0.5, x.shape))
        colour = colour + np.clip(moon, 0, 1)[..., None] ** 60 * np.array([0.30, 0.36, 0.46])
        colour = colour + (np.array([0.10, 0.12, 0.16]) - colour) * (0.5 * clouds)[..., None]
        disc_of_moon = (moon > np.cos(np.radians(2.4)))[..., None]
        colour = np.where(disc_of_moon, np.array([9.0, 9.6, 10.5]), colour)
        stars = np.random.default_rng(9).random(x.shape) > 0.9994
        colour = colour + (stars & (up > 0))[..., None] * 0.5
        ground = (0.012, 0.013, 0.016)
    fade = np.clip(-up * 12, 0, 1)[..., None]
    return np.asarray(colour * (1 - fade) + np.asarray(ground) * fade, np.float32)


def save_sky(path: Path, pixels: NDArray[np.float32]) -> None:
    """Write a sky as Radiance ``.hdr``."""
    target = oiio.ImageOutput.create(str(path))
    spec = oiio.ImageSpec(pixels.shape[1], pixels.shape[0], 3, oiio.FLOAT)
    if (
        target is None
        or not target.open(str(path), spec)
        or not target.write_image(np.ascontiguousarray(pixels))
    ):
        raise OSError(f"{path} could not be written")
    target.close()


def write_textures(folder: Path) -> None:
    """Write every texture and sky of the demo below a folder."""
    (folder / "textures").mkdir(parents=True, exist_ok=True)
    (folder / "skies").mkdir(parents=True, exist_ok=True)
    out = folder / "textures"
    colour, rough = walnut()
    save(out / "walnut.png", colour)
    save(out / "walnut-roughness.png", rough)
    colour, rough, normal = floor_boards()
    save(out / "boards.png", colour)
    save(out / "boards-roughness.png", rough)
    save(out / "boards-normal.png", normal)
    save(out / "brushed.png", brushed())
    colour, rough, metal = verdigris()
    save(out / "verdigris.png", colour)
    save(out / "verdigris-roughness.png", rough)
    save(out / "verdigris-metal.png", metal)
    cut = dial()
    for name, bare, filled in (("brass", (0.955, 0.80, 0.52), (0.10, 0.07, 0.045)),
                               ("porcelain", (0.93, 0.92, 0.89), (0.08, 0.13, 0.30))):  # fmt: skip
        save(out / f"dial-{name}.png", _blend(bare, filled, cut))
    patina = np.repeat(np.repeat(colour, 2, 0), 2, 1)
    save(out / "dial-verdigris.png", patina * (1 - 0.8 * cut[..., None]))
    save(out / "dial-roughness.png", 0.24 + 0.45 * cut)
    for name in ("Mercury", "Venus", "Earth", "Mars", "Jupiter", "Saturn", "Uranus", "Neptune", "Moon"):
        save(out / f"{name.lower()}.png", planet(name))
    for kind in ("noon", "evening", "moon", "clear"):
        save_sky(folder / "skies" / f"{kind}.hdr", sky(kind))
