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
SLOWER = 3.0  # times as long as the frames beside it in the median
LONGER = 5.0  # seconds more, at least: short frames differ by what else the computer does
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


# Half width of what a rehearsal tells of a frame, as a share, and for the frames between those that
# were rehearsed.
REHEARSED = 0.1


def from_rehearsal(
    seconds: Mapping[int, float], times: float, frames: Sequence[int]
) -> TimeLeft | None:
    """Predict a range from frames that were rendered small and with few samples.

    Parameters
    ----------
    seconds : mapping
        What rehearsed frames took, by number, without loading.
    times : float
        How many times as many samples the final frames have, over all pixels.
    frames : sequence of int
        Of the range; between rehearsed ones time is taken to run straight.

    Returns
    -------
    TimeLeft or None
        None without any.  The margin has what a small frame tells of a large one (a tenth), and
        half of the spread between neighbours for what lies between them.
    """
    known = sorted(seconds.items())
    if not known or not frames:
        return None
    total, between = 0.0, 0.0
    for n in frames:
        below = [k for k in known if k[0] <= n]
        above = [k for k in known if k[0] >= n]
        low, high = (below or above)[-1 if below else 0], (above or below)[0 if above else -1]
        share = (n - low[0]) / (high[0] - low[0]) if high[0] > low[0] else 0.0
        total += low[1] + share * (high[1] - low[1])
        between += abs(high[1] - low[1]) / 4
    return TimeLeft(total * times, (REHEARSED * total + between) * times, 0)


def beside_heaviest(seconds: Mapping[int, float], frames: Sequence[int]) -> list[int]:
    """Frames between the one that took longest and those rendered beside it: where a heavier one
    may be.

    Parameters
    ----------
    seconds : mapping
        What frames took, by number.
    frames : sequence of int
        Of the range.

    Returns
    -------
    list of int
        At most two, halfway to either side; none where nothing lies between.
    """
    if not seconds:
        return []
    every, slowest = sorted(set(frames)), max(seconds, key=lambda n: (seconds[n], -n))
    out = []
    for known in (
        max((n for n in seconds if n < slowest), default=None),
        min((n for n in seconds if n > slowest), default=None),
    ):
        if known is None:
            continue
        low, high = sorted((known, slowest))
        between = [n for n in every if low < n < high]
        if between:
            out.append(between[len(between) // 2])
    return out


def troubles(measured: Mapping[str, Any], beside: Sequence[Mapping[str, Any]]) -> list[str]:
    """Say what looks wrong with a frame that is done.

    Parameters
    ----------
    measured : mapping
        What was measured of it: mean_luminance, bad_pixels, seconds, noise, and where it was
        rendered in parts, how these add up.
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
    parts = str((measured.get("parts") or {}).get("said") or "")
    if parts:
        said.append(parts)
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
    for key, limit, more, words in (
        ("seconds", SLOWER, LONGER, "it took {:.1f} times as long as the frames beside it"),
        ("noise", NOISIER, 0.0, "it is {:.1f} times as noisy as the frames beside it"),
    ):
        value, usual = float(measured.get(key) or 0.0), middle(key)
        if usual > 0 and value > max(limit * usual, usual + more):
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
