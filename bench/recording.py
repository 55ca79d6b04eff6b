"""Every ray of a render, as the path tracer sends it, for following it again by other means.

`python -m bench.recording OUT NAME…` compiles the renderer anew round a recorder, in a folder of
its own: the renderer itself knows nothing of it.  For each scene OUT/NAME.npz holds the rays in
the order in which they were sent, float32 (R, 7) as origin, direction, length, with their kind.
"""

from __future__ import annotations

import sys
import tempfile
from pathlib import Path

import numba
import numpy as np

from mill_lane.core.render import jit
from mill_lane.core.render.path_slots import Q_FAR, Q_OX, SIDE
from mill_lane.core.render.pointers import f32_at, i64_at

NEAREST, BLOCKED, PANES = range(3)  # kinds of questions
MOST = 24_000_000  # rays that are kept
COLUMNS = 8


def main() -> None:
    out = Path(sys.argv[1])
    with tempfile.TemporaryDirectory() as folder:
        numba.config.CACHE_DIR = folder  # type: ignore[attr-defined]
        rays = np.zeros((MOST, COLUMNS), np.float32)
        count = np.zeros(1, np.int64)
        _listen(rays, count)
        # Only now: the integrator takes up the recording functions as it is imported.
        from bench.real_scenes import held
        from bench.replay import traced

        for name in sys.argv[2:]:
            count[0] = 0
            traced(held(name))
            kept = rays[: count[0]]
            np.savez(out / f"{name}.npz", rays=kept[:, :7], kinds=kept[:, 7].astype(np.uint8))


def _listen(rays: np.ndarray, count: np.ndarray) -> None:
    from mill_lane.core.render import traverse

    at, so_far = rays.ctypes.data, count.ctypes.data
    nearest, shut, all_, linked = traverse.closest, traverse.blocked, traverse.ALL, jit.linked

    @linked
    def keep(q, kind):  # type: ignore[no-untyped-def]
        n = i64_at(so_far)
        if n[0] < MOST:
            row = f32_at(at + 4 * COLUMNS * n[0])
            for k in range(6):
                row[k] = np.float32(q[Q_OX + SIDE * k])
            row[6], row[7] = np.float32(q[Q_FAR]), np.float32(kind)
            n[0] += 1

    @linked
    def closest(w, q, c, profile, which):  # type: ignore[no-untyped-def]
        keep(q, NEAREST if which == all_ else PANES)
        nearest(w, q, c, profile, which)

    @linked
    def blocked(w, q, c, profile, unseen):  # type: ignore[no-untyped-def]
        keep(q, BLOCKED)
        return shut(w, q, c, profile, unseen)

    traverse.closest, traverse.blocked = closest, blocked


if __name__ == "__main__":
    main()
