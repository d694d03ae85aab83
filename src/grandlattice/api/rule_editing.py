"""Rules, grades and entries of a plan as its file has them: joined, narrowed and taken out, comments kept."""

from __future__ import annotations

import copy
from collections.abc import Mapping, Sequence
from typing import Any

from ruamel.yaml.comments import CommentedMap, CommentedSeq

from grandlattice.api.axis_builder import as_texts
from grandlattice.plan.axes import AxisTable
from grandlattice.plan.value_types import as_list
from grandlattice.tables.grades import GRADES


def one_or_all(entries: Sequence[str]) -> Any:
    """Entries as a match writes them: one alone, or a list without repetitions."""
    return entries[0] if len(entries) == 1 else list(dict.fromkeys(entries))


def is_same(said: Any, match: Mapping[str, Any]) -> bool:
    """Whether what a rule says to mean cells is a match, however its entries are written."""
    if not isinstance(said, Mapping):
        return False
    return {str(k): as_texts_of(v) for k, v in said.items()} == {k: as_texts_of(v) for k, v in match.items()}


def as_texts_of(entries: Any) -> list[str]:
    """Entries of a match, one or several, as a list."""
    return [str(each) for each in as_list(entries)]


def every_key(*parts: Any) -> set[str]:
    """Every key in parts of a plan."""
    found: set[str] = set()
    waiting = list(parts)
    while waiting:
        value = waiting.pop()
        if isinstance(value, Mapping):
            found |= {str(key) for key in value}
            waiting += value.values()
        elif isinstance(value, list | tuple):
            waiting += value
    return found


def graded(where: Any, given: Mapping[str, Any]) -> Any:
    """A bundle with a grade; values join those that are there, none of them is off."""
    before = where.get("grade")
    if not given:
        where["grade"] = "off"
    elif isinstance(before, CommentedMap):
        before.update({name: f"{float(value):g}" for name, value in given.items()})
    else:
        grade = CommentedMap({name: f"{float(value):g}" for name, value in given.items()})
        if str(before or "").lower() == "off":
            grade = CommentedMap({**{name: f"{v.neutral:g}" for name, v in GRADES.items()}, **grade})
        where["grade"] = grade
    if isinstance(where.get("grade"), CommentedMap):
        where["grade"].fa.set_flow_style()
    return where


def appended(rules: Any, rule: Mapping[str, Any]) -> Any:
    """Rules with one more behind them; none is no rules."""
    rules = CommentedSeq() if rules is None else rules
    if isinstance(rule, CommentedMap):
        for key in ("at", "add"):
            if isinstance(rule.get(key), CommentedMap):
                rule[key].fa.set_flow_style()
    if len(rules) and isinstance(rule, CommentedMap):
        move_blank_lines(rules[-1], rule)
    rules.append(rule)
    return rules


def move_blank_lines(before: Any, rule: CommentedMap) -> None:
    """Have blank lines and comments behind the last rule stand behind a new one."""
    if not isinstance(before, CommentedMap) or not before:
        return
    token = (before.ca.items.get(list(before)[-1]) or [None] * 4)[2]
    if token is None or "\n" not in token.value:
        return
    own, _, rest = token.value.partition("\n")
    if rest:
        moved = copy.copy(token)
        token.value, moved.value = own + "\n", "\n" + rest
        rule.ca.items[list(rule)[-1]] = [None, None, moved, None]
        if not own:
            del before.ca.items[list(before)[-1]]


def changed_key(mapping: Any, key: str, value: Any) -> Any:
    """A mapping with another value for a key."""
    mapping[key] = value
    return mapping


def finer_sweep(axes: Any, name: str, more: Sequence[str]) -> Any:
    """Axes with further values for one that sweeps."""
    sweep = axes[name]["sweep"]
    also = CommentedSeq([*map(str, as_list(sweep.get("also") or [])), *more])
    also.fa.set_flow_style()
    sweep["also"] = also
    return axes


def without_keys(mapping: Any, keys: Sequence[str]) -> Any:
    """A mapping without some of its keys."""
    for key in keys:
        del mapping[key]
    return mapping


Kept = Mapping[str, tuple[AxisTable, int]]
"""Axes that have one entry left: the axis as it was, and the number of that entry."""


def narrowed(match: Mapping[str, Any], kept: Kept) -> dict[str, Any] | None:
    """What a match of entries means once axes have one entry each; None where it means no cell any more."""
    left = dict(match)
    for axis, (table, number) in kept.items():
        if axis not in match:
            continue
        if not table.matching(as_texts_of(match[axis]))[number]:
            return None
        left[axis] = table.options[number].name
    return left


def pruned(rules: Any, kept: Kept) -> Any:
    """Rules without those that speak of entries which are gone."""
    for k in reversed(range(len(rules))):
        rule = rules[k]
        kind = next(key for key in ("keep", "drop", "at", "add") if key in rule)
        if kind == "keep":
            match: Any = [m for m in (narrowed(m, kept) for m in rule[kind]) if m is not None]
        else:
            match = narrowed(rule[kind], kept)
        if match:
            renewed(rule, kind, match)
        elif match is None or kind == "keep":
            del rules[k]
    return rules


def renewed(rule: Any, key: str, value: Any) -> None:
    """Put a value in place of another where it differs, so that what stays keeps its look."""
    if rule[key] != value:
        flow = getattr(rule[key], "fa", None)
        rule[key] = as_texts(value)
        if flow is not None and flow.flow_style() and isinstance(rule[key], CommentedMap):
            rule[key].fa.set_flow_style()
