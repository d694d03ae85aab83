"""How a run is carried out, as a plan says it: `run:` with its budget and notices, and `renderers:`.

Nothing here changes a picture but `renderers`.
"""

from __future__ import annotations

import re
import string
from typing import Annotated, Any

from pydantic import BeforeValidator, Field, field_validator, model_validator

from grandlattice.errors import nearest
from grandlattice.plan.spelled_values import read_bytes, time_of
from grandlattice.plan.value_types import (
    Number,
    SecondsText,
    Strict,
    Text,
    Texts,
    many_of,
    one_of,
    typed_as,
)

EXISTING = ("skip", "replace", "keep-both", "refuse")
MOMENTS = ("cell", "failure", "end")
COMMAND_FIELDS = (
    "usd", "frame", "frames", "camera", "output", "width", "height", "samples", "seed", "threads",
    "executable",
)  # fmt: skip

BytesText = Annotated[int, BeforeValidator(read_bytes), typed_as({"type": "string"}, {"type": "integer"})]


def _read_clock(value: object) -> str:
    try:
        time_of(str(value))
    except ValueError:
        raise ValueError(f"a time of day is written 07:00, not {str(value)!r}") from None
    return str(value).strip()


Clock = Annotated[str, BeforeValidator(_read_clock), typed_as({"type": "string"})]


class Budget(Strict):
    """What a run may spend.  Where it ends no frame begins any more; those under way are finished."""

    time: SecondsText | None = Field(None, description="for the whole run, such as 8 h")
    until: Clock | None = Field(None, description="a time of day, such as 07:00; the next one to come")
    cell: SecondsText | None = Field(None, description="for the frames of each cell, such as 20 min")
    core_hours: Number | None = Field(None, gt=0, alias="core-hours", description="hours × processors")
    rate: Number | None = Field(None, ge=0, description="money a core-hour costs")
    money: Number | None = Field(None, gt=0, description="most money, at that rate")
    currency: Text = Field("", description="what the rate is in, such as EUR; said behind amounts")

    @model_validator(mode="after")
    def _rated(self) -> Budget:
        if self.money is not None and not self.rate:
            raise ValueError("money needs a rate: what a core-hour costs")
        return self


class Notice(Strict):
    """Who is told of what."""

    to: Text = Field(description="an address apprise knows, such as json://host, $NAME of one, or sound")
    on: Annotated[list[str], many_of(*MOMENTS)] = Field(
        default_factory=lambda: ["failure", "end"], description="cell, failure (the first one), end"
    )
    thumbnail: bool = Field(True, description="false: no picture with it")


class RunBlock(Strict):
    """How the run is carried out."""

    existing: Annotated[str, one_of(*EXISTING)] = Field(
        "skip", description="files that are there: skip what is done, replace all, keep-both, or refuse"
    )
    keep_earlier: int = Field(
        0, ge=0, le=10_000, alias="keep-earlier",
        description="how many earlier pictures of a file stay when another takes its place, 0 if left out",
    )  # fmt: skip
    wait: Texts = Field(default_factory=list, description="axes: one value is done before the next begins")
    workers: int | None = Field(None, ge=1, le=1024, description="frames at once; what spare leaves")
    threads: int | None = Field(None, ge=1, le=1024, description="that each worker renders with")
    on: Text = Field(
        "local", description="who renders: local, or a backend of another package, by its name or address"
    )
    spare: int | None = Field(None, ge=0, le=1024, description="processors left for you, 1 if left out")
    memory: BytesText | None = Field(None, description="most memory of a worker, such as 8 GB")
    films: BytesText = Field(
        1_500_000_000, ge=1, description="most memory for the films of one shared trace, 1.5 GB if left out"
    )
    gentle: bool = Field(False, description="true: workers make way for whatever else the machine does")
    retries: int = Field(
        2, ge=0, le=100, description="how often a frame whose worker crashed or hung is tried again"
    )
    stalled: SecondsText = Field(
        600.0, description="a frame without progress for so long is given up: 10 min if left out"
    )
    limit: SecondsText | None = Field(None, description="most time for one frame, such as 2 h")
    room: SecondsText = Field(43200.0, description="how long a full disk is waited for: 12 h if left out")
    budget: Budget = Field(default_factory=Budget, description="what the run may spend")
    notices: list[Notice] = Field(default_factory=list, description="who is told of what")
    after: Texts = Field(
        default_factory=list, description="a command for glat run --and-then, as a list: [systemctl, suspend]"
    )

    @property
    def keeps_replaced(self) -> bool:
        """Whether pictures are kept that others take the place of."""
        return self.existing == "keep-both" or self.keep_earlier > 0


