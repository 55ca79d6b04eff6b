"""What is known of a scene after weighing: the rows of its tables, as kept with the scene version."""

from __future__ import annotations

import math

from pydantic import BaseModel, ConfigDict

from mill_lane.core.render.sizes import BLOCK_BYTES, NODE_BYTES
from mill_lane.core.scene.model import Part
from mill_lane.core.weigh.plan import Footprint

# What the builder makes of a triangle, measured on the meshes of the bench and of the demo (56 to 59 bytes): an
# estimate, while every other figure of the ledger is the size of an array.
ACCELERATION_BYTES = 57.5


class Row(BaseModel):
    model_config = ConfigDict(frozen=True)


class MeshRow(Row):
    index: int
    name: str
    copies: int  # placements
    triangles: int
    vertices: int
    geometry_bytes: int
    acceleration_bytes: int
    nearest_m: float | None
    nearest_frame: int | None
    in_view: bool
    twin_of: int | None  # the first mesh with the same vertices, when it is another
    twin_baked: bool = False  # they are the same but for a rotation, a mirroring or a scale

    @property
    def memory_bytes(self) -> int:
        return self.geometry_bytes + self.acceleration_bytes


class TextureRow(Row):
    index: int  # of the image
    name: str
    width: int
    height: int
    channels: int
    bits: int
    mime: str
    file_bytes: int
    memory_bytes: int  # 0 when no drawn material uses it
    role: str
    nearest_m: float | None
    in_view: bool
    missing: bool


class LightRow(Row):
    name: str
    kind: str
    power: float  # 4 pi candela, or radiance x area x pi
    size_m: float  # 0 for lights without size
    nearest_m: float | None


class Inventory(Row):
    """Everything that the Scene, Fit and Trim pages show, and all that the ledger needs."""

    name: str
    triangles: int  # drawn, all copies counted
    unique_triangles: int  # stored
    instances: int
    frames: tuple[int, int]
    frames_looked_at: int
    frame_rate: float
    camera: str
    camera_path: list[tuple[float, float]]  # x and z by frame looked at
    camera_ahead: list[tuple[float, float]]
    camera_half_angle: float  # horizontal, radians, at the picture's aspect
    meshes: list[MeshRow]
    textures: list[TextureRow]
    lights: list[LightRow]
    see_through: int  # materials that let light through
    media: int
    footprints: list[Footprint]
    notes: list[tuple[str, str]]
    environment: str
    read_as: tuple[str, str] | None = None  # unit and axis up, where the file says neither


def part_bytes(p: Part) -> tuple[int, int]:
    """(geometry, acceleration) bytes that the renderer will hold for a part."""
    geometry = p.vertices * (12 + (8 if p.has_uvs else 0)) + p.triangles * 12
    least = NODE_BYTES + BLOCK_BYTES if p.triangles else 0
    return geometry, max(least, math.ceil(p.triangles * ACCELERATION_BYTES))
