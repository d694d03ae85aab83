"""The files of all cells at once: how many, how large, and whether two have one name.

Names are never listed.  A template's value for a cell is the concatenation of a few texts, so its
hash follows from theirs by arithmetic on whole columns; cells whose hashes meet are named and
compared as text.  A million cells take about a second.
"""

from __future__ import annotations

import itertools
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from grandlattice.errors import OutputError
from grandlattice.plan.axes import SceneFacts
from grandlattice.plan.cell_maker import CellMaker
from grandlattice.plan.cell_settings import Cell, CellSettings, decided
from grandlattice.plan.file_names import (
    LONGEST,
    FileNames,
    PlannedFile,
    contents_of,
    folded,
    number_text,
    parsed,
    planned_files,
    setting_texts,
    take_text,
    template_of,
    value_text,
    with_ending,
    wrong_name,
)
from grandlattice.plan.lattice import Lattice
from grandlattice.plan.setting_columns import settled
from grandlattice.tables.formats import FORMATS

_KEYS = ("output", "format", "passes", "files", "frames", "take", "size", "scale", "region", "projection")
_AT_ONCE = 16_000_000  # hashes held at a time
_BASE = 0x9E3779B97F4A7C15  # odd; any will do
_WORD = (1 << 64) - 1

Hashes = NDArray[np.uint64]
Indices = NDArray[np.int64]


@dataclass(frozen=True)
class Totals:
    """How much a run will make."""

    cells: int
    frames: int
    files: int
    bytes: int


@dataclass(frozen=True)
class _Part:
    """A part of a name: constant, one text for each entry of an axis, or a number."""

    texts: tuple[str, ...] = ()
    axis: int | None = None
    number: str | None = None  # "index" or "frame"
    width: str = ""

    @cached_property
    def pairs(self) -> Hashes:
        """Hash and power of each text, (N, 2)."""
        return np.array([_hash_of(folded(text)) for text in self.texts], np.uint64)


@dataclass(frozen=True)
class _Variant:
    """One kind of file of a state, with the parts of its name."""

    ext: str
    parts: tuple[_Part, ...]


