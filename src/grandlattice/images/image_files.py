"""Pictures in and out of files, through OpenImageIO.  Where they land is `runs.store`'s business."""

from __future__ import annotations

import io
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import OpenImageIO as oiio
from numpy.typing import NDArray

from grandlattice._support.filesystem import is_file
from grandlattice.errors import ImageError
from grandlattice.tables.formats import FORMATS

REC709 = (0.64, 0.33, 0.30, 0.60, 0.15, 0.06, 0.3127, 0.3290)
"""Chromaticities of the pictures: Rec.709 primaries, D65 (ITU-R BT.709)."""

HALF_MOST = 65504.0
"""The brightest that half precision can hold."""

MARK = "lattice:"
"""What the names of our own metadata begin with."""


@dataclass(frozen=True, eq=False)
class Channels:
    """Channels of a picture that belong together.

    `pixels` is (H, W, C) float32 with C names; `exact` ones are stored as full floats always.
    """

    names: Sequence[str]
    pixels: NDArray[np.float32]
    exact: bool = False


def read_image(path: str, packaged: bytes | None = None) -> NDArray:
    """An image as (H, W, C), top row first: uint8 if it has eight bits a channel, else float32.

    Parameters
    ----------
    path : the file, for its name.
    packaged : its bytes, when it lies inside a package such as ``.usdz``.

    Raises
    ------
    ImageError
        When it is missing or no image.
    """
    if packaged is not None:
        return _read_packaged(path, packaged)
    if not is_file(path):
        raise ImageError(f"{Path(path).name[:80]} is missing, or is no image.")
    as_stored = oiio.ImageSpec()
    as_stored.attribute("oiio:UnassociatedAlpha", 1)  # UsdUVTexture: r, g and b are what the file holds
    source = oiio.ImageInput.open(path, as_stored)
    if source is None:
        oiio.geterror()
        raise ImageError(f"{Path(path).name} is missing, or is no image.")
    try:
        spec = source.spec()
        kind = oiio.UINT8 if spec.format == oiio.UINT8 else oiio.FLOAT
        pixels = source.read_image(0, 0, 0, min(spec.nchannels, 4), kind)
    finally:
        source.close()
    if pixels is None or pixels.ndim != 3 or not pixels.size:
        raise ImageError(f"{Path(path).name} cannot be read to its end.")
    return np.ascontiguousarray(pixels)


def inspect_image(path: str, *, thoroughly: bool = False) -> str:
    """What is wrong with an image; empty where it can be read.

    Parameters
    ----------
    thoroughly : read all of it, not its header and its end alone.
    """
    if not is_file(path):
        return "is missing, or no file"
    source = oiio.ImageInput.open(path)
    if source is None:
        oiio.geterror()
        return "is no image"
    try:
        spec = source.spec()
        if spec.width <= 0 or spec.height <= 0:
            return "has no pixels"
        if thoroughly:
            read = source.read_image(0, 0, 0, spec.nchannels, oiio.UNKNOWN)
        elif spec.tile_width:
            x = spec.x + (spec.width - 1) // spec.tile_width * spec.tile_width
            y = spec.y + (spec.height - 1) // spec.tile_height * spec.tile_height
            read = source.read_tile(x, y, spec.z, oiio.UNKNOWN)
        else:
            read = source.read_scanline(spec.y + spec.height - 1, spec.z, oiio.UNKNOWN)
        source.geterror()
        return "" if read is not None else "cannot be read to its end"
    finally:
        source.close()


def _read_packaged(path: str, packaged: bytes) -> NDArray:
    from PIL import Image  # takes its time to load, and few need it

    try:
        with Image.open(io.BytesIO(packaged)) as image:
            if image.mode.startswith(("I", "F")):
                wide = np.asarray(image, np.float32)[..., None]
                return wide / (65535.0 if image.mode.startswith("I") else 1.0)
            mode = image.mode if image.mode in ("L", "LA", "RGB", "RGBA") else "RGBA"
            pixels = np.asarray(image.convert(mode))
    except (OSError, ValueError) as problem:
        raise ImageError(f"{path} cannot be read: {problem}.") from None
    return pixels if pixels.ndim == 3 else pixels[..., None]


