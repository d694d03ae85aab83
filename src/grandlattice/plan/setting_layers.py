"""Who says what of a cell, weakest first: defaults, axes in the order written, rules in the order
written, the caller.

Each speaker becomes one `Saying`, with its takes and qualities unrolled: a bundle unrolls where it
is named, and keys beside it win over it.  A cell (`cell_maker`) and a column over all cells
(`setting_columns`) are made from the same sayings, so that they cannot disagree.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Any

from grandlattice._support.plug_ins import RENDERERS, installed
from grandlattice.errors import Place, PlanError, nearest
from grandlattice.plan.axes import AxisTable, Path
from grandlattice.plan.edit_verbs import Edit
from grandlattice.plan.reader import Document
from grandlattice.plan.schema import Bundle, PlanModel
from grandlattice.plan.settings import Settings
from grandlattice.tables.caption_names import CAPTIONS
from grandlattice.tables.passes import PASSES, is_pass

_DEEPEST = 60  # takes, or qualities, built on one another
_MOST_UNROLLED = 200_000  # takes in all entries of a plan together


@dataclass(frozen=True)
class PlacedEdit:
    """An edit, who asked for it (``light=evening``, ``rule 2``) and where that stands."""

    edit: Edit
    source: str
    place: Place


@dataclass(frozen=True)
class Saying:
    """What one speaker says: settings with their places, and edits, both in order."""

    source: str
    settings: tuple[tuple[str, Any, Place], ...] = ()
    edits: tuple[PlacedEdit, ...] = ()


def laid(key: str, before: Any, value: Any) -> Any:
    """A setting after `value` was said over `before` (None where nothing was)."""
    if key == "passes" and value and value[0][0] in "+-":
        return _amended(before or ["beauty"], value)
    if key == "grade":
        return value.laid_over(before)
    if key == "take":
        return (*(before or ()), *(name for name in value if name not in (before or ())))
    return value


def _amended(passes: Sequence[str], changes: Sequence[str]) -> list[str]:
    amended = list(passes)
    for change in changes:
        name = change[1:]
        if change[0] == "+" and name not in amended:
            amended.append(name)
        elif change[0] == "-" and name in amended:
            amended.remove(name)
    return amended


THIS_CALL = "this call (--set, --edit, or override)"


class Sayings:
    """All speakers of a plan.

    Attributes
    ----------
    defaults : the saying of `defaults`.
    options : for each axis, one saying for each entry.
    """

    def __init__(self, model: PlanModel, document: Document, axes: Sequence[AxisTable]) -> None:
        self._model, self._document = model, document
        self._unrolled_so_far = 0
        self.required = tuple(model.require)
        self.defaults = self.of("defaults", [(model.defaults, ("defaults",))])
        self.options = tuple(
            tuple(self.of(f"{axis.name}={option.name}", option.said) for option in axis.options)
            for axis in axes
        )

    def place_of(self, key: str) -> Place:
        """Where a key of the plan stands."""
        return self._document.place([key])

    def of(self, source: str, said: Sequence[tuple[Settings, Path]]) -> Saying:
        """One speaker's bundles, in order, as one saying.

        Raises
        ------
        PlanError
            For a take or a quality that is not there.
        """
        settings: list[tuple[str, Any, Place]] = []
        edits: list[PlacedEdit] = []
        for bundle, path in said:
            if isinstance(bundle, Bundle) and bundle.use:
                settings.append(("take", tuple(bundle.use), self._place((*path, "use"))))
            for part, at in self._unrolled(bundle, path):
                settings += self._settings(part, at)
                if isinstance(part, Bundle):
                    edits += [
                        PlacedEdit(edit, source, self._place((*at, "edits", i) if at else at))
                        for i, edit in enumerate(part.edits)
                    ]
        return Saying(source, tuple(settings), tuple(edits))

    def _settings(
        self, said: Settings, path: Path, above: tuple[str, ...] = ()
    ) -> Iterator[tuple[str, Any, Place]]:
        given = said.given()
        if "quality" in given:
            name = given["quality"]
            if name in above or len(above) >= _DEEPEST:
                raise PlanError(
                    f"The quality {name} is built on itself." if name in above
                    else f"Qualities are built on each other more than {_DEEPEST} deep.",
                    place=self._place(path, "quality"),
                )  # fmt: skip
            if name not in self._model.qualities:
                raise PlanError(
                    f"There is no quality {name}. {nearest(name, self._model.qualities)}",
                    place=self._place(path, "quality"),
                )
            yield from self._settings(self._model.qualities[name], ("qualities", name), (*above, name))
        for name in given.get("label", ()):
            refuse_unknown_caption(name, self._model, self._place(path, "label"))
        for name in given.get("passes", ()):
            known = self._model.own_passes
            if not is_pass(name.lstrip("+-")) and name.lstrip("+-") not in known:
                raise PlanError(
                    f"There is no pass {name.lstrip('+-')}. {nearest(name.lstrip('+-'), [*known, *PASSES])}",
                    place=self._place(path, "passes"),
                    cure="passes of your own stand under own-passes",
                )
        if "renderer" in given:
            self._refuse_unknown_renderer(given["renderer"], path)
        for key, value in given.items():
            typed = "print" if key == "size" and said.print is not None else key
            yield key, value, self._place(path, typed)

    def _refuse_unknown_renderer(self, text: str, path: Path) -> None:
        name, _, version = text.partition(" ")
        known = self._model.renderers
        others = [each for each in installed(RENDERERS) if each != "command"]
        if name in others and name not in known and not version:
            return
        if name not in known:
            raise PlanError(
                f"There is no renderer {name}. {nearest(name, [*others, *known])}",
                place=self._place(path, "renderer"),
            )
        if version and version not in known[name].executables:
            raise PlanError(
                f"The renderer {name} has no executable {version}. "
                f"{nearest(version, known[name].executables)}",
                place=self._place(path, "renderer"),
            )

    def _unrolled(self, bundle: Settings, path: Path) -> Iterator[tuple[Settings, Path]]:
        """The takes a bundle uses, those they use before them, and last the bundle itself."""

        def walk(current: Settings, at: Path, above: tuple[str, ...]) -> Iterator[tuple[Settings, Path]]:
            for name in (current.use or ()) if isinstance(current, Bundle) else ():
                if name not in self._model.takes:
                    raise PlanError(
                        f"There is no take {name}. {nearest(name, self._model.takes)}",
                        place=self._place((*at, "use")),
                    )
                if name in above or len(above) >= _DEEPEST:
                    raise PlanError(
                        f"The take {name} is built on itself." if name in above
                        else f"Takes are built on each other more than {_DEEPEST} deep.",
                        place=self._place(("takes", name)),
                    )  # fmt: skip
                self._unrolled_so_far += 1
                if self._unrolled_so_far > _MOST_UNROLLED:
                    raise PlanError(
                        f"The takes unroll to more than {_MOST_UNROLLED:,} parts.",
                        place=self._place(("takes", name)),
                        cure="have each take used once",
                    )
                yield from walk(self._model.takes[name], ("takes", name), (*above, name))
            yield current, at

        yield from walk(bundle, path, ())

    def _place(self, path: Path, key: str | None = None) -> Place:
        """Where something stands in the plan; what has no path there was said by the caller."""
        return self._document.place(path, key) if path else Place(words=THIS_CALL)


def refuse_unknown_caption(name: str, model: PlanModel, place: Place | None) -> None:
    """Make sure that there is something to say of a name.

    Raises
    ------
    PlanError
        When there is not.
    """
    if name not in CAPTIONS and name not in model.words:
        hint = nearest(name, [*CAPTIONS, *model.words])
        raise PlanError(f"There is no caption {name}. {hint}", place=place)
