"""Where in a scene its meshes stand: the folders of its outline."""

from __future__ import annotations

from mill_lane.core.formats.units import CARRIED
from mill_lane.core.scene.model import Scene


def folders_of(scene: Scene) -> dict[int, str]:
    """The names of the nodes above the first place of each mesh, or of the prims of its stage."""
    out: dict[int, str] = {}
    for node, mesh in scene.instances:
        if mesh in out:
            continue
        names, at = [], scene.nodes[node].parent
        while at >= 0:
            names.append(scene.nodes[at].name)
            at = scene.nodes[at].parent
        if not names and scene.nodes[node].path:
            names = scene.nodes[node].path.split("[")[0].split("/")[1:-1][::-1]
        out[mesh] = "/".join(n for n in reversed(names) if n != CARRIED)
    return out
