"""Least squares without negative answers."""

from __future__ import annotations

import numpy as np
import scipy.optimize
from numpy.typing import NDArray

F64 = NDArray[np.float64]
FAINT = 1e-14  # of the largest eigenvalue: below, a direction counts as not told about


def nonnegative(a: F64, b: F64) -> F64:
    """Find the x >= 0 with the least x.a.x - 2 b.x.

    Parameters
    ----------
    a : array of float64, (n, n)
        Symmetric, positive semidefinite: the squares of an equation, A^T A.
    b : array of float64, (n,)
        Its right side, A^T y.

    Returns
    -------
    array of float64, (n,)

    Notes
    -----
    The equation is taken apart along the eigenvectors of `a`, so that the active-set method of
    Lawson and Hanson (Solving Least Squares Problems, chapter 23) can be used on its square root.
    """
    values, vectors = np.linalg.eigh(a)
    told = values > FAINT * max(float(values.max(initial=0.0)), 1e-300)
    if not told.any():
        return np.zeros(len(b))
    root = np.sqrt(values[told])
    x, _ = scipy.optimize.nnls(root[:, None] * vectors[:, told].T, vectors[:, told].T @ b / root)
    return np.asarray(x, np.float64)