def write_exr(
    path: Path,
    layers: Sequence[Channels],
    metadata: Mapping[str, str | int | float],
    *,
    half: bool = True,
    ppi: float | None = None,
    within: tuple[int, int, int, int] | None = None,
) -> None:
    """Write a layered OpenEXR file: ZIP, the data window the pixels, the display window the whole picture.

    Parameters
    ----------
    ppi : density on paper, pixels an inch.
    within : of a part of a picture, its left and top, and the width and height of the whole.

    Raises
    ------
    ImageError
        When it cannot be written.
    """
    height, width = layers[0].pixels.shape[:2]
    names = [name for layer in layers for name in layer.names]
    spec = oiio.ImageSpec(width, height, len(names), oiio.HALF if half else oiio.FLOAT)
    spec.channelnames = tuple(names)
    if within is not None:
        spec.x, spec.y, spec.full_width, spec.full_height = within
    formats = [oiio.HALF if half and not layer.exact else oiio.FLOAT for layer in layers for _ in layer.names]
    if len({str(f) for f in formats}) > 1:
        spec.channelformats = tuple(oiio.TypeDesc(f) for f in formats)
    spec.attribute("compression", "zip")
    spec.attribute("chromaticities", oiio.TypeDesc("float[8]"), REC709)
    spec.attribute("oiio:ColorSpace", "lin_rec709_scene")
    if "A" in names:
        spec.alpha_channel = names.index("A")
    if "Z" in names:
        spec.z_channel = names.index("Z")
    _set_density(spec, ppi)
    _describe(spec, metadata)
    pixels = np.concatenate([layer.pixels for layer in layers], axis=2)
    if half:
        # A bright pixel is the brightest a half can hold, not infinite.
        limited = np.clip(pixels, -HALF_MOST, HALF_MOST)
        exact = np.array([f == oiio.FLOAT for f in formats])
        pixels = np.where(exact, pixels, limited)
    _write(path, spec, np.ascontiguousarray(pixels, np.float32))


def copy_with_marks(source: Path, path: Path, metadata: Mapping[str, str | int | float]) -> None:
    """Copy an OpenEXR file of any parts and channels as it is, with our metadata added.

    Raises
    ------
    ImageError
        When it cannot be read or written.
    """
    found = oiio.ImageInput.open(str(source))
    if found is None:
        oiio.geterror()
        raise ImageError(f"{source.name} is no picture.")
    parts: list[oiio.ImageSpec] = []
    while found.seek_subimage(len(parts), 0):
        parts.append(found.spec())
    for k, spec in enumerate(parts):
        if k == 0:
            _describe(spec, metadata)
    out = oiio.ImageOutput.create(str(path))
    try:
        if out is None or not out.open(str(path), tuple(parts)):
            raise ImageError(f"{path.name} could not be written: {oiio.geterror()}")
        for k, spec in enumerate(parts):
            if k and not out.open(str(path), spec, "AppendSubimage"):
                raise ImageError(f"{path.name} could not be written: {out.geterror()}")
            found.seek_subimage(k, 0)
            if not out.copy_image(found):
                raise ImageError(f"{source.name} could not be copied: {out.geterror()}")
    finally:
        if out is not None:
            out.close()
        found.close()
    if not _is_whole(path, parts[0]):
        raise ImageError(f"{path.name} could not be written to its end.")


