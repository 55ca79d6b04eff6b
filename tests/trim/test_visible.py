"""What a trim changes in the picture: crops where it shows, and statements about the grain."""

from __future__ import annotations

import unittest
from dataclasses import replace

import numpy as np

from mill_lane.core.recipe import Recipe
from mill_lane.core.render.load import load
from mill_lane.core.scene.model import Light, Node, Scene, Texture, TextureUse
from mill_lane.core.subdivision.surface import surface_mesh
from mill_lane.core.trim import TRIMS
from mill_lane.core.trim.crops import choose_crops, touched_objects
from mill_lane.core.trim.decimate import Parameters
from mill_lane.core.trim.limited import limited, limits_of
from mill_lane.core.trim.model import Choice, Target
from mill_lane.core.trim.visible import Looker, compare_crops
from mill_lane.core.weigh.full import weigh_full
from mill_lane.core.weigh.measure import weigh
from mill_lane.demo import shapes
from tests.scenes import WHITE, even_sky, floor, lump, scene_of
from tests.surfaces import CORNERS, QUADS, cage_of
from tests.trim.case import image_of, pixels_of
from tests.trim.test_pictures import smooth

MIRROR = replace(WHITE, name="mirror", metallic=1.0, roughness=0.02)
RECIPE = Recipe(width=160, height=160, samples=16, min_samples=1, bounces=3)
BALL = 1  # the object that is asked about


def room() -> Scene:
    """A ball over a floor that is half a mirror, under a lamp."""
    ball = (shapes.ball(0.35, 16), replace(WHITE, name="red", base_color=(0.9, 0.1, 0.1, 1)))
    half = replace(floor(2.4), positions=floor(2.4).positions + np.float32([1.2, 0, 0]))
    other = replace(floor(2.4), positions=floor(2.4).positions - np.float32([1.2, 0, 0]))
    scene = scene_of(
        (half, MIRROR), ball, (other, WHITE), eye=(0, 1.6, 3.2), at=(0, 0.2, 0), yfov=0.9
    )
    lamp = Node("lamp", translation=(2.2, 2.6, 1.0), light=0)
    up = replace(scene.nodes[1], translation=(0.15, 0.55, 0.0))
    nodes = (scene.nodes[0], up, *scene.nodes[2:], lamp)
    lights = (Light("lamp", "point", intensity=60.0),)
    return replace(scene, nodes=nodes, lights=lights, environment=even_sky(0.3))


class TestCrops(unittest.TestCase):
    def test_directly_in_the_mirror_and_by_the_shadow(self) -> None:
        scene = room()
        crops = {c.why: c for c in choose_crops(load(scene, 1), RECIPE, 1, {BALL}, 2)}
        self.assertEqual(set(crops), {"direct", "reflection", "shadow"})
        for c in crops.values():
            x0, y0, x1, y1 = c.region
            self.assertTrue(0 <= x0 < x1 <= 160 and 0 <= y0 < y1 <= 160)
        middle = {k: (c.region[0] + c.region[2]) / 2 for k, c in crops.items()}
        self.assertLess(middle["shadow"], middle["reflection"])  # the lamp is on the right

    def test_what_shows_nowhere(self) -> None:
        scene = room()
        away = replace(scene.nodes[1], translation=(0.0, -50.0, 0.0))
        scene = replace(scene, nodes=(scene.nodes[0], away, *scene.nodes[2:]))
        self.assertEqual(choose_crops(load(scene, 1), RECIPE, 1, {BALL}, 2), [])

    def test_which_objects_choices_are_about(self) -> None:
        scene = room()

        def about(kind: str, index: int, **parameters: object) -> set[int]:
            target = Target.model_validate({"kind": kind, "index": index, "name": "x"})
            return touched_objects(
                scene, [Choice(trim="x", target=target, parameters=dict(parameters))]
            )

        self.assertEqual(about("mesh", 1), {1})
        self.assertEqual(about("material", 0), {0})
        self.assertEqual(about("mesh", 2, objects=[0]), {0})
        self.assertEqual(about("light", 4), set())


class TestGrain(unittest.TestCase):
    def noisy(self, seed: int, shift: float = 0.0) -> np.ndarray:
        rng = np.random.default_rng(seed)
        y = np.linspace(0.3, 0.6, 96)[:, None, None] + shift
        return np.clip(y + rng.normal(0, 0.05, (96, 96, 3)), 0, 1)

    def test_statements_are_tested(self) -> None:
        """Other grain is no change; a shift far below the grain of a pixel is one."""
        before, again = self.noisy(1), self.noisy(2)
        same = compare_crops(before, before, again)
        self.assertTrue(same.less_than_grain)
        self.assertEqual((same.rms, same.ssim), (0.0, 1.0))
        self.assertTrue(compare_crops(before, self.noisy(3), again).less_than_grain)
        shifted = compare_crops(before, self.noisy(3, shift=0.02), again)
        self.assertLess(abs(shifted.rms / shifted.seed_rms - 1), 0.1)
        self.assertFalse(shifted.less_than_grain)
        # Bright dots here and there are grain; a patch of another brightness is none.
        dots = [self.noisy(4), self.noisy(5), self.noisy(6)]
        for k, x in enumerate(dots):
            x.reshape(-1, 3)[np.random.default_rng(k).integers(0, 96 * 96, 60)] = 1.0
        self.assertTrue(compare_crops(*dots).less_than_grain)
        wrong = before.copy()
        wrong[20:60, 20:60] = 0.9
        self.assertFalse(compare_crops(before, wrong, again).less_than_grain)


