"""Every pass there is: its channels, what its values are, how it is shown, what it costs.

A new pass is one record here, and the sums it is made of in the tracer; schema, file lists, `glat passes` and
the table in docs/tracer.md follow.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

LIGHT_PASS = "light."
"""How the names of those passes begin that are the share of a light."""

RANKS = 6
"""How many objects of a pixel passes of ids tell apart."""


@dataclass(frozen=True)
class Pass:
    """A pass.

    Attributes
    ----------
    channels : its channels in a file.
    meaning : what its values are.
    look : what kind of data it is to those who show it, see `images.show_pass`.
    exact : whether it must be stored in full floats.
    cost : what it takes beyond the beauty; empty where it is next to nothing.
    """

    name: str
    channels: tuple[str, ...]
    meaning: str
    look: str = "share"
    exact: bool = False
    cost: str = ""


def _colour(name: str, meaning: str, look: str = "light", cost: str = "") -> Pass:
    return Pass(name, tuple(f"{name}.{channel}" for channel in "RGB"), meaning, look, cost=cost)


def _one(name: str, meaning: str, look: str = "share", exact: bool = False, cost: str = "") -> Pass:
    return Pass(name, (f"{name}.Y",), meaning, look, exact, cost)


def _vector(name: str, letters: str, meaning: str, look: str, exact: bool, cost: str = "") -> Pass:
    return Pass(name, tuple(f"{name}.{letter}" for letter in letters), meaning, look, exact, cost)


def _ids(name: str, of: str) -> Pass:
    """Pairs of an id and its coverage, two pairs to a layer."""
    channels = tuple(f"{name}{k:02d}.{channel}" for k in range(RANKS // 2) for channel in "RGBA")
    return Pass(
        name, channels, f"ids of the {of} a pixel shows and how much of it each covers, six of them, in the "
        "open Cryptomatte layout with its manifest", "ids", True,
    )  # fmt: skip


_PART = "adding up at each bounce"

_EVERY = (
    Pass("beauty", ("R", "G", "B", "A"), "radiance, scene-linear Rec.709, premultiplied", "light"),
    _colour("albedo", "reflectance of the first surface, 0..1", "colour"),
    _one(
        "occlusion", "cosine-weighted openness within a tenth of the scene's diagonal, 1 is open",
        cost="a ray for each sample",
    ),
    Pass(
        "depth", ("Z",), "distance along the view axis of the nearest surface in the pixel, scene units, at "
        "the pixel's centre; +inf where nothing; never averaged", "distance", True,
    ),
    _vector("normal", "XYZ", "world space, unit, of the nearest sample; 0 where nothing", "direction", False),
    _one(
        "samples", "samples the pixel has: the same everywhere unless noise is set or seconds ended the "
        "frame",
        "amount", True,
    ),
    _colour("direct", "light scattered once at most; with indirect it adds up to the beauty", cost=_PART),
    _colour("indirect", "light scattered more than once", cost=_PART),
    _colour(
        "diffuse", "light whose first scattering was diffuse; with specular, transmission and emission it "
        "adds up to the beauty", cost=_PART,
    ),
    _colour("specular", "light whose first scattering was a reflection", cost=_PART),
    _colour("transmission", "light seen through something clear", cost=_PART),
    _colour("emission", "what glows, the shapes of lights and the sky, as seen", cost=_PART),
    _colour(
        "shadow", "of the light that is aimed at the first surface, what is blocked, 0..1", "share", _PART
    ),
    Pass(
        "depth-soft", ("depth-soft.Z",), "the mean depth of all samples that met something; +inf where none "
        "did",
        "distance", True,
    ),
    _one("coverage", "how much of the pixel the nearest object fills, 0..1"),
    _vector("normal-camera", "XYZ", "the normal in camera space, z towards the camera", "direction", False),
    _vector("position", "XYZ", "where the nearest sample is, world space, scene units", "place", True),
    _vector("uv", "UV", "texture coordinates of the nearest sample", "coordinates", True),
    _ids("object-id", "prims (each instance by itself)"),
    _ids("material-id", "materials"),
    _one(
        "illuminance", "lux that arrive at the surface, whatever it is made of; sheets and reviews show it "
        "in false colour with a legend", "lux", True, "shadow rays where surfaces are black, too",
    ),
    _vector(
        "motion", "UV", "pixels from this frame to the next, right and down, of the nearest sample: by its "
        "object's and the camera's transforms", "motion", True, "reading the scene at the next frame",
    ),
    _one(
        "seconds", "seconds of a thread that the pixel took, the same within a tile of 32×32: where the time "
        "went. Not the same twice", "amount", True,
    ),
)  # fmt: skip

PASSES: Mapping[str, Pass] = {each.name: each for each in _EVERY}


def is_pass(name: str) -> bool:
    """Whether there is a pass of a name without a plan's defining it."""
    return name in PASSES or (name.startswith(LIGHT_PASS) and len(name) > len(LIGHT_PASS))


def is_light_pass(name: str) -> bool:
    """Whether a pass is added up from light apart from the beauty; those of a plan count as such."""
    return name not in PASSES or PASSES[name].cost == _PART or name in ("shadow", "illuminance")


def is_share(name: str, own: Mapping[str, str] | None = None) -> bool:
    """Whether a pass is the share of some lights."""
    return (own or {}).get(name) == "light" or (name.startswith(LIGHT_PASS) and name not in (own or {}))


def known_pass(name: str, own: Mapping[str, str] | None = None) -> Pass:
    """The pass of a name, also ``light.NAME``, the share of one light.

    Parameters
    ----------
    own : passes of a plan's own, name → what it is of: ``light`` or ``occlusion``.

    Raises
    ------
    KeyError
        Where there is none.
    """
    if own and name in own:
        if own[name] == "light":
            return _colour(name, "the share of the lights the plan names", cost=_PART)
        return _one(name, "openness within the distance the plan names", cost="a ray for each sample")
    if name in PASSES or not is_pass(name):
        return PASSES[name]
    return _colour(name, "the share of the lights whose prims have that name", cost=_PART)
