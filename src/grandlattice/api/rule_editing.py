"""Rules, grades and entries of a plan as its file has them: joined, narrowed and taken out, comments kept."""

from __future__ import annotations

import copy
from collections.abc import Mapping, Sequence
from fnmatch import fnmatchcase
from typing import Any

from ruamel.yaml.comments import CommentedMap, CommentedSeq

from grandlattice.api.axis_builder import as_texts
from grandlattice.tables.grades import GRADES


def one_or_all(entries: Sequence[str]) -> Any:
    return entries[0] if len(entries) == 1 else list(dict.fromkeys(entries))


def is_same(said: Any, match: Mapping[str, Any]) -> bool:
    if not isinstance(said, Mapping):
        return False
    return {str(k): listed(v) for k, v in said.items()} == {k: listed(v) for k, v in match.items()}


def listed(entries: Any) -> list[str]:
    return [str(each) for each in (entries if isinstance(entries, list | tuple) else [entries])]


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
    mapping[key] = value
    return mapping


def narrowed(
    match: Mapping[str, Any], keeps: Mapping[str, str], names: Mapping[str, Sequence[str]]
) -> dict[str, Any] | None:
    """What a rule means once axes have one entry each; None where it means nothing any more."""
    left = dict(match)
    for axis, entry in keeps.items():
        if axis not in match:
            continue
        held = [e for e in listed(match[axis]) if e == entry or fnmatchcase(entry, e)]
        known = [e for e in listed(match[axis]) if e not in held and e not in names[axis] and "*" not in e]
        if not held and not known:
            return None
        left[axis] = one_or_all(held or known)
    return left


def pruned(rules: Any, keeps: Mapping[str, str], names: Mapping[str, Sequence[str]]) -> Any:
    """Rules without those that speak of entries which are gone."""
    for k in reversed(range(len(rules))):
        rule = rules[k]
        if "keep" in rule:
            matches = [m for m in (narrowed(m, keeps, names) for m in rule["keep"]) if m is not None]
            if matches:
                renewed(rule, "keep", matches)
                continue
            del rules[k]
            continue
        kind = next(key for key in ("drop", "at", "add") if key in rule)
        match = narrowed(rule[kind], keeps, names)
        if match is None:
            del rules[k]
        else:
            renewed(rule, kind, match)
    return rules


def renewed(rule: Any, key: str, value: Any) -> None:
    """Put a value in place of another where it differs, so that what stays keeps its look."""
    if rule[key] != value:
        flow = getattr(rule[key], "fa", None)
        rule[key] = as_texts(value)
        if flow is not None and flow.flow_style() and isinstance(rule[key], CommentedMap):
            rule[key].fa.set_flow_style()
