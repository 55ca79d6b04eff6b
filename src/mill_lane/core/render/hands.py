"""What each thread of a render works with."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.render import slots as s
from mill_lane.core.render.profile import Work
from mill_lane.core.render.world import World, new_paths


class Hands:
    """What one thread works with: its paths, its counters, and how long they took."""

    def __init__(self, world: World) -> None:
        self.paths = new_paths(world.light_count)
        self.work = np.zeros(
            s.counters_size(len(world.instances), len(world.factors), world.light_count), np.int64
        )
        groups = self.paths[: s.GROUPS * s.group_size(world.light_count)].reshape(s.GROUPS, -1)
        self.lost = groups[:, s.Q_LOST : s.Q_LOST + s.SIDE]
        self.pairs = self.paths[s.pairs_place(world.light_count) :][
            : s.pair_sums(world.light_count)
        ]
        self.notes: list[NDArray[np.float64]] = []

    def note(self, before: NDArray[np.int64], seconds: float) -> None:
        """Remember what a piece of work took, for telling seconds from work."""
        kinds = slice(0, s.C_COMPONENTS)
        done = (self.work[kinds] - before[kinds]).reshape(-1, 5).sum(0)
        self.notes.append(np.concatenate([done.astype(float), [seconds]]))

    def hand_over(self, work: Work) -> None:
        """Add what was counted to the session's, and start at nothing again."""
        work.add(self.work, self.pairs, float(self.lost.sum()), self.notes)
        self.work[:] = 0
        self.pairs[:] = 0.0
        self.lost[:] = 0.0
        self.notes = []
