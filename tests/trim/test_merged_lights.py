"""Many weak lights as one sky: the same mean irradiance, against the sum of closed forms."""

from __future__ import annotations

import math
import unittest
from dataclasses import replace

import numpy as np

from mill_lane.core.errors import MillError
from mill_lane.core.scene.model import Light, Scene
from mill_lane.core.scene.surroundings import Environment
from mill_lane.core.trim import TRIMS, apply_choices, foresee
from mill_lane.core.trim.irradiance import matching_sky
from mill_lane.core.weigh.full import weigh_full
from mill_lane.demo import shapes
from tests.scenes import WHITE, ceiling, floor, looking, render, scene_of
from tests.trim.case import applied, proposed

HEIGHT, POWER = 3.0, 2.0
PLACES = [(x, z) for x in (-2.0, 0.0, 2.0) for z in (-2.0, 0.0, 2.0)]


def lamps(count: int = 9, color: tuple[float, float, float] = (1.0, 0.8, 0.5)) -> list:
    small = Light("small", "point", color, POWER)
    return [
        (replace(small, name=f"small {i}"), looking((x, HEIGHT, z), (x, 0, z), (0, 0, 1)))
        for i, (x, z) in enumerate(PLACES[:count])
    ]


def hall(count: int = 9, sky: Environment | None = None, big: float = 400.0) -> Scene:
    """A white floor under many small lamps and one that gives most of the light."""
    strong = (Light("big", "point", intensity=big), looking((0, 4, 0), (0, 0, 0), (0, 0, 1)))
    things = ((floor(200.0), replace(WHITE, specular=0.0)),)
    return scene_of(
        *things,
        eye=(0, 8, 0),
        up=(0, 0, 1),
        yfov=0.5,
        lights=(*lamps(count), strong),
        environment=sky,
    )


def closed_form(count: int = 9) -> float:
    """The mean of the sum of I cos / d² over what the camera sees: a square of its field of view
    (inverse square and cosine law, Lambert 1760).
    """
    half = 8 * math.tan(0.25)
    across = half * 64 / 36
    x, z = np.meshgrid(np.linspace(-across, across, 401), np.linspace(-half, half, 401))
    total = sum(
        POWER * HEIGHT / ((x - a) ** 2 + (z - b) ** 2 + HEIGHT**2) ** 1.5 for a, b in PLACES[:count]
    )
    return float(np.mean(total))


class TestSky(unittest.TestCase):
    def test_irradiance_is_the_sum_of_closed_forms(self) -> None:
        scene = hall()
        nodes = [i for i, n in enumerate(scene.nodes) if n.name.startswith("small")]
        sky = matching_sky(scene, None, nodes, [])
        assert sky is not None
        luma = 0.2126 * 1.0 + 0.7152 * 0.8 + 0.0722 * 0.5
        expected = closed_form() * luma
        self.assertAlmostEqual(sky.irradiance, expected, delta=0.01 * expected)
        tint = np.add(sky.zenith, sky.horizon)
        np.testing.assert_allclose(tint / tint[0], [1.0, 0.8, 0.5], rtol=0.01)

    def test_the_picture_keeps_its_mean(self) -> None:
        """Rendered before and after, on an open floor: the same light, with two lights for ten."""
        scene = hall()
        found = proposed(scene, "merged_lights", weigh_full(scene, aspect=16 / 9))
        lean, changes = applied(scene, found)
        self.assertEqual(len(lean.placed_lights), 1)
        self.assertEqual(TRIMS["merged_lights"].describe(changes[0]), "9 lights → 1 sky")
        means = []
        for x in (scene, lean):
            film = render(x, samples=128, size=36, width=64, bounces=0).film
            means.append((film.light / film.samples[..., None]).mean((0, 1)))
        np.testing.assert_allclose(means[0], means[1], rtol=0.01)

    def test_under_a_roof_the_sky_makes_up_for_what_is_hidden(self) -> None:
        """A table under a roof gets the same mean, though most of the sky is hidden from it."""
        roof = replace(WHITE, double_sided=True)
        things = ((floor(4.0), WHITE), (ceiling(6.0, 2.0), roof))
        lights = tuple(
            (replace(x, intensity=1.0), looking((a, 1.5, b), (a, 0, b), (0, 0, 1)))
            for (x, _), (a, b) in zip(lamps(), [(x / 2, z / 2) for x, z in PLACES], strict=True)
        )
        scene = scene_of(*things, eye=(0, 1.0, 0.0), up=(0, 0, 1), yfov=1.0, lights=lights)
        nodes = [i for i, n in enumerate(scene.nodes) if n.light >= 0]
        sky = matching_sky(scene, None, nodes, [])
        assert sky is not None
        bare = replace(scene, nodes=(scene.nodes[0], *scene.nodes[2:]))
        free = matching_sky(bare, None, [i - 1 for i in nodes], [])
        assert free is not None
        self.assertAlmostEqual(sky.irradiance, free.irradiance, delta=0.01 * free.irradiance)
        most = [max(*x.horizon, *x.zenith) for x in (sky, free)]
        self.assertGreater(most[0], 3 * most[1])


