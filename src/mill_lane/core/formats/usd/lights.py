"""UsdLux lights: those with an area as emissive surfaces, the others as points of light and as
suns.

A light's brightness L is intensity x 2^exposure x colour, in the unit of radiance; with `normalize`
it is divided by the light's area (UsdLux schema, "Light API").  The radiance of a surface is taken
as it is; a point of light of radius r gives pi r^2 L, a distant light of angle a gives pi sin^2(a /
2) L across its rays.
"""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from mill_lane.core.scene.model import Geometry, Light, Material

SIDES = 32


def brightness(prim: Any, time: Any) -> tuple[float, float, float]:
    """Red, green and blue of a light before `normalize`."""
    from pxr import UsdLux

    api = UsdLux.LightAPI(prim)
    strength = float(api.GetIntensityAttr().Get(time) or 0.0) * 2.0 ** float(
        api.GetExposureAttr().Get(time) or 0.0
    )
    r, g, b = api.GetColorAttr().Get(time) or (1.0, 1.0, 1.0)
    if api.GetEnableColorTemperatureAttr().Get(time):
        warm = UsdLux.BlackbodyTemperatureAsRgb(
            float(api.GetColorTemperatureAttr().Get(time) or 6500.0)
        )
        r, g, b = r * warm[0], g * warm[1], b * warm[2]
    return max(0.0, strength * r), max(0.0, strength * g), max(0.0, strength * b)


def is_normalized(prim: Any, time: Any) -> bool:
    """Whether a light's power does not depend on its size."""
    from pxr import UsdLux

    return bool(UsdLux.LightAPI(prim).GetNormalizeAttr().Get(time))


def as_light(prim: Any, time: Any) -> Light | None:
    """A light without size, or None where it has one (or is none)."""
    from pxr import UsdLux

    name, (r, g, b) = prim.GetName(), brightness(prim, time)
    if prim.IsA(UsdLux.DistantLight):
        angle = math.radians(float(UsdLux.DistantLight(prim).GetAngleAttr().Get(time) or 0.0))
        solid = math.pi * math.sin(angle / 2) ** 2
        k = 1.0 if is_normalized(prim, time) or solid <= 0 else solid
        return _light(name, "directional", r * k, g * k, b * k)
    if prim.IsA(UsdLux.SphereLight):
        sphere = UsdLux.SphereLight(prim)
        radius = float(sphere.GetRadiusAttr().Get(time) or 0.0)
        if radius > 0 and not sphere.GetTreatAsPointAttr().Get(time):
            return None
        # As a point it counts as a sphere of radius 1 would, or of its own.
        r0 = radius if radius > 0 else 1.0
        k = 0.25 if is_normalized(prim, time) else math.pi * r0 * r0
        cone = UsdLux.ShapingAPI(prim) if prim.HasAPI(UsdLux.ShapingAPI) else None
        angle = (
            math.radians(float(cone.GetShapingConeAngleAttr().Get(time) or 0.0))
            if cone
            else math.pi
        )
        if cone and 0 < angle <= math.pi / 2:
            # The part of the angle over which it fades.
            soft = min(max(float(cone.GetShapingConeSoftnessAttr().Get(time) or 0.0), 0.0), 1.0)
            return _light(
                name, "spot", r * k, g * k, b * k, inner_cone=angle * (1.0 - soft), outer_cone=angle
            )
        return _light(name, "point", r * k, g * k, b * k)
    return None


def _light(name: str, kind: Any, r: float, g: float, b: float, **cone: float) -> Light:
    strength = max(r, g, b)
    colour = (r / strength, g / strength, b / strength) if strength > 0 else (1.0, 1.0, 1.0)
    inner, outer = cone.get("inner_cone", 0.0), cone.get("outer_cone", math.pi / 4)
    return Light(name, kind, colour, strength, inner_cone=inner, outer_cone=outer)


