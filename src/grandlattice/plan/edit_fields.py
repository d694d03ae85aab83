"""What an edit says besides its verb: which prims, and how much of what."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime
from typing import Annotated, Any, ClassVar

from pydantic import BeforeValidator, ConfigDict, Field, WithJsonSchema, model_validator

from grandlattice.plan.spelled_values import Length, read_length, read_moment
from grandlattice.plan.value_types import FramesText, LengthText, Number, Strict, Text, Texts, one_of
from grandlattice.tables.light_kinds import LIGHT_KINDS

_ONE_TEXT = ({"type": "string"}, {"type": "array", "items": {"type": "string"}})


class Short(Strict):
    """A mapping that may be written as its first key's value alone: `hide: /Room/Lamp`."""

    @classmethod
    def __get_pydantic_json_schema__(cls, schema: Any, handler: Any) -> dict[str, Any]:
        whole = handler(schema)
        others = list(cls.model_fields.values())[1:]
        alone = not any(field.is_required() for field in others)
        return {"anyOf": [*_ONE_TEXT, whole]} if alone else dict(whole)


class Selected(Short):
    """Which prims an edit is for."""

    on: Texts = Field(description="a name under select, a prim path, or a path expression")
    except_: Texts | None = Field(None, alias="except", description="what is left out of it")
    maybe: bool = Field(False, description="true: selecting nothing is no error")

    @model_validator(mode="before")
    @classmethod
    def _short(cls, value: Any) -> Any:
        return value if isinstance(value, Mapping) else {"on": value}


class Only(Selected):
    """What stays; everything else that can be seen leaves in the way `rest` says."""

    rest: Annotated[str, one_of("hide", "unseen", "matte")] = Field(
        "hide", description="what becomes of all else: hide, unseen or matte"
    )


class Assigned(Selected):
    """A material for the selection and everything below it."""

    material: Text = Field(description="a name under materials, or a material's prim path")

    @model_validator(mode="before")
    @classmethod
    def _short(cls, value: Any) -> Any:
        return value


class Moved(Selected):
    """Lengths along the axes of the scene."""

    x: LengthText | None = Field(None, description="along X, in scene units or as 12 cm")
    y: LengthText | None = Field(None, description="along Y, in scene units or as 12 cm")
    z: LengthText | None = Field(None, description="along Z, in scene units or as 12 cm")

    @model_validator(mode="after")
    def _moves(self) -> Moved:
        if self.x is None and self.y is None and self.z is None:
            raise ValueError("a move needs x, y or z, in scene units or as 12 cm")
        return self


class TurnedTo(Selected):
    """Degrees about the axes."""

    x: Number | None = Field(None, description="degrees about X")
    y: Number | None = Field(None, description="degrees about Y")
    z: Number | None = Field(None, description="degrees about Z")

    @model_validator(mode="after")
    def _turns(self) -> TurnedTo:
        if self.x is None and self.y is None and self.z is None:
            raise ValueError("a turn needs x, y or z, in degrees")
        return self


def _place(value: Any) -> Any:
    """A prim path, or a point of three lengths."""
    if isinstance(value, list | tuple):
        if len(value) != 3:
            raise ValueError("a point has three numbers, such as [0, 120, 0]")
        return [read_length(part) for part in value]
    return value


_POINT = {"type": "array", "minItems": 3, "maxItems": 3}
Spot = Annotated[
    list[Length] | Text, BeforeValidator(_place), WithJsonSchema({"anyOf": [{"type": "string"}, _POINT]})
]


class Turned(TurnedTo):
    """Degrees to turn further, and about what."""

    about: Spot = Field("pivot", description="pivot (its own axes), centre, a prim, or a point [x, y, z]")


class Resized(Selected):
    """Factors along the axes, and about what."""

    by: Number | None = Field(None, description="one factor for all three")
    x: Number | None = Field(None, description="factor along its X")
    y: Number | None = Field(None, description="factor along its Y")
    z: Number | None = Field(None, description="factor along its Z")
    about: Spot = Field("pivot", description="pivot, centre, a prim, or a point [x, y, z]")

    @model_validator(mode="after")
    def _sizes(self) -> Resized:
        given = [factor for factor in (self.by, self.x, self.y, self.z) if factor is not None]
        if not given or (self.by is not None and len(given) > 1):
            raise ValueError("a resize needs either by, or some of x, y and z")
        if 0.0 in given:
            raise ValueError("a factor of 0 leaves nothing; hide it instead")
        return self


