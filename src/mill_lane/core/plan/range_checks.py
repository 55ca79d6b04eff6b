"""What to look at before a range of frames is rendered, beside the checks of one picture."""

from __future__ import annotations

import os
import shutil
from dataclasses import dataclass
from pathlib import Path
from typing import Literal

from mill_lane.core.plan.estimate import Estimate
from mill_lane.core.plan.frames import parse_frames
from mill_lane.core.plan.night import TimeLeft
from mill_lane.core.plan.preflight import Shot, preflight
from mill_lane.core.plan.run_sheet import RunSheet
from mill_lane.core.recipe import DENOISE_LAYERS, Recipe
from mill_lane.core.render.layers import pictures
from mill_lane.core.weigh.analysis import Analysis


@dataclass(frozen=True)
class RangeCheck:
    """What a check found, and the station where it is mended; empty where nothing is to be."""

    code: str
    level: Literal["ok", "warning", "error"]
    text: str
    place: str = ""


FLOAT, HALF = 4, 2  # bytes
PLACES = {"memory": "fit", "threads": "machine", "textures": "scene", "camera": "scene"}


@dataclass(frozen=True)
class Range:
    """A range that is about to be rendered: the shot, its sheet, the folder of frames, and what one
    frame is predicted to take by a trial, or all of them by a rehearsal, as far as it is known.
    """

    shot: Shot
    sheet: RunSheet
    folder: Path
    frame: Estimate | None = None
    every: TimeLeft | None = None


def check_range(asked: Range) -> list[RangeCheck]:
    """Make every check for a run sheet: of the picture, the frames, the folder, the disk.

    Raises
    ------
    MillError
        Where the sheet itself is wrong.
    """
    sheet, folder = asked.sheet, asked.folder
    analysis, final = asked.shot.analysis, asked.shot.recipe
    sheet.check_below(folder)
    frames = sheet.listed(analysis.frames)
    found = [
        RangeCheck(r.code, r.level, r.text, PLACES.get(r.code, "scene"))
        for r in preflight(asked.shot)
    ]
    return [
        *found,
        *_frames(analysis, sheet),
        *_as_meant(final, analysis),
        *_folder(sheet, folder, frames),
        *_disk(final, sheet, folder, len(frames)),
        *_denoising(final),
        *_samples(final),
        *_time(asked, len(frames)),
    ]


def _frames(analysis: Analysis, sheet: RunSheet) -> list[RangeCheck]:
    parts = [p for p in sheet.frames.split(",") if p.strip()]
    counts = sum(len(parse_frames(p)) for p in parts)
    twice = counts - len(parse_frames(sheet.frames))
    whole = len(parts) > 1 and any("x" in p for p in parts)
    if twice and not whole:  # every fourth first and then the rest is meant so
        return [RangeCheck("twice", "warning", f"{twice} frames are named twice, and done once.")]
    first, last = analysis.frames
    if first == last:
        return [RangeCheck("still", "ok", "Nothing moves: the scene has one frame.")]
    return []


def _as_meant(final: Recipe, analysis: Analysis) -> list[RangeCheck]:
    """What is seen only when it is too late: sky, focus, blur, lamps that are off."""
    out = []
    sky = bool(final.environment_picture) or final.sun_elevation is not None
    if sky or analysis.environment:
        seen = "is seen by the camera" if final.environment_visible else "lights, and is not seen"
        out.append(RangeCheck("environment", "ok", f"The sky {seen}.", "finish"))
    focus = (
        f"In focus at {final.focus_distance:g} m, f/{final.f_stop:g}."
        if final.f_stop > 0
        else "Everything is in focus: no f-stop."
    )
    out.append(RangeCheck("depth_of_field", "ok", focus, "finish"))
    first, last = analysis.frames
    if last > first:
        blur = (
            f"Motion is blurred over {final.shutter:g} of a frame."
            if final.shutter > 0
            else "Motion is not blurred: the shutter is 0."
        )
        out.append(RangeCheck("shutter", "ok", blur, "finish"))
    off = [name for name, scale in final.light_scales.items() if scale == 0]
    if off:
        text = f"{len(off)} of the lights are off, “{off[0]}” among them."
        out.append(RangeCheck("lights", "warning", text, "finish"))
    return out


