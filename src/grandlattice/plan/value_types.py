"""What every mapping of a plan has in common: known keys, and values read from text and typed by schema."""

from __future__ import annotations

import math
import re
from collections.abc import Mapping
from typing import Annotated, Any

from pydantic import (
    BaseModel,
    BeforeValidator,
    ConfigDict,
    Field,
    PlainSerializer,
    PlainValidator,
    WithJsonSchema,
    model_validator,
)
from pydantic_core import PydanticCustomError, core_schema

from grandlattice.errors import nearest
from grandlattice.plan.spelled_values import (
    Clamp,
    Frames,
    Length,
    Metered,
    Size,
    read_clamp,
    read_denoise,
    read_exposure,
    read_frames,
    read_length,
    read_percent,
    read_region,
    read_seconds,
    read_size,
)
from grandlattice.tables.caption_names import LABEL
from grandlattice.tables.formats import FORMATS, SPELLINGS
from grandlattice.tables.passes import PASSES


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


class ManyOf(OneOf):
    """Marks a list of such names; one alone needs no list."""

    def __get_pydantic_core_schema__(self, source: Any, handler: Any) -> Any:
        one = core_schema.no_info_before_validator_function(self.check, core_schema.str_schema())
        return core_schema.no_info_before_validator_function(as_list, core_schema.list_schema(one))

    def __get_pydantic_json_schema__(self, schema: Any, handler: Any) -> dict[str, Any]:
        one = super().__get_pydantic_json_schema__(schema, handler)
        return {"anyOf": [one, {"type": "array", "items": one}]}


def one_of(*names: str) -> OneOf:
    return OneOf(names)


def many_of(*names: str) -> ManyOf:
    return ManyOf(names)


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


def _read_label(value: object) -> list[str]:
    """What a label says, from true, false or a list of names."""
    names = as_list(value)
    if any(isinstance(name, Mapping | list) for name in names):
        raise ValueError("a label is true, false, or a list of names such as coordinates")
    texts = [str(name).strip() for name in names]
    if [text.lower() for text in texts] in (["true"], ["false"]):
        return list(LABEL) if texts[0].lower() == "true" else []
    return texts


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
_PERCENT = {"type": "string", "pattern": r"^\s*\d+(\.\d+)?\s*%\s*$"}
_FIELD = {"type": "string", "pattern": r"\{[\w-]+\}"}  # {axis}, in an axis that writes itself

Text = Annotated[str, BeforeValidator(_text), typed_as(_TEXT, _NUMBER, {"type": "boolean"})]
Key = Annotated[str, BeforeValidator(_key)]
"""A name that can be part of a file name."""
Number = Annotated[float, Field(allow_inf_nan=False), typed_as(_NUMBER, _FIELD)]
SizeText = Annotated[
    Size, BeforeValidator(read_size), typed_as({"type": "string", "pattern": r"^\s*\d+\s*[x×*]\s*\d+\s*$"})
]
FramesText = Annotated[Frames, BeforeValidator(read_frames), typed_as(_TEXT, {"type": "integer"})]
Share = Annotated[float, BeforeValidator(read_percent), typed_as(_PERCENT)]
ExposureText = Annotated[
    float | Metered,
    PlainValidator(read_exposure),
    PlainSerializer(lambda said: str(said) if isinstance(said, Metered) else said),
    typed_as(_NUMBER, _FIELD, {"type": "string", "pattern": r"^\s*metered(\s+by\s+\S.*)?$"}),
]
LabelNames = Annotated[
    list[str],
    PlainValidator(_read_label),
    typed_as({"type": "boolean"}, _TEXT, {"type": "array", "items": _TEXT}),
]
"""Names of what a label says."""
DenoiseText = Annotated[
    float,
    BeforeValidator(read_denoise),
    PlainSerializer(lambda share: bool(share) if share in (0.0, 1.0) else f"{share:.6g}"),
    typed_as({"type": "boolean"}, _PERCENT, _FIELD),
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


def _read_pool(value: Any) -> str:
    name = str(value).strip()
    if name == "any":
        return ""
    if isinstance(value, dict | list) or not re.fullmatch(r"[^\s,{}]+", name):
        raise ValueError("a pool of workers is one word, such as big")
    return name


Shutter = Annotated[float, BeforeValidator(_read_shutter), typed_as(_NUMBER, {"const": "off"}, _FIELD)]
PoolText = Annotated[
    str, BeforeValidator(_read_pool), typed_as({"type": "string", "pattern": r"^[^\s,{}]+$"}, _NUMBER, _FIELD)
]
RegionText = Annotated[
    tuple[int, int, int, int],
    BeforeValidator(read_region),
    typed_as({"type": "string", "pattern": r"^\s*\d+(\s+\d+){3}\s*$"}),
]
FStop = Annotated[float, BeforeValidator(_read_fstop), typed_as(_NUMBER, {"const": "off"}, _FIELD)]
