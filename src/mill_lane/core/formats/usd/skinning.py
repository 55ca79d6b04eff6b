"""Skinned meshes: posed by their skeletons at one time, in a layer that is thrown away."""

from __future__ import annotations

from typing import Any

from mill_lane.core.scene.model import Note


def pose_skins(stage: Any, time: float, notes: list[Note]) -> Any:
    """Write the points of skinned meshes as they are at a time over the stage.

    Parameters
    ----------
    stage : Usd.Stage
        Its session layer is written to; `forget` takes that back.
    time : float
        Time code.
    notes : list of Note
        Told what stands still that would move.

    Returns
    -------
    Sdf.Layer or None
        What was written; None where nothing is skinned.
    """
    from pxr import Gf, Sdf, Usd, UsdSkel

    roots = [p for p in stage.Traverse() if p.IsA(UsdSkel.Root)]
    if not roots:
        return None
    layer = Sdf.Layer.CreateAnonymous("posed")
    stage.GetSessionLayer().subLayerPaths.append(layer.identifier)
    moving = 0
    with Usd.EditContext(stage, Usd.EditTarget(layer)):
        for root in roots:
            if root.IsInstance():
                root.SetInstanceable(False)
            moving += _moves(root)
            UsdSkel.BakeSkinning(UsdSkel.Root(root), Gf.Interval(time, time))
    if moving:
        text = (
            f"{moving} skeletons move their meshes: every frame is drawn as they stand in frame "
            f"{time:g}."
        )
        notes.append(Note("skin_posed", "lost", text))
    return layer


def _moves(root: Any) -> int:
    """How many animations below a root change over time."""
    from pxr import Usd, UsdSkel

    found = 0
    for prim in Usd.PrimRange(root):
        if prim.IsA(UsdSkel.Animation):
            moves = UsdSkel.Animation(prim)
            attributes = (
                moves.GetTranslationsAttr(),
                moves.GetRotationsAttr(),
                moves.GetScalesAttr(),
                moves.GetBlendShapeWeightsAttr(),
            )
            found += any(a.GetNumTimeSamples() > 1 for a in attributes)
    return found


def forget(stage: Any, layer: Any) -> None:
    """Take the pose back: what is kept of the stage is the skin and its bones."""
    if layer is not None:
        paths = stage.GetSessionLayer().subLayerPaths
        paths.remove(layer.identifier)
