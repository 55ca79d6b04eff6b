"""Curves of a stage as thin tubes: hair, threads, wires (UsdGeom, "BasisCurves").

Cubic ones are sampled in a few places of each segment; a tube has three sides, shaded as if it were
round.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.scene.model import Geometry

F64 = NDArray[np.float64]
STEPS = 4  # of each cubic segment
SIDES = 3
MOST_TRIANGLES = 20_000_000
# Rows by power of t, from the highest: UsdGeomBasisCurves, "Cubic Interpolation".
BASES = {
    "bezier": np.array([[-1, 3, -3, 1], [3, -6, 3, 0], [-3, 3, 0, 0], [1, 0, 0, 0.0]]),
    "bspline": np.array([[-1, 3, -3, 1], [3, -6, 3, 0], [-3, 0, 3, 0], [1, 4, 1, 0.0]]) / 6,
    "catmullRom": np.array([[-1, 3, -3, 1], [2, -5, 4, -1], [-1, 0, 1, 0], [0, 2, 0, 0.0]]) / 2,
}


class NotDrawnError(Exception):
    """Curves that cannot be drawn, and why."""


def curve_mesh(prim: Any, time: float) -> Geometry:
    """The tubes of a prim's curves, in its own unit.

    Parameters
    ----------
    prim : Usd.Prim
        BasisCurves.
    time : float

    Raises
    ------
    NotDrawnError
        Where it cannot be told what they look like, or they would be too many.
    """
    from pxr import UsdGeom

    curves = UsdGeom.BasisCurves(prim)
    points, counts, thick = _read(curves, time)
    linear = curves.GetTypeAttr().Get(time) == UsdGeom.Tokens.linear
    basis = str(curves.GetBasisAttr().Get(time) or "bezier")
    wrap = str(curves.GetWrapAttr().Get(time) or "nonperiodic")
    if not linear and basis not in BASES:
        raise NotDrawnError(f"their basis is {basis}")
    starts = np.cumsum([0, *counts[:-1]])
    lines = []
    for n in np.unique(counts):
        mine = starts[counts == n][:, None] + np.arange(n)
        control = np.concatenate([points[mine], thick[mine][..., None]], -1)  # (C, n, 4)
        made = _polyline(control, linear, basis, wrap)
        lines += [made] if made is not None else []
    total = sum(line.shape[0] * (line.shape[1] - 1) for line in lines) * 2 * SIDES
    if not total:
        raise NotDrawnError("they have too few points")
    if total > MOST_TRIANGLES:
        raise NotDrawnError(f"they would be {total:,} triangles")
    return _tubes(lines)


def _read(curves: Any, time: float) -> tuple[F64, NDArray[np.int64], F64]:
    """Points (N, 3), how many each curve has, and a width for every point."""
    points = np.array(curves.GetPointsAttr().Get(time) or [], float).reshape(-1, 3)
    counts = np.array(curves.GetCurveVertexCountsAttr().Get(time) or [], np.int64)
    widths = np.array(curves.GetWidthsAttr().Get(time) or [], float)
    if not len(points) or not len(counts) or (counts < 0).any() or counts.sum() != len(points):
        raise NotDrawnError("their points do not fit their counts")
    if not np.isfinite(points).all():
        raise NotDrawnError("their points are no numbers")
    if not len(widths):
        raise NotDrawnError("they have no widths")
    thick = _widths(widths, str(curves.GetWidthsInterpolation()), counts)
    if thick is None:
        raise NotDrawnError("their widths do not fit")
    return points, counts, thick


def _widths(widths: F64, how: str, counts: NDArray[np.int64]) -> F64 | None:
    """A width for every point; None where their number does not fit."""
    total = int(counts.sum())
    if len(widths) == 1:
        return np.full(total, widths[0])
    if how == "uniform" and len(widths) == len(counts):
        return np.repeat(widths, counts)
    if len(widths) == total:
        return widths
    if how == "varying":
        # One for each end of a segment; between them along each curve.
        ends = np.maximum(counts - 2, 2)
        for each in (ends, (counts - 1) // 3 + 1):
            if len(widths) == each.sum():
                at = np.cumsum([0, *each])
                return np.concatenate(
                    [
                        np.interp(np.linspace(0, 1, n), np.linspace(0, 1, m), widths[a : a + m])
                        for n, m, a in zip(counts, each, at[:-1], strict=True)
                    ]
                )
    return None


def _polyline(control: F64, linear: bool, basis: str, wrap: str) -> F64 | None:
    """Points and widths along each curve, (C, M, 4); None for curves without a segment."""
    if linear:
        closed = wrap == "periodic"
        line = np.concatenate([control, control[:, :1]], 1) if closed else control
        return line if line.shape[1] > 1 else None
    step = 3 if basis == "bezier" else 1
    if wrap == "pinned" and basis != "bezier":
        # The ends are passed through: what lies beyond them mirrors what lies before.
        head, tail = 2 * control[:, :1] - control[:, 1:2], 2 * control[:, -1:] - control[:, -2:-1]
        control = np.concatenate([head, control, tail], 1)
    if wrap == "periodic":
        control = np.concatenate([control, control[:, : 4 - step]], 1)
    n = (control.shape[1] - 4) // step + 1
    if control.shape[1] < 4 or n < 1:
        return None
    t = np.linspace(0, 1, STEPS + 1)
    powers = np.stack([t**3, t**2, t, np.ones_like(t)], 1)
    weights = powers @ BASES[basis]  # (STEPS + 1, 4)
    pieces = [
        np.einsum("sk,ckv->csv", weights, control[:, i * step : i * step + 4]) for i in range(n)
    ]
    return np.concatenate([pieces[0], *(p[:, 1:] for p in pieces[1:])], 1)


def _tubes(lines: list[F64]) -> Geometry:
    """Tubes of `SIDES` sides round polylines (C, M, 4)."""
    positions, normals, triangles, first = [], [], [], 0
    angles = 2 * np.pi * np.arange(SIDES) / SIDES
    for line in lines:
        count, m, _ = line.shape
        p, radius = line[..., :3], np.maximum(line[..., 3:], 0.0) / 2
        along = np.gradient(p, axis=1)
        along /= np.maximum(np.linalg.norm(along, axis=2, keepdims=True), 1e-30)
        # Across one way for a whole curve, so that its sides do not twist.
        whole = p[:, -1] - p[:, 0]
        least = np.eye(3)[np.argmin(np.abs(whole), 1)][:, None]
        u = np.cross(along, least)
        short = np.linalg.norm(u, axis=2, keepdims=True) < 1e-6
        u = np.where(short, np.cross(along, np.roll(least, 1, 2)), u)
        u /= np.maximum(np.linalg.norm(u, axis=2, keepdims=True), 1e-30)
        v = np.cross(along, u)
        ring = np.cos(angles)[:, None] * u[:, :, None] + np.sin(angles)[:, None] * v[:, :, None]
        positions.append((p[:, :, None] + radius[:, :, None] * ring).reshape(-1, 3))
        normals.append(ring.reshape(-1, 3))
        c, i, j = np.meshgrid(np.arange(count), np.arange(m - 1), np.arange(SIDES), indexing="ij")
        a = first + (c * m + i) * SIDES + j
        b = first + (c * m + i) * SIDES + (j + 1) % SIDES
        triangles.append(np.stack([a, b, b + SIDES], -1).reshape(-1, 3))
        triangles.append(np.stack([a, b + SIDES, a + SIDES], -1).reshape(-1, 3))
        first += count * m * SIDES
    return Geometry(
        np.ascontiguousarray(np.concatenate(positions), np.float32),
        np.ascontiguousarray(np.concatenate(normals), np.float32),
        None,
        np.ascontiguousarray(np.concatenate(triangles), np.uint32),
    )
