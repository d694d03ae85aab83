"""Pictures: files in and out, colour and displays, sheets."""

from grandlattice.images.colour import displays, find_display, to_display
from grandlattice.images.falsecolour import colours_of, scale_of, with_legend
from grandlattice.images.files import (
    MARK,
    Channels,
    copy_with_marks,
    read_channels,
    read_facts,
    read_image,
    read_mark,
    write_display,
    write_exr,
    write_hdr,
    write_thumbnail,
)
from grandlattice.images.sheet import Frame, make_sheets, with_label

__all__ = [
    "MARK", "Channels", "Frame", "colours_of", "copy_with_marks", "displays", "find_display", "make_sheets",
    "read_channels", "read_facts", "read_image", "read_mark", "scale_of", "to_display", "with_label",
    "with_legend", "write_display",
    "write_exr", "write_hdr", "write_thumbnail",
]  # fmt: skip
