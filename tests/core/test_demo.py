"""The demo scene:

heavy for the reasons it names, the same bits every time, small where it should be small.
"""

from __future__ import annotations

import hashlib
import tempfile
import unittest
from pathlib import Path

import numpy as np

from mill_lane.core.devices.model import DEMO_CARD
from mill_lane.core.formats.opening import open_scene
from mill_lane.core.recipe import FINAL
from mill_lane.core.render.load import load
from mill_lane.core.render.pose import pose
from mill_lane.core.render.shooting import Shooter
from mill_lane.core.render.slots import P_MATERIAL
from mill_lane.core.scene.model import Image
from mill_lane.core.scene.pose import world_matrices
from mill_lane.core.trim import TRIMS, foresee
from mill_lane.core.trim.model import parameters_of
from mill_lane.core.weigh.ledger import draw_up, judge
from mill_lane.core.weigh.measure import weigh
from mill_lane.demo.bakery import FULL, bakery
from mill_lane.demo.make import make_demo
from mill_lane.demo.textures import pictures
from tests.scenes import small_demo


class TestDemo(unittest.TestCase):
    def test_small_and_the_same_every_time(self) -> None:
        self.assertLess(small_demo().stat().st_size, 5_000_000)
        with tempfile.TemporaryDirectory() as folder:
            again = Path(folder) / "again.glb"
            make_demo(again, "small", threads=1)
            self.assertEqual(
                hashlib.sha256(again.read_bytes()).hexdigest(),
                hashlib.sha256(small_demo().read_bytes()).hexdigest(),
            )
            self.assertEqual([p.name for p in Path(folder).iterdir()], ["again.glb"])

    def test_the_full_scene_needs_a_third_to_a_half_too_much(self) -> None:
        """1.3 to 1.6 times what the card has free; after the distance rule it fits.

        Meshes are real, pictures headers.
        """

        def header(name: str, mime: str, channels: int, bits: int) -> Image:
            return Image(name, mime, FULL.texture, FULL.texture, channels, bits, 10**6, bytes)

        images = []
        for p in pictures():
            sample = p.make(64)
            images.append(header(p.name, p.mime, sample.shape[2], 8 * sample.dtype.itemsize))
        analysis = weigh(bakery(images, FULL))
        ledger = draw_up(analysis, FINAL, DEMO_CARD)
        ratio = ledger.total / DEMO_CARD.free_bytes
        self.assertTrue(1.3 <= ratio <= 1.6, ratio)
        self.assertIn("loading textures", judge(ledger, DEMO_CARD.free_bytes).sentence())
        sized = TRIMS["texture_size"]
        by_distance = parameters_of(sized, {"rule": "distance", "height": FINAL.height})
        found = sized.propose(lambda: bakery(images, FULL), analysis, by_distance)
        trimmed = foresee(analysis, [p.choice for p in found])
        self.assertTrue(judge(draw_up(trimmed, FINAL, DEMO_CARD), DEMO_CARD.free_bytes).fits)
        self.assertEqual(len(analysis.lights), 26)
        moulding = next(m for m in analysis.meshes if m.name == "moulding")
        self.assertGreaterEqual(moulding.triangles, 500_000)
        trees = next(m for m in analysis.meshes if m.name == "street_tree")
        self.assertGreater(trees.nearest_m or 0, 29.0)

    def test_stacked_glass(self) -> None:
        """Along some line of sight there are at least seven layers of glass."""
        scene = open_scene(small_demo())
        world = pose(load(scene, 1), 0.0)
        m = world_matrices(scene, 0.0)
        eye = m[scene.camera_node()][:3, 3]
        jars = [
            i
            for i, n in enumerate(scene.nodes)
            if n.name.startswith("jar_") and n.name[4].isdigit()
        ]
        most = 0
        for high in np.linspace(0.05, 0.3, 11):
            target = m[jars[-1]][:3, 3] + [0, high, 0]
            o, d = eye.copy(), (target - eye) / np.linalg.norm(target - eye)
            layers = 0
            for _ in range(80):
                ray = Shooter(world, o[None], d[None])
                ray.closest()
                if ray.instances[0] < 0:
                    break
                layers += (
                    scene.materials[int(world.instances[ray.instances[0], P_MATERIAL])].name
                    == "jar"
                )
                o = o + d * (float(ray.t[0]) + 1e-4)
            most = max(most, layers)
        self.assertGreaterEqual(most, 7)

    def test_the_camera_moves_slowly(self) -> None:
        scene = open_scene(small_demo())
        node = scene.camera_node()
        positions = np.array(
            [world_matrices(scene, scene.seconds(f))[node][:3, 3] for f in range(1, 97)]
        )
        steps = np.linalg.norm(np.diff(positions, axis=0), axis=1)
        self.assertTrue((steps > 0).all() and steps.max() < 0.03)
        self.assertGreater(np.linalg.norm(positions[-1] - positions[0]), 0.5)
