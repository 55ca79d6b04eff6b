"""The content of a scene as a number: the same for the same picture, another for another."""

from __future__ import annotations

import shutil
import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

from mill_lane.core.formats.opening import open_scene
from mill_lane.core.scene.digest import scene_digest
from tests.scenes import small_demo


class TestDigest(unittest.TestCase):
    def test_wherever_it_lies(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            other = Path(folder) / "elsewhere.glb"
            shutil.copy(small_demo(), other)
            scenes = [replace(open_scene(path), name="") for path in (small_demo(), other)]
            self.assertEqual(*map(scene_digest, scenes))

    def test_every_change_is_seen(self) -> None:
        scene = open_scene(small_demo())
        light = replace(scene.lights[0], intensity=scene.lights[0].intensity * 1.001)
        material = replace(scene.materials[0], roughness=0.123)
        mesh = scene.meshes[0]
        geometry = mesh.parts[0].load()
        moved = replace(geometry, positions=geometry.positions + 1e-6)
        part = replace(mesh.parts[0], load=lambda: moved)
        image = scene.images[0]
        data = bytearray(image.read())
        data[-20] ^= 1
        changed = [
            replace(scene, lights=(light, *scene.lights[1:])),
            replace(scene, materials=(material, *scene.materials[1:])),
            replace(scene, meshes=(replace(mesh, parts=(part,)), *scene.meshes[1:])),
            replace(scene, images=(replace(image, read=lambda: data), *scene.images[1:])),
            replace(scene, nodes=scene.nodes[:-1]),
        ]
        digests = [scene_digest(x) for x in (scene, *changed)]
        self.assertEqual(len(set(digests)), len(digests))
