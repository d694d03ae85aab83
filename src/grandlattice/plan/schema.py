"""The plan format from the top: axes, rules, materials, the plan.

Only shapes and kinds are settled here; whether a name means something (an entry, a take, a
camera) is settled by `lattice`, which knows them all.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import TYPE_CHECKING, Annotated, Any, Literal

from pydantic import BaseModel, BeforeValidator, Discriminator, Field, Tag, model_validator
from pydantic.json_schema import SkipJsonSchema
from pydantic_core import PydanticCustomError

from grandlattice.plan.board_block import Board
from grandlattice.plan.edit_verbs import WRONG, AnyEdit, branches
from grandlattice.plan.edition_block import Edition
from grandlattice.plan.run_block import CommandRenderer, RunBlock
from grandlattice.plan.settings import Settings
from grandlattice.plan.sweeps import Sweep
from grandlattice.plan.unfolding import MADE, unfolded
from grandlattice.plan.value_types import (
    Key,
    LengthText,
    Number,
    Strict,
    Text,
    Texts,
    many_of,
    one_of,
)
from grandlattice.tables.passes import is_pass


class Bundle(Settings):
    """Settings and edits under one name: a take, or an entry of an axis."""

    use: Texts | None = Field(None, description="takes this one is built on, in order")
    edits: list[AnyEdit] = Field(default_factory=list, description="changes to the scene, in order")

    @classmethod
    def __get_pydantic_json_schema__(cls, schema: Any, handler: Any) -> dict[str, Any]:
        """An entry may be left empty: the scene as it is."""
        whole = handler(schema)
        return {"anyOf": [whole, {"type": "null"}]} if cls is Bundle else dict(whole)


class EachVariant(Strict):
    """The variants of a set."""

    variants: Text = Field(description="the variant set")
    of: Text = Field(description="the prim that has it")


class EachFile(Strict):
    """Files on the disk."""

    files: Text = Field(description="a pattern relative to the plan, such as skies/*.hdr")


_EACH: dict[str, type[Strict]] = {"variants": EachVariant, "files": EachFile}
_SOURCES = ("cameras", "lights", "takes")


def _each_kind(value: Any) -> str:
    if isinstance(value, Strict):
        return next(kind for kind, model in _EACH.items() if isinstance(value, model))
    if isinstance(value, Mapping):
        return next((kind for kind in _EACH if kind in value), WRONG)
    return "each" if isinstance(value, str) else WRONG


def _refuse_each(value: Any) -> Any:
    raise PydanticCustomError(
        "no_each", "each is cameras, lights, takes, {variants: SET, of: PRIM} or {files: PATTERN}"
    )


_Scene = Annotated[Annotated[str, one_of(*_SOURCES)], Tag("each")]
Each = Annotated[
    _Scene
    | Annotated[EachVariant, Tag("variants")]
    | Annotated[EachFile, Tag("files")]
    | Annotated[SkipJsonSchema[Any], BeforeValidator(_refuse_each), Tag(WRONG)],
    Discriminator(_each_kind),
]


class EachAxis(Bundle):
    """An axis that writes itself from the scene; settings and edits beside it are for every entry."""

    each: Each = Field(description="cameras, lights, takes, {variants, of} or {files}")
    among: Text | None = Field(None, description="only those that match: visible, or a path expression")
    with_: dict[str, Bundle] = Field(
        default_factory=dict, alias="with", description="settings and edits for some of them"
    )


class SweepAxis(Bundle):
    """An axis whose entries are values of a range; ``{axis}`` in its edits is the value."""

    sweep: Sweep = Field(description="from, to and step or count")
    with_: dict[str, Bundle] = Field(
        default_factory=dict, alias="with", description="settings and edits for some of them"
    )
    made: SkipJsonSchema[dict[str, Bundle]] = Field(default_factory=dict, alias=MADE, description="unfolded")


# Tags stand in the paths of errors; none of these can be a key, and so mistaken for a place.
_OF_EACH, _OF_SWEEP, _OF_ENTRIES = "axis of each", "axis of a sweep", "axis of entries"


def _axis_kind(value: Any) -> str:
    for kind, key, model in ((_OF_EACH, "each", EachAxis), (_OF_SWEEP, "sweep", SweepAxis)):
        if isinstance(value, model) or (isinstance(value, Mapping) and key in value):
            return kind
    return _OF_ENTRIES if isinstance(value, Mapping) and value else WRONG


def _refuse_axis(value: Any) -> Any:
    raise PydanticCustomError("empty_axis", "this axis has no entries, so there is no cell")


Axis = Annotated[
    Annotated[EachAxis, Tag(_OF_EACH)]
    | Annotated[SweepAxis, Tag(_OF_SWEEP)]
    | Annotated[dict[str, Bundle], Tag(_OF_ENTRIES)]
    | Annotated[SkipJsonSchema[Any], BeforeValidator(_refuse_axis), Tag(WRONG)],
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
    return str(kinds[0]) if len(kinds) == 1 else WRONG


def _refuse_rule(value: Any) -> Any:
    raise PydanticCustomError("no_rule", "a rule is one of drop, keep, at or add, with what it is for")


if TYPE_CHECKING:
    Rule = DropRule | KeepRule | AtRule | AddRule
else:
    Rule = Annotated[branches(_RULES, _refuse_rule), Discriminator(_rule_kind)]


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


class OwnLight(Strict):
    """The share of some lights."""

    of: Literal["light"] = Field(description="light")
    on: Texts = Field(description="lights, or what stands above them")
    except_: Texts | None = Field(None, alias="except", description="those left out")


class OwnOcclusion(Strict):
    """Openness within a distance."""

    of: Literal["occlusion"] = Field(description="occlusion")
    radius: LengthText = Field(description="how far it looks, scene units or with a unit")


_OWN: dict[str, type[Strict]] = {"light": OwnLight, "occlusion": OwnOcclusion}


def _own_kind(value: Any) -> str:
    kind = value.get("of") if isinstance(value, Mapping) else getattr(value, "of", None)
    return str(kind) if kind in _OWN else WRONG


def _refuse_own(value: Any) -> Any:
    raise PydanticCustomError(
        "no_own_pass", "a pass of your own is {of: light, on: LIGHTS} or {of: occlusion, radius: LENGTH}"
    )


if TYPE_CHECKING:
    OwnPass = OwnLight | OwnOcclusion
else:
    OwnPass = Annotated[branches(_OWN, _refuse_own), Discriminator(_own_kind)]


def _own_name(value: object) -> str:
    name = str(value)
    if not re.fullmatch(r"[A-Za-z][\w-]*", name):
        raise ValueError(f"a pass is named with letters, digits and -, not {name!r}")
    if is_pass(name):
        raise ValueError(f"there is a pass {name} already; choose another name")
    return name


Required = Annotated[list[str], many_of(*Settings.model_fields)]


class PlanModel(Strict):
    """A whole plan."""

    lattice: Literal[1] = Field(description="version of the format: 1")
    scene: Text = Field(description="the USD scene, relative to the plan")
    include: Texts = Field(
        default_factory=list,
        description="plan files whose words, select, materials, qualities, own-passes, takes, renderers and "
        "require are used too",
    )
    require: Required = Field(default_factory=list, description="settings that must be said, such as output")
    words: dict[str, Text] = Field(
        default_factory=dict, description="words of your own, fields of file names and labels"
    )
    select: dict[str, Texts] = Field(default_factory=dict, description="named selections")
    materials: dict[str, MadeMaterial] = Field(default_factory=dict, description="materials made by the plan")
    qualities: dict[str, Settings] = Field(default_factory=dict, description="named bundles of settings")
    defaults: Settings = Field(default_factory=Settings, description="settings of every cell")
    own_passes: dict[Annotated[str, BeforeValidator(_own_name)], OwnPass] = Field(
        default_factory=dict, alias="own-passes", description="passes of your own, by name"
    )
    takes: dict[str, Bundle] = Field(default_factory=dict, description="named bundles of edits and settings")
    axes: dict[str, Axis] = Field(default_factory=dict, description="the dimensions of the matrix")
    rules: list[Rule] = Field(default_factory=list, description="what drops, amends or adds cells")
    together: list[Texts] = Field(
        default_factory=list, description="axes of equal length that advance in step"
    )
    sets: dict[str, list[Match]] = Field(
        default_factory=dict, description="named sets of cells, for --set-of"
    )
    editions: dict[Key, Edition] = Field(
        default_factory=dict, description="pictures for a purpose, written from what is traced"
    )
    boards: dict[Key, Board] = Field(
        default_factory=dict, description="sheets with pictures of many cells, for paper or screen"
    )
    order: Texts = Field(default_factory=list, description="axes, and frame, from slowest to fastest")
    renderers: dict[str, CommandRenderer] = Field(
        default_factory=dict, description="outside renderers, for the setting renderer"
    )
    run: RunBlock = Field(default_factory=RunBlock, description="how the run is carried out")

    def texts(self) -> list[str]:
        """Every text in the plan, those of entries that a sweep makes included."""
        return texts_of(self)

    @property
    def own_kinds(self) -> dict[str, str]:
        """Passes of the plan's own: name → what it is of."""
        return {name: own.of for name, own in self.own_passes.items()}

    @model_validator(mode="before")
    @classmethod
    def _prepared(cls, value: Any) -> Any:
        if not isinstance(value, Mapping):
            return value
        value = dict(value)
        if str(value.get("lattice", "")).strip() == "1":
            value["lattice"] = 1
        if isinstance(value.get("axes"), Mapping):
            value["axes"] = unfolded(value["axes"])
        return value


def texts_of(model: BaseModel) -> list[str]:
    """Every text in a part of a plan."""
    found: list[str] = []
    waiting: list[object] = [model.model_dump(mode="json")]
    while waiting:
        value = waiting.pop()
        if isinstance(value, str):
            found.append(value)
        elif isinstance(value, Mapping):
            waiting += value.values()
        elif isinstance(value, list | tuple):
            waiting += value
    return list(dict.fromkeys(found))
