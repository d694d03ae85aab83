"""Changes of a plan that are made after its pictures were looked at: graded, chosen from, asked for again.

Each changes the plan as an object; `Plan.difference` shows what would stand in its file then, and `Plan.save`
writes it, comments and order as they were.
"""

from __future__ import annotations

import copy
import math
import re
from collections.abc import Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any, Self

from pydantic import ValidationError
from ruamel.yaml.comments import CommentedMap

from grandlattice.api.axis_builder import as_texts
from grandlattice.api.call_options import At, GradeValues, SettingValues, Unpack, listed
from grandlattice.api.plan_contents import given_in, said_wrongly
from grandlattice.api.plan_saving import PlanSaving
from grandlattice.api.rule_editing import (
    appended,
    changed_key,
    every_key,
    finer_sweep,
    graded,
    is_same,
    narrowed,
    one_or_all,
    pruned,
    without_keys,
)
from grandlattice.errors import NoSuchCell, OutputError, PlanError, nearest
from grandlattice.plan.grade_block import Grade
from grandlattice.plan.schema import EachAxis, SweepAxis
from grandlattice.plan.sweeps import between
from grandlattice.plan.unfolding import own_bundle, substituted
from grandlattice.stage import export_cell
from grandlattice.tables.grades import GRADES

_MOST_RULES = 200  # that one call adds


