"""What a renderer needs to know of one cell at one frame, as plain arrays and frozen records.

This is the parcel handed from `stage` (which knows USD) to `tracer` (which knows light).
Neither room imports the other; both know only this file.

Conventions: lengths in scene units, angles in degrees, matrices 4×4 float64 acting on *row*
vectors (`p' = p @ M`), as USD stores them.  Light is in nits, as UsdLux defines it.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, Protocol

import numpy as np
from numpy.typing import NDArray

FloatArray = NDArray[np.float32]
IntArray = NDArray[np.int32]
Matrix = NDArray[np.float64]


@dataclass(frozen=True, eq=False)
class Geometry:
    """The triangles of one mesh, in its own space.

    Two cells that share a `Geometry` share the object itself, so a renderer may keep what it
    built from it for as long as the same object comes back.

    Attributes
    ----------
    path : prim path, for messages.
    points : (V, 3) float32.
    triangles : (T, 3) int32 indices into `points`, counter-clockwise seen from outside.
    corner_normals : (T, 3, 3) float32, unit length.
    corner_uvs : (T, 3, 2) float32; zeros where the mesh has none.
    subsets : (T,) int32 indices into the `materials` of the `Item`.
    flaws : what was wrong with the shape and is left out of it, for messages.
    corner_colours : (T, 3, 3) float32, linear, where its display colour is not the same all over.
    more_uvs : (T, 3, 2) float32, a second set of texture coordinates, where a material asks for one.
    """

    path: str
    points: FloatArray
    triangles: IntArray
    corner_normals: FloatArray
    corner_uvs: FloatArray
    subsets: IntArray
    flaws: tuple[str, ...] = ()
    corner_colours: FloatArray | None = None
    more_uvs: FloatArray | None = None


@dataclass(frozen=True, eq=False)
class Item:
    """A `Geometry` standing in the world.

    `materials` holds one index into `Snapshot.materials` for each subset.  A *matte* item holds
    out of alpha and of the data passes but still lights and shadows; one that *catches* does so
    too, but for the shadow that falls on it, which is alpha; an item not *seen* is left out for
    the camera only.

    With `copies`, (N, 4, 4), it stands there N times: each goes before `to_world`.  The glass of a
    shape that closes upon itself is solid, unless it is said to be a `sheet`.  What moves while the
    shutter is open has a `track`, (S, 4, 4): its `to_world` at S times, the first when the shutter opens,
    the last when it closes; with copies that move among themselves (S, N, 4, 4), each of its `placements`.
    `prim` is the path of its prim where that is not the geometry's, as in an instance.
    """

    geometry: Geometry
    to_world: Matrix
    materials: tuple[int, ...]
    matte: bool = False
    seen: bool = True
    catches: bool = False
    copies: Matrix | None = None
    sheet: bool = False
    track: Matrix | None = None
    prim: str = ""

    @property
    def path(self) -> str:
        """The path of its prim."""
        return self.prim or self.geometry.path

    @property
    def placements(self) -> Matrix:
        """(N, 4, 4): from the geometry to the world, for each time it stands there."""
        return self.to_world[None] if self.copies is None else self.copies @ self.to_world


class Shape(Protocol):
    """A shape whose triangles are made when they are asked for.

    Attributes
    ----------
    serial : another for each shape.
    """

    serial: int

    @property
    def told(self) -> bytes:
        """Digest of everything its triangles are made of, 16 bytes."""
        ...

    @property
    def geometry(self) -> Geometry:
        """Its triangles: the very same object each time."""
        ...


MATTE, UNSEEN, CATCHES, SHEET = 1, 2, 4, 8
"""What is said of an item: the bits of `Items.states`."""


@dataclass(eq=False)
class Items(Sequence[Item]):
    """The items of a snapshot as columns; an `Item` is made when it is asked for.

    Attributes
    ----------
    paths : of their prims; shapes : theirs.
    serials : (N,) int64 of the shapes.
    to_world : (N, 4, 4) float64.
    uses : (N,) int64, which of `materials` each has.
    materials : indices into `Snapshot.materials`, one for each subset.
    states : (N,) uint8, bits as above.
    copies, tracks : those of an `Item`, by its number.
    """

    paths: Sequence[str]
    shapes: Sequence[Shape]
    serials: NDArray[np.int64]
    to_world: Matrix
    uses: NDArray[np.int64]
    materials: Sequence[tuple[int, ...]]
    states: NDArray[np.uint8]
    copies: Mapping[int, Matrix]
    tracks: Mapping[int, Matrix]

    def __post_init__(self) -> None:
        self._made: list[Item | None] = [None] * len(self.paths)

    def __len__(self) -> int:
        return len(self.paths)

    def __getitem__(self, number: Any) -> Any:
        if isinstance(number, slice):
            return tuple(self[k] for k in range(*number.indices(len(self))))
        item = self._made[number]
        if item is None:
            number %= len(self)
            state = int(self.states[number])
            item = self._made[number] = Item(
                self.shapes[number].geometry, self.to_world[number], self.materials[self.uses[number]],
                matte=bool(state & MATTE), seen=not state & UNSEEN, catches=bool(state & CATCHES),
                copies=self.copies.get(number), sheet=bool(state & SHEET), track=self.tracks.get(number),
                prim=self.paths[number],
            )  # fmt: skip
        return item

    def is_like(self, other: Items) -> bool:
        """Whether these are the same items, in the same order."""
        columns = "serials", "uses", "states", "to_world"
        return (
            len(self) == len(other)
            and all(np.array_equal(getattr(self, name), getattr(other, name)) for name in columns)
            and self.paths == other.paths and self.materials == other.materials
            and _are_equal(self.copies, other.copies) and _are_equal(self.tracks, other.tracks)
        )  # fmt: skip

    @property
    def any_catches(self) -> bool:
        """Whether any catches shadows."""
        return bool((self.states & CATCHES).any())

    def with_any(self, materials: Iterable[int]) -> NDArray[np.bool_]:
        """(N,) which have any of some materials."""
        wanted = frozenset(materials)
        found = np.array([not wanted.isdisjoint(used) for used in self.materials], bool)
        return found[self.uses] if len(self) else np.zeros(0, bool)


def _are_equal(some: Mapping[int, Matrix], others: Mapping[int, Matrix]) -> bool:
    return some.keys() == others.keys() and all(np.array_equal(some[k], others[k]) for k in some)


@dataclass(frozen=True)
class Texture:
    """An image and how it is read, after UsdUVTexture and UsdTransform2d.

    `transform` is (a, b, c, d, e, f) with u' = a·u + b·v + c and v' = d·u + e·v + f.
    `colour_space` is ``auto``, ``raw`` or ``sRGB``; wraps are ``repeat clamp mirror black``.
    `prim` is the shader prim that asks for the image, for messages.  An image in tiles has a `tiles`
    entry for each that is there: its number, 1001 + column + 10·row, and its file.  It is read by the shape's
    texture coordinates, or with `second` by its `more_uvs`.
    """

    file: str
    prim: str = ""
    colour_space: str = "auto"
    wrap_s: str = "black"
    wrap_t: str = "black"
    scale: tuple[float, float, float, float] = (1.0, 1.0, 1.0, 1.0)
    bias: tuple[float, float, float, float] = (0.0, 0.0, 0.0, 0.0)
    fallback: tuple[float, float, float, float] = (0.0, 0.0, 0.0, 1.0)
    transform: tuple[float, float, float, float, float, float] = (1.0, 0.0, 0.0, 0.0, 1.0, 0.0)
    tiles: tuple[tuple[int, str], ...] = ()
    second: bool = False

    @property
    def files(self) -> tuple[str, ...]:
        """Every file it reads."""
        return tuple(file for _, file in self.tiles) or (self.file,)


@dataclass(frozen=True)
class TextureInput:
    """A material input driven by channel `channel` (``rgb``, ``r`` … ``a``) of a texture."""

    texture: Texture
    channel: str = "rgb"


Constant = tuple[float, ...]


@dataclass(frozen=True)
class Material:
    """UsdPreviewSurface by its own input names; inputs left out have the fallback of the schema.

    `transmissionColor` is ours: the colour light has after it went through glass.  Left out it is the hue
    of the `diffuseColor`, as bright as can be; white where that is grey, black or left out too.  With
    `painted` 1 the `diffuseColor` is multiplied by the geometry's own colours.
    """

    path: str
    inputs: Mapping[str, Constant | TextureInput] = field(default_factory=dict)

    @property
    def may_glow(self) -> bool:
        """Whether it sends light of its own; a texture may still say that it does not."""
        given = self.inputs.get("emissiveColor", (0.0,))
        return isinstance(given, TextureInput) or max(given) > 0.0


@dataclass(frozen=True)
class Shaping:
    """How a light is narrowed, after UsdLuxShapingAPI: off its axis by the angle θ, light is cos θ to
    the power of `focus`, and fades between `fades_from` and `cone`, both in degrees."""

    focus: float = 0.0
    cone: float = 180.0
    fades_from: float = 180.0


@dataclass(frozen=True, eq=False)
class Light:
    """One light of the scene.

    `kind` is ``dome distant rect disk sphere cylinder``.  `radiance` is what leaves the light, in
    nits, with exposure, colour, temperature and normalisation already in it; the texels of a
    textured dome or rect multiply it.  `size` is (width, height) of a rect, (radius, radius) of a
    disk or sphere, (radius, length) of a cylinder, (angular diameter in degrees, 0) of a distant
    light.  `diffuse` and `specular` multiply what is scattered that way.

    `reaches` and `shadowed_by` tell for each item of the snapshot whether the light falls on it, and
    whether it casts a shadow in that light; None is all of them.  `seen` is whether the camera sees its
    shape, where one that is `matte` only hides.  `track` is as an `Item`'s.
    """

    path: str
    kind: str
    to_world: Matrix
    radiance: tuple[float, float, float]
    size: tuple[float, float] = (0.0, 0.0)
    texture: Texture | None = None
    shaping: Shaping | None = None
    diffuse: float = 1.0
    specular: float = 1.0
    reaches: NDArray[np.bool_] | None = None
    shadowed_by: NDArray[np.bool_] | None = None
    seen: bool = True
    matte: bool = False
    track: Matrix | None = None

    @property
    def hides(self) -> bool:
        """Whether its shape hides what is behind it from the camera."""
        return (self.seen or self.matte) and self.kind != "dome"


@dataclass(frozen=True, eq=False)
class Camera:
    """A camera after UsdGeomCamera, with lengths in scene units.

    `aperture` is (width, height) and `offset` its shift, both at the film, in the unit of
    `focal_length`; for an orthographic camera the aperture is the size of what is seen.
    `lens_radius` 0 is a pinhole.  `track` is as an `Item`'s.  `stops` is the camera's own exposure, for
    those who display its pictures.
    """

    path: str
    to_world: Matrix
    aperture: tuple[float, float]
    offset: tuple[float, float] = (0.0, 0.0)
    focal_length: float = 1.0
    lens_radius: float = 0.0
    focus_distance: float = 0.0
    clipping: tuple[float, float] = (1e-3, 1e9)
    orthographic: bool = False
    track: Matrix | None = None
    stops: float = 0.0


@dataclass(frozen=True, eq=False)
class Later:
    """Where things are at the next frame: `places` holds a `to_world` for each item."""

    places: tuple[Matrix, ...]
    camera: Camera


@dataclass(frozen=True, eq=False)
class Snapshot:
    """Everything a renderer needs for one cell at one frame; `later` only where it was asked for."""

    items: Sequence[Item]
    materials: tuple[Material, ...]
    lights: tuple[Light, ...]
    camera: Camera
    frame: float = 1.0
    metres_per_unit: float = 1.0
    later: Later | None = None

    @property
    def glowing(self) -> tuple[str | None, ...]:
        """For each item its path where it glows, None where it does not."""
        glow = {m for m, material in enumerate(self.materials) if material.may_glow}
        if not glow:
            return (None,) * len(self.items)
        if isinstance(self.items, Items):
            glows = self.items.with_any(glow).tolist()
            return tuple(path if does else None for path, does in zip(self.items.paths, glows, strict=True))
        return tuple(None if glow.isdisjoint(item.materials) else item.path for item in self.items)

    @property
    def catches_shadow(self) -> bool:
        """Whether any item catches shadows."""
        if isinstance(self.items, Items):
            return self.items.any_catches
        return any(item.catches for item in self.items)
