"""Meshes in glTF files that bend: skins, and shapes that are blended over time."""

from __future__ import annotations

import numpy as np

from mill_lane.core.formats.gltf import read_scene
from mill_lane.core.scene.pose import world_matrices
from tests.core import test_gltf_common as common
from tests.core.test_gltf_common import BALL, Builder


class TestPoses(common.Folder):
    def test_a_skin_follows_its_joint(self) -> None:
        b = Builder()
        primitive = self.ball(b)
        n = len(BALL.positions)
        joints, weights = np.zeros((n, 4), np.uint8), np.zeros((n, 4), np.float32)
        weights[:, 0] = 1.0
        primitive["attributes"] |= {
            "JOINTS_0": b.accessor(joints),
            "WEIGHTS_0": b.accessor(weights),
        }
        b.json["meshes"] = [{"primitives": [primitive]}]
        b.json["nodes"] = [{"mesh": 0, "skin": 0, "translation": [9, 9, 9]}, {"name": "bone"}]
        b.json["scenes"] = [{"nodes": [0, 1]}]
        b.json["skins"] = [{"joints": [1]}]
        times, moved = np.float32([0, 1]), np.float32([[0, 0, 0], [0, 2, 0]])
        b.json["animations"] = [
            {
                "samplers": [{"input": b.accessor(times), "output": b.accessor(moved)}],
                "channels": [{"sampler": 0, "target": {"node": 1, "path": "translation"}}],
            }
        ]
        scene = read_scene(b.save(self.folder / "arm.glb"))
        part = scene.meshes[0].parts[0]
        assert part.load_at is not None
        world = world_matrices(scene, 1.0)[0]
        for time, height in ((0.0, 0.0), (0.5, 1.0), (1.0, 2.0)):
            p = part.load_at(time).positions @ world[:3, :3].T + world[:3, 3]
            # The mesh's own node does not count: only the joint moves it (glTF 2.0, 3.7.3).
            p[:, 1] -= height
            np.testing.assert_allclose(p.mean(0), BALL.positions.mean(0), atol=1e-5)
        self.assertEqual(scene.frames, (1, 25))

    def test_morph_targets_over_time(self) -> None:
        b = Builder()
        primitive = self.ball(b)
        rise = np.tile(np.float32([0, 1, 0]), (len(BALL.positions), 1))
        primitive["targets"] = [{"POSITION": b.accessor(rise)}]
        b.json["meshes"] = [{"primitives": [primitive], "weights": [0.25]}]
        still = read_scene(b.save(self.folder / "still.glb")).meshes[0].parts[0]
        np.testing.assert_allclose(
            still.load().positions[:, 1], BALL.positions[:, 1] + 0.25, atol=1e-6
        )
        b.json["nodes"] = [{"mesh": 0}]
        b.json["scenes"] = [{"nodes": [0]}]
        times, weights = b.accessor(np.float32([0, 1])), b.accessor(np.float32([[0], [1]]))
        sampler = {"input": times, "output": weights}
        blend = {"sampler": 0, "target": {"node": 0, "path": "weights"}}
        b.json["animations"] = [{"samplers": [sampler], "channels": [blend]}]
        moving = read_scene(b.save(self.folder / "moving.glb"))
        self.assertEqual([n.code for n in moving.notes if n.code == "animation_not_played"], [])
        played = moving.meshes[0].parts[0].load_at
        assert played is not None
        np.testing.assert_allclose(
            played(0.5).positions[:, 1], BALL.positions[:, 1] + 0.5, atol=1e-6
        )
        other = {"sampler": 0, "target": {"path": "pointer"}}
        b.json["animations"][0]["channels"].append(other)
        (note,) = [
            n
            for n in read_scene(b.save(self.folder / "more.glb")).notes
            if n.code == "animation_not_played"
        ]
        self.assertIn("1 animation channel of another kind is kept", note.text)
