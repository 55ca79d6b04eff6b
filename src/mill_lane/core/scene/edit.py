"""Changing a scene: every function returns a new one and leaves the old as it was.

Nodes, meshes, materials and pictures keep their `source`, so that a writer knows which of them it
has already and what of them is new.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import replace
from typing import TypeVar

from mill_lane.core.scene.model import F64, Image, Material, Mesh, Node, Part, Scene

T = TypeVar("T")


def set_item(things: tuple[T, ...], index: int, thing: T) -> tuple[T, ...]:
    """The tuple with one of its items replaced."""
    return (*things[:index], thing, *things[index + 1 :])


def replace_node(scene: Scene, index: int, node: Node) -> Scene:
    """The scene with another node in the place of one."""
    return replace(scene, nodes=set_item(scene.nodes, index, node))


def move_node(scene: Scene, index: int, matrix: F64) -> Scene:
    """The scene with a node, and all below it, placed by a matrix relative to its parent.

    Parameters
    ----------
    scene : Scene
    index : int
        Of the node.
    matrix : array of float64, (4, 4)
        Its own motion goes: a matrix cannot be animated.
    """
    return replace_node(scene, index, replace(scene.nodes[index], matrix=matrix, channels=()))


def replace_mesh(scene: Scene, index: int, mesh: Mesh) -> Scene:
    """The scene with another mesh in the place of one, at every instance of it."""
    return replace(scene, meshes=set_item(scene.meshes, index, mesh))


def replace_part(scene: Scene, mesh: int, index: int, part: Part) -> Scene:
    """The scene with another part in the place of one of a mesh."""
    old = scene.meshes[mesh]
    return replace_mesh(scene, mesh, replace(old, parts=set_item(old.parts, index, part)))


def share_mesh(scene: Scene, node: int, mesh: int) -> Scene:
    """The scene with a node that draws a mesh which is there already."""
    return replace_node(scene, node, replace(scene.nodes[node], mesh=mesh))


def add_material(scene: Scene, material: Material) -> tuple[Scene, int]:
    """The scene with one more material, and its index."""
    return replace(scene, materials=(*scene.materials, material)), len(scene.materials)


def replace_material(scene: Scene, index: int, material: Material) -> Scene:
    """The scene with another material in the place of one."""
    return replace(scene, materials=set_item(scene.materials, index, material))


def replace_images(scene: Scene, images: Mapping[int, Image]) -> Scene:
    """The scene with some images replaced, by their index."""
    kept = tuple(images.get(i, image) for i, image in enumerate(scene.images))
    return replace(scene, images=kept)


def remove_instances(scene: Scene, nodes: Collection[int]) -> Scene:
    """The scene without what some nodes draw.

    A node that holds nothing else goes with it; one with children, a camera or a light stays as a
    place.  Meshes, materials and pictures that nothing uses any more stay in the lists; what is
    written leaves them out.
    """
    gone = set(nodes)
    bare = tuple(replace(n, mesh=-1) if i in gone else n for i, n in enumerate(scene.nodes))
    parents = {n.parent for n in scene.nodes}
    dropped = {i for i in gone if i not in parents and bare[i].camera < 0 and bare[i].light < 0}
    return replace(scene, nodes=_without(bare, dropped))


def remove_nodes(scene: Scene, nodes: Collection[int]) -> Scene:
    """The scene without some nodes and all that hangs below them."""
    gone = set(nodes)
    for i in range(len(scene.nodes)):
        above, chain = i, []
        while above >= 0 and above not in gone:
            chain.append(above)
            above = scene.nodes[above].parent
        if above >= 0:
            gone.update(chain)
    return replace(scene, nodes=_without(scene.nodes, gone))


def _without(nodes: tuple[Node, ...], gone: Collection[int]) -> tuple[Node, ...]:
    kept = [i for i in range(len(nodes)) if i not in gone]
    new = {old: i for i, old in enumerate(kept)}
    out = []
    for i in kept:
        parent = new.get(nodes[i].parent, -1)
        out.append(nodes[i] if parent == nodes[i].parent else replace(nodes[i], parent=parent))
    return tuple(out)
