"""The names of the package, listed once: `lazy_loader` loads each when it is asked for."""

from .colour import (
    displays as displays,
    find_display as find_display,
    to_display as to_display,
)
from .comparing import (
    Comparison as Comparison,
    compare_pictures as compare_pictures,
)
from .display_shader import (
    DisplayShader as DisplayShader,
    display_shader as display_shader,
    display_table as display_table,
)
from .false_colour import (
    colours_of as colours_of,
    scale_of as scale_of,
    with_legend as with_legend,
)
from .grading import (
    beyond_cdl as beyond_cdl,
    cdl_text as cdl_text,
)
from .image_files import (
    HALF_MOST as HALF_MOST,
    MARK as MARK,
    Channels as Channels,
    copy_with_marks as copy_with_marks,
    inspect_image as inspect_image,
    read_attributes as read_attributes,
    read_channels as read_channels,
    read_facts as read_facts,
    read_image as read_image,
    read_mark as read_mark,
    read_marks as read_marks,
    write_display as write_display,
    write_exr as write_exr,
    write_hdr as write_hdr,
    write_thumbnail as write_thumbnail,
)
from .light_study import (
    LightStudy as LightStudy,
    light_picture as light_picture,
    study_light as study_light,
)
from .pass_display import (
    range_of as range_of,
    show_pass as show_pass,
)
from .picture_array import (
    PictureArray as PictureArray,
)
from .resizing import (
    fitted as fitted,
    resized as resized,
)
from .sheet_layout import (
    Frame as Frame,
    make_sheets as make_sheets,
    with_label as with_label,
)