def write_display(
    path: Path,
    pixels: NDArray[np.float32],
    metadata: Mapping[str, str | int | float],
    *,
    kind: str,
    bits: int = 8,
    quality: int = 92,
    ppi: float | None = None,
) -> None:
    """Write a picture that has a display in it already.

    Parameters
    ----------
    pixels : (H, W, 4) float32, 0..1, alpha not premultiplied.
    kind : ``png``, ``jpg`` (which has no alpha), ``tiff`` or ``tga``.
    bits : 8 or 16 a channel.
    ppi : density on paper, pixels an inch.
    """
    channels = FORMATS[kind].channels
    wide = bits == 16 and FORMATS[kind].deep
    spec = oiio.ImageSpec(pixels.shape[1], pixels.shape[0], channels, oiio.UINT16 if wide else oiio.UINT8)
    spec.attribute("oiio:UnassociatedAlpha", 1)
    spec.attribute("oiio:ColorSpace", "sRGB")
    if kind == "jpg":
        spec.attribute("Compression", f"jpeg:{quality}")
        # JPEG has no room for names of our own; all of it goes into the one description.
        metadata = {"ImageDescription": "; ".join(f"{k}={v}" for k, v in metadata.items())}
    elif kind == "tga":
        # Its comment holds 323 letters: no more than what tells that the picture is done.
        kept = (
            f"{MARK}fingerprint",
            f"{MARK}owner",
            f"{MARK}samples",
            f"{MARK}seconds",
            f"{MARK}rays",
            f"{MARK}denoised",
            f"{MARK}edition",
            f"{MARK}of",
            f"{MARK}as",
        )
        metadata = {"ImageDescription": "; ".join(f"{k}={metadata[k]}" for k in kept if k in metadata)}
    elif kind == "png":
        metadata = {name: str(value) for name, value in metadata.items()}  # it keeps text alone
    elif kind == "tiff":
        metadata = {"ImageDescription": "; ".join(f"{k}={v}" for k, v in metadata.items())}
        spec.attribute("compression", "zip")
    _set_density(spec, ppi)
    _describe(spec, metadata)
    top = 65535 if wide else 255
    stored = np.rint(np.clip(pixels[..., :channels], 0.0, 1.0) * top)
    _write(path, spec, np.ascontiguousarray(stored, np.uint16 if wide else np.uint8))


def write_hdr(path: Path, pixels: NDArray[np.float32], metadata: Mapping[str, str | int | float]) -> None:
    """Write a Radiance HDR file, (H, W, 3) scene-linear; metadata as lines of its header."""
    spec = oiio.ImageSpec(pixels.shape[1], pixels.shape[0], 3, oiio.FLOAT)
    _write(path, spec, np.ascontiguousarray(np.maximum(pixels, 0.0), np.float32))
    first, _, rest = path.read_bytes().partition(b"\n")
    lines = "".join(f"{k}={' '.join(str(v).split())}\n" for k, v in metadata.items())
    path.write_bytes(first + b"\n" + lines.encode("utf-8") + rest)


def _hdr_mark(path: Path, name: str) -> str | None:
    with path.open("rb") as stream:
        for line in stream:
            if not line.strip():
                return None
            key, _, value = line.decode("utf-8", "replace").partition("=")
            if key == name:
                return value.strip()
    return None


def _set_density(spec: oiio.ImageSpec, ppi: float | None) -> None:
    if ppi is not None:
        spec.attribute("XResolution", float(ppi))
        spec.attribute("YResolution", float(ppi))
        spec.attribute("ResolutionUnit", "in")


def _describe(spec: oiio.ImageSpec, metadata: Mapping[str, str | int | float]) -> None:
    for name, value in metadata.items():
        spec.attribute(name, value)


def _write(path: Path, spec: oiio.ImageSpec, pixels: NDArray) -> None:
    target = oiio.ImageOutput.create(str(path))
    if target is None:
        raise ImageError(f"No picture can be written as {path.suffix}: {oiio.geterror()}")
    opened = target.open(str(path), spec)
    done = opened and target.write_image(pixels)
    said = target.geterror() if not done else ""
    closed = target.close() if opened else False
    if not (done and closed):
        raise ImageError(f"{path.name} could not be written: {said or target.geterror() or 'no room?'}")
    if not _is_whole(path, spec):
        raise ImageError(f"{path.name} could not be read back after it was written: no room?")


