"""Which rays see a prim, as far as USD has words for it, and back.

Rays from the camera: the collection of a render pass (UsdRenderPass, `cameraVisibility`).  Shadow
rays: the shadow links of all lights (UsdLuxLightAPI).  What else we keep stands in an attribute of
our own, which counts before either.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from mill_lane.core.scene.model import RAYS

OWN = "millLane:unseenBy"
PASS = "/MillLanePass"


@dataclass(frozen=True)
class Sight:
    """The collections of a stage that say what is seen."""

    camera: Any  # a membership query; None where every prim is seen
    shadows: tuple[Any, ...]  # a membership query for each light

    def unseen_by(self, prim: Any) -> tuple[str, ...]:
        """The kinds of rays that do not see a prim, in the order of `RAYS`."""
        above = prim
        while above and not above.IsPseudoRoot():
            own = above.GetAttribute(OWN)
            if own and own.HasAuthoredValue():
                found = set(map(str, own.Get() or []))
                return tuple(r for r in RAYS if r in found)
            above = above.GetParent()
        path, out = prim.GetPath(), []
        if self.camera is not None and not self.camera.IsPathIncluded(path):
            out.append("camera")
        if self.shadows and not any(q.IsPathIncluded(path) for q in self.shadows):
            out.append("shadow")
        return tuple(out)


def sight_of(stage: Any) -> Sight:
    """What a stage says of seeing: its first render pass, and all its lights."""
    from pxr import Usd, UsdLux

    camera, shadows, linked = None, [], False
    for prim in stage.Traverse():
        if prim.GetTypeName() == "RenderPass" and camera is None:
            seen = Usd.CollectionAPI.Get(prim, "cameraVisibility")
            if seen and seen.GetCollectionPath() and _says(seen):
                camera = seen.ComputeMembershipQuery()
        elif prim.HasAPI(UsdLux.LightAPI):
            link = UsdLux.LightAPI(prim).GetShadowLinkCollectionAPI()
            linked = linked or _says(link)
            shadows.append(link.ComputeMembershipQuery())
    return Sight(camera, tuple(shadows) if linked else ())


def put_rays(stage: Any, unseen: dict[str, tuple[str, ...]]) -> None:
    """Write which rays do not see prims, by path: in the stage's own words, and all in ours."""
    from pxr import Sdf, Usd, UsdLux

    for path, rays in unseen.items():
        prim = stage.GetPrimAtPath(path)
        if prim and not prim.IsInstanceProxy():
            made = prim.CreateAttribute(OWN, Sdf.ValueTypeNames.TokenArray, True)
            made.Set(list(rays))
    hidden = [p for p, rays in unseen.items() if "camera" in rays]
    if hidden:
        found = [p for p in stage.Traverse() if p.GetTypeName() == "RenderPass"]
        prim = found[0] if found else stage.DefinePrim(PASS, "RenderPass")
        seen = Usd.CollectionAPI.Apply(prim, "cameraVisibility")
        if not _says(seen):
            seen.CreateIncludeRootAttr(True)
        _exclude(seen, hidden)
    shadowless = [p for p, rays in unseen.items() if "shadow" in rays]
    for prim in stage.Traverse() if shadowless else ():
        if prim.HasAPI(UsdLux.LightAPI):
            _exclude(UsdLux.LightAPI(prim).GetShadowLinkCollectionAPI(), shadowless)


def _says(collection: Any) -> bool:
    """Whether a collection takes anything in or out."""
    relations = (collection.GetIncludesRel(), collection.GetExcludesRel())
    root = collection.GetIncludeRootAttr()
    return any(r and r.HasAuthoredTargets() for r in relations) or bool(
        root and root.HasAuthoredValue()
    )


def _exclude(collection: Any, paths: list[str]) -> None:
    relation = collection.CreateExcludesRel()
    for path in paths:
        relation.AddTarget(path)