def _no_nul(value: object) -> object:
    if "\0" in str(value):
        raise ValueError("a text for another program cannot have a zero byte in it")
    return value


def _variable(value: object) -> str:
    name = str(value)
    if not name or "=" in name or "\0" in name:
        raise ValueError(f"{name!r} is no name for a variable of the environment")
    return name


class CommandRenderer(Strict):
    """An outside renderer: a command that draws a USD file."""

    command: list[Text] = Field(
        min_length=1, description="program and arguments, with fields such as {usd}; never through a shell"
    )
    executables: dict[str, Text] = Field(
        default_factory=dict, description="version: program, what {executable} stands for"
    )
    version: Text | None = Field(None, description="which of them when a cell does not say")
    chunk: int = Field(1, ge=1, le=10_000, description="most frames of a call")
    number: Text = Field(
        "####", description="how this renderer wants the frame number in {output} of several frames"
    )
    percent: Text | None = Field(None, description="a pattern whose first group is the percentage done")
    warnings: Text | None = Field(None, description="a pattern for lines that are warnings")
    retry: list[int] = Field(default_factory=list, description="exit codes after which to try again")
    environment: dict[
        Annotated[str, BeforeValidator(_variable)], Annotated[Text, BeforeValidator(_no_nul)]
    ] = Field(default_factory=dict, description="variables for the command")
    accept: Annotated[list[str], many_of("nan")] = Field(
        default_factory=list,
        description="nan: pictures with pixels that are no numbers count, with a warning",
    )
    channels: dict[str, Texts] = Field(
        default_factory=dict, description="pass: its channels in this renderer's files"
    )

    @field_validator("command", mode="after")
    @classmethod
    def _known_fields(cls, command: list[str]) -> list[str]:
        for argument in command:
            _no_nul(argument)
            try:
                found = list(string.Formatter().parse(argument))
            except ValueError as problem:
                raise ValueError(f"{argument!r} is not closed: {problem}") from None
            for _, name, width, conversion in found:
                if name is None:
                    continue
                if name not in COMMAND_FIELDS:
                    raise ValueError(
                        f"there is no field {{{name}}} for a command. {nearest(name, COMMAND_FIELDS)}"
                    )
                if conversion or not re.fullmatch(r"(0?\d{0,2}d?)?", width or ""):
                    raise ValueError(f"{{{name}…}} asks for more than a width")
        return command

    @field_validator("percent", "warnings", mode="after")
    @classmethod
    def _pattern(cls, pattern: str | None) -> str | None:
        try:
            found = re.compile(pattern) if pattern is not None else None
        except re.error as problem:
            raise ValueError(f"{pattern!r} is no pattern: {problem}") from None
        return pattern if found is None else found.pattern

    @model_validator(mode="after")
    def _whole(self) -> CommandRenderer:
        if self.percent is not None and re.compile(self.percent).groups < 1:
            raise ValueError("percent needs a group for the number, such as (\\d+)%")
        if self.version is not None and self.version not in self.executables:
            raise ValueError(
                f"there is no executable {self.version}. {nearest(self.version, self.executables)}"
            )
        if any("{executable}" in argument for argument in self.command) and not self.executables:
            raise ValueError("{executable} needs executables: a program for each version")
        return self

    def executable(self, version: str | None) -> str | None:
        """The program of a version; of the usual one where None.

        Raises
        ------
        KeyError
            When there is no such version.
        """
        wanted = version or self.version or next(iter(self.executables), None)
        return None if wanted is None else self.executables[wanted]

    def told(self, version: str | None) -> dict[str, Any]:
        """What pictures of a version may depend on."""
        told = self.model_dump(mode="json", include={"command", "environment", "channels"})
        return {**told, "executable": self.executable(version)}
