"""The grade of a picture in a plan."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, Any

from pydantic import (
    Field,
    create_model,
    model_validator,
)

from grandlattice.plan.value_types import Number, Strict, typed_as
from grandlattice.tables.grades import GRADES, NEUTRAL


class AnyGrade(Strict):
    """What is done to the light of a finished picture before a display shows it."""

    @model_validator(mode="before")
    @classmethod
    def _off(cls, value: Any) -> Any:
        if isinstance(value, str) and value.strip().lower() == "off":
            return dict(NEUTRAL)
        if isinstance(value, str) and value.strip():
            raise ValueError(f"a grade is off, or has values such as {{exposure: 0.5}}, not {value!r}")
        return value

    @property
    def values(self) -> dict[str, float]:
        """The values that were given, by name, in the order of the table."""
        given = {field.alias or name: getattr(self, name) for name, field in type(self).model_fields.items()}
        return {name: value for name, value in given.items() if value is not None}

    def laid_over(self, before: AnyGrade | None) -> AnyGrade:
        """What stands when this is said over what was said before: values that are not said here stay."""
        return self if before is None else type(self).model_validate({**before.values, **self.values})


def _grade_field(name: str) -> Any:
    told = GRADES[name]
    said: dict[str, Any] = {"ge": told.least, "le": told.most, "description": told.meaning}
    if "-" in name:
        said["alias"] = name
    return Number | None, Field(None, **said)


if TYPE_CHECKING:
    Grade = AnyGrade
else:
    Grade = create_model(
        "Grade", __base__=AnyGrade, __doc__=AnyGrade.__doc__,
        **{name.replace("-", "_"): _grade_field(name) for name in GRADES},
    )  # fmt: skip
GradeText = Annotated[Grade, typed_as({"const": "off"}, Grade.model_json_schema())]
