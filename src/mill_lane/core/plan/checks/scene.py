"""Checks of what is seen only when it is too late: sky, focus, blur, lamps, panes, the camera."""

from __future__ import annotations

from collections.abc import Iterable

from mill_lane.core.plan.checks.model import Asked, Found, Mend


def environment(asked: Asked) -> Iterable[Found]:
    """Whether the camera sees the sky."""
    final, analysis = asked.shot.recipe, asked.shot.analysis
    sky = bool(final.environment_picture) or final.sun_elevation is not None
    if not sky and analysis.environment == "none":
        return
    seen = final.environment_visible
    text = "The sky is seen by the camera." if seen else "The sky lights, and is not seen."
    title = "keep it out of the picture" if seen else "show it"
    mend = Mend(title, recipe={"environment_visible": not seen})
    yield Found("environment", "ok", text, "finish", mend)


def depth_of_field(asked: Asked) -> Iterable[Found]:
    """What is in focus."""
    final = asked.shot.recipe
    text = "Everything is in focus: no f-stop."
    if final.f_stop > 0:
        text = f"In focus at {final.focus_distance:g} m, f/{final.f_stop:g}."
    yield Found("depth_of_field", "ok", text, "finish")


def shutter(asked: Asked) -> Iterable[Found]:
    """Whether motion is blurred."""
    final, (first, last) = asked.shot.recipe, asked.shot.analysis.frames
    if last > first:
        text = "Motion is not blurred: the shutter is 0."
        if final.shutter > 0:
            text = f"Motion is blurred over {final.shutter:g} of a frame."
        yield Found("shutter", "ok", text, "finish")


def lights(asked: Asked) -> Iterable[Found]:
    """Whether lights are off."""
    scales = asked.shot.recipe.light_scales
    off = [name for name, scale in scales.items() if scale == 0]
    if off:
        text = f"{len(off)} of the lights are off, “{off[0]}” among them."
        on = {name: scale for name, scale in scales.items() if scale != 0}
        mend = Mend("turn them on", recipe={"light_scales": on})
        yield Found("lights", "warning", text, "finish", mend)


def overlap(asked: Asked) -> Iterable[Found]:
    """Whether rays may go through as many panes and holes as stand one behind another."""
    analysis, allowed = asked.shot.analysis, asked.shot.recipe.transparent_layers
    looked = analysis.visibility
    if looked is None:
        if analysis.transparent_materials:
            text = "How many transparent layers overlap is not known: it was not looked at closely."
            yield Found("overlap", "warning", text, "scene")
        return
    deepest = looked.transparency_depth
    if deepest > allowed:
        text = (
            f"Up to {deepest} transparent layers overlap at frame {looked.overlap_frame}, and rays "
            f"go through {allowed}: black spots."
        )
        mend = Mend(f"let them through {deepest}", recipe={"transparent_layers": deepest})
        yield Found("overlap", "warning", text, "finish", mend)
    elif deepest:
        text = f"Up to {deepest} transparent layers overlap, rays go through {allowed}."
        yield Found("overlap", "ok", text, "finish")


def inside(asked: Asked) -> Iterable[Found]:
    """Whether the camera stands in something."""
    looked = asked.shot.analysis.visibility
    for name, frame, share in looked.inside if looked is not None else ():
        text = (
            f"At frame {frame} the camera is inside “{name}”: "
            f"its back fills {share:.0%} of the picture."
        )
        yield Found("inside", "warning", text, "scene")


def hidden(asked: Asked) -> Iterable[Found]:
    """Whether objects are kept from the camera."""
    names = asked.hidden
    if names:
        many = f"{len(names)} objects are" if len(names) > 1 else "One object is"
        text = f"{many} hidden from the camera by a trim, “{names[0]}” among them."
        yield Found("hidden", "warning", text, "trim")
