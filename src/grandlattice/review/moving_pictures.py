"""Pictures one after the other in one file: animated WebP, and video where its library is installed."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from fractions import Fraction
from importlib.util import find_spec
from itertools import chain
from pathlib import Path
from typing import Any, NamedTuple

from PIL import Image

from grandlattice.errors import OutputError, PlanError

_DESCRIPTION = 0x010E  # ImageDescription of Exif
_QUALITY = 88
_BT709 = 1  # of primaries, transfer and matrix alike, in ITU-T H.273


class _Codec(NamedTuple):
    """How a kind of video is written: its encoder in FFmpeg, pixel format and options."""

    encoder: str
    pixels: str
    options: Mapping[str, str]


VIDEOS: Mapping[str, _Codec] = {
    "mp4": _Codec("libx264", "yuv420p", {"crf": "16", "preset": "medium", "threads": "1"}),
    # Every picture by itself, as editors want it (SMPTE RDD 36), 4:2:2 with ten bits.
    "mov": _Codec("prores_ks", "yuv422p10le", {"profile": "3", "threads": "1"}),
}
"""Kinds of video by their endings."""


def refuse_without_encoder(kind: str) -> None:
    """Make sure that what writes a kind of moving picture is installed.

    Raises
    ------
    PlanError
        When it is not.
    """
    if kind in VIDEOS and find_spec("av") is None:
        raise PlanError(
            f"What writes {kind} is not installed.",
            cure='python -m pip install "av>=14,<19", or take webp',
        )


def write_moving(
    path: Path, kind: str, pictures: Iterable[Image.Image], rate: float, facts: Mapping[str, str]
) -> None:  # fmt: skip
    """Write pictures of one size one after the other.

    Parameters
    ----------
    kind : ``webp``, ``mp4`` or ``mov``.
    rate : pictures a second.
    facts : title and the like, as text of the file.

    Raises
    ------
    OutputError
        When the encoder refuses.
    """
    if kind in VIDEOS:
        _write_video(path, VIDEOS[kind], pictures, rate, facts)
        return
    every = iter(pictures)
    first = next(every)
    told = Image.Exif()
    told[_DESCRIPTION] = "\n".join(facts.values())
    first.save(
        path, "WEBP", save_all=True, append_images=every, duration=round(1000.0 / rate), loop=0,
        quality=_QUALITY, method=4, exif=told.tobytes(),
    )  # fmt: skip


def _write_video(
    path: Path, codec: _Codec, pictures: Iterable[Image.Image], rate: float, facts: Mapping[str, str]
) -> None:  # fmt: skip
    import av

    every = iter(pictures)
    first = next(every)
    width, height = first.width + first.width % 2, first.height + first.height % 2  # encoders want even sizes
    try:
        with av.open(str(path), "w", format=path.suffix[1:]) as film:
            film.metadata.update({"title": facts.get("title", ""), "comment": "\n".join(facts.values())})
            stream: Any = film.add_stream(codec.encoder, Fraction(rate).limit_denominator(1001))
            stream.width, stream.height, stream.pix_fmt = width, height, codec.pixels
            stream.options = dict(codec.options)
            for name in ("color_primaries", "color_trc", "colorspace"):
                setattr(stream.codec_context, name, _BT709)
            for picture in chain([first], every):
                whole = Image.new("RGB", (width, height), "#ffffff")
                whole.paste(picture, (0, 0))
                frame = av.VideoFrame.from_image(whole)
                film.mux(stream.encode(frame.reformat(format=codec.pixels, dst_colorspace="ITU709")))
            film.mux(stream.encode(None))
    except av.FFmpegError as problem:
        raise OutputError(f"{path.name} could not be written: {problem}.") from None
