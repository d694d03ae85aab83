"""Options of the files that pictures are written to, by format."""

from __future__ import annotations

from typing import Annotated

from pydantic import (
    Field,
)

from grandlattice.plan.value_types import RangeText, Strict, Text, one_of


class AnyFile(Strict):
    """Options of every format."""

    output: Text | None = Field(None, description="a template of its own for files of this format")


Depth = Annotated[str, one_of("half", "float")]


class ExrFile(AnyFile):
    """Options of OpenEXR files."""

    depth: Depth = Field("half", description="half or float; depth, and what cannot be half, is always float")
    passes: dict[str, Depth] = Field(default_factory=dict, description="half or float for single passes")


class ShownFile(AnyFile):
    """Options of formats that a display shows."""

    range: RangeText | None = Field(
        None, description="low high: what depth, position and lux show at either end; measured if left out"
    )


class JpgFile(ShownFile):
    """Options of JPEG files."""

    quality: int = Field(92, ge=1, le=100, description="1 to 100")


class DeepFile(ShownFile):
    """Options of PNG and TIFF files."""

    depth: Annotated[str, one_of("8", "16")] = Field("8", description="bits a channel: 8 or 16")


class PlainFile(ShownFile):
    """Options of formats that have none but their name."""


class FileOptions(Strict):
    """Options for each file format."""

    exr: ExrFile = Field(default_factory=ExrFile, description="OpenEXR")
    png: DeepFile = Field(default_factory=DeepFile, description="PNG")
    tiff: DeepFile = Field(default_factory=DeepFile, description="TIFF")
    jpg: JpgFile = Field(default_factory=JpgFile, description="JPEG")
    tga: PlainFile = Field(default_factory=PlainFile, description="TGA")
    hdr: PlainFile = Field(default_factory=PlainFile, description="Radiance HDR")
