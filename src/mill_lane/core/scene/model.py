"""What a scene is.  Everything here is immutable; a trim makes a new `Scene`.

Right-handed, Y up, metres, seconds, linear Rec.709 colour.  Vertex data and pictures are not held:
a `Part` and an `Image` know how to read theirs, so that a scene of many gigabytes can be listed in
a moment.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Any, Literal, NamedTuple

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.scene.naming import told_apart
from mill_lane.core.scene.subdivision import Subdivision
from mill_lane.core.scene.surroundings import Environment, Medium, Vec3

F32 = NDArray[np.float32]
F64 = NDArray[np.float64]
# Kinds of rays, as an object may be kept from each: from the camera, thrown back by a glossy
# surface, gone through a clear one, towards a light, spread by a dull one or by fog.
RAYS = ("camera", "reflection", "transmission", "shadow", "indirect")


@dataclass(frozen=True, eq=False)
class Geometry:
    """The vertices of one part.

    positions : float32 (V, 3), metres.  normals : float32 (V, 3), unit length.  uvs : float32 (V,
    2) or None. triangles : uint32 (T, 3), indices into the vertices, counter-clockwise seen from
    the front.  second_uvs : float32 (V, 2) or None, the other set that the material's textures use.
    colors : float32 (V, 4) or None, linear, by which the base colour is multiplied.
    """

    positions: F32
    normals: F32
    uvs: F32 | None
    triangles: NDArray[np.uint32]
    second_uvs: F32 | None = None
    colors: F32 | None = None


@dataclass(frozen=True, eq=False)
class Part:
    """The share of a mesh that has one material."""

    material: int  # -1: none given
    vertices: int
    triangles: int
    bounds_min: Vec3
    bounds_max: Vec3
    has_uvs: bool
    load: Callable[[], Geometry] = field(repr=False)
    # Numbers of the mesh and of the primitive in the file it came from.
    source: tuple[int, int] = field(default=(-1, -1), repr=False, compare=False)
    has_second_uvs: bool = False
    has_colors: bool = False
    # The vertices at a time in seconds, where they move among themselves.
    load_at: Callable[[float], Geometry] | None = field(default=None, repr=False)

    @property
    def bytes(self) -> int:
        """What its arrays take: positions, normals, places on textures, colours, triangles."""
        each = 24 + 8 * (self.has_uvs + self.has_second_uvs) + 16 * self.has_colors
        return self.vertices * each + self.triangles * 12


@dataclass(frozen=True, eq=False)
class Mesh:
    """Parts that are placed together."""

    name: str
    parts: tuple[Part, ...]
    subdivision: Subdivision | None = None  # whose triangles the parts are
    source: int = field(default=-1, repr=False, compare=False)  # number in the file it came from

    @property
    def triangles(self) -> int:
        """Triangles of all parts."""
        return sum(p.triangles for p in self.parts)

    @property
    def vertices(self) -> int:
        """Vertices of all parts."""
        return sum(p.vertices for p in self.parts)


@dataclass(frozen=True, eq=False)
class Image:
    """An encoded picture.  `bits` are per channel; `read` returns the bytes of the file."""

    name: str
    mime: str
    width: int
    height: int
    channels: int
    bits: int
    file_bytes: int
    read: Callable[[], bytes] = field(repr=False)
    missing: bool = False  # named by the file but not found; drawn in neutral grey
    path: str = ""  # its token in the USD stage it came from
    file: str = ""  # its file beside the scene it came with, folders and all
    # Of the first picture of a set of tiles, while it is read: all of them, by number.
    tiles: Mapping[int, Image] = field(default_factory=dict, repr=False, compare=False)
    source: int = field(default=-1, repr=False, compare=False)  # number in the file it came from


Wrap = Literal["repeat", "mirror", "clamp"]


@dataclass(frozen=True)
class Texture:
    """An image with the way it is laid out beyond its edges."""

    name: str
    image: int
    wrap_u: Wrap = "repeat"
    wrap_v: Wrap = "repeat"
    source: int = field(default=-1, repr=False, compare=False)  # number in the file it came from


@dataclass(frozen=True)
class TextureUse:
    """A texture plugged into a material, with KHR_texture_transform."""

    texture: int
    offset: tuple[float, float] = (0.0, 0.0)
    rotation: float = 0.0  # radians, counter-clockwise
    scale: tuple[float, float] = (1.0, 1.0)
    strength: float = 1.0  # normalTexture.scale or occlusionTexture.strength
    uv_set: int = 0


@dataclass(frozen=True)
class Material:
    """glTF metallic-roughness with the KHR extensions ior, transmission, volume,
    emissive_strength, clearcoat, specular, sheen and anisotropy.
    """

    name: str = "plain"
    base_color: tuple[float, float, float, float] = (1.0, 1.0, 1.0, 1.0)
    metallic: float = 1.0
    roughness: float = 1.0
    emissive: Vec3 = (0.0, 0.0, 0.0)  # with emissive_strength multiplied in
    ior: float = 1.5
    transmission: float = 0.0
    thickness: float = 0.0  # 0: thin-walled
    clearcoat: float = 0.0  # KHR_materials_clearcoat
    clearcoat_roughness: float = 0.0
    specular: float = 1.0  # KHR_materials_specular
    specular_color: Vec3 = (1.0, 1.0, 1.0)
    sheen_color: Vec3 = (0.0, 0.0, 0.0)  # KHR_materials_sheen
    sheen_roughness: float = 0.0
    anisotropy: float = 0.0  # KHR_materials_anisotropy: strength
    anisotropy_rotation: float = 0.0  # radians, counter-clockwise from the tangent
    attenuation_color: Vec3 = (1.0, 1.0, 1.0)
    attenuation_distance: float = float("inf")  # metres
    alpha_mode: Literal["OPAQUE", "MASK", "BLEND"] = "OPAQUE"
    alpha_cutoff: float = 0.5
    double_sided: bool = False
    unlit: bool = False
    base_texture: TextureUse | None = None
    roughness_texture: TextureUse | None = None  # green: roughness, blue: metallic
    normal_texture: TextureUse | None = None
    emissive_texture: TextureUse | None = None
    transmission_texture: TextureUse | None = None
    clearcoat_texture: TextureUse | None = None  # red
    clearcoat_roughness_texture: TextureUse | None = None  # green
    specular_texture: TextureUse | None = None  # alpha
    specular_color_texture: TextureUse | None = None
    sheen_color_texture: TextureUse | None = None
    sheen_roughness_texture: TextureUse | None = None  # alpha
    anisotropy_texture: TextureUse | None = None  # red, green: direction; blue: strength
    occlusion_texture: TextureUse | None = None  # kept and counted; a path tracer has no use for it
    path: str = ""  # where it stands in a USD stage it came from
    source: int = field(default=-1, repr=False, compare=False)  # number in the file it came from

    def uses(self) -> list[tuple[str, TextureUse]]:
        """Every texture plugged in, as (role, use)."""
        slots = (
            ("base colour", self.base_texture),
            ("roughness", self.roughness_texture),
            ("normal", self.normal_texture),
            ("emission", self.emissive_texture),
            ("transmission", self.transmission_texture),
            ("clearcoat", self.clearcoat_texture),
            ("clearcoat roughness", self.clearcoat_roughness_texture),
            ("specular", self.specular_texture),
            ("specular colour", self.specular_color_texture),
            ("sheen colour", self.sheen_color_texture),
            ("sheen roughness", self.sheen_roughness_texture),
            ("anisotropy", self.anisotropy_texture),
            ("occlusion", self.occlusion_texture),
        )
        return [(role, use) for role, use in slots if use is not None]

    @property
    def layered(self) -> bool:
        """Whether it has more than a plain dielectric or metal: specular tint, sheen, a grain."""
        tinted = self.specular != 1.0 or self.specular_color != (1.0, 1.0, 1.0)
        pictured = self.specular_texture is not None or self.specular_color_texture is not None
        return tinted or pictured or max(self.sheen_color) > 0 or self.anisotropy > 0

    @property
    def passes_light(self) -> bool:
        """Whether camera rays can go through it: alpha or transmission."""
        return self.alpha_mode != "OPAQUE" or self.transmission > 0


@dataclass(frozen=True)
class Light:
    """KHR_lights_punctual:

    candela for point and spot, lux for directional; it shines along its node's -Z.
    """

    name: str
    kind: Literal["point", "spot", "directional"]
    color: Vec3 = (1.0, 1.0, 1.0)
    intensity: float = 1.0
    range: float = float("inf")
    inner_cone: float = 0.0
    outer_cone: float = 0.7853981633974483
    source: int = field(default=-1, repr=False, compare=False)  # number in the file it came from


@dataclass(frozen=True)
class Camera:
    """A camera looking along its node's -Z.

    `yfov` is the full vertical angle in radians; with `half_height` (metres) it is orthographic
    instead, and `yfov` counts for nothing.  `f_stop` and `focus_distance` (metres) are what the
    file says of its lens; 0 for nothing.
    """

    name: str
    yfov: float
    aspect: float | None = None
    added: bool = False  # the file had none; this one frames the scene
    half_height: float | None = None
    f_stop: float = 0.0
    focus_distance: float = 0.0
    source: int = field(default=-1, repr=False, compare=False)  # number in the file it came from

    @property
    def shape(self) -> float:
        """Width over height as the file says it; 0 where it does not, or has no camera."""
        return 0.0 if self.added or self.aspect is None else self.aspect


@dataclass(frozen=True, eq=False)
class Channel:
    """Keyframes of one property of a node.

    times : float64 (K,), seconds, increasing.  values : float64 (K, 3 or 4), or (3K, ...) for
    CUBICSPLINE.
    """

    path: Literal["translation", "rotation", "scale"]
    interpolation: Literal["LINEAR", "STEP", "CUBICSPLINE"]
    times: F64
    values: F64


@dataclass(frozen=True, eq=False)
class Node:
    """A place in the scene.

    `matrix` wins over translation, rotation (x, y, z, w) and scale where it is given.
    """

    name: str
    parent: int = -1
    translation: Vec3 = (0.0, 0.0, 0.0)
    rotation: tuple[float, float, float, float] = (0.0, 0.0, 0.0, 1.0)
    scale: Vec3 = (1.0, 1.0, 1.0)
    matrix: F64 | None = None
    mesh: int = -1
    light: int = -1
    camera: int = -1
    channels: tuple[Channel, ...] = ()
    unseen_by: tuple[str, ...] = ()  # of RAYS, those that do not see its mesh
    placed: bool = False  # one of many that the node above it places; no node of the file
    path: str = ""  # where it stands in a USD stage it came from
    source: int = field(default=-1, repr=False, compare=False)  # number in the file it came from


@dataclass(frozen=True)
class Note:
    """Something found while reading or writing that the artist should know.

    `code` is what programs go by; `text` is for people alone and may change.
    """

    code: str
    level: Literal["look", "kept", "lost"]
    text: str


class VariantSet(NamedTuple):
    """Kinds in which a part of a scene can be drawn."""

    name: str
    variants: tuple[str, ...]
    drawn: str  # empty where several of it differ


@dataclass(frozen=True, eq=False)
class Scene:
    """A whole scene.

    `origin` is what the reader keeps so that a writer can hand back what was not understood.
    """

    name: str
    nodes: tuple[Node, ...] = ()
    meshes: tuple[Mesh, ...] = ()
    materials: tuple[Material, ...] = ()
    textures: tuple[Texture, ...] = ()
    images: tuple[Image, ...] = ()
    lights: tuple[Light, ...] = ()
    cameras: tuple[Camera, ...] = ()
    media: tuple[Medium, ...] = ()
    environment: Environment | None = None
    frame_rate: float = 24.0
    frames: tuple[int, int] = (1, 1)  # first and last, both rendered
    notes: tuple[Note, ...] = ()
    # Unit and axis up by which it is read, where they were guessed or put right by hand; what the
    # file itself says of them, as metres and axis, or None where it says nothing.
    read_as: tuple[str, str] | None = None
    declared: tuple[float, str] | None = None
    origin: Any = field(default=None, repr=False)
    stage: Any = field(default=None, repr=False)  # the USD stage it came from, a Blob
    # What the stage names beside its textures, a Blob by the relative path; with a root, the stage
    # is among them as it was sent, else it is flattened into one layer.
    stage_files: Mapping[str, Any] = field(default_factory=dict, repr=False)
    stage_root: str = field(default="", repr=False)
    # How it was opened: variants as (set, name), and the payloads that were left out.
    stage_variants: tuple[tuple[str, str], ...] = field(default=(), repr=False)
    stage_left_out: tuple[str, ...] = field(default=(), repr=False)
    # The sets of variants that it has: name, variants, and the one that is drawn.
    variant_sets: tuple[VariantSet, ...] = field(default=(), repr=False)
    keep: Any = field(
        default=None, repr=False
    )  # a temporary folder that lives as long as the scene

    @property
    def instances(self) -> list[tuple[int, int]]:
        """Every drawn mesh as (node, mesh)."""
        return [(i, n.mesh) for i, n in enumerate(self.nodes) if n.mesh >= 0]

    @property
    def placed_lights(self) -> list[tuple[int, int]]:
        """Every placed light as (node, light)."""
        return [(i, n.light) for i, n in enumerate(self.nodes) if n.light >= 0]

    def camera_node(self, name: str | None = None) -> int:
        """The node of the named camera, or of the first one.

        A name is one of `camera_names`, or that of a camera wherever it is placed first.  Raises
        KeyError when there is none such.
        """
        placed = [i for i, n in enumerate(self.nodes) if n.camera >= 0]
        if name is None and placed:
            return placed[0]
        for i, known in zip(placed, self.camera_names, strict=True):
            if known == name:
                return i
        for i in placed:
            if name in (self.nodes[i].name, self.cameras[self.nodes[i].camera].name):
                return i
        raise KeyError(name or "no camera")

    @property
    def camera_names(self) -> list[str]:
        """The names of the placed cameras, in order, no two alike: see `told_apart`."""
        placed = [(n.name, self.cameras[n.camera].name) for n in self.nodes if n.camera >= 0]
        return told_apart(placed)

    def seconds(self, frame: float) -> float:
        """The time of a frame: the first frame of the range is at 0 s."""
        return (frame - self.frames[0]) / self.frame_rate