class Filing:
    """The files of cells of a plan.

    Parameters
    ----------
    indices : the cells meant; all by default.
    """

    def __init__(
        self, lattice: Lattice, make: CellMaker, facts: SceneFacts, names: FileNames,
        indices: Indices | None = None,
    ) -> None:  # fmt: skip
        self._lattice, self._make, self._facts, self._names = lattice, make, facts, names
        every = np.arange(len(lattice)) if indices is None else indices
        product = len(lattice.positions)
        self._indices = every[every < product]
        self._added = [int(i) for i in every[every >= product]]

    @property
    def indices(self) -> Indices:
        """The cells meant, those of the product first."""
        return np.concatenate([self._indices, np.array(self._added, np.int64)])

    @cached_property
    def _states(self) -> tuple[NDArray[np.int32], list[CellSettings]]:
        """For each cell of the product the number of its state, and what each state decides."""
        lattice, keys = self._lattice, (*_KEYS, *self._named_settings)
        found = settled(
            keys, lattice.kept.shape, lattice.dims, lattice.sayings, lattice.amendments, self._make.caller
        )
        ids = np.transpose(found.ids, lattice.order).ravel()[lattice.positions[self._indices]]
        present = np.flatnonzero(np.bincount(ids, minlength=len(found.states)))
        number = np.zeros(len(found.states), np.int32)
        number[present] = np.arange(len(present))
        settings = [decided(dict(zip(keys, found.states[k], strict=True)), {}, self._facts) for k in present]
        return number[ids], settings

    @cached_property
    def _named_settings(self) -> tuple[str, ...]:
        """Settings whose values stand in names of files because a template names them."""
        said = [self._make.caller, *self._lattice.everything_said()]
        texts = [
            repr(value) for each in said for key, value, _ in each.settings if key in ("output", "files")
        ]
        return tuple(
            name for name in ("camera", "quality", "renderer") if any(f"{{{name}" in text for text in texts)
        )

    def totals(self) -> Totals:
        """Cells, frames, files and about how many bytes."""
        ids, states = self._states
        counts = np.bincount(ids, minlength=len(states))
        weighed = [(int(count), state) for count, state in zip(counts, states, strict=True)]
        weighed += [(1, self._make(index).settings) for index in self._added]
        cells = frames = files = size = 0
        for count, state in weighed:
            cells += count
            frames += count * len(state.frames)
            kinds = [(ext, *each) for ext in state.format for each in self._contents(state, ext)]
            files += count * len(state.frames) * len(kinds)
            pixels = state.pixels * len(state.frames)
            channels = (
                (FORMATS[ext].bytes / (2 if eye else 1), 3 * len(group) if FORMATS[ext].layered else 1)
                for ext, group, eye in kinds
            )
            size += int(count * pixels * sum(rate * each for rate, each in channels))
        return Totals(cells, frames, files, size)

    def _contents(self, state: CellSettings, ext: str) -> list[tuple[tuple[str, ...], str]]:
        pieces = self._pieces(template_of(state, ext))
        return contents_of(state, ext, {name for _, name, _ in pieces})

    def _pieces(self, template: str) -> Sequence[tuple[str, str | None, str]]:
        axes = tuple(axis.name for axis in self._lattice.axes)
        return parsed(template, axes, tuple(self._names.words), None)

    # --- two files of one name -----------------------------------------------------------------

    def refuse_collisions(self) -> None:
        """Refuse a plan in which two pictures would have one file, or a file has no possible name.

        Raises
        ------
        OutputError
            Naming both cells, the file, and the field that would keep them apart.
        """
        self._refuse_templates()
        ids, states = self._states
        for k, state in enumerate(states):
            cells = self._indices[ids == k]
            for variant in self._variants(state):
                self._refuse_impossible(variant, cells)
        total = self.totals().files
        parts = max(1, -(-total // _AT_ONCE))
        for part in range(parts):
            self._refuse_part(part, parts)

    def _refuse_templates(self) -> None:
        """Have a template that cannot be said so of a cell that has it, with its place."""
        ids, states = self._states
        firsts = [int(self._indices[np.argmax(ids == k)]) for k in range(len(states))]
        for index in [*firsts, *self._added]:
            cell = self._make(index)
            next(planned_files(cell, self._names), None)

    def _refuse_part(self, part: int, parts: int) -> None:
        def chosen(hashes: Hashes) -> Hashes:
            return hashes if parts == 1 else hashes[(hashes >> np.uint64(40)) % np.uint64(parts) == part]

        found = np.sort(np.concatenate([chosen(hashes) for hashes, _, _ in self._hashes()]))
        twice = np.unique(found[1:][found[1:] == found[:-1]])
        if len(twice):
            self._refuse_first(twice[:4096])

    def _refuse_first(self, twice: Hashes) -> None:
        """Of the files whose hashes meet, name the first two that really have one name."""
        members = [
            (int(cells[k]), frame)
            for hashes, cells, frame in self._hashes()
            for k in np.flatnonzero(np.isin(hashes, twice))[:4096]
        ]
        taken: dict[str, tuple[Cell, PlannedFile]] = {}
        for index, frame in sorted(set(members)):
            cell = self._make(index)
            for file in planned_files(cell, self._names, [frame]):
                other, kept = taken.setdefault(folded(file.path), (cell, file))
                if kept is not file:
                    raise OutputError(
                        f"{_named(other, kept)} and {_named(cell, file)} would both be written to "
                        f"{file.path}.",
                        place=cell.origins.get("output"),
                        cure=f"put {_missing(other, kept, cell, file)} into the output template",
                    )

    def hashes(self, root: str) -> Hashes:
        """Hashes of the full names of all files below a folder, to compare with another plan's; (N,)."""
        return np.concatenate([hashes for hashes, _, _ in self._hashes(f"{root}/")])

    # --- files that are there already ----------------------------------------------------------

    def standing(self, paths: Sequence[str]) -> Indices:
        """Cells that may have a file of one of these names, (N,) int64.

        Where a template says `version` or `date` that is every cell: the names follow from what
        was made before.
        """
        _, states = self._states
        templates = [template_of(state, ext) for state in states for ext in state.format]
        if any(name in ("version", "date") for t in templates for _, name, _ in self._pieces(t)):
            return self.indices
        if not paths:
            return np.zeros(0, np.int64)
        known = np.array([_hash_of(folded(path))[0] for path in paths], np.uint64)
        found = [cells[np.isin(hashes, known)] for hashes, cells, _ in self._hashes()]
        return np.unique(np.concatenate(found).astype(np.int64))

    def reach(self) -> list[tuple[str, int]]:
        """Where files of the plan can be: folders, and how many levels below them."""
        _, states = self._states
        settings = [*states, *(self._make(index).settings for index in self._added)]
        templates = {template_of(state, ext) for state in settings for ext in state.format}
        found = set()
        for template in templates:
            fixed = template.partition("{")[0]
            top = fixed.rpartition("/")[0]
            found.add((top, template.count("/") - top.count("/") - bool(top)))
        return sorted(found)

    def _hashes(self, root: str = "") -> Iterator[tuple[Hashes, Indices, int]]:
        """Hashes of the folded names of files, with the cell of each and their frame."""
        ids, states = self._states
        for k, state in enumerate(states):
            cells = self._indices[ids == k]
            entries = self._lattice.entries_of(cells)
            for variant in self._variants(state):
                for frame in state.frames:
                    yield _hashed((_Part((root,)), *variant.parts), cells, entries, frame), cells, frame
        for index in self._added:
            for file in planned_files(self._make(index), self._names):
                value, _ = _hash_of(folded(root + file.path))
                yield np.array([value], np.uint64), np.array([index]), file.frame

    def _variants(self, state: CellSettings) -> list[_Variant]:
        """The kinds of files that cells of some settings have in each frame, and the parts of their names."""
        variants = []
        for ext in state.format:
            template = template_of(state, ext)
            pieces = self._pieces(template)
            fields = {name for _, name, _ in pieces}
            for content in contents_of(state, ext, fields):
                parts = [part for piece in pieces for part in self._parts(piece, state, ext, *content)]
                parts.append(_Part((with_ending(template, fields, ext),)))
                variants.append(_Variant(ext, tuple(parts)))
        return variants

    def _parts(
        self, piece: tuple[str, str | None, str], state: CellSettings, ext: str, passes: tuple[str, ...],
        eye: str,
    ) -> Iterator[_Part]:  # fmt: skip
        text, name, width = piece
        yield _Part((text,))
        axes = {axis.name: a for a, axis in enumerate(self._lattice.axes)}
        constant = {
            **setting_texts(state), **self._names.words, "plan": self._names.plan,
            "scene": self._names.scene, "ext": ext,
            "pass": passes[0], "take": take_text(state), "date": "0000-00-00",
            "eye": eye,
        }  # fmt: skip
        if name in axes:
            yield self._entry_parts[axes[name]]
        elif name == "cell":
            for a in range(len(axes)):
                if a:
                    yield _Part(("-",))
                yield self._entry_parts[a]
            if not axes:
                yield _Part(("cell",))
        elif name in ("index", "frame"):
            yield _Part(number=name, width=width)
        elif name == "version":
            yield _Part((number_text(1, width),))
        elif name is not None:
            yield _Part((value_text(constant[name]),))

    @cached_property
    def _entry_parts(self) -> tuple[_Part, ...]:
        """For each axis the part of a name that is its entry."""
        return tuple(
            _Part(tuple(value_text(option.name) for option in axis.options), a)
            for a, axis in enumerate(self._lattice.axes)
        )

    # --- names that cannot be --------------------------------------------------------------------

    def _refuse_impossible(self, variant: _Variant, cells: Indices) -> None:
        """Find cells whose file has a name no file system holds, by the parts of the name."""
        entries: list[Indices] | None = None
        for parts in _components(variant.parts):
            if not any(part.axis is not None for part in parts):
                continue  # the same for every cell; `_refuse_templates` has seen it
            entries = self._lattice.entries_of(cells) if entries is None else entries
            for suspect in _suspects(parts, entries, len(cells)):
                if len(suspect):
                    cell = self._make(int(cells[suspect[0]]))
                    for _ in planned_files(cell, self._names):
                        pass


def _components(parts: Sequence[_Part]) -> Iterator[list[_Part]]:
    """The parts of each part of the path between slashes."""
    current: list[_Part] = []
    for part in parts:
        if part.axis is None and part.number is None:
            texts = part.texts[0].split("/")
            current.append(_Part((texts[0],)))
            for text in texts[1:]:
                yield current
                current = [_Part((text,))]
        else:
            current.append(part)
    yield current


def _suspects(parts: Sequence[_Part], entries: Sequence[Indices], count: int) -> Iterator[Indices]:
    """Places of cells whose name may be impossible because of this part of the path."""
    sizes = np.zeros(count, np.int64)
    for part in parts:
        if part.axis is not None:
            each = np.array([len(text.encode("utf-8", "surrogatepass")) for text in part.texts])
            sizes += each[entries[part.axis]]
            bad = np.array([_forbids(text) for text in part.texts])
            if bad.any():
                yield np.flatnonzero(bad[entries[part.axis]])
        else:
            sizes += 10 if part.number else len(part.texts[0].encode())
    yield np.flatnonzero(sizes > LONGEST)
    texts = [part for part in parts if part.number is not None or part.texts != ("",)]
    if texts and texts[-1].axis is not None:
        ends = np.array([text[-1:] in (".", " ") for text in texts[-1].texts])
        if ends.any():
            yield np.flatnonzero(ends[entries[texts[-1].axis]])
    yield from _short_names(texts, entries)


def _forbids(text: str) -> bool:
    """Whether a text makes any name it stands in impossible."""
    return wrong_name(f"x{text}x") is not None


def _short_names(parts: Sequence[_Part], entries: Sequence[Indices]) -> Iterator[Indices]:
    """Words some file systems keep for themselves (nul, com1) are short: only short texts can
    make them."""
    if any(part.number for part in parts):
        return
    choices = [
        [(i, text) for i, text in enumerate(part.texts) if len(text.split(".")[0]) <= 4] for part in parts
    ]
    if not all(choices) or np.prod([float(len(c)) for c in choices]) > 200_000:
        return
    for combination in itertools.product(*choices):
        if wrong_name("".join(text for _, text in combination)):
            here = np.ones(len(entries[0]), bool) if entries else np.ones(1, bool)
            for part, (i, _) in zip(parts, combination, strict=True):
                if part.axis is not None:
                    here &= entries[part.axis] == i
            yield np.flatnonzero(here)


# --- hashes of concatenated texts ------------------------------------------------------------------


def _hash_of(text: str) -> tuple[int, int]:
    """A polynomial in the letters, and the base to the power of their number; modulo 2^64."""
    value, power = 0, 1
    for letter in text:
        value = (value * _BASE + ord(letter) + 1) & _WORD
        power = (power * _BASE) & _WORD
    return value, power


def _hashed(parts: Sequence[_Part], cells: Indices, entries: Sequence[Indices], frame: int) -> Hashes:
    value = np.zeros(len(cells), np.uint64)
    for part in parts:
        if part.axis is not None:
            chosen = part.pairs[entries[part.axis]]
            value = value * chosen[:, 1] + chosen[:, 0]
        elif part.number == "index":
            value = _with_digits(value, cells + 1, int(part.width.rstrip("d") or 0))
        else:
            text = number_text(frame, part.width) if part.number else part.texts[0]
            more, power = _hash_of(folded(text))
            value = value * np.uint64(power) + np.uint64(more)
    return value


def _with_digits(value: Hashes, numbers: Indices, width: int) -> Hashes:
    """`value` with the decimal digits of numbers above zero behind it."""
    digits = max(width, len(str(int(numbers.max(initial=1)))))
    for place in reversed(range(digits)):
        digit = (numbers // 10**place % 10).astype(np.uint64)
        there = (numbers >= 10**place) | (place < max(width, 1))
        value = np.where(there, value * np.uint64(_BASE) + digit + np.uint64(ord("0") + 1), value)
    return value


def _named(cell: Cell, file: PlannedFile) -> str:
    return f"{cell.address} (frame {file.frame})"


def _missing(a: Cell, file_a: PlannedFile, b: Cell, file_b: PlannedFile) -> str:
    apart = [axis for axis in a.coordinates if a.coordinates[axis] != b.coordinates.get(axis)]
    if apart:
        return " and ".join(f"{{{axis}}}" for axis in apart)
    if file_a.frame != file_b.frame:
        return "{frame:04d}"
    return "{ext}" if file_a.format != file_b.format else "{pass}"
