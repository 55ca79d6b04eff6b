"""A scene at a moment, as the kernels see it: flat arrays, and a table of where they lie."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.render import slots as s
from mill_lane.core.render.light_bounds import MOST_BALLS, light_bounds, shining_balls
from mill_lane.core.render.texture import Textures

Array = NDArray[Any]


@dataclass(frozen=True, eq=False)
class Lights:
    """What shines.  L lights; an emissive mesh is one of them, the sky another."""

    rows: NDArray[np.float64]  # (L, LAMP_COLUMNS)
    running: NDArray[np.float64]  # (L,) running sum of the chances of being picked by power
    areas: NDArray[
        np.float64
    ]  # running share of the area of an emissive mesh, triangle by triangle
    slots: NDArray[np.int64]  # the slots of those triangles
    ranges: NDArray[np.int64]  # (T, 2) of those triangles: first half and cells, where they are cut
    halves: NDArray[np.float64]  # (H, 2) running share and density (`emissive_texture`)
    names: tuple[str, ...]
    sky: NDArray[np.float64]  # (10,) zenith, horizon, ground; then 1 when the sky is a picture
    sky_rows: NDArray[np.float64]  # (H + 1,) running sum over rows of the sky's table
    sky_columns: NDArray[np.float64]  # (H, W + 1) running sum within a row
    sky_pixels: NDArray[np.float32]  # (H, W, 3) or nothing

    @property
    def sky_light(self) -> int:
        """The row of the sky, or -1."""
        return next((i for i, kind in enumerate(self.rows[:, s.L_KIND]) if kind == s.SKY), -1)

    def sky_bands(self) -> NDArray[np.float64]:
        """Of the sky's table, (H + 1, 2): the cosine of the angle from above at which a row begins,
        and the density over solid angle of a whole row of it, for a column that is as likely as
        all of them.
        """
        rows, columns = len(self.sky_rows) - 1, self.sky_columns.shape[1] - 1
        edges = np.cos(np.pi * np.arange(rows + 1) / rows)
        solid = (edges[:-1] - edges[1:]) * 2 * np.pi / columns
        # Within a cell the cosine is uniform, so that the density is constant over its angle.
        return np.stack([edges, np.append(np.diff(self.sky_rows) / solid, 0.0)], 1)

    @property
    def sun_light(self) -> int:
        """The row of the sun that has a disc, or -1."""
        disc = (self.rows[:, s.L_KIND] == s.SUN) & (self.rows[:, s.L_OUTER] < 1)
        return int(np.flatnonzero(disc)[0]) if disc.any() else -1


@dataclass(frozen=True, eq=False)
class World:
    """Everything a ray can meet.  P instances of parts, M materials.

    `table` holds the addresses of all of it; the object keeps the arrays alive.
    """

    top: NDArray[np.float32]  # (N, 64) nodes over the instances
    nodes: NDArray[np.float32]  # (N, 64)
    leaves: NDArray[np.float32]  # (B, 80)
    to_object: NDArray[np.float64]  # (P, 12) rows of world-to-object
    to_world: NDArray[np.float64]  # (P, 12)
    instances: NDArray[np.int64]  # (P, INSTANCE_COLUMNS)
    normals: NDArray[np.float32]  # (V, 3)
    uvs: NDArray[np.float32]  # (U, 2)
    colors: NDArray[np.float32]  # (C, 4) of vertices, linear
    triangles: NDArray[np.uint32]  # (T, 3), numbers of the part's own vertices
    factors: NDArray[np.float64]  # (M, FACTORS)
    slots: NDArray[np.int64]  # (M, TEXTURE_SLOTS) texture or -1
    sheen: NDArray[np.float64]  # albedo of the sheen lobe, or nothing
    transforms: NDArray[np.float64]  # (M, TEXTURE_SLOTS, USE_COLUMNS) how textures are laid
    textures: Textures
    lights: Lights
    media: NDArray[
        np.float64
    ]  # (D, MEDIUM_COLUMNS): box minimum, box maximum, scatter, extinction, g
    moves: NDArray[
        np.float64
    ]  # (K, CAMERA_KEYS, 12) object-to-world over the shutter of what moves
    following: NDArray[np.float64]  # (K, 12) object-to-world in the next frame of what moves
    # (N, 64) nodes over the instances that may be seen through
    top_panes: NDArray[np.float32] = field(default_factory=lambda: np.zeros((1, 64), np.float32))
    # the middle of the scene, and how far from it anything lies
    centre: NDArray[np.float64] = field(default_factory=lambda: np.zeros(3))
    size: float = 1.0
    # (B, 4) middle and radius of balls round whatever gives off light where a ray hits it
    shining: NDArray[np.float64] = field(default_factory=lambda: np.zeros((0, 4)))
    # (P,) how much larger than its own an object's lengths can be
    sizes: NDArray[np.float64] = field(init=False)
    bounds: NDArray[np.float32] = field(init=False)  # of lamps, and of what shines (`light_bounds`)
    balls: NDArray[np.float32] = field(init=False)
    bands: NDArray[np.float64] = field(init=False)
    table: NDArray[np.int64] = field(init=False)

    def __post_init__(self) -> None:
        columns = self.to_world.reshape(-1, 3, 4)[:, :, :3]
        object.__setattr__(
            self, "sizes", np.ascontiguousarray(np.sqrt((columns**2).sum(1).max(1, initial=0.0)))
        )
        lights, textures = self.lights, self.textures
        bounds = light_bounds(lights.rows, self.centre, self.size)
        object.__setattr__(self, "bounds", bounds)
        object.__setattr__(self, "balls", shining_balls(self.shining, self.centre, self.size))
        object.__setattr__(self, "bands", np.ascontiguousarray(lights.sky_bands()))
        table = np.zeros(s.WORLD_SLOTS, np.int64)
        arrays: dict[int, Array] = {
            s.W_TOP: self.top,
            s.W_NODES: self.nodes,
            s.W_LEAVES: self.leaves,
            s.W_TO_OBJECT: self.to_object,
            s.W_TO_WORLD: self.to_world,
            s.W_INSTANCES: self.instances,
            s.W_NORMALS: self.normals,
            s.W_UVS: self.uvs,
            s.W_COLORS: self.colors,
            s.W_SHEEN: self.sheen,
            s.W_TRIANGLES: self.triangles,
            s.W_FACTORS: self.factors,
            s.W_SLOTS: self.slots,
            s.W_UV_TRANSFORMS: self.transforms,
            s.W_TEXTURES: textures.table,
            s.W_LEVELS: textures.levels,
            s.W_NARROW: textures.narrow,
            s.W_WIDE: textures.wide,
            s.W_DECODE: textures.decode,
            s.W_LAMPS: lights.rows,
            s.W_LAMP_RUNNING: lights.running,
            s.W_LAMP_AREAS: lights.areas,
            s.W_LAMP_SLOTS: lights.slots,
            s.W_PATCHES: lights.halves,
            s.W_PATCH_RANGES: lights.ranges,
            s.W_SKY: lights.sky,
            s.W_SKY_ROWS: lights.sky_rows,
            s.W_SKY_COLUMNS: lights.sky_columns,
            s.W_SKY_PIXELS: lights.sky_pixels,
            s.W_MEDIA: self.media,
            s.W_MOVES: self.moves,
            s.W_NEXT: self.following,
            s.W_SIZES: self.sizes,
            s.W_BOUNDS: self.bounds,
            s.W_SHINING: self.balls,
            s.W_CENTRE: self.centre,
            s.W_SKY_BANDS: self.bands,
            s.W_TOP_PANES: self.top_panes,
        }
        for slot, array in arrays.items():
            assert array.flags.c_contiguous, slot
            table[slot] = array.ctypes.data
        table[s.W_LAMP_COUNT], table[s.W_MEDIA_COUNT] = len(lights.rows), len(self.media)
        table[s.W_SKY_LAMP], table[s.W_SUN_LAMP] = lights.sky_light, lights.sun_light
        table[s.W_SKY_HEIGHT], table[s.W_SKY_WIDTH] = (
            lights.sky_columns.shape[0],
            lights.sky_columns.shape[1] - 1,
        )
        table[s.W_INSTANCE_COUNT], table[s.W_MATERIAL_COUNT] = (
            len(self.instances),
            len(self.factors),
        )
        few = len(self.shining) <= MOST_BALLS
        table[s.W_SHINING_COUNT] = len(self.balls) if few else -1
        hidden = (self.instances[:, s.P_FLAGS] & s.HIDDEN) != 0
        panes = (self.instances[:, s.P_FLAGS] & s.SEE_THROUGH) != 0
        table[s.W_PANES] = int((panes & ~hidden).any())
        see_through = (
            self.instances[:, s.P_FLAGS] & (s.SEE_THROUGH | s.HIDDEN | s.NO_SHADOW) == s.SEE_THROUGH
        )
        table[s.W_SEE_THROUGH] = int(see_through.any())
        object.__setattr__(self, "table", table)

    @property
    def address(self) -> int:
        """Where the table lies."""
        return int(self.table.ctypes.data)

    @property
    def light_count(self) -> int:
        """Rows of the table of lights."""
        return len(self.lights.rows)


def new_paths(light_count: int = 0) -> NDArray[np.float64]:
    """The scratch of one thread's paths, on a cache line."""
    size = s.path_size(light_count)
    raw = np.zeros(size + 8, np.float64)
    start = (-(raw.ctypes.data // 8)) % 8
    paths, group = raw[start : start + size], s.group_size(light_count)
    for g in range(s.GROUPS):
        own = paths.ctypes.data + 8 * s.GROUPS * group
        paths[g * group + s.Q_THREAD :][: s.SIDE] = own
    return paths
