"""Settings, and what every mapping of a plan has in common: known keys, and text typed by schema."""

from __future__ import annotations

import math
import re
from collections.abc import Mapping
from typing import TYPE_CHECKING, Annotated, Any, Literal, cast

from pydantic import (
    BaseModel,
    BeforeValidator,
    ConfigDict,
    Field,
    PlainSerializer,
    PlainValidator,
    WithJsonSchema,
    create_model,
    model_validator,
)  # fmt: skip
from pydantic_core import PydanticCustomError, core_schema

from grandlattice.errors import nearest
from grandlattice.plan.spelled_values import (
    PAPERS,
    Clamp,
    Frames,
    Length,
    Metered,
    Size,
    paper_size,
    read_clamp,
    read_exposure,
    read_frames,
    read_length,
    read_percent,
    read_region,
    read_seconds,
    read_size,
)
from grandlattice.tables.formats import FORMATS, SPELLINGS
from grandlattice.tables.grades import GRADES, NEUTRAL
from grandlattice.tables.passes import PASSES

PROJECTIONS = ("camera", "panorama", "stereo-panorama")


class Strict(BaseModel):
    """A mapping that has these keys and no others."""

    model_config = ConfigDict(
        extra="forbid",
        frozen=True,
        coerce_numbers_to_str=True,
        arbitrary_types_allowed=True,
        populate_by_name=True,
        defer_build=True,  # only the whole plan is ever validated; its parts need no validators
    )

    @model_validator(mode="before")
    @classmethod
    def _known_keys(cls, value: Any) -> Any:
        if value is None or value == "":
            return {}
        if isinstance(value, Mapping) and cls.model_config.get("extra") == "forbid":
            known = {field.alias or name: name for name, field in cls.model_fields.items()}
            for key in value:
                if key not in known and key not in known.values():
                    raise PydanticCustomError(
                        "unknown_key",
                        "{key} is not known here. {hint}",
                        {"key": str(key), "hint": nearest(str(key), known)},
                    )
        return value


class OneOf:
    """Marks a text that is one of some names, here and in the JSON Schema."""

    def __init__(self, names: tuple[str, ...]) -> None:
        self.names = names

    def check(self, value: object) -> str:
        if str(value) not in self.names:
            raise ValueError(f"{str(value)!r} is not one of them. {nearest(str(value), self.names)}")
        return str(value)

    def __get_pydantic_core_schema__(self, source: Any, handler: Any) -> Any:
        return core_schema.no_info_before_validator_function(self.check, handler(source))

    def __get_pydantic_json_schema__(self, schema: Any, handler: Any) -> dict[str, Any]:
        return {"enum": [*self.names, *(int(n) for n in self.names if n.isdigit())]}


def one_of(*names: str) -> OneOf:
    return OneOf(names)


def as_list(value: object) -> list[object]:
    if isinstance(value, list | tuple):
        return list(value)
    return [value]


def _check_pass(value: object) -> str:
    """A name that a pass may have; whether there is one, `setting_layers` knows."""
    name = str(value)
    if not re.fullmatch(r"[+-]?\w[\w.*-]*", name):
        raise ValueError(f"there is no pass {name!r}. {nearest(name.lstrip('+-'), PASSES)}")
    return name


def _check_format(value: object) -> str:
    name = SPELLINGS.get(str(value), str(value))
    if name not in FORMATS:
        raise ValueError(f"there is no format {name!r}. {nearest(name, FORMATS)}")
    return name


def _check_passes(value: list[str]) -> list[str]:
    if not value:
        raise ValueError("name one pass at least, such as beauty")
    amends = [name[:1] in ("+", "-") for name in value]
    if any(amends) and not all(amends):
        raise ValueError("a list of passes either replaces (depth) or amends (+depth, -depth)")
    return value


def _key(value: object) -> str:
    name = str(value)
    if not re.fullmatch(r"\w[\w.-]*", name):
        raise ValueError(f"it is named with letters, digits, - and ., not {name!r}")
    return name


