"""`mill-lane denoise`: noise taken out of an EXR, or of a sequence of them."""

from __future__ import annotations

import contextlib
import sys
import time
from argparse import ArgumentParser
from pathlib import Path
from typing import TYPE_CHECKING, Any

from mill_lane.cli.command import Arguments, Command, Result, telling
from mill_lane.core.denoise.names import MOST_BESIDE, RADIUS, STRENGTH
from mill_lane.core.errors import MillError

if TYPE_CHECKING:
    from mill_lane.core.denoise.batch import There
    from mill_lane.core.denoise.files import Wishes


def add_arguments(sub: ArgumentParser) -> None:
    """Add the arguments of the command."""
    sub.add_argument("picture", type=Path, metavar="IN.exr|PATTERN", help="shot.exr, shot.####.exr")
    sub.add_argument("--out", type=Path, required=True, metavar="OUT.exr|PATTERN")
    text = "how: regression on guides, a few passes over wide grids, or bright dots alone"
    modes = ("quality", "preview", "fireflies")
    sub.add_argument("--mode", choices=modes, default="quality", help=text)
    text = "of the clean picture, 0 to 1; the rest stays as it is"
    sub.add_argument("--strength", type=float, default=STRENGTH, metavar="S", help=text)
    text = "pixels to either side that a pixel learns from"
    sub.add_argument("--radius", type=int, default=RADIUS, metavar="R", help=text)
    text = (
        "where guides are read from, and how much they count: albedo=LAYER, normal=0.5, "
        "depth=LAYER:0, with commas between"
    )
    sub.add_argument("--guides", default="", metavar="GUIDES", help=text)
    text = (
        "components of the light that are cleaned one by one, with commas between; the rest stays"
    )
    sub.add_argument("--components", default="", metavar="NAMES", help=text)
    text = "dark, noise, numbers of objects with commas between, or a picture: white is cleaned"
    sub.add_argument("--mask", default="", metavar="MASK", help=text)
    text = "frames before and after each that are used along the motion"
    sub.add_argument("--before", type=int, default=0, metavar="N", help=text)
    sub.add_argument("--after", type=int, default=0, metavar="N")
    sub.add_argument("--threads", type=int, default=0, metavar="N")
    there = sub.add_mutually_exclusive_group()
    there.add_argument("--overwrite", action="store_true", help="write over what is there")
    there.add_argument("--resume", action="store_true", help="leave what is there as it is")


def run(args: Arguments) -> Result:
    """Denoise one picture, or one after another."""
    from mill_lane.core.denoise.batch import batch_of, denoise_batch
    from mill_lane.work.memory import peak_since, reset_peak, resident, return_large_blocks

    wishes = _wishes(args)
    there: There = "skip" if args.resume else "overwrite" if args.overwrite else "refuse"
    batch = batch_of(args.picture, args.out, there, args.before, args.after)
    return_large_blocks()
    baseline = resident()
    reset_peak()
    start, written = time.perf_counter(), 0

    def done(_: object) -> None:
        nonlocal written
        written += 1

    try:
        with contextlib.redirect_stdout(sys.stderr):  # what reads tells of damage there
            outcome = denoise_batch(batch, wishes, telling(args), done)
    except KeyboardInterrupt:
        print(f"\n{written} of {len(batch.frames)} written: go on with --resume", file=sys.stderr)
        raise
    steady = outcome.shimmer
    if not args.json:
        for note in outcome.notes:
            print(f"note: {note}")
        if steady:
            print(f"shimmer: {100 * steady[0]:.3g} % before, {100 * steady[1]:.3g} % after")
    told = {"shimmer_before": steady[0], "shimmer_after": steady[1]} if steady else {}
    return told | {
        "seconds": time.perf_counter() - start,
        "peak_memory_bytes": peak_since(baseline),
        "light_change": outcome.light_change,
        "frames": written,
        "out": str(args.out),
        "notes": list(outcome.notes),
    }


def _wishes(args: Arguments) -> Wishes:
    """What is asked for, checked."""
    from mill_lane.core.denoise.files import Wishes
    from mill_lane.core.denoise.noisy import GUIDES
    from mill_lane.core.denoise.strips import Settings
    from mill_lane.core.render.session import threads_to_use

    for value, low, high, what in (
        (args.strength, 0, 1, "strength"),
        (args.radius, 1, 20, "radius"),
        (args.before, 0, MOST_BESIDE, "number of frames before"),
        (args.after, 0, MOST_BESIDE, "number of frames after"),
    ):
        if not low <= value <= high:
            raise MillError(
                f"A {what} of {value:g} is not between {low} and {high}.", "Choose one."
            )
    layers, counts, known = {}, {}, (*GUIDES, "motion")
    for part in filter(None, args.guides.split(",")):
        guide, _, rest = part.partition("=")
        if guide not in known or not rest:
            raise MillError(
                f"“{part}” tells nothing of a guide.",
                f"Write a guide ({', '.join(known)}) like albedo=LAYER or albedo=0.5.",
            )
        layer, _, count = rest.rpartition(":") if ":" in rest else ("", "", rest)
        try:
            counts[guide] = min(max(float(count), 0.0), 1.0)
        except ValueError:
            layer = rest
        if layer:
            layers[guide] = layer
    settings = Settings(args.mode, args.radius, counts, args.threads or threads_to_use(64))
    components = tuple(filter(None, args.components.split(",")))
    return Wishes(settings, args.strength, components, _mask(args.mask), layers)


def _mask(text: str) -> Any:
    """What `Wishes` takes as a mask."""
    from mill_lane.core.denoise.masks import from_picture
    from mill_lane.core.denoise.names import MASKS
    from mill_lane.core.formats.pictures import read_pixels

    if not text:
        return None
    if text in MASKS:
        return text
    if all(part.strip().isdigit() for part in text.split(",")):
        return frozenset(int(part) for part in text.split(","))
    path = Path(text)
    return from_picture(read_pixels(path, path.name))


DENOISE = Command("denoise", "Take the noise out of an EXR.", add_arguments, run)