class TestProposal(unittest.TestCase):
    def test_lamps_under_a_roof_with_a_skylight_stay(self) -> None:
        """The sky would come through one hole alone: the same mean, but in another place."""
        lights = tuple(
            (x, looking((a, 1.9, b), (a, 0, b), (0, 0, 1)))
            for (x, _), (a, b) in zip(lamps(), PLACES, strict=True)
        )
        tile = ceiling(1.0, 2.0)
        roof = [
            replace(tile, positions=tile.positions + np.float32([x, 0, z]))
            for x in np.arange(-4.5, 5)
            for z in np.arange(-4.5, 5)
            if (x, z) != (2.5, 0.5)
        ]
        side, up = np.array([0, 0, 10.0]), np.array([0, 2.0, 0])
        walls = [
            shapes.sheet(np.array([-5.0, 0, -5.0]) + k * 10.0 * along, other, up)
            for along, other in ((np.array([1.0, 0, 0]), side), (np.array([0, 0, 1.0]), side[::-1]))
            for k in (0, 1)
        ]
        both = [(g, replace(WHITE, double_sided=True)) for g in (*roof, *walls)]
        big = Light("big", "point", intensity=900.0)
        strong = (big, looking((0, 1.8, 0), (0, 0, 0), (0, 0, 1)))
        scene = scene_of(
            (floor(10.0), WHITE), *both, eye=(0, 1.7, 4.5), at=(0, 0, 0), lights=(*lights, strong)
        )
        (p,) = proposed(scene, "merged_lights", weigh_full(scene))
        self.assertIn("from place to place", p.left_alone)

    def test_few_or_strong_ones_stay_lamps(self) -> None:
        for scene in (hall(3), hall(9, big=0.001)):
            self.assertEqual(proposed(scene, "merged_lights", weigh_full(scene)), [])

    def test_emissive_surfaces_go_by_material(self) -> None:
        glow = [
            replace(WHITE, name=f"glow {i}", base_color=(0, 0, 0, 1), emissive=(0.05, 0.05, 0.05))
            for i in range(4)
        ]
        tube = ceiling(0.5, 3.0)
        tubes = [
            (replace(tube, positions=tube.positions + np.float32([x, 0, z])), m)
            for m, (x, z) in zip(glow, PLACES[:4], strict=True)
        ]
        base = hall(0)
        made = scene_of(
            (floor(20.0), WHITE),
            *tubes,
            eye=(0, 2, 0),
            up=(0, 0, 1),
            lights=((base.lights[0], looking((0, 4, 0), (0, 0, 0), (0, 0, 1))),),
        )
        (p,) = proposed(made, "merged_lights", weigh_full(made))
        self.assertEqual(p.parameters["materials"], [1, 2, 3, 4])
        lean, _ = applied(made, [p])
        self.assertEqual({m.emissive for m in lean.materials}, {(0.0, 0.0, 0.0)})

    def test_skies_that_cannot_be_added_to(self) -> None:
        sunny = hall(sky=Environment(sun_elevation=30.0))
        (p,) = proposed(sunny, "merged_lights", weigh_full(sunny))
        self.assertIn("clear sky", p.left_alone)
        with self.assertRaisesRegex(MillError, "clear sky"):
            apply_choices(sunny, [p.choice])

    def test_a_gradient_is_added_to_and_foreseen(self) -> None:
        dusk = Environment((0.01,) * 3, (0.02,) * 3, (0.0,) * 3)
        scene = hall(sky=dusk)
        a = weigh_full(scene)
        found = proposed(scene, "merged_lights", a)
        lean, _ = applied(scene, found)
        assert lean.environment is not None
        given = found[0].parameters
        np.testing.assert_allclose(lean.environment.horizon, np.add(given["horizon"], 0.02))
        ahead = foresee(a, [p.choice for p in found])
        self.assertEqual([x.name for x in ahead.lights], ["big"])
        self.assertIn("same mean irradiance", TRIMS["merged_lights"].explain(found[0]))
