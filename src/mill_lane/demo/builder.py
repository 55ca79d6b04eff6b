"""What the bakery is built with: sizes, and a scene that grows thing by thing."""

from __future__ import annotations

import math
from dataclasses import dataclass, field

from mill_lane.core.scene.model import (
    Geometry,
    Image,
    Light,
    Material,
    Mesh,
    Node,
    TextureUse,
)
from mill_lane.core.scene.parts import part_of

Vec3 = tuple[float, float, float]


@dataclass(frozen=True)
class Size:
    """How large the demo is made:

    the side of its textures, and a factor on the cells of its meshes.
    """

    texture: int
    cells: float

    def n(self, cells: int, least: int = 4) -> int:
        """So many cells, at this size of the demo."""
        return max(least, round(cells * self.cells))


@dataclass
class Bakery:
    """Collects the parts of the scene while it is laid out."""

    images: list[Image]
    nodes: list[Node] = field(default_factory=list)
    meshes: list[Mesh] = field(default_factory=list)
    materials: list[Material] = field(default_factory=list)
    lights: list[Light] = field(default_factory=list)

    def texture(self, name: str, repeat: float = 1.0) -> TextureUse | None:
        """Use a texture by name; None where this demo has none of it."""
        for i, image in enumerate(self.images):
            if image.name == name:
                return TextureUse(i, scale=(repeat, repeat))
        return None

    def material(self, name: str, repeat: float = 1.0, **more: object) -> int:
        """A material with whatever textures of that name there are."""
        rough = self.texture(f"{name}_rough", repeat)
        values: dict[str, object] = {
            "name": name,
            "metallic": 1.0 if rough else 0.0,
            "roughness": 1.0 if rough else 0.7,
            "base_texture": self.texture(f"{name}_colour", repeat),
            "roughness_texture": rough,
            "normal_texture": self.texture(f"{name}_normal", repeat),
        }
        self.materials.append(Material(**(values | more)))  # type: ignore[arg-type]
        return len(self.materials) - 1

    def mesh(self, name: str, *pieces: tuple[Geometry, int]) -> int:
        """Add a mesh of pieces with their materials; returns its number."""
        self.meshes.append(Mesh(name, tuple(part_of(g, m) for g, m in pieces)))
        return len(self.meshes) - 1

    def put(self, name: str, mesh: int, at: Vec3, turn: float = 0.0, scale: float = 1.0) -> None:
        """Place a mesh, turned about Y by an angle in degrees."""
        half = math.radians(turn) / 2
        q = (0.0, math.sin(half), 0.0, math.cos(half))
        self.nodes.append(Node(name, translation=at, rotation=q, scale=(scale,) * 3, mesh=mesh))
