"""Textures read for many places at once, coarsely:

means of channels, and alpha at the nearest texel.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.render import slots as s
from mill_lane.core.render.world import World

F64 = NDArray[np.float64]
I64 = NDArray[np.int64]


def means(world: World, slot: int, channel: int) -> F64:
    """The mean of a channel of each material's texture, from the last level of its chain; 1 where
    there is none.
    """
    out = np.ones(len(world.factors))
    t = world.textures
    for i, index in enumerate(world.slots[:, slot]):
        if index >= 0:
            row = t.table[index]
            at = int(t.levels[row[s.T_FIRST_LEVEL] + row[s.T_LEVELS] - 1, 0])
            channels = int(row[s.T_CHANNELS])
            k = 0 if channels < 3 else channel
            out[i] = t.wide[at + k] / 65535 if row[s.T_WIDE] else t.narrow[at + k] / 255
    return out


def alphas(world: World, material: I64, uv: F64) -> F64:
    """The alpha of base colour textures, of the nearest texel; 1 where there is none."""
    out = np.ones(len(material))
    t = world.textures
    for m in np.unique(material):
        index = int(world.slots[m, s.BASE])
        if index < 0 or int(t.table[index, s.T_CHANNELS]) not in (2, 4):
            continue
        rows, k = np.flatnonzero(material == m), world.transforms[m, s.BASE]
        laid = uv[rows, int(k[s.U_SET])]
        first, width, height = (int(x) for x in t.levels[t.table[index, s.T_FIRST_LEVEL]])
        u = _wrapped(
            k[0] * laid[:, 0] + k[1] * laid[:, 1] + k[2], int(t.table[index, s.T_WRAP_U]), width
        )
        v = _wrapped(
            k[3] * laid[:, 0] + k[4] * laid[:, 1] + k[5], int(t.table[index, s.T_WRAP_V]), height
        )
        channels = int(t.table[index, s.T_CHANNELS])
        at = first + (v * width + u) * channels + channels - 1
        out[rows] = t.wide[at] / 65535 if t.table[index, s.T_WIDE] else t.narrow[at] / 255
    return out


def _wrapped(x: F64, how: int, size: int) -> I64:
    """Texel numbers along one side: repeated, mirrored, or held at the edge."""
    x = np.clip(np.nan_to_num(x), -1e9, 1e9)
    if how == 2:
        x = np.clip(x, 0, 1)
    elif how == 1:
        x = 1 - np.abs(np.mod(x, 2) - 1)
    else:
        x = np.mod(x, 1)
    return np.minimum((x * size).astype(np.int64), size - 1)
