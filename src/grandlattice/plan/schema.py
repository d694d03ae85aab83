"""The plan format, key by key: what may stand in a plan and of what kind it is.

Only shapes and kinds are settled here; whether a name means something (an entry, a take, a
camera) is settled by `lattice`, which knows them all.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import TYPE_CHECKING, Annotated, Any, ClassVar, Literal, Union

from pydantic import (
    BaseModel,
    BeforeValidator,
    ConfigDict,
    Discriminator,
    Field,
    Tag,
    model_validator,
)
from pydantic.json_schema import SkipJsonSchema
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


def _one_of(*names: str) -> BeforeValidator:
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

    depth: Annotated[str, _one_of("half", "float")] = Field(
        "half", description="half or float; depth, and what cannot be half, is always float"
    )


class JpgFile(Strict):
    """Options of JPEG files."""

    quality: int = Field(92, ge=1, le=100, description="1 to 100")


class DeepFile(Strict):
    """Options of PNG and TIFF files."""

    depth: Annotated[str, _one_of("8", "16")] = Field("8", description="bits a channel: 8 or 16")


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
    passes: Passes | None = Field(None, description="a list replaces; +depth and -depth amend")
    format: Formats | None = Field(None, description="one or a list of exr png jpg tiff")
    files: FileOptions | None = Field(None, description="options for each format")
    output: Text | None = Field(None, description="template of the file names")
    exposure: float | None = Field(None, ge=-50, le=50, description="stops on the picture")
    display: Text | None = Field(None, description="OCIO display / view for png, jpg, tiff")
    denoise: bool | None = Field(None, description="clean the beauty of noise")
    background: Annotated[str, _one_of("sky", "clear")] | None = Field(
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


# --- edits ---------------------------------------------------------------------------------


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

    rest: Annotated[str, _one_of("hide", "unseen", "matte")] = Field(
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
    return str(next(iter(value))) if known else _WRONG


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


_WRONG = "none of them"  # the branch that explains what is wrong


def _branches(models: Mapping[str, type[Strict]], refuse: Callable[[Any], Any]) -> Any:
    """A union told apart by tag, with one more branch that only refuses."""
    wrong = Annotated[SkipJsonSchema[Any], BeforeValidator(refuse), Tag(_WRONG)]
    tagged = [Annotated[model, Tag(name)] for name, model in models.items()]
    return Union[(*tagged, wrong)]


if TYPE_CHECKING:
    AnyEdit = Edit
else:
    AnyEdit = Annotated[_branches(EDITS, _refuse_edit), Discriminator(_verb)]


# --- axes, rules, plan ----------------------------------------------------------------------


class Bundle(Settings):
    """Settings and edits under one name: a take, or an entry of an axis."""

    use: Texts | None = Field(None, description="takes this one is built on, in order")
    edits: list[AnyEdit] = Field(default_factory=list, description="changes to the scene, in order")


class EachAxis(Strict):
    """An axis that writes itself from the scene."""

    each: Annotated[str, _one_of("cameras")] = Field(description="cameras")
    with_: dict[str, Bundle] = Field(
        default_factory=dict, alias="with", description="settings and edits for some of them"
    )


def _axis_kind(value: Any) -> str:
    if isinstance(value, EachAxis) or (isinstance(value, Mapping) and "each" in value):
        return "each"
    return "entries" if isinstance(value, Mapping) and value else _WRONG


def _refuse_axis(value: Any) -> Any:
    raise PydanticCustomError("empty_axis", "this axis has no entries, so there is no cell")


Axis = Annotated[
    Annotated[EachAxis, Tag("each")]
    | Annotated[dict[str, Bundle], Tag("entries")]
    | Annotated[SkipJsonSchema[Any], BeforeValidator(_refuse_axis), Tag(_WRONG)],
    Discriminator(_axis_kind),
]

Match = dict[str, Texts]


class DropRule(Strict):
    """Removes the cells that match."""

    drop: Match = Field(description="axis: entries; globs and lists allowed")


class KeepRule(Strict):
    """Keeps only the cells that match one of these."""

    keep: list[Match] = Field(description="each: axis: entries")


class AtRule(Bundle):
    """Amends the cells that match."""

    at: Match = Field(description="axis: entries; globs and lists allowed")


class AddRule(Bundle):
    """Adds one cell with a name of its own."""

    add: dict[str, Text] = Field(description="axis: entry, for every axis")
    name: Text = Field(description="what the cell is called")


_RULES: dict[str, type[Strict]] = {"drop": DropRule, "keep": KeepRule, "at": AtRule, "add": AddRule}


def _rule_kind(value: Any) -> str:
    if isinstance(value, Strict):
        return next(kind for kind, model in _RULES.items() if isinstance(value, model))
    kinds = [key for key in value if key in _RULES] if isinstance(value, Mapping) else []
    return str(kinds[0]) if len(kinds) == 1 else _WRONG


def _refuse_rule(value: Any) -> Any:
    raise PydanticCustomError("no_rule", "a rule is one of drop, keep, at or add, with what it is for")


if TYPE_CHECKING:
    Rule = DropRule | KeepRule | AtRule | AddRule
else:
    Rule = Annotated[_branches(_RULES, _refuse_rule), Discriminator(_rule_kind)]


class MadeMaterial(Strict):
    """A material of the plan's own: inputs of UsdPreviewSurface, or one from a USD file."""

    color: list[Number] | None = Field(None, min_length=3, max_length=3, description="linear RGB")
    emission: list[Number] | None = Field(None, min_length=3, max_length=3, description="linear RGB, nits")
    roughness: Number | None = Field(None, ge=0, le=1, description="0 mirror, 1 dull")
    metallic: Number | None = Field(None, ge=0, le=1, description="0 or 1, or between")
    opacity: Number | None = Field(None, ge=0, le=1, description="0 clear, 1 opaque")
    clearcoat: Number | None = Field(None, ge=0, le=1, description="0 none, 1 full")
    ior: Number | None = Field(None, ge=1, description="index of refraction")
    file: Text | None = Field(None, description="a USD file, relative to the plan")
    prim: Text | None = Field(None, description="the material's path in that file")

    @model_validator(mode="after")
    def _one_source(self) -> MadeMaterial:
        made = self.model_fields_set - {"file", "prim"}
        if (self.file is None) != (self.prim is None):
            raise ValueError("a material from a file needs both file and prim")
        if self.file is not None and made:
            raise ValueError(f"a material from a file has no {sorted(made)[0]} of its own")
        return self


class PlanModel(Strict):
    """A whole plan."""

    lattice: Literal[1] = Field(description="version of the format: 1")
    scene: Text = Field(description="the USD scene, relative to the plan")
    select: dict[str, Texts] = Field(default_factory=dict, description="named selections")
    materials: dict[str, MadeMaterial] = Field(default_factory=dict, description="materials made by the plan")
    qualities: dict[str, Settings] = Field(default_factory=dict, description="named bundles of settings")
    defaults: Settings = Field(default_factory=Settings, description="settings of every cell")
    takes: dict[str, Bundle] = Field(default_factory=dict, description="named bundles of edits and settings")
    axes: dict[str, Axis] = Field(default_factory=dict, description="the dimensions of the matrix")
    rules: list[Rule] = Field(default_factory=list, description="what drops, amends or adds cells")
    order: Texts = Field(default_factory=list, description="axes from slowest to fastest")

    @model_validator(mode="before")
    @classmethod
    def _version(cls, value: Any) -> Any:
        if isinstance(value, Mapping) and str(value.get("lattice", "1")).strip() == "1":
            return {**value, "lattice": 1} if "lattice" in value else value
        return value
