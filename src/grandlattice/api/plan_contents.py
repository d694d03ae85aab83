"""The contents of a plan: text, document, scene, axes multiplied, cells; and how they are changed."""

from __future__ import annotations

import copy
import io
import os
from collections.abc import Mapping, Sequence
from dataclasses import replace
from functools import cached_property
from importlib.util import find_spec
from pathlib import Path
from typing import Any, Self

from pydantic import BaseModel, ValidationError

from grandlattice.api.axis_builder import AxisBuilder, as_texts
from grandlattice.api.call_options import RunKeys, SettingValues, Unpack
from grandlattice.api.cell_view import Cells
from grandlattice.errors import LatticeError, Place, PlanError
from grandlattice.plan import (
    GRADES_ENDING,
    CellMaker,
    Document,
    Lattice,
    PlanModel,
    SceneFacts,
    build_lattice,
    grades_in,
    parse,
    read_document,
    validate,
    with_included,
    yaml_writer,
)
from grandlattice.plan.schema import Bundle
from grandlattice.plan.setting_layers import THIS_CALL
from grandlattice.plan.validation import explained
from grandlattice.stage import Scene, open_scene

FOLLOWS_RULES = (
    "document", "model", "lattice", "_make", "cells", "names", "_stamp", "_explainer", "_explanations",
)  # fmt: skip
"""What is worked out from the plan's rules, and anew when one changes."""


PROOF = {"scale": "25%", "samples": 6, "bounces": 4, "clamp": 1.0, "denoise": True}
"""What a proof is where a plan has no quality of that name."""


