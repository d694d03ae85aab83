"""Selections: from a name, a prim path or a path expression to prims.

Expressions are USD's own.  What USD would let pass in silence (a mistyped type or predicate
that matches nothing, a path that is not there) is an error here, with the nearest spelling.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence

from pxr import Sdf, Tf, Usd

from grandlattice.errors import EditError, Place, nearest
from grandlattice.stage.attributes import said_by_usd
from grandlattice.stage.light_reading import light_prims
from grandlattice.stage.path_patterns import evaluate

HELPERS = Sdf.Path("/LatticeHelpers")  # everything of ours in a composed stage stands below it
_COLLECTION = "asked"
_DEEPEST = 60  # named selections made of one another
_PREDICATES = ("isa", "hasAPI", "kind", "variant", "defined", "model", "group", "abstract")


class Selector:
    """Answers selections on one stage.

    Parameters
    ----------
    stage : the stage asked; its session layer holds the question.
    named : name → texts, the plan's `select`.
    """

    def __init__(self, stage: Usd.Stage, named: Mapping[str, Sequence[str]]) -> None:
        self._stage = stage
        self._named = named
        self._known: dict[str, tuple[Sdf.Path, ...]] = {}
        self._lights: tuple[Sdf.Path, ...] | None = None

    def forget(self) -> None:
        """Forget the answers; for when the stage's structure changed."""
        self._known.clear()
        self._lights = None

    @property
    def lights(self) -> tuple[Sdf.Path, ...]:
        """All lights, in the order of the stage, instances included."""
        if self._lights is None:
            self._lights = tuple(prim.GetPath() for prim in light_prims(self._stage))
        return self._lights

    def prims(
        self, on: Iterable[str], without: Iterable[str] = (), *, place: Place, maybe: bool = False
    ) -> list[Sdf.Path]:
        """Exactly the prims selected, sorted by path.

        Raises
        ------
        EditError
            When a text means nothing, or nothing is selected and `maybe` is False.
        """
        texts = list(on)
        found = {path for text in texts for path in self._asked(text, place, maybe)}
        for text in without:
            below = self._asked(text, place, True)
            found = {p for p in found if not any(p.HasPrefix(top) for top in below)}
        if not found and not maybe:
            raise EditError(
                f"{', '.join(texts)} selects nothing in the scene.{self._nearest_name(texts)}",
                place=place,
                cure="look the names up with glat survey, or add maybe: true",
            )
        return sorted(found)

    def _asked(
        self, text: str, place: Place, maybe: bool, above: tuple[str, ...] = ()
    ) -> tuple[Sdf.Path, ...]:
        if text in self._named:
            if text in above or len(above) >= _DEEPEST:
                raise EditError(
                    f"The selection {text} is made of itself." if text in above
                    else f"Selections are made of each other more than {_DEEPEST} deep.", place=place,
                )  # fmt: skip
            if text not in self._known or not (self._known[text] or maybe):
                parts = [self._asked(part, place, maybe, (*above, text)) for part in self._named[text]]
                self._known[text] = tuple(dict.fromkeys(path for part in parts for path in part))
            return self._known[text]
        if text not in self._known:
            self._known[text] = self._answer(text, place, maybe)
        return self._known[text]

    def _answer(self, text: str, place: Place, maybe: bool) -> tuple[Sdf.Path, ...]:
        if not text.startswith(("/", "~", "(", "%")):
            raise EditError(
                f"There is no selection {text}. {nearest(text, self._named)}",
                place=place,
                cure="add it under select, or write a prim path such as /Room/Lamp",
            )
        if Sdf.Path.IsValidPathString(text) and Sdf.Path(text).IsPrimPath():
            prim = self._stage.GetPrimAtPath(text)
            if prim and prim.IsDefined():
                return (prim.GetPath(),)
            if maybe:
                return ()
            raise EditError(f"The scene has no prim {text}. {self._nearest_path(text)}", place=place)
        self._check_predicates(text, place)
        if text.isascii():
            return self._evaluated(text, place)
        try:
            found = evaluate(text, self._stage, lambda part: frozenset(self._evaluated(part, place)))
        except (ValueError, RecursionError) as problem:
            raise EditError(f"The selection {text} cannot be understood: {problem}.", place=place) from None
        return tuple(sorted(path for path in found if not path.HasPrefix(HELPERS)))

    def _evaluated(self, text: str, place: Place) -> tuple[Sdf.Path, ...]:
        session = self._stage.GetSessionLayer()
        with Usd.EditContext(self._stage, session):
            try:
                helper = self._stage.OverridePrim(HELPERS)
                collection = Usd.CollectionAPI.Apply(helper, _COLLECTION)
                expression = Sdf.PathExpression(text)
                collection.CreateMembershipExpressionAttr().Set(expression)
                query = collection.ComputeMembershipQuery()
                found = Usd.ComputeIncludedPathsFromCollection(
                    query, self._stage, Usd.TraverseInstanceProxies()
                )
            except (Tf.ErrorException, ValueError) as problem:
                raise EditError(
                    f"The selection {text} cannot be understood: {said_by_usd(problem)}.", place=place
                ) from None
            finally:
                self._stage.RemovePrim(HELPERS)
        return tuple(path for path in found if path.IsPrimPath() and not path.HasPrefix(HELPERS))

    def _check_predicates(self, text: str, place: Place) -> None:
        for inside in re.findall(r"\{([^}]*)\}", text):
            for word, argument in re.findall(r"(\w+)\s*:\s*([\w,]+)", inside):
                self._check_predicate(word, place)
                if word == "isa":
                    for name in argument.split(","):
                        if not Usd.SchemaRegistry().GetTypeFromName(name):
                            raise EditError(
                                f"There is no prim type {name}. {nearest(name, _type_names())}",
                                place=place,
                            )
            for word in re.findall(r"(\w+)\s*\(", inside):
                self._check_predicate(word, place)

    @staticmethod
    def _check_predicate(word: str, place: Place) -> None:
        if word not in _PREDICATES:
            raise EditError(f"A selection cannot ask {word}. {nearest(word, _PREDICATES)}", place=place)

    def _nearest_name(self, texts: Iterable[str]) -> str:
        """A hint where a name in an expression is like one of the scene's."""
        names = {prim.GetName() for prim in self._stage.Traverse(Usd.TraverseInstanceProxies())}
        for text in texts:
            for part in self._named.get(text, [text]):
                for word in re.findall(r"\w+", re.sub(r"\{[^}]*\}", "", part)):
                    hint = nearest(word, sorted(names - {HELPERS.name}))
                    if word not in names and hint.startswith("Did"):
                        return f" {hint}"
        return ""

    def _nearest_path(self, text: str) -> str:
        """A hint: a prim of that name elsewhere, or a name like it where the path breaks off."""
        path = Sdf.Path(text)
        there = path
        while not self._stage.GetPrimAtPath(there) and there != Sdf.Path.absoluteRootPath:
            there = there.GetParentPath()
        missing = path.GetPrefixes()[there.pathElementCount].name
        children = [p.GetName() for p in self._stage.GetPrimAtPath(there).GetAllChildren()]
        hint = nearest(missing, children)
        if hint.startswith("Did"):
            name = hint.removeprefix("Did you mean ").rstrip("?")
            rest = text[len(str(path.GetPrefixes()[there.pathElementCount])) :]
            return f"Did you mean {there.AppendChild(name)}{rest}?"
        same = [str(p.GetPath()) for p in self._stage.Traverse() if p.GetName() == path.name]
        return f"Did you mean {same[0]}?" if same else hint


def stands_below(path: str, tops: Iterable[Sdf.Path]) -> bool:
    """Whether a prim is one of some, or stands below one."""
    return any(Sdf.Path(path).HasPrefix(top) for top in tops)


def topmost(paths: Iterable[Sdf.Path]) -> list[Sdf.Path]:
    """Those paths that stand below no other of them."""
    return list(Sdf.Path.RemoveDescendentPaths(list(paths)))


def _type_names() -> list[str]:
    return [t.typeName.split("Usd", 1)[-1].removeprefix("Geom").removeprefix("Lux")
            for t in Tf.Type.Find(Usd.Typed).GetAllDerivedTypes()]  # fmt: skip
