"""How few samples hold: the error of a denoised picture, told by two others with seeds of their
own.

Noise of the one knows nothing of the other's, nor of the picture's that is judged: the mean product
of both differences is the squared error without bias, and needs no estimate of any variance.  The
two halves of one render will not do: its samples are spread evenly together, so that what one half
misses the other has.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.denoise.fireflies import calmed
from mill_lane.core.denoise.noisy import base_of

F32 = NDArray[np.float32]
DARK = 0.01  # added to squared truth: relative errors as usual in papers (Rousselle et al. 2011)
BLOCK = 16  # pixels a side of the squares whose scatter tells how sure a mean is
TRIMMED = 0.05  # of those squares, at either end, that are left out
STEEPEST, FLATTEST = -1.0, -0.05  # slopes of error against samples, both as logarithms
LEAST_SPREAD = 0.1  # relative, of what is known
LEAST = 2  # samples, without which noise is not told from detail (common practice)
MOST_APART = 16.0  # times the answer that its ends may be away
WIDER = 0.05  # of the answer, for each doubling beyond the pilot, either way


@dataclass(frozen=True)
class Told:
    """A relative mean squared error, and the standard error of it."""

    value: float
    spread: float


def error_against(picture: F32, a: F32, b: F32, bright: F32, albedo: F32 | None = None) -> Told:
    """Estimate the error of a picture by two noisy ones that know nothing of it.

    Parameters
    ----------
    picture, a, b : float32 arrays (H, W, 3)
    bright : float32 array (H, W, 3)
        How bright it is about, for the error to be relative to: denoised, and not from the picture,
        which would make less of what it has too bright.
    albedo : float32 array (H, W, 3), optional
        By which bright dots are told from bright things.

    Returns
    -------
    Told
        Without bias but for bright dots of both, which are spread out lest one of them drowns
        everything else.
    """
    base = base_of(albedo) if albedo is not None else None
    known = picture.astype(np.float64)
    a, b = (np.nan_to_num(x).clip(0).astype(np.float32) for x in (a, b))
    apart = [known - calmed(x, base, other).picture for x, other in ((a, b), (b, a))]
    errors = (apart[0] * apart[1] / (bright.astype(np.float64) ** 2 + DARK)).mean(-1)
    return told_by_blocks(errors)


def told_by_blocks(errors: NDArray[np.float64]) -> Told:
    """The mean of errors (H, W) over squares, without the few that are the farthest off.

    A bright blotch that is left is one place to be seen to, and says nothing of the rest: it would
    be most of the mean.  What is near is wrong together, so that squares tell how sure it is.
    """
    high, wide = (max(1, n // BLOCK) for n in errors.shape)
    blocks = np.sort(
        [
            float(part.mean())
            for rows in np.array_split(errors, high, 0)
            for part in np.array_split(rows, wide, 1)
        ]
    )
    cut = int(TRIMMED * len(blocks))
    kept = blocks[cut : len(blocks) - cut]
    spread = float(np.std(kept, ddof=1)) / math.sqrt(len(kept)) if len(kept) > 1 else math.inf
    return Told(float(kept.mean()), spread)


@dataclass(frozen=True)
class Answer:
    """The smallest number of samples whose error is within the target, and how sure that is."""

    samples: int
    low: int
    high: int
    slope: float  # of the error's logarithm against that of the samples


def samples_that_hold(
    points: Sequence[tuple[int, float]], target: float, spreads: Sequence[float] = ()
) -> Answer | None:
    """Find where the error falls under a target.

    Parameters
    ----------
    points : sequence of (int, float)
        Samples and the error there, of one pilot at several counts.
    target : float
    spreads : sequence of float, optional
        Standard errors; what is less sure counts less.

    Returns
    -------
    Answer or None
        None for fewer than two points, or errors that tell nothing.

    Notes
    -----
    A line through the logarithms; beyond the pilot the answer is held to be less sure, the farther
    the less: rare bright paths have not been met yet.
    """
    sure = list(spreads) or [0.0] * len(points)
    known = [
        (n, e, max(d / e, LEAST_SPREAD))
        for (n, e), d in zip(points, sure, strict=True)
        if n > 0 and e > 0 and math.isfinite(e) and math.isfinite(d)
    ]
    if len(known) < 2 or target <= 0:
        return None
    x, y = (np.log([row[k] for row in known]) for k in range(2))
    weights = np.array([1 / row[2] for row in known])  # of what is squared
    slope = float(np.polyfit(x, y, 1, w=weights)[0])
    slope = min(max(slope, STEEPEST), FLATTEST)
    level = float(np.average(y - slope * x, weights=weights**2))
    wanted = math.exp(min((math.log(target) - level) / slope, 30.0))
    most = max(row[0] for row in known)
    doublings = max(0.0, math.log2(max(wanted, 1.0) / most))
    # What the level is unsure by, and what is added for what has not been met yet.
    unsure = math.exp(1 / math.sqrt(float((weights**2).sum())) / -slope)
    apart = min(unsure, MOST_APART) * (1 + WIDER * doublings)
    counts = math.ceil(wanted * (1 - 1e-9)), math.floor(wanted / apart), math.ceil(wanted * apart)
    samples, low, high = (max(LEAST, n) for n in counts)
    return Answer(samples, low, high, slope)
