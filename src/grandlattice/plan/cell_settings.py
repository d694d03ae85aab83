"""One cell: what is laid over the scene for it, and how it is rendered and filed."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, fields
from typing import Any

from grandlattice.errors import Place, PlanError
from grandlattice.plan.axes import SceneFacts
from grandlattice.plan.file_options import FileOptions
from grandlattice.plan.grade_block import Grade
from grandlattice.plan.setting_layers import PlacedEdit
from grandlattice.plan.settings import MARKS
from grandlattice.plan.spelled_values import Clamp, Frames, Length, Metered, Size
from grandlattice.tables.grades import NEUTRAL
from grandlattice.tables.passes import LIGHT_PASS

EVERY_LIGHT = LIGHT_PASS + "*"
DEFAULT_OUTPUT = "renders/{cell}.{frame:04d}.{ext}"


@dataclass(frozen=True)
class CellSettings:
    """Every setting of a cell, decided.  `size` has the scale in it already."""

    camera: str | None = None
    size: Size = Size(1280, 720)
    fit: str = "expand"
    frames: tuple[int, ...] = (1,)
    quality: str | None = None
    samples: int = 64
    noise: float | None = None
    seconds: float | None = None
    seed: int = 0
    bounces: int = 8
    clamp: Clamp | None = None
    shutter: float | None = None
    projection: str = "camera"
    eyes: Length = Length(0.065, in_metres=True)
    region: tuple[int, int, int, int] | None = None
    region_cut: bool = False  # more was asked for than the picture has
    fstop: float | None = None
    focus: Length | None = None
    subdivision: int = 1
    passes: tuple[str, ...] = ("beauty",)
    format: tuple[str, ...] = ("exr",)
    files: FileOptions = FileOptions()
    output: str = DEFAULT_OUTPUT
    exposure: float = 0.0
    metered: Metered | None = None
    camera_exposure: bool = True
    grade: Grade | None = None
    display: str | None = None
    denoise: float = 0.0
    keep_noisy: bool = False
    background: str = "sky"
    label: tuple[str, ...] = ()
    own_trace: bool = False
    keep_light_shares: bool = False
    renderer: str = "tracer"
    priority: int = 0
    pool: str = ""
    take: tuple[str, ...] = ()

    @property
    def traced(self) -> dict[str, object]:
        """What the light in a picture depends on, but for its frame, the edits and `clamped`."""
        return {name: getattr(self, name) for name in _TRACED if name != "clamp"}

    @property
    def graded(self) -> dict[str, float]:
        """What is done to the beauty before it is displayed: values of a grade that are not neutral."""
        values = {} if self.grade is None else self.grade.values
        return {name: value for name, value in values.items() if value != NEUTRAL[name]}

    @property
    def clamped(self) -> tuple[object, ...] | None:
        """What the clamp depends on, None without one."""
        if self.clamp is None or self.clamp.in_nits:
            return None if self.clamp is None else (self.clamp,)
        return self.clamp, self.exposure, self.camera_exposure

    def clamp_nits(self, camera_stops: float) -> float | None:
        """The clamp as light, whatever it is relative to.

        Parameters
        ----------
        camera_stops : the exposure of the camera itself.
        """
        if self.clamp is None or self.clamp.in_nits:
            return None if self.clamp is None else self.clamp.most
        stops = self.exposure + (camera_stops if self.camera_exposure else 0.0)
        return self.clamp.most * 2.0**-stops

    @property
    def is_outside(self) -> bool:
        """Whether another renderer than the embedded tracer draws it."""
        return self.renderer.partition(" ")[0] != "tracer"

    @property
    def pixels(self) -> int:
        """How many are rendered."""
        left, top, right, bottom = self.region or (0, 0, self.size.width, self.size.height)
        return (right - left) * (bottom - top)


_TRACED = [
    f.name for f in fields(CellSettings) if MARKS.get(f.name) in ("path", "light") and f.name != "frames"
]
_DECIDED = frozenset(f.name for f in fields(CellSettings)) - {"size", "frames", "camera"}


@dataclass(frozen=True, repr=False)
class Cell:
    """One cell of the run.

    Attributes
    ----------
    index : its place in the run, from 0.
    address : ``noon/brass/all/Wide``, or the name of an added cell.
    coordinates : axis → entry, axes in the order written.
    settings : decided.
    edits : what is laid over the scene, in order.
    origins : setting → where it was said.
    """

    index: int
    address: str
    coordinates: Mapping[str, str]
    settings: CellSettings
    edits: tuple[PlacedEdit, ...]
    origins: Mapping[str, Place] = field(default_factory=dict)
    name: str | None = None

    def __hash__(self) -> int:
        return hash((self.index, self.address))

    def __repr__(self) -> str:
        return f"<Cell {self.index + 1}: {self.address}>"

    @property
    def file_name(self) -> str:
        """The address as part of a file name: ``noon-brass-all-Wide``."""
        return self.name or "-".join(self.coordinates.values()) or "cell"


def decided(settings: Mapping[str, Any], origins: Mapping[str, Place], facts: SceneFacts) -> CellSettings:
    """What was said, with what was left out filled in.

    Raises
    ------
    PlanError
        For ``frames: scene`` where the scene names none.
    """
    camera = settings.get("camera")
    if camera is None and len(facts.cameras) == 1:
        camera = facts.cameras[0].path
    known = {key: value for key, value in settings.items() if key in _DECIDED and value is not None}
    for key in ("passes", "format", "label"):
        if key in known:
            known[key] = tuple(dict.fromkeys(known[key]))
    if not known.get("passes", ("beauty",)):
        raise PlanError("No pass is left here.", place=origins.get("passes"), cure="leave one of them")
    if "passes" in known:
        known["passes"] = _every_light(known["passes"], facts)
    size, scale = settings.get("size") or CellSettings.size, settings.get("scale")
    size = size if scale is None else size.scaled(scale)
    if known.get("region") is not None:
        known["region"], known["region_cut"] = _inside(
            known["region"], scale or 1.0, size, origins.get("region")
        )
    if known.get("keep_light_shares") and known.get("clamp") is not None:
        raise PlanError(
            "Light shares cannot be kept where light is limited: what clamp takes away depends on all lamps "
            "together.",
            place=origins.get("keep_light_shares"),
            cure=f"leave out keep-light-shares, or clamp, said at {origins.get('clamp', 'another place')}",
        )
    return CellSettings(
        camera=camera,
        size=size,
        frames=_frames(settings.get("frames"), origins, facts),
        **known,
    )


def _inside(
    region: tuple[int, int, int, int], scale: float, size: Size, place: Place | None
) -> tuple[tuple[int, int, int, int], bool]:
    """A part of the picture in its own pixels, and whether some of it lies outside; it is told in those of
    the whole size."""
    left, top = int(region[0] * scale), int(region[1] * scale)
    right, bottom = (max(low + 1, round(high * scale)) for low, high in ((left, region[2]), (top, region[3])))
    cut = right > size.width or bottom > size.height
    right, bottom = min(right, size.width), min(bottom, size.height)
    if (left >= right or top >= bottom) and place is not None:  # who asks without places only counts
        raise PlanError(
            f"The region {' '.join(map(str, region))} lies outside the picture of {size}.",
            place=place,
            cure="write left top right bottom in pixels of the size",
        )
    return (left, top, max(right, left), max(bottom, top)), cut


def _every_light(passes: tuple[str, ...], facts: SceneFacts) -> tuple[str, ...]:
    """``light.*`` as a pass for each light of the scene, and one for what glows."""
    if EVERY_LIGHT not in passes:
        return passes
    names = [*(fact.path.rpartition("/")[2] for fact in facts.lights), "surfaces"]
    found = [[LIGHT_PASS + n for n in names] if name == EVERY_LIGHT else [name] for name in passes]
    return tuple(dict.fromkeys(name for part in found for name in part))


def _frames(frames: Frames | None, origins: Mapping[str, Place], facts: SceneFacts) -> tuple[int, ...]:
    scene = facts.frames
    if frames is None:
        return (scene[0] if scene else 1,)
    if frames.numbers is not None:
        return tuple(frames.numbers)
    if scene is None:
        raise PlanError(
            "frames: scene asks for the scene's frames, and the scene names none.",
            place=origins.get("frames"),
            cure="write the frames, such as 1-48",
        )
    return tuple(range(scene[0], scene[1] + 1))
