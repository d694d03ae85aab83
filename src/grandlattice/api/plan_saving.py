"""What was changed in a plan since its files were read, and how it is written to them: all or nothing, over
what is as it was read alone.
"""

from __future__ import annotations

import copy
import difflib
import io
from collections.abc import Callable
from pathlib import Path
from typing import Any

from grandlattice.api.plan_contents import FOLLOWS_RULES
from grandlattice.api.plan_files import PlanFiles
from grandlattice.errors import PlanError
from grandlattice.plan import parse, read_grades, yaml_writer
from grandlattice.runs import FolderStore

_NO_GRADES = """# Grades of pictures whose plan is not to be touched; see glat grade --beside.
rules: []
"""


class PlanSaving(PlanFiles):
    """A plan that can be written over its files; see `Plan`."""

    def change_grades(self, to: Callable[[Any], Any]) -> None:
        """Change the rules that stand beside the pictures, in this object."""
        before = self._grades.data if self._grades is not None else parse(_NO_GRADES).data
        data = copy.deepcopy(before)
        data["rules"] = to(data["rules"])
        stream = io.StringIO()
        yaml_writer(self._grades_read).dump(data, stream)
        self._grades = read_grades(parse(stream.getvalue(), self.grades_file()))
        self._forget(*FOLLOWS_RULES)

    def difference(self) -> str:
        """What `save` would change in the plan's file, and in the one of grades beside its pictures, line by
        line; empty where nothing does."""
        return "".join(
            line
            for before, after in ((self._read, self.text), (self._grades_read, self._grades_text))
            for line in list(difflib.unified_diff(_lines(before), _lines(after), n=1))[2:]
        )

    @property
    def _grades_text(self) -> str:
        return self._grades.text if self._grades is not None else ""

    def changed_files(self) -> list[Path]:
        """The files that `save` would write: the plan's, the one of grades beside its pictures, or both."""
        files = []
        if self.file is not None and self.text != self._read:
            files.append(self.file)
        if self._grades_file is not None and self._grades_text != self._grades_read:
            files.append(self._grades_file)
        return files

    def save(self) -> None:
        """Write what was changed over the files it was read from.

        Raises
        ------
        PlanError
            When the plan's file, or the one of grades beside its pictures, is another than it was read, or
            there is none; nothing is written then.
        """
        if self.file is None:
            raise PlanError("The plan was not read from a file.", cure="name one: plan.write(file)")
        self.refuse_stale()
        changed = self.changed_files()
        if self.file in changed:
            self.write(self.file, over=True)
            self._read = self.text
        if self._grades_file in changed:
            text = self._grades_text

            def put(part: Path) -> None:
                part.write_text(text, encoding="utf-8")

            FolderStore(self._grades_file.parent).put(self._grades_file.name, put)
            self._grades_read = text

    def refuse_stale(self) -> None:
        """Make sure that the files of the plan are as they were read.

        Raises
        ------
        PlanError
            When one is another.
        """
        for file, read in ((self.file, self._read), (self._grades_file, self._grades_read)):
            if file is None:
                continue
            try:
                now = file.read_text(encoding="utf-8-sig")
            except (OSError, UnicodeDecodeError):
                now = ""
            if now != read:
                raise PlanError(
                    f"{file.name} was changed since it was read; nothing was written.", cure="give it again"
                )


def _lines(text: str) -> list[str]:
    return text.splitlines(keepends=True)
