"""The edits of a plan: one sparse change each, laid over the scene and never written into it."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from datetime import datetime
from typing import TYPE_CHECKING, Annotated, Any, ClassVar, Union

from pydantic import (
    BeforeValidator,
    ConfigDict,
    Discriminator,
    Field,
    Tag,
    WithJsonSchema,
    model_validator,
)
from pydantic.json_schema import SkipJsonSchema
from pydantic_core import PydanticCustomError

from grandlattice.errors import nearest
from grandlattice.plan.settings import FramesText, LengthText, Number, Strict, Text, Texts, one_of
from grandlattice.plan.values import Length, read_length, read_moment

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


_LIGHTS = ("sphere", "rect", "disk", "distant", "dome", "cylinder")


class MadeLight(Newcomer):
    """A light that is not in the scene, with attributes by their short names."""

    model_config = ConfigDict(extra="allow")

    kind: Annotated[str, one_of(*_LIGHTS)] = Field(description="sphere rect disk distant dome cylinder")

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


class Edit(Strict):
    """One sparse change, laid over the scene and never written into it: one verb, one body."""

    @property
    def verb(self) -> str:
        name = next(iter(type(self).model_fields))
        return type(self).model_fields[name].alias or name

    @property
    def body(self) -> Any:
        return getattr(self, next(iter(type(self).model_fields)))


class Hide(Edit):
    """Hide the selection and everything below it."""

    hide: Selected = Field(description="what is hidden")


class Show(Edit):
    """Undo the plan's own hides, and open hidden ancestors without their other children."""

    show: Selected = Field(description="what is shown")


class KeepOnly(Edit):
    """Keep the selection; all else that can be seen leaves."""

    only: Only = Field(description="what stays")


class Assign(Edit):
    """Bind a material over whatever is bound."""

    assign: Assigned = Field(description="material and selection")


class SetValues(Edit):
    """Set attributes of exactly the selected prims."""

    set: Valued = Field(description="selection, and attributes with their values")


class MultiplyValues(Edit):
    """Multiply attributes of exactly the selected prims."""

    multiply: Valued = Field(description="selection, and attributes with their factors")


class Matte(Edit):
    """Hold out of alpha and of every data pass; still lit, lighting and shading."""

    matte: Selected = Field(description="what is held out")


class Unseen(Edit):
    """Invisible to the camera only."""

    unseen: Selected = Field(description="what the camera does not see")


class Catch(Edit):
    """Receive shadow, into alpha only."""

    catch: Selected = Field(description="what catches shadow")


class Move(Edit):
    """Move further."""

    move: Moved = Field(description="lengths added")


class Turn(Edit):
    """Turn further, in degrees."""

    turn: Turned = Field(description="degrees added")


class Resize(Edit):
    """Make larger or smaller."""

    resize: Resized = Field(description="factors")


class MoveTo(Edit):
    """Move to a place of the scene, whatever it was."""

    move_to: Moved = Field(alias="move-to", description="the place; what is left out stays")


class TurnTo(Edit):
    """Turn to an angle, whatever it was."""

    turn_to: TurnedTo = Field(alias="turn-to", description="degrees from rest; what is left out stays")


class Spin(Edit):
    """A turntable over the planned frames, the last not repeating the first."""

    spin: Spun = Field(description="what spins")


class Link(Edit):
    """What a light reaches, and what casts its shadow."""

    link: Linked = Field(description="light and selections")


class Sun(Edit):
    """Aim a distant light where the sun stands."""

    sun: Sunned = Field(description="light, place and time")


class Choose(Edit):
    """Choose USD variants."""

    choose: Chosen = Field(description="selection, and variant sets with their variants")


class Swap(Edit):
    """Put another asset in the place of one that is referenced."""

    swap: Swapped = Field(description="what, and with what")


class PlaceAsset(Edit):
    """Bring in an asset that is not in the scene."""

    place: PlacedFile = Field(description="file and place")


class AddLight(Edit):
    """Bring in a light that is not in the scene."""

    light: MadeLight = Field(description="kind, place and attributes")


class Overlay(Edit):
    """Lay a USD file over the scene."""

    overlay: Overlaid = Field(description="the file")


STRUCTURAL: dict[str, type[Edit]] = {
    "overlay": Overlay, "choose": Choose, "swap": Swap, "place": PlaceAsset, "light": AddLight,
}  # fmt: skip
"""These compose, in their order, before any selection of the others is evaluated."""

EDITS: dict[str, type[Edit]] = {
    **STRUCTURAL, "hide": Hide, "show": Show, "only": KeepOnly, "matte": Matte, "unseen": Unseen,
    "catch": Catch, "assign": Assign, "set": SetValues, "multiply": MultiplyValues, "move": Move,
    "turn": Turn, "resize": Resize, "move-to": MoveTo, "turn-to": TurnTo, "spin": Spin,
    "link": Link, "sun": Sun,
}  # fmt: skip


def _verb(value: Any) -> str:
    if isinstance(value, Edit):
        return value.verb
    known = isinstance(value, Mapping) and len(value) == 1 and next(iter(value)) in EDITS
    return str(next(iter(value))) if known else WRONG


def _refuse_edit(value: Any) -> Any:
    if not isinstance(value, Mapping) or not value:
        raise PydanticCustomError(
            "no_edit", "an edit is one verb with what it is for, such as `hide: /Room/Lamp`"
        )
    known = [key for key in value if key in EDITS]
    if len(value) > 1 and known:
        raise PydanticCustomError(
            "two_edits",
            "{key} stands beside {verb}: each edit is an item of its own, and what belongs to an "
            "edit is indented below it",
            {"key": str(next(k for k in value if k != known[0])), "verb": known[0]},
        )
    key = str(next(iter(value)))
    raise PydanticCustomError(
        "unknown_key", "{key} is no edit. {hint}", {"key": key, "hint": nearest(key, EDITS)}
    )


WRONG = "none of them"  # the branch that explains what is wrong


def branches(models: Mapping[str, type[Strict]], refuse: Callable[[Any], Any]) -> Any:
    """A union told apart by tag, with one more branch that only refuses."""
    wrong = Annotated[SkipJsonSchema[Any], BeforeValidator(refuse), Tag(WRONG)]
    tagged = [Annotated[model, Tag(name)] for name, model in models.items()]
    return Union[(*tagged, wrong)]


if TYPE_CHECKING:
    AnyEdit = Edit
else:
    AnyEdit = Annotated[branches(EDITS, _refuse_edit), Discriminator(_verb)]
