"""Moving, turning and resizing the topmost selected prims.

`move`, `turn` and `resize` add an operation to those that stand; `move-to` and `turn-to` replace
what stands, at all times; `spin` adds a rotation over the planned frames.  Matrices act on row
vectors, as USD stores them: what comes first in a product is applied first.
"""

from __future__ import annotations

from typing import Any

from pxr import Gf, Usd, UsdGeom

from grandlattice.errors import EditError, Place
from grandlattice.stage.edit_stage import Draft
from grandlattice.stage.selection import topmost

_START = Usd.TimeCode.EarliestTime()
_PURPOSES = [UsdGeom.Tokens.default_, UsdGeom.Tokens.render]
_MOST_FRAMES = 100_000  # of a spin
Ops = list[UsdGeom.XformOp]


def move(draft: Draft, body: Any, place: Place) -> None:
    """Add a length along the axes of the scene."""
    for xformable in _each(draft, body, place):
        to_parent = _parent_to_world(xformable).GetInverse()
        op = xformable.AddTranslateOp(UsdGeom.XformOp.PrecisionDouble, _fresh(xformable))
        op.Set(to_parent.TransformDir(Gf.Vec3d(*_lengths(body, draft))))
        _set_order(xformable, [op, *_others(xformable, op)])


def turn(draft: Draft, body: Any, place: Place) -> None:
    """Add a rotation: about the pivot in the prim's own axes, about all else in the scene's."""
    for xformable in _each(draft, body, place):
        if body.about == "pivot":
            op = xformable.AddRotateXYZOp(opSuffix=_fresh(xformable))
            op.Set(Gf.Vec3f(body.x or 0.0, body.y or 0.0, body.z or 0.0))
            ops = _others(xformable, op)
            pivot = _pivot(ops)
            around = [pivot, op, UsdGeom.XformOp(pivot.GetAttr(), True)] if pivot else [op]
            _set_order(xformable, [*ops, *around])
            continue
        turned = Gf.Matrix4d(1.0)
        for axis, angle in zip(_AXES, (body.x, body.y, body.z), strict=True):
            turned *= Gf.Matrix4d().SetRotate(Gf.Rotation(axis, angle or 0.0))
        point = _point(draft, xformable, body.about, place)
        in_world = _translation(-point) * turned * _translation(point)
        parent = _parent_to_world(xformable)
        op = xformable.AddTransformOp(UsdGeom.XformOp.PrecisionDouble, _fresh(xformable))
        op.Set(parent * in_world * parent.GetInverse())
        _set_order(xformable, [op, *_others(xformable, op)])


def resize(draft: Draft, body: Any, place: Place) -> None:
    """Add a scaling along the prim's own axes."""
    factors = [body.by or factor or 1.0 for factor in (body.x, body.y, body.z)]
    for xformable in _each(draft, body, place):
        if body.about == "pivot":
            pivot = _pivot(xformable.GetOrderedXformOps())
            centre = Gf.Vec3d(pivot.Get(_START)) if pivot else Gf.Vec3d(0.0)
        else:
            to_local = xformable.ComputeLocalToWorldTransform(_START).GetInverse()
            centre = to_local.Transform(_point(draft, xformable, body.about, place))
        scaled = Gf.Matrix4d().SetScale(Gf.Vec3d(*factors))
        op = xformable.AddTransformOp(UsdGeom.XformOp.PrecisionDouble, _fresh(xformable))
        op.Set(_translation(-centre) * scaled * _translation(centre))
        _set_order(xformable, [*_others(xformable, op), op])


def move_to(draft: Draft, body: Any, place: Place) -> None:
    """Replace the place; an axis left out keeps its own, rotation and scale stay."""
    for xformable in _each(draft, body, place):
        ops = _simple_ops(xformable)
        moves = [op for op in ops if _is_move(op)]
        parent = _parent_to_world(xformable)
        stands = Gf.Vec3d(0.0)
        for op in moves:
            stands += Gf.Vec3d(op.GetOpTransform(_START).ExtractTranslation())
        target = parent.Transform(stands)
        for axis, length in enumerate((body.x, body.y, body.z)):
            if length is not None:
                target[axis] = length.in_units(draft.metres_per_unit)
        op = _named_op(xformable, "latticeMoveTo", UsdGeom.XformOp.TypeTranslate)
        op.Set(parent.GetInverse().Transform(target))
        at = ops.index(moves[0]) if moves else 0
        before = [o for o in ops[:at] if not _is_move(o)]
        _set_order(xformable, [*before, op, *(o for o in ops[at:] if not _is_move(o))])


