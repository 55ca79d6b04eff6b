"""Skinned meshes in USD: they stand as their skeleton's animation poses them."""

from __future__ import annotations

import tempfile
import unittest
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.formats.gltf import write_glb
from mill_lane.core.formats.opening import open_scene
from mill_lane.core.formats.saving import save_scene
from mill_lane.core.scene.model import Scene

# A strip of two squares, one above the other; the upper edge follows the second joint alone, the
# middle both by half.
POINTS = [(0, 0, 0), (1, 0, 0), (0, 1, 0), (1, 1, 0), (0, 2, 0), (1, 2, 0)]
WEIGHTS = [(1, 0), (1, 0), (0.5, 0.5), (0.5, 0.5), (0, 1), (0, 1)]
# The second joint rests at height 1; the animation turns it by 90 degrees about Z.
HALF = 2**-0.5
STAGE = f"""#usda 1.0
(
    metersPerUnit = 1
    upAxis = "Y"
    startTimeCode = 1
    endTimeCode = 2
)
def SkelRoot "Arm" (prepend apiSchemas = ["SkelBindingAPI"])
{{
    def Skeleton "Bones" (prepend apiSchemas = ["SkelBindingAPI"])
    {{
        uniform token[] joints = ["root", "root/tip"]
        uniform matrix4d[] bindTransforms = [
            ((1,0,0,0),(0,1,0,0),(0,0,1,0),(0,0,0,1)), ((1,0,0,0),(0,1,0,0),(0,0,1,0),(0,1,0,1))]
        uniform matrix4d[] restTransforms = [
            ((1,0,0,0),(0,1,0,0),(0,0,1,0),(0,0,0,1)), ((1,0,0,0),(0,1,0,0),(0,0,1,0),(0,1,0,1))]
        rel skel:animationSource = </Arm/Moves>
    }}
    def SkelAnimation "Moves"
    {{
        uniform token[] joints = ["root", "root/tip"]
        float3[] translations = [(0, 0, 0), (0, 1, 0)]
        quatf[] rotations.timeSamples = {{
            1: [(1, 0, 0, 0), ({HALF}, 0, 0, {HALF})],
            2: [(1, 0, 0, 0), (1, 0, 0, 0)],
        }}
        half3[] scales = [(1, 1, 1), (1, 1, 1)]
    }}
    def Mesh "Strip" (prepend apiSchemas = ["SkelBindingAPI"])
    {{
        int[] faceVertexCounts = [4, 4]
        int[] faceVertexIndices = [0, 1, 3, 2, 2, 3, 5, 4]
        point3f[] points = {POINTS}
        uniform token subdivisionScheme = "none"
        rel skel:skeleton = </Arm/Bones>
        int[] primvars:skel:jointIndices = {[0, 1] * 6} (elementSize = 2; interpolation = "vertex")
        float[] primvars:skel:jointWeights = {[w for pair in WEIGHTS for w in pair]} (
            elementSize = 2; interpolation = "vertex")
        matrix4d primvars:skel:geomBindTransform = ((1,0,0,0),(0,1,0,0),(0,0,1,0),(0,0,0,1))
    }}
}}
"""


def posed() -> NDArray[np.float64]:
    """Linear blend skinning, as the UsdSkel schemas define it: the weighted mean of where each
    joint carries a point.
    """
    rest = np.array(POINTS, float)
    turned = np.stack([-(rest[:, 1] - 1), rest[:, 0], rest[:, 2]], 1) + np.array([0.0, 1.0, 0.0])
    w = np.array(WEIGHTS)
    return w[:, :1] * rest + w[:, 1:] * turned


def corners(scene: Scene) -> NDArray[np.float64]:
    """The points of all meshes where they stand, each once, sorted."""
    out = [p.load().positions.astype(float) for mesh in scene.meshes for p in mesh.parts]
    return np.unique(np.round(np.concatenate(out), 5), axis=0)


class TestSkinned(unittest.TestCase):
    def setUp(self) -> None:
        keep = tempfile.TemporaryDirectory()
        self.addCleanup(keep.cleanup)
        self.folder = Path(keep.name)
        (self.folder / "arm.usda").write_text(STAGE)

    def test_it_stands_as_it_is_posed(self) -> None:
        scene = open_scene(self.folder / "arm.usda")
        wanted = np.unique(np.round(posed(), 5), axis=0)
        np.testing.assert_allclose(corners(scene), wanted, atol=1e-5)
        self.assertIn("frame 1", " ".join(n.text for n in scene.notes if n.code == "skin_posed"))

    def test_it_is_handed_back_with_its_bones(self) -> None:
        write_glb(open_scene(self.folder / "arm.usda"), self.folder / "arm.glb")
        out = self.folder / "back.usda"
        save_scene(open_scene(self.folder / "arm.glb", own=True), out)
        text = out.read_text()
        self.assertIn("SkelAnimation", text)
        self.assertIn("(0, 2, 0)", text)  # the points as they rest
        again = open_scene(out)
        wanted = np.unique(np.round(posed(), 5), axis=0)
        np.testing.assert_allclose(corners(again), wanted, atol=1e-5)