class PlanContents:
    """The contents of a plan, without what can be done with them; see `Plan`."""

    def __init__(
        self, scene: str | None = None, *, folder: str | Path | None = None,
        _document: Document | None = None, **keys: Any,
    ) -> None:  # fmt: skip
        self._file: Path | None = None
        self._text: str | None = None
        self._read = ""
        self._folder = Path(folder) if folder is not None else Path.cwd()
        self._grades: Document | None = None
        self._grades_file: Path | None = None
        self._grades_read = ""  # the text of that file; empty where there is none
        self.overrides = Bundle()
        if _document is not None:
            self._data, self._text = _document.data, _document.text
            self._read = _document.text
            self.document = _document
            self._file = _document.file
            self._grades = _document.grades
            if _document.file is not None:
                self._folder = _document.file.resolve().parent
                self._grades_file = self._folder / f"{self.name}{GRADES_ENDING}"
                self._grades_read = self._grades.text if self._grades is not None else ""
        else:
            given = {"lattice": "1", "scene": scene, **keys}
            self._data = as_texts({k: v for k, v in given.items() if v not in ({}, None)})

    def __repr__(self) -> str:
        axes = ", ".join(str(name) for name in self._data.get("axes") or ())
        over = "".join(f", {key}={value}" for key, value in self.given().items())
        return f"<Plan {self.file.name if self.file else 'of ' + str(self._data.get('scene'))}: {axes}{over}>"

    # --- building and writing ------------------------------------------------------------------

    def axis(self, name: str) -> AxisBuilder:
        """An axis to add entries to; it is made when the plan has none of that name."""
        return AxisBuilder(name, self._data.get("axes"), lambda axes: self.change("axes", lambda _: axes))

    def rule(self, **rule: Any) -> Self:
        """Add a rule, such as ``drop={"light": "moon"}``."""
        return self.change("rules", lambda rules: [*(rules or []), rule])

    def change(self, key: str, to: Any) -> Self:
        """Change a key of the plan, in this object; `write` puts it into a file.

        Parameters
        ----------
        to : the new value, or a function of the value that stands; comments beside what is left
            alone stay.
        """
        value = to(self._data.get(key)) if callable(to) else to
        self._data[key] = as_texts(value)
        self._text = None
        self._forget("scene", "facts", *FOLLOWS_RULES)
        return self

    def _forget(self, *names: str) -> None:
        """Have parts of this plan worked out anew when they are asked for."""
        for name in names:
            self.__dict__.pop(name, None)

    @property
    def text(self) -> str:
        """The plan as it stands in its file, or would: comments and order as they were."""
        if self._text is None:
            stream = io.StringIO()
            yaml_writer(self._read).dump(self._data, stream)
            self._text = stream.getvalue()
        return self._text

    def write(self, file: str | Path, *, over: bool = False) -> Path:
        """Write the plan to a file; one that exists is left alone unless `over` is given."""
        path = Path(file)
        if not over:
            with path.open("x", encoding="utf-8") as stream:
                stream.write(self.text)
            return path
        part = path.with_name(f".{path.name}.part")
        part.write_text(self.text, encoding="utf-8")
        os.replace(part, path)
        return path

    # --- contents -------------------------------------------------------------------------------

    @cached_property
    def document(self) -> Document:
        return replace(with_included(parse(self.text, self._file)), grades=self._grades)

    @cached_property
    def model(self) -> PlanModel:
        """The checked contents of the plan."""
        return validate(self.document)

    @classmethod
    def read(cls, file: Path) -> Self:
        """The plan in a file; see `open_plan`."""
        beside = file.resolve().parent / f"{_name_of(file)}{GRADES_ENDING}"
        document = replace(with_included(read_document(file)), grades=grades_in(beside))
        validate(document)
        return cls(_document=document)

    def grades_file(self, into: str | Path | None = None) -> Path | None:
        """Where grades of its pictures stand that are not in the plan; None for a plan without a file."""
        if self._grades_file is None or into is None:
            return self._grades_file
        return Path(into).absolute() / self._grades_file.name

    def beside(self, into: str | Path | None) -> Self:
        """This plan with the grades that stand beside its pictures in another output folder; this one stays
        as it is."""
        file = self.grades_file(into)
        if file is None or file == self._grades_file:
            return self
        other = copy.copy(self)
        other._data = copy.deepcopy(self._data)  # either may be changed further
        other._grades_file, other._grades = file, grades_in(file)
        other._grades_read = other._grades.text if other._grades is not None else ""
        if self._grades is not None or other._grades is not None:
            other._forget(*FOLLOWS_RULES)
        return other

    @property
    def file(self) -> Path | None:
        """The plan's file, None for one built in Python."""
        return self._file

    @property
    def folder(self) -> Path:
        """What file names of the plan are relative to."""
        return self._folder

    @property
    def name(self) -> str:
        """The plan's name, from its file."""
        if self.file is None:
            return Path(self.model.scene).stem
        return _name_of(self.file)

    @cached_property
    def scene(self) -> Scene:
        """The scene, opened read-only."""
        try:
            return open_scene(self.folder / self.model.scene)
        except LatticeError as problem:
            if problem.place is None:
                problem.place = self.document.place(["scene"])
            raise

    @cached_property
    def lattice(self) -> Lattice:
        """The axes multiplied and the rules applied."""
        return build_lattice(self.model, self.document, self.facts)

    @cached_property
    def facts(self) -> SceneFacts:
        """What the scene says that planning needs to know."""
        return self.scene.facts(self.model.select, self.folder)

    @cached_property
    def _make(self) -> CellMaker:
        return CellMaker(self.lattice, self.facts, self.overrides)

    @property
    def meters(self) -> bool:
        """Whether exposures are metered anywhere: small pictures are traced for them, once."""
        return self._make.meters

    @cached_property
    def cells(self) -> Cells:
        """The cells in the order they run."""
        return Cells(self.name, self.lattice, self._make)

    def override(self, *, edits: Sequence[Mapping[str, Any]] = (), **settings: Unpack[SettingValues]) -> Self:
        """The same plan with settings and edits that beat everything it says; this one stays as it is.

        Parameters
        ----------
        edits : as a plan writes them, laid over all cells behind their own and those of earlier calls.

        Raises
        ------
        PlanError
            For an unknown setting or edit, or a value it cannot have.

        Examples
        --------
        >>> warmer = plan.override(
        ...     edits=[{"multiply": {"on": "/Room/Lights/Lamp", "colorTemperature": 0.9}}]
        ... )                                                           # doctest: +SKIP
        """
        other = copy.copy(self)
        other._data = copy.deepcopy(self._data)  # either may be changed further
        whole = {**self.given(), **settings, "edits": [*self.overrides.edits, *edits]}
        try:
            other.overrides = Bundle.model_validate(whole)
        except ValidationError as problem:
            raise said_wrongly(problem, THIS_CALL) from None
        other._forget("_make", "cells", "_stamp", "names")
        return other

    def proofing(self) -> Self:
        """This plan, made small and quick: a cheap look at every cell before the expensive one.

        The plan's quality `proof` is laid over everything it says, or a quarter of the size at six samples
        where it has none; the seed stays, so that the noise is where it will be.
        """
        quality: dict[str, Any] = {"quality": "proof"} if "proof" in self.model.qualities else dict(PROOF)
        if find_spec("pyoidn") is None:  # there is no wheel of it for this machine
            quality.pop("denoise", None)
        settings = {
            **self.given(), **quality, "format": ["png"], "passes": ["beauty"], "files": {},
            "output": "{cell}.{frame:04d}.{ext}", "keep_light_shares": False,
        }  # fmt: skip
        quick = type(self)(folder=self.folder, _document=self.document)
        quick._grades_file = None  # proofs lie elsewhere, and have the grades of the pictures
        return quick.override(edits=[edit.model_dump() for edit in self.overrides.edits], **settings)

    @property
    def proof_folder(self) -> Path:
        """Where proofs land by default."""
        return self.folder / f"{self.name}-proof"

    @property
    def hurried(self) -> RunKeys:
        """Keys of ``run:`` for a run that a person waits for: all processors, unless the plan spares some."""
        return {"spare": 0} if self.model.run.spare is None else {}

    def given(self) -> dict[str, Any]:
        """The settings laid over the plan by `override`, by name."""
        return {name: value for name, value in given_in(self.overrides).items() if name != "edits"}


def _name_of(file: Path) -> str:
    return file.name.removesuffix(".yaml").removesuffix(".lattice")


def said_wrongly(problem: ValidationError, where: str) -> PlanError:
    """The error for a value that a caller gave and that cannot be."""
    error = explained(problem.errors(include_url=False)[0], Document({}, ""))  # type: ignore[arg-type]
    error.place = Place(words=where)
    return error


def given_in(model: BaseModel) -> dict[str, Any]:
    """The fields that were given in a model, by name."""
    return {name: getattr(model, name) for name in model.model_fields_set}
