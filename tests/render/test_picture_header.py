"""What EXR files say: depth along the axis as Z, distance by name, and how they were made.

Held against geometry, and read with OpenImageIO beside the reference binding.
"""

from __future__ import annotations

import json
import math
import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

import numpy as np
import OpenEXR
import OpenImageIO as oiio

from mill_lane.cli.main import main
from mill_lane.core.formats.exr import layers_of, read_exr, read_header, read_planes
from mill_lane.core.formats.gltf import write_glb
from mill_lane.core.recipe import Recipe
from mill_lane.core.render.layers import exr_names
from mill_lane.core.render.picture_header import axis_cosines
from mill_lane.demo import shapes
from mill_lane.store.files import file_hash
from tests.scenes import WHITE, even_sky, scene_of


class TestDepth(unittest.TestCase):
    def setUp(self) -> None:
        keep = tempfile.TemporaryDirectory()
        self.addCleanup(keep.cleanup)
        self.folder = Path(keep.name)

    def render(self, *more: str, flat: bool = False) -> Path:
        """A wall 5 m in front of the camera, square to its axis, all over a wide picture."""
        wall = shapes.sheet(
            np.array([-20.0, -20, 0]), np.array([40.0, 0, 0]), np.array([0, 40.0, 0])
        )
        scene = scene_of((wall, WHITE), environment=even_sky(), yfov=math.radians(60))
        if flat:
            scene = replace(scene, cameras=(replace(scene.cameras[0], half_height=2.0),))
        write_glb(scene, self.folder / "wall.glb")
        out = self.folder / "out.exr"
        size = ["--width", "48", "--height", "27", "--samples", "8", "--layers", "depth"]
        args = ["render", str(self.folder / "wall.glb"), "--out", str(out), "--json", "--seed", "7"]
        self.assertEqual(main([*args, *size, *more]), 0)
        return out

    def test_z_is_along_the_axis(self) -> None:
        """Everywhere 5 m on a wall that is square to it; the distance grows to the corners."""
        planes = read_planes(self.render())
        np.testing.assert_allclose(planes["Z"], 5.0, rtol=1e-3)
        half = math.tan(math.radians(30))
        corner = math.sqrt(1 + (half * 47 / 48 * 48 / 27) ** 2 + (half * 26 / 27) ** 2)
        self.assertAlmostEqual(float(planes["distance"][0, 0]), 5 * corner, delta=0.02)
        read = read_exr(self.folder / "out.exr", exr_names())
        np.testing.assert_array_equal(read["depth"], planes["distance"])

    def test_a_crop_and_a_flat_camera(self) -> None:
        planes = read_planes(self.render("--region", "30,2,44,9"))
        np.testing.assert_allclose(planes["Z"], 5.0, rtol=1e-3)
        self.assertGreater(float(planes["distance"].min()), 5.2)
        planes = read_planes(self.render(flat=True))
        np.testing.assert_allclose(planes["Z"], planes["distance"], rtol=1e-6)

    def test_the_cosine_of_the_middle_is_one(self) -> None:
        scene = scene_of((shapes.box((1, 1, 1)), WHITE), yfov=1.0)
        found = axis_cosines(scene, Recipe(width=9, height=7), (0, 0, 9, 7)).rows(0, 7)
        self.assertAlmostEqual(float(found[3, 4]), 1.0, places=6)
        np.testing.assert_allclose(found, found[::-1, ::-1], rtol=1e-6)

    def test_how_it_was_made(self) -> None:
        recipe = self.folder / "recipe.json"
        recipe.write_text(json.dumps({"f_stop": 2.8}))
        out = self.render("--recipe", str(recipe))
        with OpenEXR.File(str(out), header_only=True) as f:
            said = dict(f.header())
        self.assertIn("Mill Lane", said["software"])
        self.assertEqual((said["cameraLabel"], said["imageCounter"]), ("camera", 1))
        self.assertEqual((said["millLane:seed"], said["millLane:samplesAtMost"]), (7, 8))
        self.assertEqual(said["millLane:samples"], 8.0)
        self.assertEqual(said["millLane:sceneHash"], file_hash(self.folder / "wall.glb"))
        self.assertAlmostEqual(said["aperture"], 2.8, places=5)
        # ITU-R BT.709-6, item 1.3 and 1.4.
        np.testing.assert_allclose(
            said["chromaticities"], (0.64, 0.33, 0.30, 0.60, 0.15, 0.06, 0.3127, 0.3290), rtol=1e-6
        )
        # A point for rows times the matrix: the middle of the wall is 5 m along -Z of the camera.
        point = np.array([0, 0, 0, 1.0]) @ np.asarray(said["worldToCamera"], float)
        np.testing.assert_allclose(point, [0, 0, -5, 1], atol=1e-6)
        self.assertEqual(read_header(out)["millLane:seed"], 7)
        spec = oiio.ImageInput.open(str(out)).spec()
        self.assertEqual(spec.getattribute("millLane:seed"), 7)

    def test_a_file_of_before(self) -> None:
        """Z alone is taken for the distance, as it was, and as other programs have it."""
        planes = {n: np.full((2, 2), k, np.float32) for k, n in enumerate(("R", "G", "B", "Z"))}
        found = layers_of(planes, "old.exr", exr_names())
        np.testing.assert_array_equal(found["depth"], planes["Z"])