def turn_to(draft: Draft, body: Any, place: Place) -> None:
    """Replace the rotation; an axis left out keeps its angle, place and scale stay."""
    for xformable in _each(draft, body, place):
        ops = _simple_ops(xformable)
        standing = _standing_angles(ops)
        wanted = (body.x, body.y, body.z)
        angles = Gf.Vec3f(*(a if w is None else w for w, a in zip(wanted, standing, strict=True)))
        op = _named_op(xformable, "latticeTo", UsdGeom.XformOp.TypeRotateXYZ)
        op.Set(angles)
        _in_place_of_rotations(xformable, ops, op)


def face(xformable: UsdGeom.Xformable, rotation: Gf.Rotation) -> None:
    """Replace the rotation so that the prim is turned by `rotation` from the scene's axes."""
    ops = _simple_ops(xformable)
    parent = _parent_to_world(xformable).ExtractRotation()
    op = _named_op(xformable, "latticeFace", UsdGeom.XformOp.TypeOrient)
    op.Set(Gf.Quatd((rotation * parent.GetInverse()).GetQuat()))
    _in_place_of_rotations(xformable, ops, op)


def spin(draft: Draft, body: Any, place: Place) -> None:
    """Add a rotation outside the animation that is there, about the prim's own place."""
    frames = body.frames.numbers if body.frames is not None else None
    if not frames:
        raise EditError("A spin needs to know its frames.", place=place, cure="write frames: 1-48")
    if len(frames) > _MOST_FRAMES:
        raise EditError(f"A spin goes over {_MOST_FRAMES:,} frames at most.", place=place)
    step = frames[-1] - frames[-2] if len(frames) > 1 else 1
    samples = [*enumerate(frames), (len(frames), frames[-1] + step)]
    axis = draft.up if body.axis == "up" else _AXES["xyz".index(body.axis)]
    for xformable in _each(draft, body, place):
        ops = xformable.GetOrderedXformOps()
        within = _parent_to_world(xformable).GetInverse().TransformDir(axis).GetNormalized()
        op = xformable.AddOrientOp(UsdGeom.XformOp.PrecisionDouble, _fresh(xformable))
        for k, frame in samples:
            turned = Gf.Rotation(within, 360.0 * body.turns * k / len(frames))
            op.Set(Gf.Quatd(turned.GetQuat()), frame)
        leading = 0
        while leading < len(ops) and ops[leading].GetOpType() == UsdGeom.XformOp.TypeTranslate:
            leading += 1
        before, after = ops[:leading], ops[leading:]
        if not leading and any(o.GetOpType() == UsdGeom.XformOp.TypeTransform for o in ops):
            stands = xformable.GetLocalTransformation(_START).ExtractTranslation()
            there = xformable.AddTranslateOp(UsdGeom.XformOp.PrecisionDouble, f"{_fresh(xformable)}Place")
            there.Set(stands)
            before, after = [there], [UsdGeom.XformOp(there.GetAttr(), True), *ops]
        _set_order(xformable, [*before, op, *after])


# --- operations ------------------------------------------------------------------------------

_AXES = (Gf.Vec3d.XAxis(), Gf.Vec3d.YAxis(), Gf.Vec3d.ZAxis())
_ROTATIONS = frozenset(
    getattr(UsdGeom.XformOp, f"TypeRotate{name}")
    for name in ("X", "Y", "Z", "XYZ", "XZY", "YXZ", "YZX", "ZXY", "ZYX")
) | {UsdGeom.XformOp.TypeOrient}


def _each(draft: Draft, body: Any, place: Place) -> list[UsdGeom.Xformable]:
    found = []
    for path in topmost(draft.selected(body, place)):
        prim = draft.writable(path)
        if not prim.IsA(UsdGeom.Xformable):
            raise EditError(f"{path} has no place in space, so it cannot be moved or turned.", place=place)
        found.append(UsdGeom.Xformable(prim))
    return found


def _fresh(xformable: UsdGeom.Xformable) -> str:
    """A suffix no operation of the prim has yet."""
    names = {op.GetOpName() for op in xformable.GetOrderedXformOps()}
    return f"lattice{sum('lattice' in name for name in names)}"


def _others(xformable: UsdGeom.Xformable, op: UsdGeom.XformOp) -> Ops:
    return [o for o in xformable.GetOrderedXformOps() if o.GetOpName() != op.GetOpName()]


def _set_order(xformable: UsdGeom.Xformable, ops: Ops) -> None:
    xformable.SetXformOpOrder(ops, xformable.GetResetXformStack())


def _named_op(xformable: UsdGeom.Xformable, suffix: str, kind: Any) -> UsdGeom.XformOp:
    """The operation of ours of this name, made when there is none."""
    for op in xformable.GetOrderedXformOps():
        if op.GetOpName().endswith(f":{suffix}"):
            return op
    precision = (
        UsdGeom.XformOp.PrecisionFloat
        if kind == UsdGeom.XformOp.TypeRotateXYZ
        else UsdGeom.XformOp.PrecisionDouble
    )
    return xformable.AddXformOp(kind, precision, suffix)


