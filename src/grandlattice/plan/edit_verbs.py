"""The edits of a plan: one sparse change each, laid over the scene and never written into it."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import TYPE_CHECKING, Annotated, Any, Union

from pydantic import BeforeValidator, Discriminator, Field, Tag
from pydantic.json_schema import SkipJsonSchema
from pydantic_core import PydanticCustomError

from grandlattice.errors import nearest
from grandlattice.plan.edit_fields import (
    Assigned,
    Chosen,
    Linked,
    MadeLight,
    Moved,
    Only,
    Overlaid,
    PlacedFile,
    Resized,
    Selected,
    Spun,
    Sunned,
    Swapped,
    Turned,
    TurnedTo,
    Valued,
)
from grandlattice.plan.value_types import Strict


class Edit(Strict):
    """One sparse change, laid over the scene and never written into it: one verb, one body."""

    @property
    def verb(self) -> str:
        return verb_of(type(self))

    @property
    def body(self) -> Any:
        return getattr(self, next(iter(type(self).model_fields)))


def verb_of(model: type[Edit]) -> str:
    """The verb of a kind of edit: its only key."""
    name, field = next(iter(model.model_fields.items()))
    return field.alias or name


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


EDITS: dict[str, type[Edit]] = {verb_of(model): model for model in Edit.__subclasses__()}
"""Verb → the model of its edit."""


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
