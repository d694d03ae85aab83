"""Opening a scene, read-only, and what is known of it before any edit.

A scene is opened once.  Its layers refuse to be edited from then on, so that no mistake of ours
can reach a file of the artist's.
"""

from __future__ import annotations

import hashlib
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path

from pxr import Ar, Sdf, Tf, Usd, UsdGeom, UsdUtils

from grandlattice._support.filesystem import is_file, is_there
from grandlattice.errors import Place, SceneError
from grandlattice.plan import PrimFact, SceneFacts
from grandlattice.plan.spelled_values import shortened
from grandlattice.stage.attributes import is_light, metres_per_unit_of
from grandlattice.stage.selection import Selector
from grandlattice.stage.soundness import layers_missing, refuse_bottomless

_FURTHEST = 1e9  # frames; beyond it, or where it is no number, a scene names none
ENDINGS = (".usd", ".usda", ".usdc", ".usdz")


@contextmanager
def quiet_usd() -> Iterator[list[str]]:
    """Collect what USD would print to the terminal; the list is filled on leaving."""
    delegate = UsdUtils.CoalescingDiagnosticDelegate()
    messages: list[str] = []
    try:
        yield messages
    finally:
        messages += [item.commentary for item in delegate.TakeUncoalescedDiagnostics()]


@dataclass(frozen=True, eq=False)
class Scene:
    """A scene as it stands in its file.

    Attributes
    ----------
    file : the file.
    stage : the composed scene, not to be edited.
    up_axis : ``Y`` or ``Z``.
    metres_per_unit : length of a scene unit.
    frames : first and last frame; None where the scene names none.
    frames_per_second : of its time codes.
    missing : layers that are asked for and not there, as they are named.
    """

    file: Path
    stage: Usd.Stage
    up_axis: str
    metres_per_unit: float
    frames: tuple[int, int] | None
    frames_per_second: float
    missing: tuple[str, ...] = ()

    @cached_property
    def named(self) -> tuple[list[str], list[str]]:
        """Files the scene is made of: those that were there when this was asked first, and the others."""
        return dependencies(self.file.resolve())

    @property
    def layer(self) -> Sdf.Layer:
        return self.stage.GetRootLayer()

    @quiet_usd()
    def facts(
        self, select: Mapping[str, Sequence[str]] | None = None, folder: Path | None = None
    ) -> SceneFacts:
        """What planning needs to know.

        Parameters
        ----------
        select : the plan's named selections, for axes that ask by name.
        folder : the plan's folder, for axes made of files.
        """
        cameras, lights = [], []
        variants = {}
        for prim in self.stage.Traverse():
            path = str(prim.GetPath())
            if prim.IsA(UsdGeom.Camera):
                cameras.append(PrimFact(path, _is_visible(prim)))
            elif is_light(prim):
                lights.append(PrimFact(path, _is_visible(prim)))
            if prim.HasVariantSets():
                sets = prim.GetVariantSets()
                variants[path] = {
                    name: sets.GetVariantSet(name).GetVariantNames() for name in sets.GetNames()
                }
        selector = Selector(self.stage, select or {})

        def matching(text: str, place: Place) -> list[str]:
            return [str(path) for path in selector.prims([text], place=place)]

        return SceneFacts(
            tuple(cameras), self.frames, self.file.stem, tuple(lights), variants, matching, folder or Path()
        )


def _is_visible(prim: Usd.Prim) -> bool:
    visibility = UsdGeom.Imageable(prim).ComputeVisibility(Usd.TimeCode.EarliestTime())
    return bool(visibility != UsdGeom.Tokens.invisible)


def open_scene(file: Path) -> Scene:
    """Open a USD scene read-only.

    Raises
    ------
    SceneError
        When there is no such file, or it is no USD.
    """
    if not is_there(file):
        raise SceneError(
            f"There is no scene at {shortened(str(file), 400)}.",
            cure="check the path; in a plan it is relative to the plan",
        )
    if file.suffix.lower() not in ENDINGS:
        raise SceneError(
            f"{file.name} is no USD scene: its name ends in {file.suffix or 'nothing'}.",
            cure="name a file that ends in " + ", ".join(ENDINGS),
        )
    if not is_file(file):
        raise SceneError(f"{file.name} is no file but something else.", cure="name a file")
    try:
        with quiet_usd():
            layer = Sdf.Layer.FindOrOpen(str(file.resolve()))
            if layer is not None:
                layer.SetPermissionToEdit(False)
                layer.Reload()  # another plan of this process may have it open as it was before
                missing = layers_missing(layer)
                stage = _opened(layer)
                stage.Reload()
                refuse_bottomless(stage)
    except Tf.ErrorException as problem:
        raise _unreadable(file, problem) from None
    if layer is None:
        raise _unreadable(file, None)
    frames = None
    ends = (stage.GetStartTimeCode(), stage.GetEndTimeCode())
    if stage.HasAuthoredTimeCodeRange() and all(abs(end) < _FURTHEST for end in ends):
        frames = round(stage.GetStartTimeCode()), round(stage.GetEndTimeCode())
        frames = frames if frames[1] >= frames[0] else None
    return Scene(
        file, stage, str(UsdGeom.GetStageUpAxis(stage)), metres_per_unit_of(stage),
        frames, stage.GetFramesPerSecond(), missing,
    )  # fmt: skip


def _opened(layer: Sdf.Layer) -> Usd.Stage:
    """The composed scene, without what could not be opened of it: composition errors tell of that.

    Raises
    ------
    Tf.ErrorException
        When nothing of it can be composed.
    """
    cache = Usd.StageCache()
    try:
        with Usd.StageCacheContext(cache):
            return Usd.Stage.Open(layer, Usd.Stage.LoadAll)
    except Tf.ErrorException:
        stages = cache.GetAllStages()
        if not stages:
            raise
        return stages[0]


