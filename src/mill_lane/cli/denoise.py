"""`mill-lane denoise`: noise taken out of an EXR, or of a sequence of them."""

from __future__ import annotations

import contextlib
import sys
import time
from argparse import ArgumentParser
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple

from mill_lane.cli.command import Arguments, Command, Result, telling
from mill_lane.core.denoise.names import MOST_BESIDE, RADIUS, STRENGTH
from mill_lane.core.errors import MillError

if TYPE_CHECKING:
    from mill_lane.core.denoise.files import Wishes

LOST = 0.005  # of a picture's brightness, from where on lost detail is told


class Frame(NamedTuple):
    """A file, where it goes, and those before and after it by how many frames later they are."""

    number: int
    source: Path
    out: Path
    beside: list[tuple[int, Path]]


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
    from mill_lane.work.memory import peak_since, reset_peak, resident, return_large_blocks

    wishes = _wishes(args)
    frames, notes = _frames(args)
    return_large_blocks()
    baseline = resident()
    reset_peak()
    start = time.perf_counter()
    tell = telling(args)
    before = after = 0.0
    for k, frame in enumerate(frames):

        def told_of(share: float, done: int = k) -> None:
            tell((done + share) / len(frames) * 0.999, f"denoising: {done + 1} of {len(frames)}")

        try:
            light = _one(frame, wishes, notes, told_of)
        except KeyboardInterrupt:
            print(f"\n{k} of {len(frames)} written: go on with --resume", file=sys.stderr)
            raise
        before, after = before + light[0], after + light[1]
    tell(1.0, f"{len(frames)} written")
    if not args.json:
        for note in dict.fromkeys(notes):
            print(f"note: {note}")
    peak, steady = peak_since(baseline), None
    if (args.before or args.after) and len(frames) > 1:
        from mill_lane.core.denoise.steadiness import shimmer_of_files

        steady = shimmer_of_files([(f.number, f.source, f.out) for f in frames], wishes)
        if steady and not args.json:
            print(f"shimmer: {100 * steady[0]:.3g} % before, {100 * steady[1]:.3g} % after")
    told = {"shimmer_before": steady[0], "shimmer_after": steady[1]} if steady else {}
    return told | {
        "seconds": time.perf_counter() - start,
        "peak_memory_bytes": peak,
        "light_change": after / before - 1 if before > 0 else 0.0,
        "frames": len(frames),
        "out": str(args.out),
        "notes": list(dict.fromkeys(notes)),
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
    layers, counts = {}, {}
    for part in filter(None, args.guides.split(",")):
        guide, _, rest = part.partition("=")
        if guide not in GUIDES or not rest:
            raise MillError(
                f"“{part}” tells nothing of a guide.",
                f"Write a guide ({', '.join(GUIDES)}) like albedo=LAYER or albedo=0.5.",
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


def _frames(args: Arguments) -> tuple[list[Frame], list[str]]:
    """What is read and written, and what has to be told of it."""
    from mill_lane.core.formats.sequences import gaps_in_words, pattern_of

    source, target = pattern_of(args.picture), pattern_of(args.out)
    if (source is None) != (target is None):
        raise MillError(
            "One of both names has a place for the frame's number and the other has none.",
            "Write both like shot.####.exr, or neither.",
        )
    if source is None or target is None:
        frames, told = [Frame(0, args.picture, args.out, [])], ""
    else:
        numbers = source.frames()
        if not numbers:
            raise MillError(f"No file is called like {args.picture}.", "Check folder and name.")
        steps = [s for s in range(-args.before, args.after + 1) if s]
        frames = [
            Frame(
                n,
                source.path(n),
                target.path(n),
                [(s, source.path(n + s)) for s in steps if n + s in numbers],
            )
            for n in numbers
        ]
        told = gaps_in_words(numbers)
    notes = [told] if told else []
    there = [f.out for f in frames if f.out.exists()]
    if there and args.resume:
        frames = [f for f in frames if f.out not in there]
        notes.append(f"{len(there)} of {len(there) + len(frames)} were there already")
    elif there and not args.overwrite:
        raise MillError(
            f"{there[0]} is there already.",
            "Choose another name, or add --overwrite, or --resume to leave it as it is.",
            "Nothing was written.",
        )
    return frames, notes


def _one(frame: Frame, wishes: Wishes, notes: list[str], tell: Any) -> tuple[float, float]:
    """Denoise a file; returns the light before and after."""
    from mill_lane.core.denoise.files import denoise_file

    with contextlib.redirect_stdout(sys.stderr):  # what reads tells of damage there
        done = denoise_file(frame.source, frame.out, wishes, frame.beside, tell)
    notes += done.notes
    if done.light.fireflies:
        moved = done.light.moved_share
        notes.append(f"bright dots spread out: {moved * 100:.2g} % of the light moved")
    if done.lost is not None and done.lost.share > LOST:
        x0, y0, x1, y1 = done.lost.worst(1)[0]
        notes.append(
            f"{frame.source.name}: detail beyond the noise was taken, "
            f"{100 * done.lost.share:.2g} % of the light in the mean, most at {x0},{y0},{x1},{y1}"
        )
    return done.light.before, done.light_after


DENOISE = Command("denoise", "Take the noise out of an EXR.", add_arguments, run)
