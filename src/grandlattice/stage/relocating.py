"""Layers that are copied to another place, with paths that lead to where their files are then."""

from __future__ import annotations

import os
from collections.abc import Callable
from pathlib import Path, PurePosixPath

from pxr import Ar, Sdf, Tf, UsdUtils

from grandlattice.stage.opened_scene import quiet_usd, usd_layer

PlaceOf = Callable[[Path], PurePosixPath | None]
"""Where a file will be, by where it is; None where it will not be anywhere."""

_CRATE = b"PXR-USDC"


def relocated(source: Path, place: PurePosixPath, place_of: PlaceOf) -> Callable[[Path], None] | None:
    """What writes a layer so that it can be read at another place; None where it can be as it is.

    Parameters
    ----------
    source : the layer; what is no layer, or a package, needs no change.
    place : where it will be.
    """
    layer = None if source.suffix.lower() == ".usdz" else usd_layer(source)
    if layer is None:
        return None
    changes: dict[str, str] = {}

    def moved(name: str) -> str:
        known = changes.get(name)
        if known is None:
            changes[name] = known = _moved(layer, name, place, place_of)
        return known

    copy = Sdf.Layer.CreateAnonymous(f"copy{source.suffix}")
    copy.TransferContent(layer)
    with quiet_usd():
        UsdUtils.ModifyAssetPaths(copy, moved)
    if all(name == new for name, new in changes.items()):
        return None

    def write(path: Path) -> None:
        arguments = {}
        if path.suffix.lower() == ".usd":
            with source.open("rb") as stream:
                arguments = {"format": "usdc" if stream.read(len(_CRATE)) == _CRATE else "usda"}
        try:
            if not copy.Export(str(path), args=arguments):
                raise OSError(f"{path.name} could not be written")
        except Tf.ErrorException as problem:
            raise OSError(str(problem).strip().splitlines()[0]) from None

    return write


def _moved(layer: Sdf.Layer, name: str, place: PurePosixPath, place_of: PlaceOf) -> str:
    """An asset path of a layer, as it leads to the same file from another place."""
    outer, inner = name, ""
    if Ar.IsPackageRelativePath(name):
        outer, inner = Ar.SplitPackageRelativePathOuter(name)
    if not outer or outer.startswith("`"):  # an expression says a path when it is composed
        return name
    anchored = layer.ComputeAbsolutePath(outer)
    found = str(Ar.GetResolver().Resolve(anchored)) or anchored
    there = place_of(Path(found))
    if there is None:
        return name
    folder = place.parent
    if not os.path.isabs(outer) and os.path.normpath(folder / outer) == str(there):
        return name
    new = os.path.relpath(there, folder).replace(os.sep, "/")
    new = new if new.startswith("..") else f"./{new}"
    return Ar.JoinPackageRelativePath(new, inner) if inner else new
