"""Least squares without negative answers, for a handful of unknowns."""

from __future__ import annotations

import itertools
import math

import numpy as np
from numpy.typing import NDArray

F64 = NDArray[np.float64]
MOST = 10  # unknowns: every choice of those that are 0 is tried


def nonnegative(a: F64, b: F64) -> F64:
    """The x >= 0 with the least x.a.x - 2 b.x, for a symmetric, positive a (n, n) and b (n,); n up
    to 10.

    The best answer has some unknowns at 0 and solves the plain equations for the others (Lawson and
    Hanson, Solving Least Squares Problems, chapter 23); with so few of them every choice can be
    tried.  Raises ValueError for more.
    """
    n = len(b)
    if n > MOST:
        raise ValueError(f"{n} unknowns are too many")
    best, best_cost = np.zeros(n), 0.0
    for count in range(1, n + 1):
        for chosen in itertools.combinations(range(n), count):
            i = list(chosen)
            part = np.linalg.lstsq(a[np.ix_(i, i)], b[i], rcond=None)[0]
            if (part < 0).any() or not math.isfinite(float(part.sum())):
                continue
            x = np.zeros(n)
            x[i] = part
            cost = float(x @ a @ x - 2 * b @ x)
            if cost < best_cost:
                best, best_cost = x, cost
    return best
