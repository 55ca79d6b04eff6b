"""What to look at before a range of frames is rendered: a module a subject, listed here.

A check is a function from what was asked to what it found, and one entry in `CHECKS`.
"""

from __future__ import annotations

from mill_lane.core.plan.checks.frames import frames_twice, nothing_moves
from mill_lane.core.plan.checks.model import Asked, Check, Found, Mend
from mill_lane.core.plan.checks.output import disk, output
from mill_lane.core.plan.checks.picture import memory, picture
from mill_lane.core.plan.checks.recipe import denoising, noise_threshold, preview_means, samples
from mill_lane.core.plan.checks.scene import (
    depth_of_field,
    environment,
    hidden,
    inside,
    lights,
    overlap,
    shutter,
)
from mill_lane.core.plan.checks.time import deadline, time
from mill_lane.core.registry import Registry

__all__ = ["CHECKS", "Asked", "Found", "Mend", "check_range"]

CHECKS: Registry[Check] = Registry(
    "check of a range",
    Check("memory", memory),
    Check("picture", picture),
    Check("frames_twice", frames_twice),
    Check("nothing_moves", nothing_moves),
    Check("environment", environment),
    Check("depth_of_field", depth_of_field),
    Check("shutter", shutter),
    Check("lights", lights),
    Check("overlap", overlap),
    Check("inside", inside),
    Check("hidden", hidden),
    Check("output", output),
    Check("disk", disk),
    Check("denoising", denoising),
    Check("samples", samples),
    Check("preview_means", preview_means),
    Check("noise_threshold", noise_threshold),
    Check("time", time),
    Check("deadline", deadline),
)


def check_range(asked: Asked) -> list[Found]:
    """Make every check for a run sheet, in the order of the registry.

    Raises
    ------
    MillError
        Where the sheet itself is wrong.
    """
    asked.sheet.check_below(asked.folder)
    asked.sheet.listed(asked.shot.analysis.frames)
    return [found for check in CHECKS for found in check.look(asked)]
