"""What a mesh says of the subdivision surface that it is drawn as."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

MOST_LEVELS = 8


@dataclass(frozen=True)
class Size:
    """What a part of a cage holds: vertices that differ in anything, edges between them, polygons
    and their corners, and triangles that the polygons are cut into.
    """

    vertices: int
    edges: int
    polygons: int
    corners: int
    triangles: int

    def at(self, scheme: str, level: int) -> tuple[int, int]:
        """Vertices and triangles after so many levels.

        Each level adds a vertex on every edge and, for Catmull-Clark, in every polygon (Catmull and
        Clark 1978); Loop makes four triangles of each (Loop 1987).
        """
        if level == 0:
            return self.vertices, self.triangles
        quads = scheme != "loop"
        v, e, f, c = self.vertices, self.edges, self.polygons, self.corners
        for _ in range(level):
            v, e, f = (v + e + f, 2 * e + c, c) if quads else (v + e, 2 * e + c, 4 * f)
            c = (4 if quads else 3) * f
        return v, 2 * f if quads else f


@dataclass(frozen=True, eq=False)
class Subdivision:
    """A declared surface, and how finely it is drawn.

    `sizes` has an entry for each part of the mesh; `read` returns the cage's bytes, as
    `subdivision.cage.packed` makes them, `length` of them.
    """

    scheme: str  # "catmullClark" or "loop"
    level: int
    sizes: tuple[Size, ...]
    read: Callable[[], bytes] = field(repr=False)
    length: int = 0

    def triangles(self, level: int) -> int:
        """Triangles of all parts after so many levels."""
        return sum(s.at(self.scheme, level)[1] for s in self.sizes)
