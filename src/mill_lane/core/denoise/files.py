"""An EXR denoised into another, strip by strip, with frames before and after it where wanted."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import ExitStack
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.denoise import masks
from mill_lane.core.denoise.components import component_strips
from mill_lane.core.denoise.denoise import Light, blended, check_large
from mill_lane.core.denoise.lost import Lost, lost_detail
from mill_lane.core.denoise.names import STRENGTH
from mill_lane.core.denoise.noisy import GUIDES
from mill_lane.core.denoise.notes import Notes
from mill_lane.core.denoise.strips import KEPT, Layers, Settings, Source, Strip, strips_of
from mill_lane.core.errors import MillError
from mill_lane.core.formats.exr import layers_of
from mill_lane.core.formats.exr_guides import guides_in
from mill_lane.core.formats.exr_rows import ExrCopy, ExrRows
from mill_lane.core.render.layers import exr_names

F32 = NDArray[np.float32]
BLOCK = 32  # rows that are read at a time with all their channels
# Layers that are of use here; the others are copied as they are.
USED = (
    *KEPT,
    *GUIDES,
    "variance",
    *(f"{guide}_variance" for guide in GUIDES),
    "motion",
    "position",
)


@dataclass(frozen=True)
class Wishes:
    """What is wanted of a file.

    strength : 0 raw, 1 clean.  components : cleaned one by one, all the light together where there
    are none.  mask : a name of `names.MASKS`, object numbers, or a picture (H, W).  guides_from :
    the layer or channel that a guide is read from, by guide.  motion : what the files' motion is
    multiplied by to be pixels right and down to the next frame; None where it is not used.
    """

    settings: Settings = field(default_factory=Settings)
    strength: float = STRENGTH
    components: tuple[str, ...] = ()
    mask: str | frozenset[int] | F32 | None = None
    guides_from: Mapping[str, str] = field(default_factory=dict)
    motion: tuple[float, float] | None = (1.0, 1.0)


@dataclass(frozen=True)
class Done:
    """What was done to a file: its light, what was said, the detail that went if halves tell it."""

    light: Light
    light_after: float
    notes: tuple[str, ...]
    lost: Lost | None


def open_source(rows: ExrRows, step: int, wishes: Wishes, notes: Notes) -> Source:
    """A file as a picture that is read strip by strip, its guides found by their usual names."""
    names = exr_names()
    wanted = {*USED, *wishes.components}

    def layers(y0: int, y1: int) -> Layers:
        blocks = [block(y, min(y + BLOCK, y1)) for y in range(y0, y1, BLOCK)]
        return {name: np.concatenate([b[name] for b in blocks]) for name in blocks[0]}

    def block(y0: int, y1: int) -> dict[str, F32]:
        planes = rows.planes(y0, y1)
        found = layers_of(planes, rows.path.name, names)
        usual = guides_in(planes, wishes.guides_from)
        for guide, (layer, made) in usual.items():
            if guide not in found or guide in wishes.guides_from:
                found[guide] = layer
                notes.say(f"{guide} is read from {', '.join(made)}")
        if wishes.motion is None:
            found.pop("motion", None)
        elif "motion" in found and wishes.motion != (1.0, 1.0):
            found["motion"] = found["motion"] * np.asarray(wishes.motion, np.float32)
        return {name: layer for name, layer in found.items() if name in wanted}

    if rows.parts > 1:
        notes.say(f"of {rows.parts} parts of {rows.path.name} only the first is read and written")
    check_large(rows.height, rows.width)
    return Source(rows.height, rows.width, layers, step)


def strips_for(
    source: Source,
    wishes: Wishes,
    notes: Notes,
    beside: Sequence[Source] = (),
    progress: Callable[[float], None] | None = None,
) -> Iterator[Strip]:
    """Clean a picture as wished, one strip after another: all of its light, or components of it."""
    if not wishes.components:
        return strips_of(source, wishes.settings, notes, beside, progress=progress)
    if beside:
        notes.say("frames before and after do not count for components")
    return component_strips(source, wishes.components, wishes.settings, notes, progress=progress)


def denoise_file(
    path: Path,
    out: Path,
    wishes: Wishes,
    beside: Sequence[tuple[int, Path]] = (),
    progress: Callable[[float], None] | None = None,
) -> Done:
    """Denoise a file; every channel of it is kept.

    Parameters
    ----------
    path, out : Path
        What is read, and what is there once it is whole.
    wishes : Wishes
    beside : sequence of (int, Path)
        Frames before and after, and how many frames later they are (before: negative).
    progress : callable, optional
        Told the share that is done; may stop it.

    Raises
    ------
    MillError
        For files that cannot be read or written, or do not fit each other.
    """
    notes = Notes()
    with ExitStack() as open_files:
        rows = open_files.enter_context(ExrRows(path))
        if isinstance(wishes.mask, np.ndarray):
            masks.check_size(wishes.mask, np.empty((rows.height, rows.width, 0), np.float32))
        source = open_source(rows, 0, wishes, notes)
        others = []
        for step, other in beside:
            there = open_files.enter_context(ExrRows(other))
            if (there.height, there.width, there.names) != (rows.height, rows.width, rows.names):
                notes.say(f"{other.name} has another size or other layers and is not used")
                continue
            others.append(open_source(there, step, wishes, Notes()))
        strips = strips_for(source, wishes, notes, others, progress)
        light, after = Light(), 0.0
        shown = np.zeros((rows.height, rows.width), np.float32)
        halves = False
        copy = open_files.enter_context(ExrCopy(out, rows))
        for strip in strips:
            light.add(strip)
            mixed = _mixed(strip, wishes)
            after += float(mixed.sum(dtype=np.float64))
            planes = rows.planes(strip.y0, strip.y1)
            planes |= {c: mixed[..., k] for k, c in enumerate("RGB")}
            copy.write(strip.y0, planes)
            if "half_a" in strip.layers and "half_b" in strip.layers:
                halves = True
                found = lost_detail(strip.layers["half_a"], strip.layers["half_b"], mixed)
                shown[strip.y0 : strip.y1] = found.shown
    lost = Lost(shown, float(np.sqrt(np.mean(shown**2)))) if halves else None
    return Done(light, after, notes.words(), lost)


def _mixed(strip: Strip, wishes: Wishes) -> F32:
    """The clean rows over the raw ones, as far as strength and mask want it."""
    raw, layers, mask = strip.layers["beauty"], strip.layers, wishes.mask
    shares: F32 | None = None
    if isinstance(mask, frozenset):
        if "object" not in layers:
            raise MillError("The picture has no layer “object”.", "Mask by a picture instead.")
        shares = masks.chosen_objects(layers["object"], mask)
    elif isinstance(mask, str):
        halves = [layers[n] for n in ("half_a", "half_b") if n in layers]
        noise = masks.noisy_parts(halves[0], halves[1]) if len(halves) == 2 else None
        shares = masks.named(mask, strip.picture, noise)
    elif mask is not None:
        shares = mask[strip.y0 : strip.y1]
    return blended(
        np.nan_to_num(raw, posinf=0.0, neginf=0.0), strip.picture, wishes.strength, shares
    )
