"""What calls take by keyword, with its types, for editors that complete and check.

`tests/test_house.py` compares these with the models of the plan: a setting or a key of ``run:`` that is
missing here fails it.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping, Sequence
from typing import TYPE_CHECKING, Any, Literal, TypedDict, Unpack

from grandlattice.errors import PlanError, nearest

if TYPE_CHECKING:
    from grandlattice.runs import Estimate, Event, Outlook
    from grandlattice.runs.fingerprints import Composing

At = str | Sequence[str]
"""Cells: one address such as ``noon//all/Wide`` or ``light=noon``, or several of them."""

Existing = Literal["skip", "replace", "keep-both", "refuse"]
"""What becomes of files that are there."""

Text = str | float
"""A value as a plan writes it: ``"2 h"``, ``"50%"``, or a plain number."""


class RunKeys(TypedDict, total=False):
    """Keys of ``run:``, laid over those of the plan."""

    existing: Existing | None
    keep_earlier: int
    wait: str | Sequence[str]
    on: str
    spare: int | None
    memory: Text | None
    films: Text
    gentle: bool
    retries: int
    stalled: Text
    limit: Text | None
    room: Text
    budget: Mapping[str, Any]
    notices: Sequence[Mapping[str, Any]]
    after: Sequence[str]


class RunOptions(RunKeys, total=False):
    """What a run takes besides the cells.

    Attributes
    ----------
    workers : processes; all processors but those the plan spares by default, 0 for this process.
    threads : that trace, in each worker; by default one, and more where there are fewer tasks than workers.
        They change no byte.
    frames : only these of each cell's frames: numbers, or words such as ``"first"`` or
        ``"first,middle,last"``.
    fresh : do again what is done; the same as ``existing="replace"``.
    allow_missing : render fallback colours where textures are missing.
    further : take those frames to their full quality, and no others, that the setting `seconds` ended; they
        get the bytes they would have had without it.
    trust_network : take a plain line to a cluster on other machines; otherwise it has to be encrypted.
    on_event : called with everything that happens, see `grandlattice.runs.events`.
    on_composing : called while scenes of cells are composed that never were, with how many are, and how many
        there are to be.
    on_outlook : called with what will be done, before it begins.
    on_estimate : called with what that will cost, from measurement.
    on_begin : called with a function that ends the run at once, from any thread: frames under way are given
        up, and wait for another run.
    """

    workers: int | None
    threads: int | None
    frames: Sequence[int] | str | None
    fresh: bool
    allow_missing: bool
    further: bool
    trust_network: bool
    on_event: Callable[[Event], None] | None
    on_composing: Composing | None
    on_outlook: Callable[[Outlook], None] | None
    on_estimate: Callable[[Estimate], None] | None
    on_begin: Callable[[Callable[[], None]], None] | None


class GradeValues(TypedDict, total=False):
    """Values of a grade; see `tables.grades.GRADES`."""

    exposure: float | None
    contrast: float | None
    saturation: float | None
    temperature: float | None
    tint: float | None
    shadows: float | None
    mid_tones: float | None
    highlights: float | None


class SettingValues(TypedDict, total=False):
    """Settings as Python names them, with values as a plan writes them; see `docs/plan.md`."""

    camera: str
    size: str
    print: Mapping[str, Any]
    scale: Text
    fit: Literal["expand", "crop"]
    frames: Text
    quality: str
    samples: int
    noise: Text
    seconds: Text
    seed: int
    bounces: int
    clamp: Text
    shutter: Text
    projection: Literal["camera", "panorama", "stereo-panorama"]
    eyes: Text
    region: str
    fstop: Text
    focus: Text
    subdivision: int
    passes: str | Sequence[str]
    format: str | Sequence[str]
    files: Mapping[str, Any]
    output: str
    exposure: Text
    camera_exposure: bool
    grade: Mapping[str, float] | Literal["off"]
    display: str
    denoise: bool | str
    keep_noisy: bool
    background: Literal["sky", "clear"]
    renderer: str
    priority: int
    pool: str
    label: bool | Sequence[str]
    own_trace: bool
    keep_light_shares: bool
    skip: bool


def listed(at: At) -> tuple[str, ...]:
    """Addresses as a tuple: a text is one of them.

    >>> listed("noon//all/Wide"), listed(["light=noon", "camera=Dial"])
    (('noon//all/Wide',), ('light=noon', 'camera=Dial'))
    """
    return (at,) if isinstance(at, str) else tuple(at)


def refuse_unknown(names: Sequence[str], known: Collection[str], kind: str) -> None:
    """Make sure that one name at least is given, and that a plan has all of them under ``KINDs``.

    Raises
    ------
    PlanError
        When not.
    """
    for name in names:
        if name not in known:
            hint = nearest(name, known) or f"The plan has none; add some under {kind}s."
            raise PlanError(f"There is no {kind} {name}. {hint}")
    if not names:
        raise PlanError(
            f"No {kind} is named." if known else f"The plan has no {kind}s.",
            cure=", ".join(known) or f"add some under {kind}s in the plan",
        )


__all__ = ["At", "Existing", "RunKeys", "RunOptions", "SettingValues", "Unpack", "listed", "refuse_unknown"]
