"""Trims: from a scene to a lighter scene, with a report of what changed.

A trim is one module with a `Trim` and one line below.
"""

from __future__ import annotations

from collections.abc import Sequence

from mill_lane.core.errors import MillError
from mill_lane.core.progress import Progress, part, silent
from mill_lane.core.registry import Registry
from mill_lane.core.scene.model import Scene
from mill_lane.core.trim.constant_texture import ConstantTexture
from mill_lane.core.trim.decimate import Decimate
from mill_lane.core.trim.dicing import Dicing
from mill_lane.core.trim.fog import Fog
from mill_lane.core.trim.instances import Instances
from mill_lane.core.trim.leave_out import LeaveOut
from mill_lane.core.trim.merged_lights import MergedLights
from mill_lane.core.trim.model import Change, Choice, Trim
from mill_lane.core.trim.packed_maps import PackedMaps
from mill_lane.core.trim.ray_visibility import RayVisibility
from mill_lane.core.trim.same_material import SameMaterial
from mill_lane.core.trim.same_picture import SamePicture
from mill_lane.core.trim.strong_lights import StrongLights
from mill_lane.core.trim.texture_channels import TextureChannels
from mill_lane.core.trim.texture_jpeg import TextureJpeg
from mill_lane.core.trim.texture_size import TextureSize
from mill_lane.core.trim.weak_lights import WeakLights
from mill_lane.core.weigh.analysis import Analysis

# In the order in which they are applied: pictures are made smaller before they are stored anew,
# copies are shared before one of them is thinned, objects are left out last, so that their numbers
# hold until then.
TRIMS: Registry[Trim] = Registry(
    "trim",
    TextureSize(),
    SamePicture(),
    ConstantTexture(),
    PackedMaps(),
    TextureChannels(),
    TextureJpeg(),
    SameMaterial(),
    Instances(),
    Dicing(),
    Decimate(),
    WeakLights(),
    MergedLights(),
    StrongLights(),
    Fog(),
    RayVisibility(),
    LeaveOut(),
)


def apply_choices(
    scene: Scene, choices: Sequence[Choice], progress: Progress = silent
) -> tuple[Scene, list[Change]]:
    """Apply everything on a trim list, trim by trim, in the order of the registry.

    Parameters
    ----------
    scene : Scene
        Left as it is.
    choices : sequence of Choice
    progress : callable

    Raises
    ------
    MillError
        For a trim that this edition has not, or a choice that does not fit the scene.
    """
    for choice in choices:
        if choice.trim not in TRIMS:
            raise MillError(
                f"There is no trim “{choice.trim}” in this edition.", "Take it off the list."
            )
    changes: list[Change] = []
    wanted = [t for t in TRIMS if any(c.trim == t.name for c in choices)]
    for i, trim in enumerate(wanted):
        own = [c for c in choices if c.trim == trim.name]
        tell = part(progress, i / len(wanted), (i + 1) / len(wanted))
        scene, more = trim.apply(scene, own, tell)
        changes += more
    return scene, changes


def foresee(analysis: Analysis, choices: Sequence[Choice]) -> Analysis:
    """Predict what weighing will find once choices of any trims are applied; see `Trim.foresee`."""
    for trim in TRIMS:
        own = [c for c in choices if c.trim == trim.name]
        if own:
            analysis = trim.foresee(analysis, own)
    return analysis