def _folder(sheet: RunSheet, folder: Path, frames: list[int]) -> list[RangeCheck]:
    place = sheet.paths(folder, frames[0])[0].parent if sheet.endings else folder
    while not place.exists() and place != place.parent:
        place = place.parent
    if not sheet.endings:
        return [RangeCheck("output", "error", "Nothing would be written: choose EXR, PNG or JPEG.")]
    if not os.access(place, os.W_OK):
        return [RangeCheck("output", "error", f"{place} cannot be written.")]
    present = sheet.begun(folder, frames)
    if not present:
        return [RangeCheck("output", "ok", f"Written below {folder}.")]
    said = {
        "refuse": ("error", "it would not begin"),
        "skip": ("ok", "those that are whole are left as they are"),
        "overwrite": ("warning", "they are written over"),
    }[sheet.there]
    level: Literal["ok", "warning", "error"] = said[0]  # type: ignore[assignment]
    text = f"Of {len(present)} frames there are files already: {said[1]}."
    return [RangeCheck("output", level, text)]


def _disk(final: Recipe, sheet: RunSheet, folder: Path, count: int) -> list[RangeCheck]:
    known = pictures()
    channels = 3 + sum(
        len(p.channels) for name in final.kept_layers if (p := known.get(name)) is not None
    )
    needed = room_for(sheet, count, final.width, final.height, channels)
    free = free_bytes(folder)
    if free is None:
        return []
    text = f"{needed / 1e9:.2f} GB at most for {count} frames, {free / 1e9:.1f} GB free."
    return [RangeCheck("disk", "ok" if needed < free else "error", text)]


def _denoising(final: Recipe) -> list[RangeCheck]:
    missing = [n for n in DENOISE_LAYERS if n not in final.kept_layers]
    if final.denoise != "no":
        return [
            RangeCheck(
                "denoise",
                "ok",
                f"Denoised {final.denoise.replace('with', 'with each frame')}.",
            )
        ]
    if missing:
        text = f"To be denoised later the files lack {', '.join(missing)}."
        return [RangeCheck("denoise", "warning", text, "finish")]
    return [RangeCheck("denoise", "ok", "The files have all that denoising later needs.")]


def _samples(final: Recipe) -> list[RangeCheck]:
    out = []
    if final.endless:
        out.append(RangeCheck("samples", "error", "The final recipe has no end.", "finish"))
    if final.russian_roulette_threshold > 0 or final.pattern_block > 1:
        text = "Preview means are on: they leave blotches."
        out.append(RangeCheck("preview", "warning", text, "finish"))
    if final.noise > 0 and final.min_samples >= final.samples:
        text = "The noise threshold never counts: at least as many samples as at most."
        out.append(RangeCheck("noise", "warning", text, "finish"))
    return out


def _time(asked: Range, count: int) -> list[RangeCheck]:
    if asked.every is not None:
        seconds, margin, source = asked.every.seconds, asked.every.margin, "a rehearsal"
    elif asked.frame is not None:
        seconds, margin = asked.frame.seconds * count, asked.frame.margin * count
        source = asked.frame.source
    else:
        text = "How long it takes is not known: rehearse it, or run a trial of this scene version."
        return [RangeCheck("time", "warning", text, "trials")]
    unit, size = ("hours", 3600) if seconds >= 3600 else ("minutes", 60)
    about = f"About {seconds / size:.1f} ± {margin / size:.1f} {unit} for {count} frames"
    return [RangeCheck("time", "ok", f"{about}, from {source}.")]


def room_for(sheet: RunSheet, frames: int, width: int, height: int, channels: int) -> int:
    """Bytes that a run is predicted to write at most: its own files, and what is kept here.

    EXR is taken as not compressed at all; a PNG as three bytes a pixel, a JPEG as one.
    """
    pixels = width * height
    own = 0
    if sheet.exr:
        wide = channels if sheet.layers == "all" else 3
        own += pixels * wide * (HALF if sheet.exr == "half" else FLOAT)
    own += 3 * pixels * sheet.png + pixels * bool(sheet.jpeg)
    kept = pixels * (channels * FLOAT + 3)
    return frames * (own + kept)


def free_bytes(folder: Path) -> int | None:
    """Bytes that are free where frames are written; None where that cannot be told."""
    place = folder
    while not place.exists() and place != place.parent:
        place = place.parent
    try:
        return shutil.disk_usage(place).free
    except OSError:
        return None
