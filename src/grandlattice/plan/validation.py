"""From a document to a checked `PlanModel`, or to one error an artist can act on."""

from __future__ import annotations

from typing import Any

from pydantic import ValidationError
from pydantic_core import ErrorDetails

from grandlattice.errors import PlanError
from grandlattice.plan.including import merged
from grandlattice.plan.reader import Document
from grandlattice.plan.schema import PlanModel

_KINDS = {
    "int_parsing": "a whole number",
    "int_type": "a whole number",
    "int_from_float": "a whole number",
    "float_parsing": "a number",
    "float_type": "a number",
    "bool_parsing": "true or false",
    "bool_type": "true or false",
    "string_type": "text",
    "list_type": "a list",
    "dict_type": "keys with values",
    "model_type": "keys with values",
    "model_attributes_type": "keys with values",
    "finite_number": "a finite number",
}


def validate(document: Document) -> PlanModel:
    """Check a document against the format.

    Raises
    ------
    PlanError
        Naming the first thing that is wrong with its line and column, and how many more there are.
    """
    try:
        return PlanModel.model_validate(merged(document))
    except ValidationError as problem:
        errors = problem.errors(include_url=False)
        raise explained(errors[0], document, _places(errors, document) - 1) from None


def _places(errors: list[ErrorDetails], document: Document) -> int:
    """How many places are wrong; entries of a sweep all share one."""
    return len({(_path_of(error)[-1:], document.place(_path_of(error))) for error in errors})


def _path_of(error: ErrorDetails) -> tuple[str | int, ...]:
    return tuple(part for part in error["loc"] if isinstance(part, str | int))


def explained(error: ErrorDetails, document: Document, more: int = 0) -> PlanError:
    path = _path_of(error)
    context: dict[str, Any] = error.get("ctx") or {}
    kind, key = error["type"], None
    if kind in ("unknown_key", "two_edits"):
        key = context["key"]
    names = [str(part) for part in path if isinstance(part, str)]
    name = names[-1] if names else "the plan"
    shown = error.get("input")
    shown = "" if isinstance(shown, dict | list) else f", not {str(shown)!r}"
    if kind == "missing":
        what = f"{name} is missing."
    elif kind in _KINDS:
        what = f"{name} should be {_KINDS[kind]}{shown}."
    elif kind in ("greater_than_equal", "greater_than", "less_than_equal", "less_than"):
        limit = next(iter(context.values()))
        word = {"g": "at least", "l": "at most"}[kind[0]]
        word = {"greater_than": "above", "less_than": "below"}.get(kind, word)
        what = f"{name} should be {word} {limit}{shown}."
    elif kind in ("too_short", "too_long"):
        what = f"{name} should have {context.get('min_length') or context.get('max_length')} numbers."
    elif kind == "literal_error":
        what = f"{name} should be {context.get('expected', '')}{shown}."
    elif kind == "value_error":
        what = f"{name}: {context['error']}"
    else:
        what = error["msg"] if key else error["msg"][:1].upper() + error["msg"][1:]
    if what[-1] not in ".?":
        what += "."
    if more:
        what += f" ({more} more {'mistakes' if more > 1 else 'mistake'} after this one.)"
    return PlanError(what, place=document.place(path, key))
