"""The edits of a plan: one sparse change each, laid over the scene and never written into it."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import TYPE_CHECKING, Annotated, Any, ClassVar, Union

from pydantic import BeforeValidator, ConfigDict, Discriminator, Field, Tag, model_validator
from pydantic.json_schema import SkipJsonSchema
from pydantic_core import PydanticCustomError

from grandlattice.errors import nearest
from grandlattice.plan.settings import Strict, Text, Texts, one_of


class Selected(Strict):
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


Number = Annotated[float, Field(allow_inf_nan=False)]


class Turned(Selected):
    """Degrees about the axes."""

    x: Number | None = Field(None, description="degrees about X")
    y: Number | None = Field(None, description="degrees about Y")
    z: Number | None = Field(None, description="degrees about Z")

    @model_validator(mode="after")
    def _turns(self) -> Turned:
        if self.x is None and self.y is None and self.z is None:
            raise ValueError("a turn needs x, y or z, in degrees")
        return self


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


class Chosen(Valued):
    """USD variants by the name of their set."""

    noun: ClassVar[str] = "variant set"


class Overlaid(Strict):
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


class Turn(Edit):
    """Turn further, in degrees."""

    turn: Turned = Field(description="degrees added")


class TurnTo(Edit):
    """Turn to an angle, whatever it was."""

    turn_to: Turned = Field(alias="turn-to", description="degrees from rest")


class Choose(Edit):
    """Choose USD variants."""

    choose: Chosen = Field(description="selection, and variant sets with their variants")


class Overlay(Edit):
    """Lay a USD file over the scene."""

    overlay: Overlaid = Field(description="the file")


EDITS: dict[str, type[Edit]] = {
    "hide": Hide, "show": Show, "only": KeepOnly, "assign": Assign, "set": SetValues,
    "multiply": MultiplyValues, "turn": Turn, "turn-to": TurnTo, "choose": Choose,
    "overlay": Overlay,
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
