"""Cameras of a stage (UsdGeomCamera) as ours."""

from __future__ import annotations

from typing import Any

import numpy as np

from mill_lane.core.scene.model import Camera


def as_camera(prim: Any, time: float, unit: float) -> Camera:
    """A camera as it stands at a time; `unit` is the stage's unit of length in metres.

    Aperture and focal length are tenths of that unit (UsdGeomCamera), so that their ratio, the
    field of view, needs no unit.
    """
    from pxr import UsdGeom

    camera = UsdGeom.Camera(prim)
    length = float(camera.GetFocalLengthAttr().Get(time) or 50.0)
    height = float(camera.GetVerticalApertureAttr().Get(time) or 15.2908)
    width = float(camera.GetHorizontalApertureAttr().Get(time) or 20.955)
    yfov = 2 * float(np.arctan(height / (2 * length)))
    flat = camera.GetProjectionAttr().Get(time) == "orthographic"
    return Camera(
        prim.GetName(),
        min(max(yfov, 1e-3), 3.1),
        width / height if height > 0 else None,
        half_height=max(height / 20 * unit, 1e-6) if flat else None,
        f_stop=max(float(camera.GetFStopAttr().Get(time) or 0.0), 0.0),
        focus_distance=max(float(camera.GetFocusDistanceAttr().Get(time) or 0.0) * unit, 0.0),
    )
