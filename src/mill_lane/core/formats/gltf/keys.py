"""What rides along in the extras of a glTF file: places in a USD stage, names of files."""

from __future__ import annotations

from typing import Any

from mill_lane.core.scene.model import RAYS

# The stage in the scene's extras; in those of nodes, materials and images where they stand in it.
STAGE, PATH = "mill_lane_stage", "mill_lane_path"
# In those of meshes, the cage of a subdivision surface and how it is drawn.
SUBDIVISION = "mill_lane_subdivision"
# In those of nodes, kinds of rays that do not see what stands there.
UNSEEN_BY = "mill_lane_unseen_by"
# In those of the scene, the picture of its sky.
SKY = "mill_lane_sky"
# In those of images, the file that each came from.
FILE = "mill_lane_file"


VARIANTS = "KHR_materials_variants"


def names_in(root: dict[str, Any]) -> list[str]:
    """The variants of materials that a document has, by name."""
    listed = root.get("extensions", {}).get(VARIANTS, {}).get("variants", [])
    return [str(v.get("name", f"variant {i}")) for i, v in enumerate(listed)]


def unseen_by(entry: dict[str, Any]) -> tuple[str, ...]:
    """The kinds of rays that do not see what stands at a node."""
    extras = entry.get("extras")
    found = extras.get(UNSEEN_BY) if isinstance(extras, dict) else None
    return tuple(r for r in RAYS if r in found) if isinstance(found, list) else ()


def path_in(entry: dict[str, Any], key: str = PATH) -> str:
    """Where a thing stands in the USD stage that it came from; empty where it came from none.

    `key` asks for something else that is kept in the same way.
    """
    extras = entry.get("extras")
    found = extras.get(key) if isinstance(extras, dict) else None
    return found if isinstance(found, str) else ""
