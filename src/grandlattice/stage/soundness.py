"""What would make USD itself hang or die: found before anything is asked of the composed scene."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path

from pxr import Ar, Sdf, Usd, UsdGeom, UsdUtils

from grandlattice._support.filesystem import is_file, is_there
from grandlattice.errors import Place, SceneError

_INSTANCER = "PointInstancer"
_DEEPEST = 1000  # prims below one another; bounds are worked out by recursion
_MOST_COPIES = 100_000_000  # that point instancers may unfold to


def layers_missing(layer: Sdf.Layer) -> tuple[str, ...]:
    """Layers that a scene asks for, and those do that it asks for, and that are not there; as they are named.

    A layer which is no file is refused: a pipe or a device is read for ever.

    Raises
    ------
    SceneError
        Naming what asks and what it asks for.
    """
    waiting, seen = [layer], {layer.identifier}
    missing: dict[str, None] = {}
    while waiting:
        here = waiting.pop()
        for asset in here.GetCompositionAssetDependencies():
            path = here.ComputeAbsolutePath(asset)
            outer = Ar.SplitPackageRelativePathOuter(path)[0] or path
            if not path or path in seen:
                continue
            if not is_there(outer):
                if not Ar.GetResolver().Resolve(path):
                    missing.setdefault(asset)
                continue
            seen.add(path)
            if Path(outer).is_dir() or is_file(outer):
                other = _layer(path)
                if other is not None:
                    waiting.append(other)
                continue
            raise SceneError(
                f"{Path(here.realPath).name} asks for {asset}, which is no file but a device or a pipe.",
                place=Place(Path(here.realPath)), cure="mend the reference",
            )  # fmt: skip
    return tuple(missing)


def _layer(path: str) -> Sdf.Layer | None:
    try:
        return Sdf.Layer.FindOrOpen(path)
    except Exception:  # damaged: composition says so, and goes on without it
        return None


def refuse_bottomless(stage: Usd.Stage) -> None:
    """Refuse scenes whose bounds USD could not work out: prims nested without end, instancers made of
    themselves, and those that unfold to more copies than any machine holds.

    Raises
    ------
    SceneError
        Naming the prim.
    """
    for prim in stage.Traverse():
        path = prim.GetPath()
        if path.pathElementCount > _DEEPEST:
            raise SceneError(
                f"Prims are nested more than {_DEEPEST:,} deep.",
                place=Place(prim=f"{str(path)[:80]}…"), cure="flatten the groups above it",
            )  # fmt: skip
    # USD counts types many times as fast as they can be asked for one by one.
    if _INSTANCER in UsdUtils.ComputeUsdStageStats(stage)["primary"]["primCountsByType"]:
        instancers = {prim.GetPath(): prim for prim in stage.Traverse() if prim.IsA(UsdGeom.PointInstancer)}
        unfolded: dict[Sdf.Path, float] = {}
        for path in instancers:
            _unfold(path, instancers, unfolded, ())


def _unfold(
    path: Sdf.Path, instancers: dict[Sdf.Path, Usd.Prim], known: dict[Sdf.Path, float],
    above: tuple[Sdf.Path, ...],
) -> float:  # fmt: skip
    """How many copies an instancer comes to, those of instancers among its prototypes included."""
    if path in above:
        raise SceneError(
            "The instancer is among its own prototypes.", place=Place(prim=str(path)),
            cure="take it out of its prototypes",
        )  # fmt: skip
    if path in known:
        return known[path]
    instancer = UsdGeom.PointInstancer(instancers[path])
    indices = instancer.GetProtoIndicesAttr().Get(Usd.TimeCode.EarliestTime())
    targets = instancer.GetPrototypesRel().GetForwardedTargets()
    most = 1.0
    for inner in _among(instancers, targets):
        most = max(most, _unfold(inner, instancers, known, (*above, path)))
    known[path] = most * (len(indices) if indices else 0)
    if known[path] > _MOST_COPIES:
        raise SceneError(
            f"The instancer unfolds to {known[path]:,.0f} copies, more than {_MOST_COPIES:,}.",
            place=Place(prim=str(path)), cure="use fewer instances, or fewer instancers within instancers",
        )  # fmt: skip
    return known[path]


def _among(instancers: Iterable[Sdf.Path], targets: Iterable[Sdf.Path]) -> list[Sdf.Path]:
    return [path for path in instancers if any(path.HasPrefix(target) for target in targets)]