def _text(value: object) -> object:
    if isinstance(value, Mapping):
        raise ValueError("this should be text; if it begins with { put it in quotes")
    return value


def typed_as(*schema: dict[str, Any]) -> WithJsonSchema:
    return WithJsonSchema(schema[0] if len(schema) == 1 else {"anyOf": list(schema)})


_TEXT = {"type": "string"}
_NUMBER = {"type": "number"}
_FIELD = {"type": "string", "pattern": r"\{[\w-]+\}"}  # {axis}, in an axis that writes itself

Text = Annotated[str, BeforeValidator(_text), typed_as(_TEXT, _NUMBER, {"type": "boolean"})]
Key = Annotated[str, BeforeValidator(_key)]
"""A name that can be part of a file name."""
Number = Annotated[float, Field(allow_inf_nan=False), typed_as(_NUMBER, _FIELD)]
SizeText = Annotated[
    Size, BeforeValidator(read_size), typed_as({"type": "string", "pattern": r"^\s*\d+\s*[x×*]\s*\d+\s*$"})
]
FramesText = Annotated[Frames, BeforeValidator(read_frames), typed_as(_TEXT, {"type": "integer"})]
Share = Annotated[
    float, BeforeValidator(read_percent), typed_as({"type": "string", "pattern": r"^\s*\d+(\.\d+)?\s*%\s*$"})
]
ExposureText = Annotated[
    float | Metered,
    PlainValidator(read_exposure),
    PlainSerializer(lambda said: str(said) if isinstance(said, Metered) else said),
    typed_as(_NUMBER, _FIELD, {"type": "string", "pattern": r"^\s*metered(\s+by\s+\S.*)?$"}),
]
ClampText = Annotated[
    Clamp, BeforeValidator(read_clamp), typed_as(_NUMBER, _FIELD, {"type": "string", "pattern": r"nits?\s*$"})
]
SecondsText = Annotated[float, BeforeValidator(read_seconds), typed_as(_TEXT, _NUMBER)]
LengthText = Annotated[Length, BeforeValidator(read_length), typed_as(_TEXT, _NUMBER)]


def _one_or_many(*kinds: dict[str, Any]) -> WithJsonSchema:
    one = kinds[0] if len(kinds) == 1 else {"anyOf": list(kinds)}
    return WithJsonSchema({"anyOf": [one, {"type": "array", "items": one}]})


Passes = Annotated[
    list[Annotated[str, BeforeValidator(_check_pass)]],
    BeforeValidator(as_list),
    BeforeValidator(lambda v: _check_passes([str(x) for x in as_list(v)])),
    _one_or_many({"type": "string", "pattern": r"^[+-]?\w[\w.*-]*$"}),
]


def _check_formats(value: object) -> list[object]:
    formats = as_list(value)
    if not formats:
        raise ValueError("name one format at least, such as exr")
    return formats


Formats = Annotated[
    list[Annotated[str, BeforeValidator(_check_format)]],
    BeforeValidator(_check_formats),
    _one_or_many({"enum": list(FORMATS)}),
]
Texts = Annotated[list[Text], BeforeValidator(as_list), _one_or_many(_TEXT, _NUMBER)]


class AnyFile(Strict):
    """Options of every format."""

    output: Text | None = Field(None, description="a template of its own for files of this format")


Depth = Annotated[str, one_of("half", "float")]


class ExrFile(AnyFile):
    """Options of OpenEXR files."""

    depth: Depth = Field("half", description="half or float; depth, and what cannot be half, is always float")
    passes: dict[str, Depth] = Field(default_factory=dict, description="half or float for single passes")


