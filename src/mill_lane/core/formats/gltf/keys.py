"""What of USD rides along in a glTF file."""

from __future__ import annotations

from typing import Any

# The stage in the scene's extras; in those of nodes, materials and images where they stand in it.
STAGE, PATH = "mill_lane_stage", "mill_lane_path"


def path_in(entry: dict[str, Any]) -> str:
    """Where a thing stands in the USD stage that it came from; empty where it came from none."""
    extras = entry.get("extras")
    found = extras.get(PATH) if isinstance(extras, dict) else None
    return found if isinstance(found, str) else ""