def as_surface(prim: Any, time: Any) -> tuple[Geometry, Material] | None:
    """The emissive surface of a rectangle, disc, sphere or tube light; None for other kinds."""
    from pxr import UsdLux

    if prim.IsA(UsdLux.RectLight):
        rect = UsdLux.RectLight(prim)
        w, h = (
            float(rect.GetWidthAttr().Get(time) or 0) / 2,
            float(rect.GetHeightAttr().Get(time) or 0) / 2,
        )
        points, triangles = (
            np.array([[-w, -h, 0], [-w, h, 0], [w, h, 0], [w, -h, 0.0]]),
            np.array([[0, 1, 2], [0, 2, 3]]),
        )
    elif prim.IsA(UsdLux.DiskLight):
        points, triangles = _disc(float(UsdLux.DiskLight(prim).GetRadiusAttr().Get(time) or 0))
    elif prim.IsA(UsdLux.SphereLight):
        points, triangles = _ball(float(UsdLux.SphereLight(prim).GetRadiusAttr().Get(time) or 0))
    elif prim.IsA(UsdLux.CylinderLight):
        tube = UsdLux.CylinderLight(prim)
        points, triangles = _tube(
            float(tube.GetRadiusAttr().Get(time) or 0), float(tube.GetLengthAttr().Get(time) or 0)
        )
    else:
        return None
    p = points[triangles]
    n = np.cross(p[:, 1] - p[:, 0], p[:, 2] - p[:, 0])
    area = float(np.linalg.norm(n, axis=1).sum() / 2)
    if area <= 0:
        return None
    r, g, b = (x / area if is_normalized(prim, time) else x for x in brightness(prim, time))
    normals = np.repeat(n / np.maximum(np.linalg.norm(n, axis=1, keepdims=True), 1e-30), 3, 0)
    corners = triangles.reshape(-1)
    geometry = Geometry(
        np.ascontiguousarray(points[corners], np.float32),
        np.ascontiguousarray(normals, np.float32),
        None,
        np.arange(len(corners), dtype=np.uint32).reshape(-1, 3),
    )
    return geometry, Material(
        prim.GetName(), (0.0, 0.0, 0.0, 1.0), metallic=0.0, roughness=1.0, emissive=(r, g, b)
    )


def _disc(radius: float) -> tuple[np.ndarray, np.ndarray]:
    """A disc that shines along -Z, of the area of the circle."""
    a = np.linspace(0, 2 * math.pi, SIDES, endpoint=False)
    r = radius * math.sqrt(2 * math.pi / (SIDES * math.sin(2 * math.pi / SIDES)))
    points = np.concatenate([[[0.0, 0.0, 0.0]], np.stack([r * np.cos(a), r * np.sin(a), 0 * a], 1)])
    i = np.arange(SIDES)
    return points, np.stack([0 * i, 1 + (i + 1) % SIDES, 1 + i], 1)


def _ball(radius: float) -> tuple[np.ndarray, np.ndarray]:
    """A ball of triangles, of the area of the sphere."""
    rows = SIDES // 2
    theta, phi = (
        np.linspace(0, math.pi, rows + 1),
        np.linspace(0, 2 * math.pi, SIDES, endpoint=False),
    )
    t, f = np.meshgrid(theta, phi, indexing="ij")
    points = np.stack([np.sin(t) * np.cos(f), np.cos(t), np.sin(t) * np.sin(f)], -1).reshape(-1, 3)
    i, j = np.meshgrid(np.arange(rows), np.arange(SIDES), indexing="ij")
    a, b = i * SIDES + j, i * SIDES + (j + 1) % SIDES
    c, d = a + SIDES, b + SIDES
    triangles = np.concatenate(
        [np.stack([a, b, c], -1).reshape(-1, 3), np.stack([b, d, c], -1).reshape(-1, 3)]
    )
    p = points[triangles]
    area = np.linalg.norm(np.cross(p[:, 1] - p[:, 0], p[:, 2] - p[:, 0]), axis=1) / 2
    triangles = triangles[area > 1e-12]
    return points * radius * math.sqrt(4 * math.pi / float(area.sum())), triangles


def _tube(radius: float, length: float) -> tuple[np.ndarray, np.ndarray]:
    """The side of a tube along X; its ends do not shine."""
    a = np.linspace(0, 2 * math.pi, SIDES, endpoint=False)
    ring = (
        np.stack([0 * a, np.cos(a), np.sin(a)], 1)
        * radius
        * (math.pi / SIDES)
        / math.sin(math.pi / SIDES)
    )
    half = np.array([length / 2, 0.0, 0.0])
    points = np.concatenate([ring - half, ring + half])
    i, j = np.arange(SIDES), (np.arange(SIDES) + 1) % SIDES
    return points, np.concatenate(
        [np.stack([i, j, i + SIDES], 1), np.stack([j, j + SIDES, i + SIDES], 1)]
    )
