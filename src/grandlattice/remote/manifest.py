"""What is in a pack: every file by its name, size and content."""

from __future__ import annotations

import hashlib
import json
import re
import unicodedata
from pathlib import PurePosixPath
from typing import Annotated, Literal

from pydantic import AfterValidator, BaseModel, ConfigDict, Field, ValidationError, model_validator

from grandlattice.errors import OutputError

MANIFEST = "pack.json"
"""The name of the manifest in a pack."""
_MOST_LETTERS = 4000  # of a path
_MOST_BYTES = 2**60


def _refuse_unsafe(path: str) -> str:
    """A path within a pack, which leads nowhere else on any machine."""
    parts = path.split("/")
    unsafe = (
        not path or len(path) > _MOST_LETTERS or "\\" in path or re.match(r"[A-Za-z]:", path)
        or any(part in ("", ".", "..") for part in parts)
        or any(unicodedata.category(letter) in ("Cc", "Cs") for letter in path)
    )  # fmt: skip
    if unsafe or path == MANIFEST:
        raise ValueError(f"{path[:80]!r} is no name for a file of a pack")
    return path


PackPath = Annotated[str, AfterValidator(_refuse_unsafe)]


class PackedFile(BaseModel):
    """A file of a pack.

    Attributes
    ----------
    path : within the pack, with ``/`` between folders.
    size : bytes.
    sha256 : of its content, hexadecimal.
    """

    model_config = ConfigDict(extra="forbid", frozen=True)

    path: PackPath
    size: Annotated[int, Field(ge=0, le=_MOST_BYTES)]
    sha256: Annotated[str, Field(pattern=r"^[0-9a-f]{64}$")]


class Manifest(BaseModel):
    """Everything that is in a pack.

    Attributes
    ----------
    pack : version of this format.
    made_by : which program wrote it.
    plan : the file of the plan.
    missing : files that the scene names and that were not there.
    files : in the order of their paths.
    """

    model_config = ConfigDict(extra="forbid", frozen=True)

    pack: Literal[1] = 1
    made_by: str = Field("", alias="made by", max_length=200)
    plan: PackPath
    missing: list[str] = Field(default_factory=list)
    files: list[PackedFile]

    @model_validator(mode="after")
    def _each_once(self) -> Manifest:
        seen: dict[str, str] = {}
        for file in self.files:
            same = unicodedata.normalize("NFC", file.path).casefold()
            if same in seen:
                raise ValueError(f"{file.path!r} and {seen[same]!r} have one name on some machines")
            seen[same] = file.path
        folders = {str(up) for file in self.files for up in PurePosixPath(file.path).parents}
        if clash := folders & {file.path for file in self.files}:
            raise ValueError(f"{sorted(clash)[0]!r} is a file and a folder")
        if self.plan not in {file.path for file in self.files}:
            raise ValueError(f"its plan {self.plan!r} is not among its files")
        return self

    @property
    def size(self) -> int:
        """Bytes of all files."""
        return sum(file.size for file in self.files)

    @property
    def digest(self) -> str:
        """One sha256 of all content and names: packs with one digest are one scene and plan."""
        told = [[file.path, file.sha256] for file in self.files] + [self.plan]
        return hashlib.sha256(json.dumps(told).encode()).hexdigest()

    def text(self) -> str:
        """As it stands in a pack."""
        told = self.model_dump(mode="json", by_alias=True)
        files = ",\n".join(f"  {json.dumps(file, ensure_ascii=False)}" for file in told.pop("files"))
        head = json.dumps(told, ensure_ascii=False, indent=1).removesuffix("\n}")
        return f'{head},\n "files": [\n{files}\n ]\n}}\n'


def read_manifest(text: bytes) -> Manifest:
    """A manifest as it stands in a pack.

    Raises
    ------
    OutputError
        When it is none, or names a file that a pack cannot have.
    """
    try:
        return Manifest.model_validate_json(text)
    except ValidationError as problem:
        said = problem.errors(include_url=False)[0]
        what = str(said["msg"]).removeprefix("Value error, ")
        where = ".".join(str(part) for part in said["loc"])
        raise OutputError(
            f"{MANIFEST} is not sound: {where + ': ' if where else ''}{what}.",
            cure="have it packed again where it comes from",
        ) from None
