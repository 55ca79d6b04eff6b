"""What the reader keeps of a file, so that a writer can hand back what was not touched."""

from __future__ import annotations

from dataclasses import dataclass, field

from mill_lane.core.formats.gltf.container import Document
from mill_lane.core.scene.model import Scene


@dataclass(frozen=True, eq=False)
class Origin:
    """A document, and the scene as it was read from it."""

    document: Document
    scene: Scene = field(repr=False)
