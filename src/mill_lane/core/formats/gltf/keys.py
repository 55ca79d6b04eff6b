"""What rides along in the extras of a glTF file: places in a USD stage, names of files."""

from __future__ import annotations

from typing import Any

# The stage in the scene's extras; in those of nodes, materials and images where they stand in it.
STAGE, PATH = "mill_lane_stage", "mill_lane_path"
# In those of images, the file that each came from.
FILE = "mill_lane_file"


def path_in(entry: dict[str, Any], key: str = PATH) -> str:
    """Where a thing stands in the USD stage that it came from; empty where it came from none.

    `key` asks for something else that is kept in the same way.
    """
    extras = entry.get("extras")
    found = extras.get(key) if isinstance(extras, dict) else None
    return found if isinstance(found, str) else ""
