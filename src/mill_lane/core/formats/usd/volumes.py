"""Fog of a stage where it is the same throughout: MaterialX's homogeneous volumes in a box.

A material whose volume output comes from `anisotropic_vdf` or `absorption_vdf` (MaterialX,
"Physically Based Shading Nodes", volume distribution functions) fills what wears it: the box round
it is taken.
Fields of voxels are told and not drawn.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.scene.model import Note
from mill_lane.core.scene.surroundings import Medium

CONTEXTS = ("", "mtlx")
DEEPEST = 4  # nodes between the output of a material and its volume


def fog_of(prim: Any, time: Any, world: NDArray[np.float64], notes: list[Note]) -> Medium | None:
    """The fog that fills a prim; None where its material says nothing of any.

    Parameters
    ----------
    prim : Usd.Prim
        Something with an extent.
    time : time code
    world : array of float64, (4, 4)
        Object to world, in metres, for columns.
    notes : list of Note
        Told what is taken otherwise than it stands.
    """
    from pxr import UsdShade

    material, _ = UsdShade.MaterialBindingAPI(prim).ComputeBoundMaterial()
    shader = _volume_of(material) if material else None
    if shader is None:
        return None
    scatter, absorb = _mean(shader, "scattering", time), _mean(shader, "absorption", time)
    if scatter + absorb <= 0:
        return None
    box = _box(prim, time, world)
    if box is None:
        return None
    low, high, turned = box
    # Coefficients are per unit of the stage.
    scale = abs(float(np.linalg.det(world[:3, :3]))) ** (1 / 3)
    name = str(prim.GetName())
    if turned or prim.GetTypeName() not in ("Cube", "Volume"):
        text = f"The fog “{name}” is drawn as the upright box that holds it."
        notes.append(Note("fog_as_box", "look", text))
    g = min(max(_mean(shader, "anisotropy", time), -0.99), 0.99)
    return Medium(name, low, high, scatter / scale, absorb / scale, g)


def is_fog_alone(prim: Any) -> bool:
    """Whether what is bound to a prim has a volume and no surface."""
    from pxr import UsdShade

    material, _ = UsdShade.MaterialBindingAPI(prim).ComputeBoundMaterial()
    if not material or _volume_of(material) is None:
        return False
    return not any(material.ComputeSurfaceSource(c)[0] for c in CONTEXTS)


def _volume_of(material: Any) -> Any:
    """The shader that tells scattering and absorption; None where there is none."""
    from pxr import UsdShade

    source = next(filter(None, (material.ComputeVolumeSource(c)[0] for c in CONTEXTS)), None)
    for _ in range(DEEPEST):
        if not source:
            return None
        if source.GetInput("absorption") or source.GetInput("scattering"):
            return source
        inner = source.GetInput("vdf")
        found = inner.GetConnectedSources()[0] if inner else []
        source = UsdShade.Shader(found[0].source.GetPrim()) if found else None
    return None


def _mean(shader: Any, name: str, time: Any) -> float:
    """An input, of a colour the mean of its channels; what is no number is nothing."""
    socket = shader.GetInput(name)
    attributes = socket.GetValueProducingAttributes() if socket else []
    value = attributes[0].Get(time) if attributes else None
    if value is None:
        return 0.0
    found = float(np.mean(np.array(value, float)))
    usable = np.isfinite(found) and (found >= 0 or name == "anisotropy")
    return found if usable else 0.0


def _box(
    prim: Any, time: Any, world: NDArray[np.float64]
) -> tuple[tuple[float, float, float], tuple[float, float, float], bool] | None:
    """The upright box round a prim, and whether it stands askew in it."""
    from pxr import UsdGeom

    # What is authored may be stale, or the standard's usual for a cube of another size.
    extent = UsdGeom.Boundable.ComputeExtentFromPlugins(UsdGeom.Boundable(prim), time)
    if extent is None or len(extent) != 2:
        extent = UsdGeom.Boundable(prim).GetExtentAttr().Get(time)
    if extent is None or len(extent) != 2:
        return None
    corners = np.array(np.meshgrid(*np.array(extent, float).T), float).reshape(3, -1)
    placed = world[:3, :3] @ corners + world[:3, 3:]
    low, high = placed.min(1), placed.max(1)
    if not (np.isfinite([low, high]).all() and (high > low).all()):
        return None
    sides = np.abs(world[:3, :3])
    turned = bool((np.sort(sides, 0)[:2] > 1e-6 * sides.max()).any())
    return (
        (float(low[0]), float(low[1]), float(low[2])),
        (float(high[0]), float(high[1]), float(high[2])),
        turned,
    )
