"""Axes that write themselves, before anything is typed: sweeps become entries, and a field
such as ``{sky}`` in an axis's own settings and edits becomes the value of the entry.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Any

from grandlattice.plan.sweeps import sweep_entries

MADE = "entries of the sweep"  # where `unfolded` puts what a sweep made; it cannot be typed in a plan
_OWN = ("sweep", "each", "among", "with")
_TEMPLATES = ("output", "label")


def unfolded(axes: Mapping[str, Any]) -> dict[str, Any]:
    """The axes of a document with their sweeps written out; what is given is left as it is."""
    return {str(name): _unfolded(str(name), axis) for name, axis in axes.items()}


def _unfolded(name: str, axis: Any) -> Any:
    if not isinstance(axis, Mapping) or "each" in axis:
        return axis
    if "sweep" not in axis:
        return {str(entry): substituted(bundle, name, str(entry)) for entry, bundle in axis.items()}
    template = own_bundle(axis)
    made = {}
    for entry in sweep_entries(axis["sweep"]):
        made[entry.name] = substituted(template, name, entry.value)
    return {"sweep": axis["sweep"], "with": axis.get("with") or {}, MADE: made}


def own_bundle(axis: Mapping[str, Any]) -> dict[str, Any]:
    """What an axis that writes itself says of every entry."""
    return {key: value for key, value in axis.items() if key not in _OWN}


def substituted(value: Any, axis: str, text: str) -> Any:
    """`value` with ``{axis}`` and ``{value}`` replaced by `text`, file templates left alone."""
    if isinstance(value, str):
        return (
            re.sub(r"\{(value|" + re.escape(axis) + r")\}", lambda _: text, value) if "{" in value else value
        )
    if isinstance(value, Mapping):
        return {k: v if k in _TEMPLATES else substituted(v, axis, text) for k, v in value.items()}
    if isinstance(value, list):
        return [substituted(part, axis, text) for part in value]
    return value