def _is_whole(path: Path, spec: oiio.ImageSpec) -> bool:
    """Whether a picture reads to its end with the size it was given.

    The libraries write the last of a file when they let go of it, and cannot say then that a
    disk is full; only reading finds out.
    """
    source = oiio.ImageInput.open(str(path))
    if source is None:
        oiio.geterror()
        return False
    try:
        found = source.spec()
        same = (found.width, found.height, found.nchannels) == (spec.width, spec.height, spec.nchannels)
        return same and source.read_image(0, 0, 0, found.nchannels) is not None
    finally:
        source.geterror()
        source.close()


def write_thumbnail(source: Path, path: Path, longest: int = 480) -> None:
    """A small JPEG of a picture any program shows.

    Raises
    ------
    ImageError
        When it cannot be read or written.
    """
    from PIL import Image

    try:
        with Image.open(source) as image:
            small = image.convert("RGB")
            small.thumbnail((longest, longest))
            small.save(path, "JPEG", quality=85)
    except (OSError, ValueError) as problem:
        raise ImageError(f"{source.name} cannot be made smaller: {problem}.") from problem


def read_mark(path: Path, name: str) -> str | None:
    """One of our own metadata from a picture, None where the file or the mark is missing."""
    return read_marks(path, (name,))[0]


def read_marks(path: Path, names: Sequence[str]) -> list[str | None]:
    """Some of our own metadata from a picture; None for each that is missing."""
    if not path.is_file():
        return [None] * len(names)
    if path.suffix.lower() == ".hdr":
        return [_hdr_mark(path, MARK + name) for name in names]
    source = oiio.ImageInput.open(str(path))
    if source is None:
        oiio.geterror()
        return [None] * len(names)
    spec = source.spec()
    description = str(spec.getattribute("ImageDescription") or "")
    if path.suffix.lower() == ".tga":  # its comment comes back broken into lines
        description = description.replace("\n", "")
    described = dict(part.partition("=")[::2] for part in reversed(description.split("; ")))
    values = [spec.getattribute(MARK + name) for name in names]
    source.close()
    return [
        str(value) if value is not None else described.get(MARK + name)
        for name, value in zip(names, values, strict=True)
    ]


def read_attributes(path: Path, prefix: str) -> dict[str, str]:
    """Attributes of a picture whose names begin with `prefix`."""
    source = oiio.ImageInput.open(str(path))
    if source is None:
        oiio.geterror()
        return {}
    found = {
        attribute.name: str(attribute.value) for attribute in source.spec().extra_attribs
        if attribute.name.startswith(prefix)
    }  # fmt: skip
    source.close()
    return found


def read_facts(path: Path) -> tuple[int, int, list[str], int | None]:
    """Width, height and channels of a picture, and the frame it says it is.

    Raises
    ------
    ImageError
        When it is no picture.
    """
    source = oiio.ImageInput.open(str(path))
    if source is None:
        oiio.geterror()
        raise ImageError("its file is no picture, or not a whole one.")
    spec = source.spec()
    frame = spec.getattribute("frame")
    source.close()
    return spec.width, spec.height, list(spec.channelnames), frame if isinstance(frame, int) else None


def read_channels(path: Path, names: Sequence[str]) -> NDArray[np.float32]:
    """Channels of a picture by name, (H, W, C) float32.

    Raises
    ------
    ImageError
        When the file is no picture or lacks one of them.
    """
    source = oiio.ImageInput.open(str(path))
    if source is None:
        oiio.geterror()
        raise ImageError(f"{path} is missing, or is no picture.")
    try:
        spec = source.spec()
        held = list(spec.channelnames)
        missing = [name for name in names if name not in held]
        if missing:
            raise ImageError(f"{path.name} has no channel {missing[0]}; it has {', '.join(held)}.")
        pixels = source.read_image(0, 0, 0, spec.nchannels, oiio.FLOAT)
    finally:
        source.close()
    if pixels is None:
        raise ImageError(f"{path.name} cannot be read to its end.")
    return np.ascontiguousarray(pixels[..., [held.index(name) for name in names]])
