"""What is known of a scene after weighing: the rows of its tables, as kept with the scene
version.
"""

from __future__ import annotations

import math
from typing import Literal

from pydantic import BaseModel, ConfigDict

from mill_lane.core.render.mip_chain import chain_values
from mill_lane.core.render.sizes import LEAF_BYTES, NODE_BYTES
from mill_lane.core.scene.model import Note, Part
from mill_lane.core.scene.subdivision import Size
from mill_lane.core.weigh.outlines import ObjectOutline

# What the builder makes of a triangle, measured on the meshes of the bench and of the demo (50 to
# 55 bytes): an estimate, while every other figure of the ledger is the size of an array.
ACCELERATION_BYTES = 52.0


# How far weighing has come, by `Analysis.stage`: what is done.
STAGES = ("listed", "distances measured", "pictures decoded", "looked at from all frames", "lit")
# How a thing matters to the picture, the least first.
Seen = Literal["never", "light_only", "reflection", "camera"]
LETTERS: dict[str, Seen] = {"n": "never", "l": "light_only", "r": "reflection", "c": "camera"}


SCHEMA: Literal[4] = 4  # of stored analyses; see `weigh.analysis_versions`


class Row(BaseModel):
    """A row of a table, immutable."""

    model_config = ConfigDict(frozen=True)


class SurfaceRow(Row):
    """A subdivision surface: how finely it is drawn, and what it would be at other levels."""

    scheme: str  # "catmullClark" or "loop"
    level: int
    sizes: list[Size]  # of each part of the cage
    widths: list[int]  # bytes a vertex of each part takes
    # The longest edge at each level from 0 where the camera comes nearest, in pixels of a picture
    # 1080 high; beyond, it halves.
    edges: list[float] = []

    def triangles(self, level: int) -> int:
        """Triangles after so many levels."""
        return sum(s.at(self.scheme, level)[1] for s in self.sizes)

    def vertices(self, level: int) -> int:
        """Vertices after so many levels."""
        return sum(s.at(self.scheme, level)[0] for s in self.sizes)

    def bytes(self, level: int) -> tuple[int, int]:
        """(geometry, acceleration) bytes that it is held in after so many levels."""
        pairs = [
            held_bytes(*s.at(self.scheme, level), width)
            for s, width in zip(self.sizes, self.widths, strict=True)
        ]
        return sum(g for g, _ in pairs), sum(a for _, a in pairs)

    def edge(self, level: int) -> float:
        """The longest edge after so many levels, pixels; 0 where it is not seen."""
        if not self.edges:
            return 0.0
        last = len(self.edges) - 1
        return self.edges[min(level, last)] / 2.0 ** max(level - last, 0)


class MeshRow(Row):
    """A mesh as it is counted and measured."""

    index: int
    name: str
    copies: int  # instances
    triangles: int
    vertices: int
    geometry_bytes: int
    acceleration_bytes: int
    nearest_m: float | None
    nearest_frame: int | None
    in_view: bool
    duplicate_of: int | None  # the first mesh with the same vertices, when it is another
    duplicate_baked: bool = False  # they are the same but for a rotation, a mirroring or a scale
    duplicate_scale: float = 1.0  # by which that one is enlarged in it, at most
    behind: bool = False  # the camera, in all frames
    uv_vertices: int = 0  # of those, how many have a place on a texture
    images: list[int] = []  # that its materials use
    subdivision: SurfaceRow | None = None  # the surface that it is drawn as
    deforms: bool = False  # its vertices move among themselves
    materials: list[str] = []  # that it wears, by name
    folder: str = ""  # the names above the first place where it stands, with / between
    # Known after looking closely.  Pixels are those of a picture `Visibility.height` high.
    seen: Seen | None = None
    share: float | None = (
        None  # of the picture, the copy that fills most of it in the frame where it does
    )
    share_frame: int | None = None
    edge_px: float | None = None  # the median edge of its triangles, where it is nearest
    triangles_per_px: float | None = None  # in the frame where it fills most

    @property
    def memory_bytes(self) -> int:
        """What it takes in memory while it renders."""
        return self.geometry_bytes + self.acceleration_bytes

    @property
    def by_attribute(self) -> dict[str, int]:
        """Bytes in memory:

        positions stand in the acceleration structure, eight triangles to a block.
        """
        return {
            "normals": 12 * self.vertices,
            "UV": 8 * self.uv_vertices,
            "triangles": 12 * self.triangles,
            "positions and acceleration": self.acceleration_bytes,
        }


class TextureRow(Row):
    """An image as it is counted and measured."""

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
    nearest_frame: int | None = None
    alpha_needed: bool = False  # whether a material goes by its alpha
    materials: list[str] = []  # that use it, by name
    # Known after looking closely.
    constant: list[float] | None = None  # its one value in each channel, 0 to 1
    jpeg_bytes: int | None = None  # what the same picture takes as a JPEG of quality 90
    channels_used: int | None = None
    bits_used: int | None = None
    why: str = ""  # what of it is stored and not used
    same_as: int | None = None  # the first image with the same pixels, when it is another
    seen: Seen | None = None
    # Texels across the whole width and height that the shot can show, of a picture
    # `Visibility.height`
    # high.
    texel_need: tuple[float, float] | None = None

    @property
    def lean_bytes(self) -> int:
        """In memory, with only the channels and bits that it uses."""
        channels, bits = self.channels_used or self.channels, self.bits_used or self.bits
        return (
            chain_values(self.width, self.height, channels) * (2 if bits > 8 else 1)
            if self.memory_bytes
            else 0
        )

    def halvings(self, height_scale: float = 1.0) -> int:
        """How often it can be halved before it has fewer texels than the shot can show,
        either way.
        """
        if self.texel_need is None or not self.memory_bytes:
            return 0
        n, (w, h) = 0, self.texel_need
        while (
            min(
                (self.width >> (n + 1)) / (w * height_scale),
                (self.height >> (n + 1)) / (h * height_scale),
            )
            >= 1
        ):
            n += 1
        return n

    def wasted_bytes(self, height_scale: float = 1.0) -> int:
        """In memory, of the levels that the shot can never show."""
        n = self.halvings(height_scale)
        if not n:
            return 0
        wide = 2 if self.bits > 8 else 1
        return (
            self.memory_bytes
            - chain_values(max(1, self.width >> n), max(1, self.height >> n), self.channels) * wide
        )