class PlanChanges(PlanSaving):
    """A plan that can be changed by what its pictures showed."""

    def grade(
        self, *, at: At = (), off: bool = False, beside: bool = False, **values: Unpack[GradeValues]
    ) -> Self:
        """Grade the displayed pictures of some cells; `save` and `finish` make it so.

        What is said joins what the plan says of the same cells.  It stands in a rule, or under ``defaults``
        where all cells are meant and nothing else grades any.

        Parameters
        ----------
        off : go back to the picture as it was traced.
        beside : leave the plan as it is, and keep the grade in a file beside its pictures; what stands there
            is said over what the plan says.  See `beside` for pictures in another output folder.
        **values : of a grade, see `tables.grades.GRADES`: exposure and its like.

        Raises
        ------
        PlanError
            For a value that cannot be, or none; beside pictures of a plan that has no file.
        NoSuchCell
            When no such cell is in the plan.

        Examples
        --------
        >>> plan.grade(at="light=noon", exposure=0.3, temperature=0.2)   # doctest: +SKIP
        """
        given: dict[str, Any] = {k.replace("_", "-"): v for k, v in values.items() if v is not None}
        if off == bool(given):
            raise PlanError(
                "A grade is off, or has values.", cure=f"name some of {', '.join(GRADES)}, or off"
            )
        try:  # said wrongly, it is refused before anything is changed
            Grade.model_validate(given)
        except ValidationError as problem:
            raise said_wrongly(problem, "this grade") from None
        for match in self._matches(listed(at)):
            if beside:
                self._grade_beside(match, given)
            else:
                self._grade_those(match, given)
        self.lattice  # noqa: B018  # refuses what cannot be
        return self

    def _grade_beside(self, match: Mapping[str, Any] | str, given: Mapping[str, Any]) -> None:
        if self.file is None:
            raise PlanError("A plan without a file keeps its grades itself.", cure="grade without beside")
        if isinstance(match, str):
            raise PlanError(
                f"{match} is a cell that a rule of the plan adds by name, and graded there.",
                cure="grade it without beside",
            )

        def put(rules: Any) -> Any:
            found = next((rule for rule in rules or () if is_same(rule.get("at"), match)), None)
            if found is None:
                return appended(rules, graded(as_texts({"at": match}), given))
            graded(found, given)
            return rules

        self.change_grades(put)

    def _grade_those(self, match: Mapping[str, Any] | str, given: Mapping[str, Any]) -> None:
        rules = [*(self._data.get("rules") or ())]
        if isinstance(match, str):
            where = next(rule for rule in rules if str(rule.get("name")) == match and "add" in rule)
        elif not match and "grade" not in every_key(rules, self._data.get("axes"), self._data.get("takes")):
            self.change("defaults", lambda said: graded(said if said is not None else {}, given))
            return
        else:
            where = next((r for r in rules if is_same(r.get("at"), match) and "grade" in r), None)
            if where is None:
                where = graded(as_texts({"at": match}), given)
                self.change("rules", lambda said: appended(said, where))
                return
        graded(where, given)
        self.change("rules", lambda said: said)

    def _matches(self, wanted: Sequence[str]) -> list[dict[str, Any] | str]:
        """What rules say to mean some cells; the name of one that was added."""
        cells = self.cells
        cells.indices(*wanted)
        axes: dict[str, list[str]] = {}
        for name, equals, entries in (text.partition("=") for text in wanted):
            if equals:
                axes.setdefault(name, []).extend(entries.split(","))
        addresses = [text for text in wanted if "=" not in text]
        if axes and addresses:  # they narrow each other down
            every = [c.name if c.name is not None else dict(c.coordinates) for c in cells.at(*wanted)]
            if len(every) > _MOST_RULES:
                raise PlanError(f"That means {len(every):,} cells, each with a rule.", cure="say axes alone")
            return every
        if not addresses:
            return [{name: one_or_all(entries) for name, entries in axes.items()}]
        added = {cell.name for cell in self.lattice.added}
        return [text if text in added else self._match_of(text) for text in addresses]

    def relight(self, lamps: Mapping[str, tuple[float, str]], *, at: At = ()) -> Self:
        """Multiply the strength and colour of lamps of some cells, as a mix of their light passes shows it.

        Parameters
        ----------
        lamps : name of a lamp's prim → strength, and tint as ``#ffd0a0``; white leaves the colour.

        Raises
        ------
        PlanError
            For a lamp that is not there, or a value that cannot be.

        Examples
        --------
        >>> plan.relight({"Lamp": (1.5, "#ffe0c0")}, at="light=noon")    # doctest: +SKIP
        """
        there = {fact.path.rpartition("/")[2] for fact in self.facts.lights}
        edits = []
        for lamp, (strength, tint) in lamps.items():
            if lamp not in there:
                raise PlanError(
                    f"There is no lamp {lamp}. {nearest(lamp, there)}",
                    cure="what glows by itself is changed in its material, with set",
                )
            if not 0 <= strength < math.inf or not re.fullmatch(r"#[0-9a-fA-F]{6}", tint):
                raise PlanError(f"{lamp} cannot be {strength:g} times as strong, of the tint {tint}.")
            changed: dict[str, Any] = {"on": f"//{lamp}", "intensity": f"{strength:.5g}"}
            if tint.lower() != "#ffffff":
                changed["color"] = [f"{gain:.4g}" for gain in _gains(tint)]
            edits.append({"multiply": changed})
        return self.amend(at=at, edits=edits)

    def amend(
        self, *, at: At = (), edits: Sequence[Mapping[str, Any]] = (), **settings: Unpack[SettingValues]
    ) -> Self:  # fmt: skip
        """Say settings and edits of some cells, in rules behind all others.

        Raises
        ------
        PlanError
            For what cannot be, or nothing.
        NoSuchCell
            When no such cell is in the plan.

        Examples
        --------
        >>> plan.amend(at="camera=Wide", fstop=2.8, focus="3.2 m")       # doctest: +SKIP
        """
        said: dict[str, Any] = {key.replace("_", "-"): value for key, value in settings.items()}
        if edits:
            said["edits"] = [dict(edit) for edit in edits]
        if not said:
            raise PlanError("Nothing is said that cells should have.", cure="name a setting, or an edit")
        self.override(edits=edits, **settings)  # refuses what cannot be
        for match in self._matches(listed(at)):
            if isinstance(match, str):  # a cell that was added has its own rule
                rule = next(r for r in self._data["rules"] if str(r.get("name")) == match and "add" in r)
                both = [*rule.get("edits", ()), *said.get("edits", ())]
                rule.update(as_texts({**said, **({"edits": both} if both else {})}))
                self.change("rules", lambda rules: rules)
            else:
                rule = as_texts({"at": match, **said})
                self.change("rules", lambda rules, rule=rule: appended(rules, rule))
        self.lattice  # noqa: B018  # refuses what cannot be
        return self

    def finer(self, axis: str, first: str, second: str, count: int = 1) -> Self:
        """Add steps between two entries of an axis that sweeps, evenly spaced; all others stay.

        Cells of one plan have the same seed, so that the new ones have the noise of their neighbours.

        Parameters
        ----------
        count : how many steps to add.

        Raises
        ------
        PlanError
            When the axis does not sweep, or there is nothing between.
        NoSuchCell
            When there is no such entry.

        Examples
        --------
        >>> plan.finer("sky", "040", "050")                             # doctest: +SKIP
        """
        tables = {table.name: table for table in self.lattice.axes}
        name = axis if axis in tables else axis.replace("_", "-")
        if name not in tables:
            raise NoSuchCell(f"There is no axis {axis}. {nearest(axis, tables)}")
        kind = self.model.axes[name]
        if not isinstance(kind, SweepAxis):
            sweeps = [axis for axis, said in self.model.axes.items() if isinstance(said, SweepAxis)]
            raise PlanError(
                f"{name} does not sweep, so that nothing is between its entries.",
                cure=f"of this plan {', '.join(sweeps)} does" if sweeps else "give it a sweep: in the plan",
            )
        ends = [self.chosen_entries({name: entry})[name] for entry in (first, second)]
        values = [tables[name].options[tables[name].index[entry]].value for entry in ends]
        more = between(values[0], values[1], count)
        self.change("axes", lambda axes: finer_sweep(axes, name, more))
        self.lattice  # noqa: B018  # refuses what cannot be
        return self

    def _match_of(self, address: str) -> dict[str, Any]:
        """What a rule says to mean the cells of an address; an empty part of it means any entry."""
        parts = zip(self.cells.axes, address.split("/"), strict=False)
        return {axis: one_or_all(part.split(",")) for axis, part in parts if part}

    def adopt(self, **chosen: str) -> Self:
        """Let axes stay with one entry each; addresses, file names and what is done stay.

        Rules and sets that speak of other entries alone go with them.

        Parameters
        ----------
        **chosen : axis and entry, such as ``sky="040"``; an axis with - in its name is written with _.

        Raises
        ------
        PlanError
            When there is no such axis or entry, or no cell of the plan has it.

        Examples
        --------
        >>> plan.adopt(sky="040")                                       # doctest: +SKIP
        """
        tables = {axis.name: axis for axis in self.lattice.axes}
        keeps: dict[str, str] = {}
        for name, entry in self.chosen_entries(chosen).items():
            place = tables[name].index[entry]
            for partner in self._in_step(name):  # axes of equal length that advance in step
                keeps[partner] = tables[partner].options[place].name
        self.cells.indices(*(f"{axis}={entry}" for axis, entry in keeps.items()))  # some cell has them
        kept = {axis: (tables[axis], tables[axis].index[entry]) for axis, entry in keeps.items()}
        for axis, entry in keeps.items():
            bundle = self._entry_alone(axis, entry)
            self.change("axes", lambda axes, axis=axis, bundle=bundle: changed_key(axes, axis, bundle))
        if self._data.get("rules"):
            self.change("rules", lambda rules: pruned(rules, kept))
            if not self._data["rules"]:
                del self._data["rules"]
        if self._grades is not None:
            self.change_grades(lambda rules: pruned(rules, kept))
        sets = self._data.get("sets") or {}
        left = {
            title: [m for m in (narrowed(m, kept) for m in sets[title]) if m is not None] for title in sets
        }
        for title, matches in left.items():
            if matches and matches != sets[title]:
                self.change("sets", lambda said, t=title, m=matches: changed_key(said, t, m))
        if not all(left.values()):
            self.change("sets", lambda said: without_keys(said, [t for t in left if not left[t]]))
            if not self._data["sets"]:
                del self._data["sets"]
        self.lattice  # noqa: B018  # refuses what cannot be
        return self

    def chosen_entries(self, chosen: Mapping[str, str]) -> dict[str, str]:
        """Axes and entries as the plan names them.

        Raises
        ------
        NoSuchCell, PlanError
            When there is no such axis or entry, or several entries are meant.
        """
        tables = {axis.name: axis for axis in self.lattice.axes}
        found = {}
        for said, entry in chosen.items():
            name = said if said in tables else said.replace("_", "-")
            if name not in tables:
                raise NoSuchCell(f"There is no axis {said}. {nearest(said, tables)}")
            places = tables[name].matching([str(entry)]).nonzero()[0]
            if len(places) != 1:
                raise PlanError(f"{entry} means {len(places)} entries of {name}.", cure="name one of them")
            found[name] = tables[name].options[int(places[0])].name
        return found

    def export_entries(self, file: str | Path, chosen: Mapping[str, str]) -> Path:
        """Write what entries of axes change as one USD layer over the scene.

        Parameters
        ----------
        chosen : axis and entry, as for `adopt`.

        Raises
        ------
        NoSuchCell, PlanError
            When there is no such axis or entry.
        OutputError
            When the file exists or cannot be written.
        """
        path = Path(file)
        if path.exists():
            raise OutputError(f"{path.name} exists already and is left as it is.", cure="name another file")
        entries = self.chosen_entries(chosen)
        said = {f"{axis}={entry}" for axis, entry in entries.items()}
        cell = self.cells.at(*said)[0]
        own = tuple(placed for placed in cell.edits if placed.source in said)
        return export_cell(self.scene, self.model, self.folder, replace(cell, edits=own), None, path)

    def _in_step(self, axis: str) -> list[str]:
        for group in self.model.together:
            if axis in group:
                return list(group)
        return [axis]

    def _entry_alone(self, axis: str, entry: str) -> CommentedMap:
        """An axis with one of its entries, written out where it wrote itself."""
        said, kind = self._data["axes"][axis], self.model.axes[axis]
        if not isinstance(kind, EachAxis | SweepAxis):
            alone = copy.copy(said)
            for other in [key for key in said if str(key) != entry]:
                del alone[other]
            return alone
        option = next(o for o in self.lattice.axes[self._axis_number(axis)].options if o.name == entry)
        template = own_bundle(said)
        own = [said["with"][path[3]] for _, path in option.said if path[2:3] == ("with",)]
        # What stands before these is what an entry of the scene brings along, such as its camera.
        implied = [part for part, _ in option.said[: len(option.said) - len(own) - bool(template)]]
        if isinstance(kind, SweepAxis):
            implied = []
        bundle: dict[str, Any] = {}
        for part in (*map(_as_written, implied), substituted(template, axis, option.value), *own):
            for key, value in (part or {}).items():
                bundle[key] = [*bundle.get("edits", ()), *value] if key == "edits" else value
        return CommentedMap({entry: as_texts(bundle)})

    def _axis_number(self, name: str) -> int:
        return [axis.name for axis in self.lattice.axes].index(name)

    def again(self, cell: str, /, name: str | None = None, **settings: Unpack[SettingValues]) -> Self:
        """Add a cell that is another one with other settings: larger, sharper, a panorama.

        Parameters
        ----------
        name : of the new cell; what it is and its settings by default.

        Raises
        ------
        PlanError
            For a setting that cannot be, or a name that is there.

        Examples
        --------
        >>> plan.again("noon/brass/all/Wide", projection="panorama")    # doctest: +SKIP
        """
        found = self.cells[cell]
        self.override(**settings)  # refuses what cannot be
        said = {key.replace("_", "-"): value for key, value in settings.items()}
        told = "-".join([found.file_name, *(f"{k}-{v}" for k, v in said.items() if isinstance(v, str | int))])
        title = name or "".join(c if c.isalnum() or c in "-_." else "-" for c in told)
        if any(added.name == title for added in self.lattice.added):
            raise PlanError(f"There is a cell {title} already.", cure="name another with --name")
        rule = {"add": dict(found.coordinates), "name": title, **self._of_added(found.name), **said}
        self.change("rules", lambda rules: appended(rules, as_texts(rule)))
        self.cells[title]
        return self

    def _of_added(self, name: str | None) -> dict[str, Any]:
        """What the rule of an added cell says besides its place."""
        for rule in self._data.get("rules") or ():
            if name is not None and "add" in rule and str(rule.get("name")) == name:
                return {key: copy.deepcopy(rule[key]) for key in rule if key not in ("add", "name")}
        return {}


def _gains(tint: str) -> list[float]:
    """A tint as it is shown, such as ``#ffd0a0``, as gains of scene-linear light; white is 1."""
    shown = [int(tint[at : at + 2], 16) / 255 for at in (1, 3, 5)]
    return [part / 12.92 if part <= 0.04045 else ((part + 0.055) / 1.055) ** 2.4 for part in shown]


def _as_written(part: Any) -> dict[str, Any]:
    """What an entry of the scene brings along, as a plan file writes it."""
    found = {key: value for key, value in given_in(part).items() if value}
    if "edits" in found:
        found["edits"] = [
            {edit.verb: edit.body.model_dump(mode="json", by_alias=True, exclude_unset=True)}
            for edit in found["edits"]
        ]
    return found
