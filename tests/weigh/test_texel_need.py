"""How many texels the shot can show, against closed forms."""

from __future__ import annotations

import math
import unittest
from dataclasses import replace

import numpy as np

from mill_lane.core.render.load import load
from mill_lane.core.render.pose import camera_track, pose
from mill_lane.core.scene.model import (
    Scene,
    TextureUse,
)
from mill_lane.core.weigh.hits import Hits, Rays, camera_rays, meet, reflected, refracted
from mill_lane.core.weigh.visibility import REFLECTED, SEEN
from mill_lane.demo import shapes
from tests.scenes import WHITE, scene_of
from tests.weigh.prints import HEIGHT, MIRROR, TEXTURED, seen_by, upright, with_print


class TestTexelNeed(unittest.TestCase):
    """A plane before a pinhole:

    texels a pixel = texture size x pixel footprint / plane size (closed form).
    """

    pixel = 2 * math.tan(0.3) / HEIGHT  # of `scene_of`'s camera, at one metre

    def need(self, scene: Scene) -> tuple[float, float]:
        return seen_by(scene).needs[0]

    def test_facing(self) -> None:
        for distance in (2.5, 5.0, 20.0):
            scene = with_print(scene_of((upright(), TEXTURED), eye=(0, 0, distance)))
            want = 2.0 / (self.pixel * distance)
            np.testing.assert_allclose(self.need(scene), (want, want), rtol=1e-4)

    def test_tilted_by_60_degrees_half_across(self) -> None:
        scene = with_print(scene_of((upright(0.05, turn=math.pi / 3), TEXTURED), yfov=0.02))
        across, down = self.need(scene)
        pixel = 2 * math.tan(0.01) / HEIGHT * 5
        self.assertAlmostEqual(across / (0.05 / pixel / 2), 1, delta=0.02)
        self.assertAlmostEqual(down / (0.05 / pixel), 1, delta=0.02)

    def test_repeated_four_times_a_quarter(self) -> None:
        use = TextureUse(0, scale=(4.0, 1.0), rotation=0.0)
        scene = with_print(scene_of((upright(), replace(TEXTURED, base_texture=use))))
        across, down = self.need(scene)
        self.assertAlmostEqual(across * 4, down, delta=0.001 * down)

    def test_a_flat_mirror_counts_the_whole_way(self) -> None:
        back = shapes.sheet(np.array([1.5, -1, 8.0]), np.array([-3.0, 0, 0]), np.array([0, 2, 0]))
        scene = with_print(scene_of((upright(4), MIRROR), (back, TEXTURED), eye=(0, 0, 5)))
        view = seen_by(scene)
        self.assertEqual(list(view.best), [SEEN, REFLECTED])
        # 5 m to the mirror and 8 m back.
        np.testing.assert_allclose(
            view.needs[0], (3.0 / (self.pixel * 13), 2.0 / (self.pixel * 13)), rtol=1e-3
        )

    def test_nothing_beyond_the_98th_percentile(self) -> None:
        """Two prints of one picture, the nearer over 1 % of the places: the farther one decides."""
        near = upright(0.02, z=4.0)
        scene = with_print(scene_of((upright(3.2), TEXTURED), (near, TEXTURED)))
        self.assertAlmostEqual(self.need(scene)[0] / (3.2 / (self.pixel * 5)), 1, delta=0.01)

    def differences(self, scene: Scene, follow: object) -> None:
        """Differentials after a bend against rays that are really shot one pixel away."""
        world = pose(load(scene, 1), 0.0)
        track, _, _ = camera_track(scene, 0.0, 0.0, HEIGHT, HEIGHT)
        x, y = np.array([530.0, 560.0, 500.0]), np.array([540.0, 520.0, 585.0])
        step = 0.05

        def ends(dx: float, dy: float) -> Hits:
            rays = camera_rays(track[:12], x + dx, y + dy, HEIGHT, HEIGHT)
            for _ in range(2 if follow is refracted else 1):
                hits = meet(world, rays)
                every = np.arange(len(x))
                rays = self.bent(follow, rays, hits, every)
            return meet(world, rays)

        middle = ends(0, 0)
        for k, (dx, dy) in enumerate(((step, 0.0), (0.0, step))):
            found = (ends(dx, dy).p - ends(-dx, -dy).p) / (2 * step)
            scale = np.linalg.norm(found, axis=1, keepdims=True)
            np.testing.assert_allclose(middle.dp[:, k] / scale, found / scale, atol=0.06)

    @staticmethod
    def bent(follow: object, rays: Rays, hits: Hits, every: np.ndarray) -> Rays:
        if follow is refracted:
            return refracted(rays, hits, every, np.where(hits.front, 1 / 1.5, 1.5))
        return reflected(rays, hits, every)

    def test_round_mirrors_and_glass_balls(self) -> None:
        wall = upright(400, z=-20)
        behind = shapes.sheet(
            np.array([200.0, -200, 30]), np.array([-400.0, 0, 0]), np.array([0, 400.0, 0])
        )
        self.differences(scene_of((shapes.ball(1.0, 400), MIRROR), (behind, WHITE)), reflected)
        self.differences(scene_of((shapes.ball(1.0, 400), WHITE), (wall, WHITE)), refracted)