class LightRow(Row):
    """A light as it is counted and measured."""

    name: str
    kind: str
    power: float  # 4 pi candela, or radiance x area x pi
    size_m: float  # 0 for lights without size
    nearest_m: float | None
    candela: float = 0.0  # straight ahead
    radiance: float = 0.0  # of an emissive surface
    node: int = -1  # that places it
    material: int = -1  # of an emissive surface
    # Known after looking closely.
    share: float | None = None  # of the light in the picture; all of one name together
    together: int = 1  # how many have that name
    reach_m: float | None = None
    noisy: bool = False  # small and strong


class MediumRow(Row):
    """Fog in a box."""

    name: str
    free_path_m: float  # metres that light goes, in the mean, before it meets a particle
    thickness: float  # how many such lengths its diagonal has
    size_m: float
    seen: float | None = None  # share of the camera's rays that go through it


class Visibility(Row):
    """What looking closely told of the whole."""

    frames: list[int]
    rays: int
    steady: bool  # more frames changed nothing
    height: int  # of the picture whose pixels count
    transparency_depth: int  # panes and holes one behind another along a camera ray
    transparency_depth_p99: int
    overlap: str  # a PNG, base64: a map of those layers, one code for each
    overlap_frame: int
    fog: float  # share of the rays that go through some
    # How each object matters, a letter each in the order of `Scene.instances`: see LETTERS.
    objects: str = ""
    # Objects with holes, by number: transparent layers along the camera's rays through them, where
    # that is more than themselves.
    stacked: list[tuple[int, float]] = []
    # What the camera is inside of: an object, a frame, the share of the picture that is its back.
    inside: list[tuple[str, int, float]] = []
    light_frames: list[int] = []
    mean: float | None = None  # luminance of the picture
    sky_share: float | None = None  # of the light in the picture: sky and sun
    blown: list[
        tuple[str, float]
    ] = []  # objects brighter than white, and in which share of the picture


class Analysis(Row):
    """Everything that the Scene, Fit and Trim pages show, and all that the ledger needs."""

    schema_version: Literal[4] = SCHEMA
    name: str
    triangles: int  # drawn, all copies counted
    unique_triangles: int  # stored
    instances: int
    frames: tuple[int, int]
    frames_looked_at: int
    frame_rate: float
    camera: str
    cameras: list[str] = []  # names by which each that is placed can be chosen
    camera_shapes: list[float] = []  # width over height of each; 0 where the file does not say
    camera_path: list[tuple[float, float]]  # x and z by frame looked at
    camera_ahead: list[tuple[float, float]]
    camera_half_angle: float  # horizontal, radians, at the picture's aspect
    aspect: float = 0.0  # width over height of the picture; 0 where weighed before it was noted
    meshes: list[MeshRow]
    textures: list[TextureRow]
    lights: list[LightRow]
    transparent_materials: int  # materials that let light through
    media: int
    outlines: list[ObjectOutline]  # of the largest objects
    outlines_left_out: int = 0
    notes: list[Note]
    environment: str
    sky_picture: tuple[str, int, int] | None = None  # its name, width and height, where it has one
    read_as: tuple[str, str] | None = None  # unit and axis up, where guessed or put right
    declared: tuple[float, str] | None = None  # what the file says: metres, and the axis up
    # Sets of variants: name, variants, and the one that is drawn (empty where several differ).
    variant_sets: list[tuple[str, list[str], str]] = []
    layered: bool = False  # kept as the layers that it came in, to go home over them
    fogs: list[MediumRow] = []
    stage: int = 0  # how far weighing has come: see STAGES
    visibility: Visibility | None = None

    def camera_for(self, name: str) -> str:
        """The camera that is looked through where one of that name is asked for: the first where
        the scene has none such.
        """
        if name in self.cameras:
            return name
        return self.cameras[0] if self.cameras else self.camera

    def shape_of(self, camera: str) -> float:
        """Width over height of a camera's frame; 0 where the file does not say."""
        found = dict(zip(self.cameras, self.camera_shapes, strict=False))
        return found.get(camera, 0.0)

    @property
    def has_surfaces(self) -> bool:
        """Whether any mesh is drawn as a subdivision surface."""
        return any(m.subdivision is not None for m in self.meshes)


def part_bytes(p: Part) -> tuple[int, int]:
    """(geometry, acceleration) bytes that the renderer will hold for a part."""
    return held_bytes(p.vertices, p.triangles, vertex_bytes(p))


def vertex_bytes(p: Part) -> int:
    """Bytes that the renderer holds for each vertex of a part."""
    return 12 + 8 * (p.has_uvs + p.has_second_uvs) + 16 * p.has_colors


def held_bytes(vertices: int, triangles: int, each: int) -> tuple[int, int]:
    """(geometry, acceleration) bytes of so many vertices, each so large, and triangles."""
    least = NODE_BYTES + LEAF_BYTES if triangles else 0
    acceleration = max(least, math.ceil(triangles * ACCELERATION_BYTES))
    return vertices * each + triangles * 12, acceleration