def dependencies(file: Path) -> tuple[list[str], list[str]]:
    """Files a USD file is made of, layers and assets: those that are there, and those that are not."""
    try:
        with quiet_usd():
            layers, assets, missing = UsdUtils.ComputeAllDependencies(Sdf.AssetPath(str(file)))
    except (Tf.ErrorException, RuntimeError, UnicodeDecodeError):
        return _walked(file)
    return [*(layer.realPath for layer in layers if layer.realPath), *map(str, assets)], list(
        map(str, missing)
    )


def _walked(file: Path) -> tuple[list[str], list[str]]:
    """The same, found layer by layer, where USD gives up because one of them is damaged."""
    there: list[str] = []
    missing: list[str] = []
    waiting, seen = [str(file)], {str(file)}
    while waiting:
        path = waiting.pop()
        outer = Ar.SplitPackageRelativePathOuter(path)[0] or path
        (there if is_file(outer) else missing).append(path)
        layer = usd_layer(Path(path)) if Path(outer).suffix.lower() in ENDINGS else None
        if layer is None:
            continue
        named = [*layer.GetCompositionAssetDependencies(), *_assets_in(layer)]
        new = {layer.ComputeAbsolutePath(name) for name in named if name} - seen
        seen |= new
        waiting += sorted(new)
    return there, missing


def _assets_in(layer: Sdf.Layer) -> list[str]:
    found: list[str] = []

    def look(path: Sdf.Path) -> None:
        spec = layer.GetAttributeAtPath(path) if path.IsPropertyPath() else None
        if spec is not None and isinstance(spec.default, Sdf.AssetPath):
            found.append(spec.default.path)

    layer.Traverse(Sdf.Path.absoluteRootPath, look)
    return found


def _unreadable(file: Path, problem: Exception | None) -> SceneError:
    detail = ""
    if problem is not None:
        lines = [line.strip() for line in str(problem).splitlines() if line.strip()]
        said = next((line for line in lines if "line" in line.lower()), "")
        detail = f" ({said.split(': ', 1)[-1][:160]})" if said else ""
    return SceneError(
        f"{file.name} cannot be read as a USD scene{detail}.",
        place=Place(file),
        cure="open it in a USD program and save it again, or name another scene",
    )


def usd_layer(file: Path) -> Sdf.Layer | None:
    """A layer, not to be edited; None where there is no such file, or it is no USD."""
    if not is_file(file):
        return None
    try:
        with quiet_usd():
            layer = Sdf.Layer.FindOrOpen(str(file))
    except (Tf.ErrorException, UnicodeDecodeError):
        return None
    if layer is not None:
        layer.SetPermissionToEdit(False)
    return layer


def resolved(path: Path) -> Path:
    """A path with its links followed; as it is where it is none that can be."""
    try:
        return path.resolve()
    except (OSError, ValueError, RuntimeError):
        return path


@quiet_usd()
def material_paths(layer: Sdf.Layer) -> list[str]:
    """The materials in a file."""
    stage = Usd.Stage.Open(layer)
    return [str(prim.GetPath()) for prim in stage.TraverseAll() if prim.GetTypeName() == "Material"]


def read_asset(path: str) -> bytes | None:
    """The bytes of an asset, packaged ones (``a.usdz[b.png]``) included; None if it is missing."""
    asset = Ar.GetResolver().OpenAsset(Ar.ResolvedPath(path))
    if asset is None:
        return None
    with asset:
        return bytes(asset.GetBuffer())


def _paths(file: Path, parts: tuple[list[str], list[str]]) -> set[Path]:
    """The files that hold what a USD file is made of; a name that was not found may be relative to it."""
    names = {name for part in parts for name in part}
    return {file.parent / (Ar.SplitPackageRelativePathOuter(name)[0] or name) for name in names}


def scene_files(scene: Scene) -> list[Path]:
    """Every file a scene is made of, layers and assets, sorted; missing ones left out."""
    return sorted(path for path in _paths(scene.file.resolve(), scene.named) if is_file(path))


def files_read(scene: Scene, named: Iterable[Path]) -> set[Path]:
    """Every file a scene and some files of a plan are made of, as they are named and as links lead;
    those that are missing now, too; see `files_named`."""
    found = files_named(scene, named)
    return found | {resolved(path) for path in found}


def files_named(scene: Scene, named: Iterable[Path]) -> set[Path]:
    """Every file a scene and some files of a plan are made of, as they are named; those that are missing
    now, too.

    Parameters
    ----------
    named : files a plan names; what a USD file among them is made of counts as well.
    """
    found: set[Path] = set()
    usd: list[Path] = []
    for path in named:
        found.add(path)
        if path.suffix.lower() in ENDINGS and is_file(path):
            usd.append(path)
    asked = {file: dependencies(file) for file in dict.fromkeys(usd)}
    for file, parts in {**asked, scene.file.resolve(): scene.named}.items():
        found |= _paths(file, parts)
    return found


def file_digest(path: Path) -> str:
    """A digest of a file's bytes."""
    with path.open("rb") as stream:
        return hashlib.file_digest(stream, lambda: hashlib.blake2b(digest_size=16)).hexdigest()


def scene_digest(scene: Scene) -> str:
    """One digest over all the files of a scene and their names."""
    whole = hashlib.blake2b(digest_size=16)
    folder = scene.file.resolve().parent
    for path in scene_files(scene):
        name = path.relative_to(folder) if path.is_relative_to(folder) else path
        whole.update(f"{name}\0{file_digest(path)}\n".encode())
    return whole.hexdigest()
