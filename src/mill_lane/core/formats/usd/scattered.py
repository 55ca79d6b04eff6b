"""Point instancers: every copy a node of its own, moving where its points do."""

from __future__ import annotations

from typing import Any, Protocol

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.formats.usd.solids import KINDS
from mill_lane.core.scene.model import Note

MOST_KEYS = 4_000_000  # of all copies of one instancer together
F64 = NDArray[np.float64]


class Reader(Protocol):
    """What placing copies needs of the reading of a stage."""

    stage: Any
    notes: list[Note]
    first: float
    frames: tuple[int, int]
    caches: dict[float, Any]

    def at(self, prim: Any, time: float) -> F64:
        """Object to world."""

    def drawn(self, prim: Any) -> int:
        """The number of the mesh that is drawn for a prim; -1 for none."""

    def place(self, name: str, mesh: int, worlds: list[F64], *, at: str) -> None:
        """Add a node."""


def place_scattered(reader: Reader, prim: Any, drawn: Any) -> None:
    """Place the copies of a point instancer.

    Parameters
    ----------
    reader : Reader
    prim : Usd.Prim
        The instancer.
    drawn : Usd predicate
        Of prims that are drawn at all.
    """
    from pxr import UsdGeom

    instancer = UsdGeom.PointInstancer(prim)
    which = instancer.GetProtoIndicesAttr().Get(reader.first)
    first = _matrices(instancer, reader.first)
    mask = instancer.ComputeMaskAtTime(reader.first)
    if which is None or len(first) != len(which):
        return
    things = [_things(reader, target, drawn) for target in _prototypes(instancer)]
    by_frame = _over_time(reader, instancer, which, first)
    bases = [reader.at(prim, time) for time, _ in by_frame]
    for i, k in enumerate(which):
        if not (0 <= k < len(things) and (not mask or mask[i])):
            continue
        at = [base @ matrices[i] for base, (_, matrices) in zip(bases, by_frame, strict=True)]
        for name, mesh, local, own in things[k]:
            where = f"{prim.GetPath()}[{i}]{own}"
            reader.place(f"{prim.GetName()} {i} {name}", mesh, [m @ local for m in at], at=where)


def _prototypes(instancer: Any) -> list[Any]:
    return list(instancer.GetPrototypesRel().GetForwardedTargets())


def _things(reader: Reader, target: Any, drawn: Any) -> list[tuple[str, int, F64, str]]:
    """What a prototype is made of: name, mesh, place within it, path."""
    from pxr import Usd, UsdGeom

    root, cache = reader.stage.GetPrimAtPath(target), reader.caches[reader.first]
    if not root:
        return []
    inverse = np.linalg.inv(np.array(cache.GetParentToWorldTransform(root), float).T)
    return [
        (
            p.GetName(),
            reader.drawn(p),
            inverse @ np.array(cache.GetLocalToWorldTransform(p), float).T,
            str(p.GetPath()),
        )
        for p in Usd.PrimRange(root, drawn)
        if p.IsA(UsdGeom.Mesh) or p.GetTypeName() in KINDS
    ]


def _matrices(instancer: Any, time: float) -> F64:
    """The place of every copy within the instancer, (N, 4, 4), for columns."""
    from pxr import UsdGeom

    found = instancer.ComputeInstanceTransformsAtTime(
        time,
        time,
        UsdGeom.PointInstancer.ExcludeProtoXform,
        UsdGeom.PointInstancer.IgnoreMask,
    )
    return np.array(found, float).reshape(-1, 4, 4).transpose(0, 2, 1)


def _over_time(reader: Reader, instancer: Any, which: Any, first: F64) -> list[tuple[float, F64]]:
    """Times and the places of all copies at each; the first alone where nothing moves."""
    from pxr import UsdGeom

    points = (
        instancer.GetPositionsAttr(),
        instancer.GetOrientationsAttr(),
        instancer.GetScalesAttr(),
        instancer.GetProtoIndicesAttr(),
        instancer.GetIdsAttr(),
    )
    above, moves = instancer.GetPrim(), any(a.ValueMightBeTimeVarying() for a in points)
    while above and not above.IsPseudoRoot():
        xform = UsdGeom.Xformable(above)
        moves = moves or bool(xform and xform.TransformMightBeTimeVarying())
        above = above.GetParent()
    begin, end = reader.frames
    still = [(reader.first, first)]
    if not moves or end <= begin:
        return still
    name = instancer.GetPrim().GetName()
    if len(first) * (end - begin + 1) > MOST_KEYS:
        _told(reader, name, f"it has {len(first):,} over {end - begin + 1:,} frames")
        return still
    ids = instancer.GetIdsAttr().Get(reader.first)
    out = []
    for time in map(float, range(begin, end + 1)):
        same = list(instancer.GetProtoIndicesAttr().Get(time) or []) == list(which)
        same = same and list(instancer.GetIdsAttr().Get(time) or []) == list(ids or [])
        matrices = _matrices(instancer, time) if same else first[:0]
        if len(matrices) != len(first):
            _told(reader, name, "they come and go")
            return still
        out.append((time, matrices))
    return out


def _told(reader: Reader, name: str, why: str) -> None:
    text = f"The copies of “{name}” are drawn as they stand in the first frame: {why}."
    reader.notes.append(Note("copies_stand_still", "lost", text))
