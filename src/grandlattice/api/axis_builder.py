"""Building a plan in Python: what `Plan.axis` hands out, and values as a plan file has them."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Any

from ruamel.yaml.comments import CommentedMap, CommentedSeq


class AxisBuilder:
    """Adds entries to an axis of a plan that is built in Python.

    Parameters
    ----------
    name : of the axis.
    axes : the axes the plan has, as read from its file.
    put : takes all axes of the plan, with this one changed.
    """

    def __init__(
        self, name: str, axes: Mapping[str, Any] | None, put: Callable[[Mapping[str, Any]], object]
    ) -> None:
        self._name, self._put_axes = name, put
        self._axes = axes if isinstance(axes, CommentedMap) else CommentedMap(axes or {})

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
        axis = self._axes.get(self._name)
        axis = axis if isinstance(axis, CommentedMap) else CommentedMap(axis or {})
        axis[str(name)] = as_texts(bundle)
        return self._put(axis)

    def each(self, what: str | Mapping[str, str] = "cameras", **with_: Mapping[str, Any]) -> AxisBuilder:
        """Let the axis write itself from the scene; keywords are settings for single entries."""
        axis: dict[str, Any] = {"each": what}
        if with_:
            axis["with"] = {name: dict(settings) for name, settings in with_.items()}
        return self._put(axis)

    def sweep(
        self, start: float | str, stop: float | str, *, step: float | str | None = None,
        count: int | None = None, edits: Sequence[Mapping[str, Any]] = (), **settings: Any,
    ) -> AxisBuilder:  # fmt: skip
        """Let the axis be values of a range; ``{axis}`` in edits and settings is the value."""
        sweep = {"from": start, "to": stop, "step": step, "count": count}
        axis: dict[str, Any] = {"sweep": {k: v for k, v in sweep.items() if v is not None}, **settings}
        if edits:
            axis["edits"] = [dict(edit) for edit in edits]
        return self._put(axis)

    def _put(self, axis: Mapping[str, Any]) -> AxisBuilder:
        """Replace the axis; what stands beside it keeps its place and comments."""
        self._axes[self._name] = as_texts(axis)
        self._put_axes(self._axes)
        return self


def as_texts(value: Any) -> Any:
    """Numbers and truth values as the text a plan file has; what was read from one stays itself."""
    if isinstance(value, CommentedMap):
        for key in list(value):
            value[key] = as_texts(value[key])
        return value
    if isinstance(value, CommentedSeq):
        for k, part in enumerate(list(value)):
            value[k] = as_texts(part)
        return value
    if isinstance(value, Mapping):
        return CommentedMap({str(key): as_texts(part) for key, part in value.items()})
    if isinstance(value, list | tuple):
        return [as_texts(part) for part in value]
    if isinstance(value, bool):
        return "true" if value else "false"
    return value if value is None or isinstance(value, str) else str(value)
