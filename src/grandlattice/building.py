"""Building a plan in Python: what `Plan.axis` hands out, and values as a plan file has them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from grandlattice.api import Plan


class AxisBuilder:
    """Adds entries to an axis of a plan that is built in Python."""

    def __init__(self, plan: Plan, name: str) -> None:
        self._plan, self._name = plan, name

    def entry(
        self, name: str, *, edits: Sequence[Mapping[str, Any]] = (), use: Sequence[str] = (),
        **settings: Any,
    ) -> AxisBuilder:  # fmt: skip
        """Add an entry; `edits` as in a plan file, such as ``{"hide": "/Room/Lamp"}``."""
        bundle: dict[str, Any] = {**settings}
        if use:
            bundle["use"] = list(use)
        if edits:
            bundle["edits"] = [dict(edit) for edit in edits]
        axis = self._plan._data["axes"].setdefault(self._name, {})
        axis[str(name)] = bundle
        self._plan._forget()
        return self

    def each(self, what: str = "cameras", **with_: Mapping[str, Any]) -> AxisBuilder:
        """Let the axis write itself from the scene; keywords are settings for single entries."""
        axis: dict[str, Any] = {"each": what}
        if with_:
            axis["with"] = {name: dict(settings) for name, settings in with_.items()}
        self._plan._data["axes"][self._name] = axis
        self._plan._forget()
        return self


def as_texts(value: Any) -> Any:
    """Numbers and truth values as the text a plan file has."""
    if isinstance(value, Mapping):
        return {str(key): as_texts(part) for key, part in value.items()}
    if isinstance(value, list | tuple):
        return [as_texts(part) for part in value]
    if isinstance(value, bool):
        return "true" if value else "false"
    return value if value is None else str(value)
