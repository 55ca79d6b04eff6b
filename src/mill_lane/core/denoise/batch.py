"""A whole folder of frames denoised, one file after another."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Literal

from mill_lane.core.denoise.files import Wishes, denoise_file
from mill_lane.core.denoise.motion import convention_of_files
from mill_lane.core.denoise.steadiness import shimmer_of_files
from mill_lane.core.errors import MillError
from mill_lane.core.formats.sequences import gaps_in_words, pattern_of

There = Literal["refuse", "skip", "overwrite"]
TICK = 0.02  # seconds, at most, between two of the clock that files go by
LOST = 0.005  # of a picture's brightness, from where on lost detail is told


@dataclass(frozen=True)
class Frame:
    """A file, where it goes, and those before and after it by how many frames later they are."""

    number: int
    source: Path
    out: Path
    beside: tuple[tuple[int, Path], ...] = ()


@dataclass(frozen=True)
class Batch:
    """Frames that are to be done, all that there are, and what has to be told of them."""

    frames: tuple[Frame, ...]
    every: tuple[Frame, ...]
    notes: tuple[str, ...]


@dataclass(frozen=True)
class Outcome:
    """What was done: light before and after, notes, shimmer before and after where it is known."""

    before: float
    after: float
    notes: tuple[str, ...]
    shimmer: tuple[float, float] | None

    @property
    def light_change(self) -> float:
        """Of all the light, as a share."""
        return self.after / self.before - 1 if self.before > 0 else 0.0


def batch_of(
    source: Path,
    out: Path,
    there: There = "refuse",
    before: int = 0,
    after: int = 0,
    since: float | None = None,
) -> Batch:
    """Find the frames of a name.

    Parameters
    ----------
    source, out : Path
        A file each, or names with a place for the frame's number (`shot.####.exr`).
    there : str
        What happens to files of the second name that are there already.
    before, after : int
        Frames beside each that are used along the motion.
    since : float, optional
        Seconds since the epoch: what was written from then on is done already.

    Raises
    ------
    MillError
        Where there is nothing of that name, or something is in the way.
    """
    pattern, target = pattern_of(source), pattern_of(out)
    if (pattern is None) != (target is None):
        raise MillError(
            "One of both names has a place for the frame's number and the other has none.",
            "Write both like shot.####.exr, or neither.",
        )
    told = ""
    if pattern is None or target is None:
        frames = [Frame(0, source, out)]
    else:
        numbers = pattern.frames()
        if not numbers:
            raise MillError(f"No file is called like {source}.", "Check folder and name.")
        known = set(numbers)
        steps = [s for s in range(-before, after + 1) if s]
        frames = [
            Frame(
                n,
                pattern.path(n),
                target.path(n),
                tuple((s, pattern.path(n + s)) for s in steps if n + s in known),
            )
            for n in numbers
        ]
        told = gaps_in_words(numbers)
    for frame in frames:
        if frame.source.resolve() == frame.out.resolve():
            raise MillError(
                f"{frame.source.name} would be written over itself.",
                "Choose another name or folder for what is written.",
                "Nothing was written.",
            )
    notes = [told] if told else []
    every = tuple(frames)
    written = [f for f in frames if since is not None and _written_since(f.out, since)]
    if written:
        frames = [f for f in frames if f not in written]
        notes.append(f"{len(written)} of {len(every)} were done before it was stopped")
    present = {f.out for f in frames if f.out.exists()}
    if present and there == "skip":
        frames = [f for f in frames if f.out not in present]
        notes.append(f"{len(present)} of {len(every)} were there already")
    elif present and there == "refuse":
        raise MillError(
            f"{min(present)} is there already.",
            "Choose another name, or add --overwrite, or --resume to leave it as it is.",
            "Nothing was written.",
        )
    return Batch(tuple(frames), every, tuple(notes))


def _written_since(path: Path, since: float) -> bool:
    # A file's time is that of the last tick of the system's clock, which can be before `since`.
    return path.exists() and path.stat().st_mtime >= since - TICK


def denoise_batch(
    batch: Batch,
    wishes: Wishes,
    tell: Callable[[float, str], None],
    done: Callable[[Frame], None] | None = None,
) -> Outcome:
    """Denoise frames one after another; each is there once it is whole.

    Parameters
    ----------
    batch : Batch
    wishes : Wishes
    tell : callable
        Told the share and a line; may stop it by raising, between strips.
    done : callable, optional
        Told each frame that is written.
    """
    notes = list(batch.notes)
    wishes, said = _with_motion(batch, wishes)
    notes += said
    before = after = 0.0
    count = len(batch.frames)
    for k, frame in enumerate(batch.frames):

        def told_of(share: float, k: int = k) -> None:
            tell((k + share) / count * 0.999, f"denoising: {k + 1} of {count}")

        light = _one(frame, wishes, notes, told_of)
        before, after = before + light[0], after + light[1]
        if done is not None:
            done(frame)
    tell(1.0, f"{count} written")
    steady = None
    if any(f.beside for f in batch.every):
        written = [(f.number, f.source, f.out) for f in batch.every if f.out.exists()]
        steady = shimmer_of_files(written, wishes)
    return Outcome(before, after, tuple(dict.fromkeys(notes)), steady)


def _with_motion(batch: Batch, wishes: Wishes) -> tuple[Wishes, list[str]]:
    """The same wishes with what is known of the files' motion, and what has to be told of it."""
    pair = next(
        ((f.source, path) for f in batch.every for step, path in f.beside if step == 1),
        None,
    )
    if pair is None:
        return wishes, []
    found = convention_of_files(*pair, wishes)
    return replace(wishes, motion=found.scale), list(found.notes)


def _one(
    frame: Frame, wishes: Wishes, notes: list[str], tell: Callable[[float], None]
) -> tuple[float, float]:
    """Denoise a file; returns the light before and after."""
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