def _read_range(value: object) -> tuple[float, float]:
    """``0.5 20``, what is shown at either end of a scale."""
    if isinstance(value, tuple):
        return value
    try:
        low, high = (float(word) for word in str(value).split())
    except ValueError:
        raise ValueError(f"a range is written low high, such as 0.5 20, not {str(value)!r}") from None
    if not (math.isfinite(low) and math.isfinite(high) and low < high):
        raise ValueError(f"a range goes from a number to a larger one, not {str(value)!r}")
    return low, high


RangeText = Annotated[tuple[float, float], BeforeValidator(_read_range), typed_as(_TEXT)]


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


class AnyGrade(Strict):
    """What is done to the light of a finished picture before a display shows it."""

    @model_validator(mode="before")
    @classmethod
    def _off(cls, value: Any) -> Any:
        if isinstance(value, str) and value.strip().lower() == "off":
            return dict(NEUTRAL)
        if isinstance(value, str) and value.strip():
            raise ValueError(f"a grade is off, or has values such as {{exposure: 0.5}}, not {value!r}")
        return value

    @property
    def values(self) -> dict[str, float]:
        """The values that were given, by name, in the order of the table."""
        given = {field.alias or name: getattr(self, name) for name, field in type(self).model_fields.items()}
        return {name: value for name, value in given.items() if value is not None}

    def laid_over(self, before: AnyGrade | None) -> AnyGrade:
        """What stands when this is said over what was said before: values that are not said here stay."""
        return self if before is None else type(self).model_validate({**before.values, **self.values})


def _grade_field(name: str) -> Any:
    told = GRADES[name]
    said: dict[str, Any] = {"ge": told.least, "le": told.most, "description": told.meaning}
    if "-" in name:
        said["alias"] = name
    return Number | None, Field(None, **said)


if TYPE_CHECKING:
    Grade = AnyGrade
else:
    Grade = create_model(
        "Grade", __base__=AnyGrade, __doc__=AnyGrade.__doc__,
        **{name.replace("-", "_"): _grade_field(name) for name in GRADES},
    )  # fmt: skip
GradeText = Annotated[Grade, typed_as({"const": "off"}, Grade.model_json_schema())]


def _read_fstop(value: object) -> float:
    """An f-number; ``off`` is a pinhole, which is 0."""
    if str(value).strip().lower() == "off":
        return 0.0
    number = float(str(value))
    if not 0.0 < number < 1e6:
        raise ValueError(f"an f-number is above zero, or off, not {str(value)!r}")
    return number


def _read_shutter(value: object) -> float:
    """Frames; ``off`` is 0."""
    if str(value).strip().lower() == "off":
        return 0.0
    try:
        frames = float(str(value))
    except ValueError:
        frames = -1.0
    if not 0.0 <= frames <= 100.0:
        raise ValueError(f"a shutter is open for a number of frames, such as 0.5, or off, not {str(value)!r}")
    return frames


Shutter = Annotated[float, BeforeValidator(_read_shutter), typed_as(_NUMBER, {"const": "off"}, _FIELD)]
RegionText = Annotated[
    tuple[int, int, int, int],
    BeforeValidator(read_region),
    typed_as({"type": "string", "pattern": r"^\s*\d+(\s+\d+){3}\s*$"}),
]
FStop = Annotated[float, BeforeValidator(_read_fstop), typed_as(_NUMBER, {"const": "off"}, _FIELD)]


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
    denoise: bool | None = setting("light", meaning="clean the beauty of noise")
    background: Annotated[str, one_of("sky", "clear")] | None = setting(
        "light", meaning="whether the camera sees the sky, or nothing"
    )
    renderer: Text | None = setting(
        "path", meaning="tracer, or a name under renderers, with a version of it behind a blank"
    )
    priority: int | None = setting(
        "scheduling", ge=-1000, le=1000, meaning="higher ones run first; 0 if left out"
    )
    label: bool | None = setting(
        "finished", meaning="a strip below displayed pictures that says what they are"
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


MARKS: Mapping[str, Mark] = {name: _mark(name) for name in Settings.model_fields}
"""Setting → what it affects."""
