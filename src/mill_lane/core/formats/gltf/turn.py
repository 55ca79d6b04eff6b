"""Reading a scene in another unit or with another axis up, in its own document, so that nothing
else of it changes.
"""

from __future__ import annotations

import copy
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.formats.gltf.origin import Origin
from mill_lane.core.formats.gltf.read import scene_from
from mill_lane.core.scene.defaults import ADDED_CAMERA
from mill_lane.core.scene.model import Scene

NODE = "unit and up"


def read_in(scene: Scene, matrix: NDArray[np.float64]) -> Scene:
    """The scene with all that its file held carried by `matrix` (4, 4), instead of by what carried
    it before.

    A camera that was added goes: it framed the scene as it was.
    """
    assert isinstance(scene.origin, Origin)
    document = scene.origin.document
    root = copy.deepcopy(document.json)
    nodes = root["nodes"]
    where = root["scenes"][int(root.get("scene", 0))]
    kept = [i for i in where["nodes"] if nodes[i].get("name") != ADDED_CAMERA]
    values = [float(x) for x in matrix.T.reshape(-1)]
    if len(kept) == 1 and nodes[kept[0]].get("name") == NODE:
        nodes[kept[0]]["matrix"] = values
    else:
        nodes.append({"name": NODE, "matrix": values, "children": kept})
        kept = [len(nodes) - 1]
    where["nodes"] = kept
    return scene_from(replace(document, json=root))
