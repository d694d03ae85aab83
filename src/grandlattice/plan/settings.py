"""Settings, and what every mapping of a plan has in common: known keys, and text typed by schema."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Annotated, Any

from pydantic import BaseModel, BeforeValidator, ConfigDict, Field, model_validator
from pydantic_core import PydanticCustomError

from grandlattice.errors import nearest
from grandlattice.plan.values import Frames, Size, read_frames, read_percent, read_size

PASSES = ("beauty", "albedo", "occlusion", "depth", "normal")
FORMATS = ("exr", "png", "jpg", "tiff")


class Strict(BaseModel):
    """A mapping that has these keys and no others."""

    model_config = ConfigDict(
        extra="forbid",
        frozen=True,
        coerce_numbers_to_str=True,
        arbitrary_types_allowed=True,
        populate_by_name=True,
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


def one_of(*names: str) -> BeforeValidator:
    def check(value: object) -> str:
        if str(value) not in names:
            raise ValueError(f"{str(value)!r} is not one of them. {nearest(str(value), names)}")
        return str(value)

    return BeforeValidator(check)


def _as_list(value: object) -> list[object]:
    if isinstance(value, list | tuple):
        return list(value)
    return [value]


def _check_pass(value: object) -> str:
    name = str(value)
    if name.lstrip("+-") not in PASSES:
        raise ValueError(f"there is no pass {name.lstrip('+-')!r}. {nearest(name.lstrip('+-'), PASSES)}")
    return name


def _check_format(value: object) -> str:
    name = {"jpeg": "jpg", "tif": "tiff"}.get(str(value), str(value))
    if name not in FORMATS:
        raise ValueError(f"there is no format {name!r}. {nearest(name, FORMATS)}")
    return name


def _check_passes(value: list[str]) -> list[str]:
    amends = [name[0] in "+-" for name in value]
    if any(amends) and not all(amends):
        raise ValueError("a list of passes either replaces (depth) or amends (+depth, -depth)")
    return value


def _text(value: object) -> object:
    if isinstance(value, Mapping):
        raise ValueError("this should be text; if it begins with { put it in quotes")
    return value


Text = Annotated[str, BeforeValidator(_text)]
SizeText = Annotated[Size, BeforeValidator(read_size), Field(json_schema_extra={"type": "string"})]
FramesText = Annotated[Frames, BeforeValidator(read_frames)]
Share = Annotated[float, BeforeValidator(read_percent)]
Passes = Annotated[
    list[Annotated[str, BeforeValidator(_check_pass)]],
    BeforeValidator(_as_list),
    BeforeValidator(lambda v: _check_passes([str(x) for x in _as_list(v)])),
]
Formats = Annotated[list[Annotated[str, BeforeValidator(_check_format)]], BeforeValidator(_as_list)]
Texts = Annotated[list[Text], BeforeValidator(_as_list)]


class ExrFile(Strict):
    """Options of OpenEXR files."""

    depth: Annotated[str, one_of("half", "float")] = Field(
        "half", description="half or float; depth, and what cannot be half, is always float"
    )


class JpgFile(Strict):
    """Options of JPEG files."""

    quality: int = Field(92, ge=1, le=100, description="1 to 100")


class DeepFile(Strict):
    """Options of PNG and TIFF files."""

    depth: Annotated[str, one_of("8", "16")] = Field("8", description="bits a channel: 8 or 16")


class FileOptions(Strict):
    """Options for each file format."""

    exr: ExrFile = Field(default_factory=ExrFile, description="OpenEXR")
    png: DeepFile = Field(default_factory=DeepFile, description="PNG")
    tiff: DeepFile = Field(default_factory=DeepFile, description="TIFF")
    jpg: JpgFile = Field(default_factory=JpgFile, description="JPEG")


class Settings(Strict):
    """How a cell is rendered and filed.  A key left out leaves what stood before it."""

    camera: Text | None = Field(None, description="prim path of a camera")
    size: SizeText | None = Field(None, description="pixels, such as 1280x720")
    scale: Share | None = Field(None, description="share of the size, such as 25%")
    frames: FramesText | None = Field(None, description="12, 1-48, 1-48 by 4, 1,5,9-12 or scene")
    quality: Text | None = Field(None, description="a name under qualities")
    samples: int | None = Field(None, ge=1, le=1_000_000, description="samples for each pixel")
    seed: int | None = Field(None, ge=0, lt=2**32, description="of the noise; the same repeats it")
    bounces: int | None = Field(None, ge=0, le=1000, description="most bounces of light, 8 if left out")
    clamp: float | None = Field(
        None, gt=0, description="most that scattered light adds to a pixel at a time, against specks"
    )
    passes: Passes | None = Field(None, description="a list replaces; +depth and -depth amend")
    format: Formats | None = Field(None, description="one or a list of exr png jpg tiff")
    files: FileOptions | None = Field(None, description="options for each format")
    output: Text | None = Field(None, description="template of the file names")
    exposure: float | None = Field(None, ge=-50, le=50, description="stops on the picture")
    display: Text | None = Field(None, description="OCIO display / view for png, jpg, tiff")
    denoise: bool | None = Field(None, description="clean the beauty of noise")
    background: Annotated[str, one_of("sky", "clear")] | None = Field(
        None, description="whether the camera sees the sky, or nothing"
    )
    skip: bool | None = Field(None, description="true: stays in the plan, leaves the run")

    def given(self) -> dict[str, Any]:
        """The settings that stand in the plan here, by name."""
        own = set(Settings.model_fields)
        return {
            name: getattr(self, name)
            for name in self.model_fields_set
            if name in own and getattr(self, name) is not None
        }
