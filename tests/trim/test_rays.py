"""Which rays see an object: stacked cards for the camera alone."""

from __future__ import annotations

import unittest
from dataclasses import replace

import numpy as np

from mill_lane.core.errors import MillError
from mill_lane.core.scene.model import RAYS, Material, Scene
from mill_lane.core.trim import TRIMS, apply_choices
from mill_lane.core.trim.model import Choice
from mill_lane.core.weigh.full import weigh_full
from mill_lane.demo import shapes
from tests.scenes import WHITE, even_sky, render, scene_of
from tests.trim.case import applied, proposed

LEAF = replace(WHITE, name="leaf", alpha_mode="BLEND", base_color=(0.2, 0.6, 0.2, 0.4))
PANE = replace(WHITE, name="pane", roughness=0.0, transmission=1.0)


def card(at: float) -> shapes.Geometry:
    """An upright square, facing the camera."""
    return shapes.sheet(np.array([-1.0, -1.0, at]), np.array([2.0, 0, 0]), np.array([0, 2.0, 0]))


def stack(count: int, material: Material) -> Scene:
    """So many squares one behind another before a wall."""
    things = [(card(-0.3 * k), material) for k in range(count)]
    return scene_of(*things, (card(-4.0), WHITE), eye=(0, 0, 5), environment=even_sky())


class TestRays(unittest.TestCase):
    def test_stacked_cards_are_proposed_for_the_camera_alone(self) -> None:
        scene = stack(6, LEAF)
        a = weigh_full(scene, aspect=1.0)
        found = proposed(scene, "ray_visibility", a)
        self.assertEqual(sorted(p.target.index for p in found), list(range(6)))
        self.assertAlmostEqual(found[0].facts["layers"], 6.0, delta=0.2)
        self.assertIn("6.0 transparent layers", TRIMS["ray_visibility"].explain(found[0]))
        lean, changes = applied(scene, found)
        self.assertEqual({n.unseen_by for n in lean.nodes[:6]}, {RAYS[1:]})
        self.assertEqual(lean.nodes[6].unseen_by, ())
        said = TRIMS["ray_visibility"].describe(changes[0])
        self.assertEqual(said, "seen by the camera alone")
        self.assertEqual(proposed(lean, "ray_visibility", a), [])

    def test_one_layer_and_panes_of_glass_are_not(self) -> None:
        for scene in (stack(1, LEAF), stack(5, PANE), stack(4, WHITE)):
            self.assertEqual(proposed(scene, "ray_visibility", weigh_full(scene, aspect=1.0)), [])

    def test_it_saves_work(self) -> None:
        """The renderer's own counts: boxes and triangles that were tested for the cards."""
        scene = stack(6, LEAF)
        lean, _ = applied(scene, proposed(scene, "ray_visibility", weigh_full(scene, aspect=1.0)))
        work = []
        for each in (scene, lean):
            profile = render(each, samples=8, size=24, bounces=2).profile()
            work.append(sum(x.nodes + x.leaves for x in profile.objects))
        self.assertLess(work[1], 0.75 * work[0])

    def test_other_rays_by_hand_and_by_name(self) -> None:
        scene = stack(2, WHITE)
        a = weigh_full(scene, aspect=1.0)
        (p,) = proposed(scene, "ray_visibility", a, names="thing 1")
        self.assertIn("named by you", TRIMS["ray_visibility"].explain(p))
        sent = {"objects": [1], "camera": False, "shadow": True, "indirect": True}
        own = Choice(trim="ray_visibility", target=p.target, parameters=sent)
        made, changes = apply_choices(scene, [own])
        self.assertEqual(made.nodes[1].unseen_by, ("camera", "reflection", "transmission"))
        said = TRIMS["ray_visibility"].describe(changes[0])
        self.assertEqual(said, "seen by shadow rays and indirect light alone")
        self.assertEqual(apply_choices(made, [own])[1], [])
        back = own.model_copy(update={"parameters": {"objects": [1]} | dict.fromkeys(RAYS, True)})
        self.assertEqual(apply_choices(made, [back])[0].nodes[1].unseen_by, ())
        gone = own.model_copy(update={"parameters": {"objects": [99]}})
        with self.assertRaisesRegex(MillError, "copies that are not there"):
            apply_choices(scene, [gone])
