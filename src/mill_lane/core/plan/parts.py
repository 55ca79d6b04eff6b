"""A scene in parts that are rendered one by one: who is in which, so that each fits."""

from __future__ import annotations

from collections.abc import Mapping

from mill_lane.core.weigh.analysis import Analysis

# The longest side, pixels, of textures that only things outside of a part wear: they light, shadow
# and reflect, and the camera does not see them.
REST_SIDE = 256
MOST_PARTS = 8


def images_of(analysis: Analysis) -> dict[int, set[int]]:
    """Images that each mesh uses, by mesh."""
    return {m.index: set(m.images) for m in analysis.meshes}


def in_parts(
    images: Mapping[int, set[int]], sizes: Mapping[int, int], count: int
) -> list[set[int]]:
    """Share meshes out among parts so that the textures of each take about as much.

    Parameters
    ----------
    images : mapping
        Images that each mesh uses, by mesh.
    sizes : mapping
        Bytes that each image takes beyond what it takes in a part that does not wear it.
    count : int
        Parts.

    Returns
    -------
    list of set of int
        Meshes; meshes that share a texture are in one part where that makes none too large.
        At most `count`, none of them empty.

    Notes
    -----
    The longest task first (Graham 1969): meshes by the size of their textures, each to the part
    that is the smallest with it.
    """

    def weight(used: set[int]) -> int:
        return sum(sizes.get(i, 0) for i in used)

    order = sorted(images, key=lambda m: (-weight(images[m]), m))
    meshes: list[set[int]] = [set() for _ in range(count)]
    worn: list[set[int]] = [set() for _ in range(count)]
    for mesh in order:
        k = min(range(count), key=lambda k: (weight(worn[k] | images[mesh]), len(meshes[k])))
        meshes[k].add(mesh)
        worn[k] |= images[mesh]
    return [m for m in meshes if m]
