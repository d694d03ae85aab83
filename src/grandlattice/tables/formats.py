"""Every file format pictures leave in, with what rooms need to know of it.

How each is written stands in `images.image_files`, under its name; a test proves that all of them are.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass


@dataclass(frozen=True)
class Format:
    """A file format.

    Attributes
    ----------
    title : as it is called in full.
    layered : whether one file holds any number of passes, as light.
    displayed : whether a display is in its pixels; else they are light.
    channels : of a picture in it; 4 has alpha, 0 as many as its passes have.
    deep : whether it may have sixteen bits a channel.
    bytes : about how many a pixel takes, a channel of a layered one: as the demo compresses.
    spellings : other names for it.
    everywhere : whether any program and any mailbox shows it.
    """

    name: str
    title: str
    layered: bool = False
    displayed: bool = True
    channels: int = 4
    deep: bool = False
    bytes: float = 4.0
    spellings: tuple[str, ...] = ()
    everywhere: bool = False


FORMATS: Mapping[str, Format] = {
    each.name: each
    for each in (
        Format("exr", "OpenEXR", layered=True, displayed=False, channels=0, bytes=1.0),
        Format("png", "PNG", deep=True, bytes=2.0, everywhere=True),
        Format("jpg", "JPEG", channels=3, bytes=0.4, spellings=("jpeg",), everywhere=True),
        Format("tiff", "TIFF", deep=True, bytes=3.0, spellings=("tif",)),
        Format("tga", "TGA", bytes=4.0),
        Format("hdr", "Radiance HDR", displayed=False, channels=3, bytes=3.0),
    )
}

SPELLINGS: Mapping[str, str] = {other: each.name for each in FORMATS.values() for other in each.spellings}
"""Another name for a format → its name."""
