"""Reading a scene in another unit or with another axis up, in its own document, so that nothing
else of it changes.
"""

from __future__ import annotations

import copy
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.formats.gltf.origin import Origin
from mill_lane.core.formats.gltf.read import scene_from
from mill_lane.core.formats.units import CARRIED
from mill_lane.core.scene.defaults import ADDED_CAMERA
from mill_lane.core.scene.model import Scene


def read_in(
    scene: Scene, matrix: NDArray[np.float64], read_as: tuple[str, str] | None = None
) -> Scene:
    """The scene with all that its file held carried by `matrix` (4, 4), instead of by what carried
    it before.

    `read_as` is noted in the file.  A camera that was added goes: it framed the scene as it was.
    """
    assert isinstance(scene.origin, Origin)
    document = scene.origin.document
    root = copy.deepcopy(document.json)
    nodes = root["nodes"]
    where = root["scenes"][int(root.get("scene", 0))]
    kept = [i for i in where["nodes"] if nodes[i].get("name") != ADDED_CAMERA]
    values = [float(x) for x in matrix.T.reshape(-1)]
    if len(kept) == 1 and nodes[kept[0]].get("name") == CARRIED:
        nodes[kept[0]]["matrix"] = values
    else:
        nodes.append({"name": CARRIED, "matrix": values, "children": kept})
        kept = [len(nodes) - 1]
    where["nodes"] = kept
    if read_as is not None:
        extras = _dict(where.get("extras"))
        own = _dict(extras.get("mill_lane"))
        said = {"declared": list(scene.declared)} if scene.declared is not None else {}
        where["extras"] = extras | {"mill_lane": own | said | {"read_as": list(read_as)}}
    return scene_from(replace(document, json=root))


def _dict(value: Any) -> dict[str, Any]:
    return value if isinstance(value, dict) else {}
