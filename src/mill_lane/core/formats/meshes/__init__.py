"""Formats of bare meshes: OBJ with MTL, PLY, STL.  Each gives a `Scene` of one node a mesh."""

from mill_lane.core.formats.meshes.obj import read_obj
from mill_lane.core.formats.meshes.ply import read_ply
from mill_lane.core.formats.meshes.stl import read_stl

__all__ = ["read_obj", "read_ply", "read_stl"]
