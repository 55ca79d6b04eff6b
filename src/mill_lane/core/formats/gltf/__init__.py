"""glTF 2.0: GLB files, glTF folders, and ZIPs of such folders."""

from mill_lane.core.formats.gltf.container import open_document
from mill_lane.core.formats.gltf.read import read_scene, scene_from
from mill_lane.core.formats.gltf.write import write_glb

__all__ = ["open_document", "read_scene", "scene_from", "write_glb"]