class TestLooker(unittest.TestCase):
    def test_a_trim_that_shows_and_one_that_does_not(self) -> None:
        scene = room()
        analysis = weigh_full(scene, aspect=1.0)
        looker = Looker(scene, analysis, RECIPE, 2)
        gone = Choice(
            trim="leave_out",
            target=Target(kind="mesh", index=1, name="ball"),
            parameters={"objects": [BALL]},
        )
        pairs = list(looker.look([gone]))
        self.assertEqual({p.crop.why for p in pairs}, {"direct", "reflection", "shadow"})
        self.assertFalse(all(p.difference.less_than_grain for p in pairs))
        self.assertTrue(all(p.before.shape == p.after.shape == p.apart.shape for p in pairs))
        rough = {p.crop.why: p.difference for p in pairs}
        self.assertGreater(rough["direct"].rms, 3 * rough["direct"].seed_rms)
        again = list(Looker(scene, analysis, RECIPE, 1).look([gone]))
        np.testing.assert_array_equal(pairs[0].before, again[0].before)

    def test_pictures_within_what_the_shot_can_show(self) -> None:
        """Crops are the same with pictures of four times the texels that are needed."""
        scene = room()
        dressed = replace(scene.materials[2], base_texture=TextureUse(0))
        scene = replace(
            scene,
            images=(image_of(smooth(2048), "wood"),),
            textures=(Texture("wood", 0),),
            materials=(*scene.materials[:2], dressed),
        )
        analysis = weigh_full(scene, aspect=1.0)
        small = limited(scene, limits_of(analysis, 160), 1, {})
        self.assertLess(load(small, 1).held["textures"], load(scene, 1).held["textures"] / 2)
        a, b = (pixels_of(x, size=96, samples=16) for x in (scene, small))
        self.assertLess(float(np.sqrt(((a - b) ** 2).mean())), 0.01)


class TestDecimate(unittest.TestCase):
    def ask(self, distance: float, **values: object) -> list:  # type: ignore[type-arg]
        scene = scene_of((lump(48, 3), WHITE), eye=(0, 0, distance), environment=even_sky())
        a = weigh(scene, exact=True)
        return TRIMS["decimate"].propose(lambda: scene, a, Parameters.model_validate(values))

    def test_by_pixels_of_error(self) -> None:
        """The farther, the fewer triangles, and what is told keeps to what was asked."""
        left = []
        for distance in (30.0, 100.0, 400.0):
            (p,) = self.ask(distance, pixels=0.5)
            left.append(p.after)
            self.assertLessEqual(p.facts["most_px"], 0.5)
            self.assertAlmostEqual(p.facts["nearest_m"], distance - 0.5, delta=0.2)
            self.assertIn("measured", TRIMS["decimate"].explain(p))
        self.assertEqual(left, sorted(left, reverse=True))
        self.assertLess(left[-1], left[0] / 4)

    def test_by_ratio(self) -> None:
        (p,) = self.ask(5.0, ratio=0.4)
        self.assertAlmostEqual(p.after / p.before, 0.4, delta=0.05)

    def test_cages_and_what_deforms_is_left_alone_with_a_reason(self) -> None:
        scene = scene_of((lump(48, 3), WHITE), eye=(0, 0, 9), environment=even_sky())
        part = scene.meshes[0].parts[0]
        for mesh, word in (
            (surface_mesh("cube", cage_of(CORNERS, QUADS), [0], 5), "cage"),
            (
                replace(scene.meshes[0], parts=(replace(part, load_at=lambda t: part.load()),)),
                "move",
            ),
        ):
            odd = replace(scene, meshes=(mesh,))
            a = weigh(odd, exact=True)
            (p,) = TRIMS["decimate"].propose(lambda x=odd: x, a, Parameters())
            self.assertIn(word, p.left_alone)
            made, changes = TRIMS["decimate"].apply(
                odd,
                [Choice(trim="decimate", target=p.target, parameters={"triangles": 40})],
                lambda s, t: None,
            )
            self.assertEqual((changes, made.meshes), ([], odd.meshes))
