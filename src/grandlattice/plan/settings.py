"""The settings of a cell, and what each affects."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Annotated, Any, Literal, cast

from pydantic import (
    Field,
    model_validator,
)

from grandlattice.errors import nearest
from grandlattice.plan.file_options import FileOptions
from grandlattice.plan.grade_block import GradeText
from grandlattice.plan.spelled_values import (
    PAPERS,
    Size,
    paper_size,
)
from grandlattice.plan.value_types import (
    ClampText,
    DenoiseText,
    ExposureText,
    Formats,
    FramesText,
    FStop,
    LabelNames,
    LengthText,
    Number,
    Passes,
    PoolText,
    RegionText,
    SecondsText,
    Share,
    Shutter,
    SizeText,
    Strict,
    Text,
    one_of,
)
from grandlattice.tables.caption_names import CAPTIONS

PROJECTIONS = ("camera", "panorama", "stereo-panorama")


class Print(Strict):
    """A size on paper."""

    paper: Text | None = Field(None, description="A0 to A6, letter, legal or tabloid, lying")
    width: LengthText | None = Field(None, description="width with its unit, such as 420 mm")
    height: LengthText | None = Field(None, description="height with its unit, such as 297 mm")
    ppi: Number = Field(300.0, gt=0, le=20000, description="pixels an inch; 300 if left out")
    turned: bool = Field(False, description="true: the other way up")

    @model_validator(mode="after")
    def _sheet(self) -> Print:
        if (self.paper is None) == (self.width is None or self.height is None):
            raise ValueError("a print needs either a paper, such as A3, or a width and a height")
        if self.paper is not None and self.paper not in PAPERS:
            raise ValueError(f"there is no paper {self.paper}. {nearest(self.paper, PAPERS)}")
        for length in (self.width, self.height):
            if length is not None and not (length.in_metres and length.value > 0):
                raise ValueError("lengths on paper need a unit, such as 420 mm")
        return self

    @property
    def size(self) -> Size:
        """In pixels."""
        if self.paper is not None:
            width, height = PAPERS[self.paper]
        else:
            assert self.width is not None
            assert self.height is not None
            width, height = self.width.value * 1000.0, self.height.value * 1000.0
        if self.turned:
            width, height = height, width
        return paper_size(width, height, self.ppi)


Mark = Literal["path", "light", "finished", "file", "scheduling"]
"""What a setting changes: which paths of light are followed (`path`), what light they carry (`light`), what
is done to the finished picture (`finished`), which files hold it (`file`), when it is rendered
(`scheduling`)."""


def setting(affects: Mark, meaning: str, **limits: Any) -> Any:
    """The field of a setting, with its mark."""
    return Field(None, description=meaning, json_schema_extra={"affects": affects}, **limits)


class Settings(Strict):
    """How a cell is rendered and filed.  A key left out leaves what stood before it."""

    camera: Text | None = setting("path", meaning="prim path of a camera")
    size: SizeText | None = setting("path", meaning="pixels, such as 1280x720")
    print: Print | None = setting("path", meaning="a size on paper in place of size")
    scale: Share | None = setting("path", meaning="share of the size, such as 25%")
    fit: Annotated[str, one_of("expand", "crop")] | None = setting(
        "path", meaning="where the camera's aspect is another: expand shows more, crop less"
    )
    frames: FramesText | None = setting("path", meaning="12, 1-48, 1-48 by 4, 1,5,9-12 or scene")
    quality: Text | None = setting("file", meaning="a name under qualities")
    samples: int | None = setting("path", ge=1, le=1_000_000, meaning="samples for each pixel")
    noise: Share | None = setting(
        "path", meaning="relative error at which a part of the picture has enough samples, such as 2%"
    )
    seconds: SecondsText | None = setting(
        "path", meaning="most time for tracing a frame; it is saved with the samples it has by then"
    )
    seed: int | None = setting("path", ge=0, lt=2**32, meaning="of the noise; the same repeats it")
    bounces: int | None = setting("path", ge=0, le=1000, meaning="most bounces of light, 8 if left out")
    clamp: ClampText | None = setting(
        "path",
        meaning="most that scattered light adds to a pixel at a time, against specks: 0.8 of the white "
        "that is shown, or 800 nits",
    )
    shutter: Shutter | None = setting(
        "path", meaning="how long it is open, in frames, about each frame; off: nothing blurs by moving"
    )
    projection: Annotated[str, one_of(*PROJECTIONS)] | None = setting(
        "path", meaning="camera; panorama: everything around it; stereo-panorama: left eye over right"
    )
    eyes: LengthText | None = setting(
        "path", meaning="between the eyes of a stereo-panorama, 65 mm if left out"
    )
    region: RegionText | None = setting(
        "path", meaning="left top right bottom, in pixels of the picture: only that part is rendered"
    )
    fstop: FStop | None = setting("path", meaning="f-number over the camera's own; off: all in focus")
    focus: LengthText | None = setting("path", meaning="distance in focus, over the camera's own")
    subdivision: int | None = setting(
        "path", ge=0, le=6, meaning="how often surfaces that ask for it are subdivided, 1 if left out"
    )
    passes: Passes | None = setting("file", meaning="a list replaces; +depth and -depth amend")
    format: Formats | None = setting("file", meaning="one or a list of exr png jpg tiff tga hdr")
    files: FileOptions | None = setting("file", meaning="options for each format")
    output: Text | None = setting("file", meaning="template of the file names")
    exposure: ExposureText | None = setting(
        "finished",
        meaning="stops on the picture; metered: what a small trace of the cell says; metered by camera: "
        "one value for all entries of that axis",
    )
    camera_exposure: bool | None = setting(
        "finished", alias="camera-exposure", meaning="off: the camera's own exposure is left out of pictures"
    )
    grade: GradeText | None = setting(
        "finished", meaning="what is done to the beauty before it is displayed; off: nothing"
    )
    display: Text | None = setting("finished", meaning="OCIO display / view for png, jpg, tiff, tga")
    denoise: DenoiseText | None = setting(
        "finished", meaning="true cleans the beauty of noise, a share such as 70% takes so much of it away"
    )
    keep_noisy: bool | None = setting(
        "file",
        alias="keep-noisy",
        meaning="true: the OpenEXR file has the beauty as traced, too: denoise changes without a trace",
    )
    background: Annotated[str, one_of("sky", "clear")] | None = setting(
        "light", meaning="whether the camera sees the sky, or nothing"
    )
    renderer: Text | None = setting(
        "path", meaning="tracer, or a name under renderers, with a version of it behind a blank"
    )
    priority: int | None = setting(
        "scheduling", ge=-1000, le=1000, meaning="higher ones run first; 0 if left out"
    )
    pool: PoolText | None = setting(
        "scheduling",
        meaning="on a cluster only machines do it that said they are of this pool; any takes it back",
    )
    label: LabelNames | None = setting(
        "finished",
        meaning="true: a strip below displayed pictures that says what they are; or a list of its parts: "
        f"{', '.join(CAPTIONS)}, or a word of the plan",
    )
    own_trace: bool | None = setting(
        "path", alias="own-trace", meaning="true: traced by itself, whatever else has the same view"
    )
    keep_light_shares: bool | None = setting(
        "light",
        alias="keep-light-shares",
        meaning="true: the light of each lamp is kept, so that other strengths, tints, on and off need no "
        "trace",
    )
    skip: bool | None = setting("scheduling", meaning="true: stays in the plan, leaves the run")

    @model_validator(mode="after")
    def _one_size(self) -> Settings:
        if self.size is not None and self.print is not None:
            raise ValueError("size and print stand beside each other; only one can count")
        return self

    def given(self) -> dict[str, Any]:
        """The settings that stand in the plan here, by name, in the order of the format."""
        given = {
            name: getattr(self, name)
            for name in Settings.model_fields
            if name in self.model_fields_set and getattr(self, name) is not None
        }
        if "print" in given:  # it fills the same place as `size`
            given["size"] = given.pop("print").size
        return given


def _mark(name: str) -> Mark:
    said = Settings.model_fields[name].json_schema_extra
    if not isinstance(said, dict) or "affects" not in said:
        raise TypeError(f"the setting {name} does not say what it affects; see `setting`")
    return cast(Mark, said["affects"])


SHARES = ("scale", "noise", "denoise")
"""Settings that are a share of something."""

MARKS: Mapping[str, Mark] = {name: _mark(name) for name in Settings.model_fields}
"""Setting → what it affects."""
