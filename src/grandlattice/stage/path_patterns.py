"""Path expressions with names beyond ASCII, which USD's own parser does not read.

Such an expression is taken apart here: into patterns, and the operators between them.  Patterns
within ASCII are USD's business all the same; the others are matched name by name.
"""

from __future__ import annotations

import fnmatch
import re
from collections.abc import Callable

from pxr import Sdf, Usd

Paths = frozenset[Sdf.Path]
_TOKENS = re.compile(r"\s*(?:([~&()])|([-+])(?=\s|/|~|\(|%)|((?:[^\s~&()+{}-]|-(?!\s|/)|\{[^{}]*\})+))(\s*)")
_LEVELS = "-", "&", "+", " "
"""Operators between two parts, those that bind least first; a blank between two is a union."""


def evaluate(text: str, stage: Usd.Stage, ask: Callable[[str], Paths]) -> Paths:
    """The prims an expression means.

    Parameters
    ----------
    ask : answers patterns within ASCII, such as ``//Lamp*{isa:Light}``.

    Raises
    ------
    ValueError
        When it cannot be read.
    """
    tokens = _tokens(text)
    everything = frozenset(p.GetPath() for p in stage.Traverse(Usd.TraverseInstanceProxies()))
    found, rest = _level(tokens, 0, lambda atom: _matched(atom, everything, ask), everything)
    if rest:
        raise ValueError(f"{rest[0]!r} stands where the expression should end")
    return found


def _tokens(text: str) -> list[str]:
    tokens: list[str] = []
    at = 0
    while at < len(text):
        match = _TOKENS.match(text, at)
        if match is None:
            raise ValueError(f"{text[at:].strip()[:20]!r} cannot be read")
        token = match[1] or match[2] or match[3]
        if tokens and tokens[-1] not in "~&(+-" and token not in "&)+-":
            tokens.append(" ")
        tokens.append(token)
        at = match.end()
    return tokens


def _level(
    tokens: list[str], level: int, atom: Callable[[str], Paths], everything: Paths
) -> tuple[Paths, list[str]]:
    if level == len(_LEVELS):
        return _part(tokens, atom, everything)
    found, rest = _level(tokens, level + 1, atom, everything)
    while rest and rest[0] == _LEVELS[level]:
        other, rest = _level(rest[1:], level + 1, atom, everything)
        found = {"-": found - other, "&": found & other}.get(_LEVELS[level], found | other)
    return found, rest


def _part(tokens: list[str], atom: Callable[[str], Paths], everything: Paths) -> tuple[Paths, list[str]]:
    if not tokens or tokens[0] in ")&+- ":
        raise ValueError("something is missing in it")
    if tokens[0] == "~":
        found, rest = _part(tokens[1:], atom, everything)
        return everything - found, rest
    if tokens[0] == "(":
        found, rest = _level(tokens[1:], 0, atom, everything)
        if not rest or rest[0] != ")":
            raise ValueError("a ) is missing in it")
        return found, rest[1:]
    return atom(tokens[0]), tokens[1:]


def _matched(atom: str, everything: Paths, ask: Callable[[str], Paths]) -> Paths:
    """The prims a single pattern means."""
    if atom.isascii():
        return ask(atom)
    pattern, brace, predicate = atom.partition("{")
    if not pattern.startswith("/") or "{" in predicate:
        raise ValueError(f"{atom!r} cannot be read")
    whole = re.compile("".join(_regular(pattern)))
    found = frozenset(path for path in everything if whole.fullmatch(str(path)))
    return found & ask("//{" + predicate) if brace else found


def _regular(pattern: str) -> list[str]:
    """Parts of a regular expression for a pattern such as ``//Möwe*/Flügel``."""
    parts = []
    names = pattern.split("/")[1:]
    deep = False
    for k, name in enumerate(names):
        if not name:
            if k == len(names) - 1:
                parts.append("(?:/.*)?")
            deep = True
            continue
        one = fnmatch.translate(name).removeprefix("(?s:").removesuffix(r")\Z").replace(".*", "[^/]*")
        parts.append(("(?:/[^/]+)*/" if deep else "/") + one)
        deep = False
    return parts