def _in_place_of_rotations(xformable: UsdGeom.Xformable, ops: Ops, turned: UsdGeom.XformOp) -> None:
    """Order in which `turned` stands where the first rotation stood, and no other rotation is left."""
    turning = [op for op in ops if _is_rotation(op)]
    at = ops.index(turning[0]) if turning else _after_translates(ops)
    others = [op for op in ops[:at] if not _is_rotation(op)]
    after = [op for op in ops[at:] if not _is_rotation(op)]
    _set_order(xformable, [*others, turned, *after])


def _simple_ops(xformable: UsdGeom.Xformable) -> Ops:
    """The standing operations, a whole matrix split into translate, rotate and scale."""
    ops = xformable.GetOrderedXformOps()
    if any(op.GetOpType() == UsdGeom.XformOp.TypeTransform for op in ops):
        return _split_matrix(xformable)
    return list(ops)


def _is_move(op: UsdGeom.XformOp) -> bool:
    is_translate = op.GetOpType() == UsdGeom.XformOp.TypeTranslate
    return bool(is_translate and not op.IsInverseOp() and not op.GetOpName().endswith(":pivot"))


def _pivot(ops: Ops) -> UsdGeom.XformOp | None:
    return next((op for op in ops if op.GetOpName().endswith(":pivot") and not op.IsInverseOp()), None)


def _lengths(body: Any, draft: Draft) -> list[float]:
    return [
        0.0 if length is None else length.in_units(draft.metres_per_unit)
        for length in (body.x, body.y, body.z)
    ]


def _translation(by: Gf.Vec3d) -> Gf.Matrix4d:
    return Gf.Matrix4d().SetTranslate(by)


def _parent_to_world(xformable: UsdGeom.Xformable) -> Gf.Matrix4d:
    if xformable.GetResetXformStack():
        return Gf.Matrix4d(1.0)
    return xformable.ComputeParentToWorldTransform(_START)


def _point(draft: Draft, xformable: UsdGeom.Xformable, about: Any, place: Place) -> Gf.Vec3d:
    """The point of the scene that `about` means."""
    if about == "centre":
        bound = UsdGeom.BBoxCache(_START, _PURPOSES).ComputeWorldBound(xformable.GetPrim())
        if bound.GetRange().IsEmpty():
            raise EditError(f"{xformable.GetPath()} has no centre: it holds nothing.", place=place)
        return bound.ComputeCentroid()
    return point_of(draft, about, place)


def point_of(draft: Draft, spot: Any, place: Place) -> Gf.Vec3d:
    """A point of the scene from three lengths, or the place of a prim."""
    if isinstance(spot, list):
        return Gf.Vec3d(*(length.in_units(draft.metres_per_unit) for length in spot))
    path = draft.selector.prims([spot], place=place)[0]
    prim = draft.stage.GetPrimAtPath(path)
    if not prim.IsA(UsdGeom.Xformable):
        raise EditError(f"{spot} has no place in space.", place=place)
    return UsdGeom.Xformable(prim).ComputeLocalToWorldTransform(_START).ExtractTranslation()


def _is_rotation(op: UsdGeom.XformOp) -> bool:
    return op.GetOpType() in _ROTATIONS


def _after_translates(ops: list[UsdGeom.XformOp]) -> int:
    places = [i for i, op in enumerate(ops) if op.GetOpType() == UsdGeom.XformOp.TypeTranslate
              and not op.IsInverseOp()]  # fmt: skip
    return places[-1] + 1 if places else 0


def _standing_angles(ops: list[UsdGeom.XformOp]) -> tuple[float, float, float]:
    """Angles about X, Y and Z of the rotation that stands, as rotateXYZ would have them."""
    whole = Gf.Matrix4d(1.0)
    for op in reversed(ops):
        if _is_rotation(op):
            whole *= op.GetOpTransform(Usd.TimeCode.EarliestTime())
    rotation = whole.ExtractRotation()
    z, y, x = rotation.Decompose(Gf.Vec3d.ZAxis(), Gf.Vec3d.YAxis(), Gf.Vec3d.XAxis())
    return x, y, z


def _split_matrix(xformable: UsdGeom.Xformable) -> list[UsdGeom.XformOp]:
    """The standing transform as translate, rotate and scale operations."""
    whole = Gf.Transform(xformable.GetLocalTransformation(Usd.TimeCode.EarliestTime()))
    move = xformable.AddTranslateOp(opSuffix="latticeSplit")
    move.Set(whole.GetTranslation())
    turn = xformable.AddOrientOp(opSuffix="latticeSplit")
    turn.Set(Gf.Quatf(whole.GetRotation().GetQuat()))
    size = xformable.AddScaleOp(opSuffix="latticeSplit")
    size.Set(Gf.Vec3f(whole.GetScale()))
    return [move, turn, size]
