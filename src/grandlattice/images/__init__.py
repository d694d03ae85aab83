"""Pictures: files in and out, colour and displays, sheets.

Names are loaded when they are asked for: whoever only reads an image needs no fonts and no displays.
"""

from typing import TYPE_CHECKING

from grandlattice.loading import on_demand

if TYPE_CHECKING:
    from grandlattice.images.colour import displays, find_display, to_display
    from grandlattice.images.falsecolour import colours_of, scale_of, with_legend
    from grandlattice.images.files import (
        MARK,
        Channels,
        copy_with_marks,
        inspect_image,
        read_channels,
        read_facts,
        read_image,
        read_mark,
        read_marks,
        write_display,
        write_exr,
        write_hdr,
        write_thumbnail,
    )
    from grandlattice.images.sheet import Frame, make_sheets, with_label
    from grandlattice.images.shown import range_of, show_pass

_WHERE = {
    "colour": ("displays", "find_display", "to_display"),
    "falsecolour": ("colours_of", "scale_of", "with_legend"),
    "files": ("MARK", "Channels", "copy_with_marks", "inspect_image",
              "read_channels", "read_facts", "read_image", "read_mark",
              "read_marks", "write_display", "write_exr", "write_hdr", "write_thumbnail"),
    "shown": ("range_of", "show_pass"),
    "sheet": ("Frame", "make_sheets", "with_label"),
}  # fmt: skip
__getattr__, __dir__ = on_demand(__name__, _WHERE)

__all__ = [
    "MARK",
    "Channels",
    "Frame",
    "colours_of",
    "copy_with_marks",
    "displays",
    "find_display", "inspect_image",
    "make_sheets",
    "range_of",
    "read_channels",
    "read_facts",
    "read_image",
    "read_mark",
    "read_marks",
    "scale_of",
    "show_pass",
    "to_display",
    "with_label",
    "with_legend",
    "write_display",
    "write_exr",
    "write_hdr",
    "write_thumbnail",
]  # fmt: skip
