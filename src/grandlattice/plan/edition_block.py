"""Editions in a plan: what pictures for a purpose are like."""

from __future__ import annotations

from dataclasses import replace
from typing import Annotated

from pydantic import Field, model_validator

from grandlattice.plan.file_options import FileOptions
from grandlattice.plan.grade_block import GradeText
from grandlattice.plan.settings import Print
from grandlattice.plan.spelled_values import Size
from grandlattice.plan.value_types import Formats, LabelNames, Number, Share, SizeText, Strict, Text, one_of
from grandlattice.tables.purposes import PURPOSES


class Edition(Strict):
    """Pictures for a purpose, written from what is traced."""

    purpose: Annotated[str, one_of(*PURPOSES)] | None = Field(
        None, description=f"{', '.join(PURPOSES)}: the density where print or ppi do not say one"
    )
    size: SizeText | None = Field(None, description="pixels they fit into; as traced if left out")
    scale: Share | None = Field(None, description="share of the traced size, such as 50%")
    print: Print | None = Field(None, description="a size on paper in place of size")
    ppi: Number | None = Field(None, gt=0, le=20000, description="density, pixels an inch")
    format: Formats = Field(default_factory=lambda: ["png"], description="one or a list of formats")
    files: FileOptions | None = Field(None, description="options for each format, in place of the cells'")
    display: Text | None = Field(None, description="OCIO display / view, in place of the cells'")
    exposure: Number = Field(0.0, description="stops beside those of the cells")
    grade: GradeText | None = Field(None, description="over that of the cells")
    label: LabelNames = Field(
        default_factory=list,
        description="true: a strip below that says what they are; or a list of its parts",
    )
    output: Text = Field(
        "editions/{edition}/{cell}.{frame:04d}.{ext}", description="template of the file names"
    )

    @model_validator(mode="after")
    def _one_size(self) -> Edition:
        if sum(each is not None for each in (self.size, self.scale, self.print)) > 1:
            raise ValueError("size, scale and print stand beside each other; only one can count")
        return self

    def size_of(self, traced: Size) -> Size:
        """What pictures of a traced size fit into."""
        usual = None if self.purpose is None else PURPOSES[self.purpose].usual
        if self.print is not None:
            return self.print.size
        size = self.size or (traced if self.scale is None else traced.scaled(self.scale))
        return replace(size, ppi=self.ppi or usual or size.ppi)
