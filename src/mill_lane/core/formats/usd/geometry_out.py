"""Triangles written into a stage."""

from __future__ import annotations

from typing import Any

import numpy as np

from mill_lane.core.scene.model import Geometry


def put_geometry(mesh: Any, g: Geometry) -> None:
    """Write triangles into a UsdGeom.Mesh: points, corners, normals, places on textures, colours.

    It is no subdivision surface any more.
    """
    from pxr import Sdf, UsdGeom, Vt

    _let_go(mesh)
    mesh.CreateSubdivisionSchemeAttr(UsdGeom.Tokens.none)
    mesh.CreatePointsAttr(Vt.Vec3fArray.FromNumpy(np.ascontiguousarray(g.positions, np.float32)))
    mesh.CreateFaceVertexCountsAttr(Vt.IntArray.FromNumpy(np.full(len(g.triangles), 3, np.int32)))
    mesh.CreateFaceVertexIndicesAttr(
        Vt.IntArray.FromNumpy(g.triangles.reshape(-1).astype(np.int32))
    )
    mesh.CreateNormalsAttr(Vt.Vec3fArray.FromNumpy(np.ascontiguousarray(g.normals, np.float32)))
    mesh.SetNormalsInterpolation(UsdGeom.Tokens.vertex)
    mesh.CreateExtentAttr(
        Vt.Vec3fArray.FromNumpy(np.array([g.positions.min(0), g.positions.max(0)], np.float32))
    )
    api, kinds, vertex = UsdGeom.PrimvarsAPI(mesh), Sdf.ValueTypeNames, UsdGeom.Tokens.vertex
    for name, uvs in (("st", g.uvs), ("st1", g.second_uvs)):
        if uvs is not None:
            up = np.stack([uvs[:, 0], 1 - uvs[:, 1]], 1).astype(np.float32)
            st = api.CreatePrimvar(name, kinds.TexCoord2fArray, vertex)
            st.Set(Vt.Vec2fArray.FromNumpy(np.ascontiguousarray(up)))
    if g.colors is not None:
        colour = api.CreatePrimvar("displayColor", kinds.Color3fArray, vertex)
        colour.Set(Vt.Vec3fArray.FromNumpy(np.ascontiguousarray(g.colors[:, :3], np.float32)))
        opacity = api.CreatePrimvar("displayOpacity", kinds.FloatArray, vertex)
        opacity.Set(Vt.FloatArray.FromNumpy(np.ascontiguousarray(g.colors[:, 3], np.float32)))


def _let_go(mesh: Any) -> None:
    """Block what other vertices and faces were told of: its numbers would fit no more."""
    from pxr import UsdGeom

    for attribute in (
        mesh.GetHoleIndicesAttr(),
        mesh.GetCornerIndicesAttr(),
        mesh.GetCornerSharpnessesAttr(),
        mesh.GetCreaseIndicesAttr(),
        mesh.GetCreaseLengthsAttr(),
        mesh.GetCreaseSharpnessesAttr(),
        mesh.GetVelocitiesAttr(),
        mesh.GetAccelerationsAttr(),
    ):
        if attribute.HasAuthoredValue():
            attribute.Block()
    mesh.CreateOrientationAttr(UsdGeom.Tokens.rightHanded)
    for primvar in UsdGeom.PrimvarsAPI(mesh).GetAuthoredPrimvars():
        if primvar.GetInterpolation() != UsdGeom.Tokens.constant:
            primvar.BlockIndices()
            primvar.GetAttr().Block()
