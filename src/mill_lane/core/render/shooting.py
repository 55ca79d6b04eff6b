"""Following many rays at once through a world: for weighing, tests and benches."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.render import slots as s
from mill_lane.core.render.build import build_boxes, build_mesh
from mill_lane.core.render.texture import DECODE, Textures
from mill_lane.core.render.traverse import blocked_batch, closest_batch, numbers_of
from mill_lane.core.render.world import Lights, World, new_paths


def no_lights() -> Lights:
    """A light table without a lamp."""
    none = np.zeros(1)
    return Lights(
        np.zeros((0, s.LAMP_COLUMNS)),
        none,
        none,
        np.zeros(1, np.int64),
        np.zeros((1, 2), np.int64),
        np.zeros((1, 2)),
        (),
        np.zeros(10),
        np.zeros(2),
        np.zeros((1, 2)),
        np.zeros((1, 1, 3), np.float32),
    )


def mesh_world(
    positions: NDArray[np.float32], triangles: NDArray[np.uint32], threads: int = 1
) -> World:
    """Place one mesh, without materials or lights: enough for following rays.

    Parameters
    ----------
    positions : array of float32, (V, 3)
    triangles : array of uint32, (T, 3)
        At least one.
    threads : int
        That build the hierarchy.
    """
    nodes, leaves = build_mesh(positions, triangles, threads)
    one = np.eye(3, 4).reshape(1, 12)
    instances = np.zeros((1, s.INSTANCE_COLUMNS), np.int64)
    none = [s.P_UV, s.P_UV_SECOND, s.P_COLOR, s.P_LAMP, s.P_MOVE, s.P_NEXT]
    instances[0, none] = -1
    instances[0, s.P_FLAGS] = s.PLAIN
    used = positions[triangles.reshape(-1)].astype(float)
    return World(
        top=build_boxes(used.min(0)[None], used.max(0)[None]),
        nodes=nodes,
        leaves=leaves,
        to_object=one,
        to_world=one.copy(),
        instances=instances,
        normals=np.zeros((1, 3), np.float32),
        uvs=np.zeros((1, 2), np.float32),
        colors=np.zeros((1, 4), np.float32),
        sheen=np.zeros((1, 1)),
        triangles=triangles,
        factors=np.zeros((1, s.FACTORS)),
        slots=np.full((1, s.TEXTURE_SLOTS), -1, np.int64),
        transforms=np.zeros((1, s.TEXTURE_SLOTS, s.USE_COLUMNS)),
        textures=Textures(
            np.zeros((1, 8), np.int64),
            np.zeros((1, 3), np.int64),
            np.zeros(1, np.uint8),
            np.zeros(1, np.uint16),
            DECODE,
        ),
        lights=no_lights(),
        media=np.zeros((0, s.MEDIUM_COLUMNS)),
        moves=np.zeros((1, s.CAMERA_KEYS, 12)),
        following=np.zeros((1, 12)),
    )


class Shooter:
    """R rays through a world from one thread.

    origins, directions : (R, 3), kept as float32.  distances : (R,) or one number, how far to look.
    unseen : (R,) or one number, flags of places that the rays do not see.  After `closest`, `t`
    (1e30 or the distance for a miss), `uv`, `slots` and `instances` hold the hits; after `blocked`,
    `shut` is 0 or 1.
    """

    def __init__(
        self,
        world: World,
        origins: Any,
        directions: Any,
        distances: Any = 1e30,
        unseen: Any = s.HIDDEN,
    ) -> None:
        self.world, self.path = world, new_paths(world.light_count)
        self.o = np.ascontiguousarray(origins, np.float32)
        self.d = np.ascontiguousarray(directions, np.float32)
        self.far = np.ascontiguousarray(
            np.broadcast_to(np.asarray(distances, np.float32), len(self.o))
        )
        self.unseen = np.ascontiguousarray(np.broadcast_to(np.int64(unseen), len(self.o)))
        n = len(self.o)
        self.t, self.uv = np.empty(n, np.float32), np.empty((n, 2), np.float32)
        self.slots, self.instances, self.shut = (
            np.empty(n, np.int64),
            np.empty(n, np.int64),
            np.empty(n, np.int64),
        )

    def closest(self, first: int = 0, count: int | None = None) -> None:
        """Find the nearest hits of some of the rays, or of all."""
        n = len(self.o) - first if count is None else count
        closest_batch(
            self.world.address,
            self.path.ctypes.data,
            self.o[first:].ctypes.data,
            self.d[first:].ctypes.data,
            self.far[first:].ctypes.data,
            self.unseen[first:].ctypes.data,
            n,
            self.t[first:].ctypes.data,
            self.uv[first:].ctypes.data,
            self.slots[first:].ctypes.data,
            self.instances[first:].ctypes.data,
        )

    def blocked(self) -> None:
        """Find whether anything is hit before the distance."""
        blocked_batch(
            self.world.address,
            self.path.ctypes.data,
            self.o.ctypes.data,
            self.d.ctypes.data,
            self.far.ctypes.data,
            len(self.o),
            self.shut.ctypes.data,
        )

    @property
    def numbers(self) -> NDArray[np.int64]:
        """The triangles hit, as numbers of their mesh; -1 for none."""
        out: NDArray[np.int64] = numbers_of(self.world.leaves, self.slots)
        return out