class Spun(Selected):
    """A turntable."""

    axis: Annotated[str, one_of("up", "x", "y", "z")] = Field("up", description="up, x, y or z of the scene")
    turns: Number = Field(1.0, description="whole turns, 1 if left out; negative turns the other way")
    frames: FramesText | None = Field(None, description="frames it takes; the cell's own if left out")


class Linked(Strict):
    """What a light reaches."""

    light: Texts = Field(description="the light, or lights")
    to: Texts | None = Field(None, description="what it reaches; all if left out")
    shadow: Texts | None = Field(None, description="what casts its shadow; all if left out")
    maybe: bool = Field(False, description="true: selecting nothing is no error")

    @model_validator(mode="after")
    def _links(self) -> Linked:
        if self.to is None and self.shadow is None:
            raise ValueError("a link says to what the light reaches, or what casts its shadow")
        return self


class Sunned(Selected):
    """Where and when the sun stands."""

    latitude: Number = Field(ge=-90, le=90, description="degrees, north is positive")
    longitude: Number = Field(ge=-180, le=180, description="degrees, east is positive")
    zone: Text = Field("UTC", description="time zone, such as Europe/Amsterdam or +02:00")
    north: Number = Field(
        0.0, description="degrees north is turned, clockwise from above, from -Z (Y up) or +Y (Z up)"
    )
    date: Text = Field(description="such as 2026-06-21")
    time: Text = Field(description="such as 14:30")

    @model_validator(mode="after")
    def _moment(self) -> Sunned:
        read_moment(self.date, self.time, self.zone)
        return self

    @property
    def moment(self) -> datetime:
        """With its zone."""
        return read_moment(self.date, self.time, self.zone)


class Swapped(Selected):
    """What stands in the place of the selected prims."""

    with_: Text = Field(alias="with", description="a USD file, relative to the plan, or a prim of the scene")

    @model_validator(mode="before")
    @classmethod
    def _short(cls, value: Any) -> Any:
        return value


class Newcomer(Strict):
    """Something that is not in the scene."""

    name: Text | None = Field(None, description="what it is called")
    under: Text | None = Field(None, description="prim it stands below; the scene's root if left out")
    at: Spot | None = Field(None, description="a point [x, y, z], or a prim whose place it takes")


class PlacedFile(Newcomer):
    """An asset that is not in the scene."""

    file: Text = Field(description="a USD file, relative to the plan")


class Valued(Selected):
    """A selection with values of its own naming; the scene knows what they mean."""

    model_config = ConfigDict(extra="allow")
    noun: ClassVar[str] = "attribute"

    def values(self) -> dict[str, Any]:
        """Name → text, or list of texts, as typed."""
        return dict(self.model_extra or {})

    @model_validator(mode="after")
    def _has_values(self) -> Valued:
        if not self.model_extra:
            raise ValueError(f"this names no {self.noun}")
        for name, value in self.model_extra.items():
            if isinstance(value, Mapping) or value is None or value == "":
                raise ValueError(f"{name} needs a value: a number, a text or a list")
        return self


class MadeLight(Newcomer):
    """A light that is not in the scene, with attributes by their short names."""

    model_config = ConfigDict(extra="allow")

    kind: Annotated[str, one_of(*LIGHT_KINDS)] = Field(description=" ".join(LIGHT_KINDS))

    def values(self) -> dict[str, Any]:
        """Name → text, or list of texts, as typed."""
        return dict(self.model_extra or {})


class Chosen(Valued):
    """USD variants by the name of their set."""

    noun: ClassVar[str] = "variant set"


class Overlaid(Short):
    """A USD file laid over the scene."""

    file: Text = Field(description="a USD file, relative to the plan")

    @model_validator(mode="before")
    @classmethod
    def _short(cls, value: Any) -> Any:
        return value if isinstance(value, Mapping) else {"file": value}
