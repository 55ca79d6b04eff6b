"""How a night of frames goes: time left from the frames that are done, and what looks wrong."""

from __future__ import annotations

import itertools
import math
import statistics
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

# Half width of the central 90 % interval of a normal distribution, in standard deviations.
SURE = 1.645
FEW = 3  # frames below which their spread tells too little
LEAST_SPREAD = 0.05  # of a frame's time, that is assumed of any two of them

BLACK = 1e-5  # mean luminance
BRIGHTER = 2.0  # times as bright or dark as the frames beside it
SLOWER = 3.0  # times as long as the frames beside it in the mean
NOISIER = 2.0  # times as noisy
BESIDE = 4  # frames done that a frame is held against, the nearest by number


@dataclass(frozen=True)
class TimeLeft:
    """Seconds until the last frame is done, the half width of its 90 % interval, and the frames
    that it was learned from (0: it was predicted beforehand).
    """

    seconds: float
    margin: float
    learned: int


def time_left(
    done: Sequence[float], left: int, running: float = 0.0, first: TimeLeft | None = None
) -> TimeLeft | None:
    """Predict the time that is left of a range.

    Parameters
    ----------
    done : sequence of float
        Seconds that each finished frame took, all in all.
    left : int
        Frames that are not done, the running one among them.
    running : float
        Seconds that the running frame took so far.
    first : TimeLeft, optional
        What one frame was predicted to take, for as long as none is done.

    Returns
    -------
    TimeLeft or None
        None where nothing is known.  The margin has two parts: that the mean of so few frames is
        not the mean of all, and that the frames to come differ from each other.
    """
    if left <= 0:
        return TimeLeft(0.0, 0.0, len(done))
    if not done:
        if first is None:
            return None
        return TimeLeft(max(first.seconds * left - running, 0.0), first.margin * left, 0)
    n = len(done)
    mean = statistics.fmean(done)
    spread = statistics.stdev(done) if n >= FEW else 0.0
    spread = max(spread, LEAST_SPREAD * mean * (2 if n < FEW else 1))
    margin = SURE * spread * math.sqrt(left**2 / n + left)
    return TimeLeft(max(mean * left - min(running, mean), 0.0), margin, n)


def troubles(measured: Mapping[str, Any], beside: Sequence[Mapping[str, Any]]) -> list[str]:
    """Say what looks wrong with a frame that is done.

    Parameters
    ----------
    measured : mapping
        What was measured of it: mean_luminance, bad_pixels, seconds, noise.
    beside : sequence of mapping
        The same of frames near it that are done, nearest first.
    """
    said = []
    bright = float(measured.get("mean_luminance") or 0.0)
    bad = int(measured.get("bad_pixels") or 0)
    if bad:
        said.append(f"{bad} pixels are no numbers")
    if bright < BLACK:
        said.append("it is black")
    others = [b for b in beside if float(b.get("mean_luminance") or 0.0) >= BLACK][:BESIDE]
    if len(others) < 2:
        return said

    def middle(key: str) -> float:
        return statistics.median(float(b.get(key) or 0.0) for b in others)

    usual = middle("mean_luminance")
    if bright >= BLACK and usual > 0 and not 1 / BRIGHTER < bright / usual < BRIGHTER:
        how = "brighter" if bright > usual else "darker"
        times = max(bright / usual, usual / bright)
        said.append(f"it is {times:.1f} times {how} than the frames beside it")
    for key, limit, words in (
        ("seconds", SLOWER, "it took {:.1f} times as long as the frames beside it"),
        ("noise", NOISIER, "it is {:.1f} times as noisy as the frames beside it"),
    ):
        value, usual = float(measured.get(key) or 0.0), middle(key)
        if usual > 0 and value > limit * usual:
            said.append(words.format(value / usual))
    return said


def flickers(bright: Sequence[float]) -> list[int]:
    """Places in a sequence of mean luminances, in order of frames, that jump up or down and back.

    A frame flickers where it differs from both neighbours to the same side by more than four times
    what neighbours differ in the median, and by at least 5 %.
    """
    if len(bright) < 5:
        return []
    logs = [math.log(max(b, BLACK)) for b in bright]
    steps = [abs(b - a) for a, b in itertools.pairwise(logs)]
    usual = statistics.median(steps)
    least = max(4 * usual, 0.05)
    found = []
    for k in range(1, len(logs) - 1):
        before, after = logs[k] - logs[k - 1], logs[k] - logs[k + 1]
        if before * after > 0 and min(abs(before), abs(after)) > least:
            found.append(k)
    return found
