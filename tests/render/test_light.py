"""Light transport against closed forms."""

from __future__ import annotations

import math
import unittest

import numpy as np

from mill_lane.core.scene.model import Light, Material
from mill_lane.core.scene.surroundings import Medium
from mill_lane.demo import shapes
from tests.kernels import evaluate, material_path, microfacet
from tests.scenes import WHITE, disc, even_sky, floor, looking, mean_luma, render, scene_of


def downwards(x: float = 0.0, y: float = 1.0, z: float = 0.0) -> np.ndarray:
    return looking((x, y, z), (x, y - 1, z), up=(0, 0, 1))


class TestFurnace(unittest.TestCase):
    """A closed uniform sky of radiance 1 over a surface of albedo 1 (white furnace)."""

    def furnace(self, material: Material, bounces: int = 64, samples: int = 32) -> float:
        scene = scene_of((shapes.ball(1.0, 64), material), environment=even_sky(), yfov=0.3)
        return mean_luma(render(scene, samples=samples, size=16, bounces=bounces))[0]

    def test_diffuse_white_vanishes(self) -> None:
        # The dielectric's mirror part is GGX of roughness 1, which loses what it scatters twice; at
        # an index of 1 there is none, and what is left is Lambert's law.
        matt = Material("matt", (1, 1, 1, 1), 0.0, 1.0, ior=1.0)
        self.assertAlmostEqual(self.furnace(matt), 1.0, delta=0.004)

    def test_smooth_metal_vanishes(self) -> None:
        self.assertAlmostEqual(
            self.furnace(Material("mirror", (1, 1, 1, 1), 1.0, 0.05)), 1.0, delta=0.004
        )

    def test_clear_glass_vanishes(self) -> None:
        glass = Material("glass", (1, 1, 1, 1), 0.0, 0.0, transmission=1.0, thickness=1.0)
        self.assertAlmostEqual(self.furnace(glass), 1.0, delta=0.004)
        pane = Material("pane", (1, 1, 1, 1), 0.0, 0.0, transmission=1.0)
        self.assertAlmostEqual(self.furnace(pane), 1.0, delta=0.004)

    def test_rough_metal_loses_what_single_scattering_loses(self) -> None:
        """The integral of the same BRDF over the hemisphere, by quadrature, at the angles that the
        ball shows.
        """
        alpha = 0.8**2
        albedo = {c: directional_albedo(1.0, alpha, 1.5, c) for c in np.linspace(0.05, 1.0, 20)}
        scene = scene_of(
            (floor(4.0), Material("rough", (1, 1, 1, 1), 1.0, 0.8)),
            environment=even_sky(),
            yfov=0.05,
            eye=(0, 2, 2),
        )
        got = mean_luma(render(scene, samples=256, size=8, bounces=4))[0]
        want = float(np.interp(math.sqrt(0.5), list(albedo), list(albedo.values())))
        self.assertAlmostEqual(got, want, delta=0.01)
        self.assertLess(want, 1.0)

    def test_rough_dielectric_loses_no_more(self) -> None:
        got = self.furnace(Material("plastic", (1, 1, 1, 1), 0.0, 0.6), bounces=8, samples=64)
        self.assertLess(got, 1.005)
        self.assertGreater(got, 0.90)

    def test_sealed_box(self) -> None:
        """Diffuse walls of albedo a and emission e see radiance e / (1 - a) everywhere (a geometric
        series).
        """
        a, e = 0.5, 0.3
        walls = Material(
            "wall", (a, a, a, 1), 0.0, 1.0, ior=1.0, emissive=(e, e, e), double_sided=True
        )
        scene = scene_of(
            (shapes.moved(shapes.box((4, 4, 4)), (0, -2, 0)), walls), eye=(0, 0, 1), yfov=1.0
        )
        mean, error = mean_luma(render(scene, samples=64, size=12, bounces=24))
        self.assertAlmostEqual(mean, e / (1 - a), delta=max(4 * error, 0.003))


def directional_albedo(base: float, alpha: float, eta: float, cosine: float, n: int = 400) -> float:
    """The BSDF integrated over all outgoing directions, by the midpoint rule."""
    v = (math.sqrt(1 - cosine * cosine), 0.0, cosine)
    z = (np.arange(n) + 0.5) / n
    phi = (np.arange(n) + 0.5) / n * 2 * math.pi
    total = 0.0
    q = material_path((base, base, base), 1.0, alpha, eta)
    for zz in z:
        s = math.sqrt(1 - zz * zz)
        for p in phi[::8]:
            total += evaluate(q, v, (s * math.cos(p), s * math.sin(p), zz))[1, 0]
    return total / (n * len(phi[::8])) * 2 * math.pi


class TestLamps(unittest.TestCase):
    matt = Material("matt", (0.8, 0.8, 0.8, 1), 0.0, 1.0, ior=1.0)

    def radiance(
        self, light: Light, matrix: np.ndarray, at: tuple[float, float] = (0.0, 0.0)
    ) -> float:
        scene = scene_of(
            (floor(40.0), self.matt),
            eye=(at[0], 6.0, at[1] + 0.001),
            at=(at[0], 0, at[1]),
            up=(0, 0, -1),
            yfov=0.001,
            lights=((light, matrix),),
        )
        return mean_luma(render(scene, samples=4, size=4, bounces=0))[0]

    def test_inverse_square(self) -> None:
        """E = I / d^2, and Lambert's L = albedo E / pi."""
        for d in (0.5, 1.0, 2.0, 7.0):
            got = self.radiance(Light("p", "point", (1, 1, 1), 3.0), downwards(0, d, 0))
            self.assertAlmostEqual(got / (0.8 / math.pi * 3.0 / d**2), 1.0, delta=2e-3)

    def test_cosine(self) -> None:
        """E = I cos^3(theta) / h^2 off to the side of a point at height h."""
        for x in (0.5, 1.0, 3.0):
            got = self.radiance(Light("p", "point", (1, 1, 1), 3.0), downwards(0, 2.0, 0), (x, 0.0))
            cosine = 2.0 / math.hypot(2.0, x)
            self.assertAlmostEqual(got / (0.8 / math.pi * 3.0 * cosine**3 / 4.0), 1.0, delta=2e-3)

    def test_directional(self) -> None:
        """A directional light of E lux under an angle: E cos(theta)."""
        matrix = looking((1, 1, 0), (0, 0, 0))
        got = self.radiance(Light("s", "directional", (1, 1, 1), 2.0), matrix)
        self.assertAlmostEqual(got, 0.8 / math.pi * 2.0 * math.sqrt(0.5), delta=1e-3)

    def test_spot_cone(self) -> None:
        """KHR_lights_punctual: full within the inner cone, nothing beyond the outer."""
        spot = Light(
            "s", "spot", (1, 1, 1), 3.0, inner_cone=math.radians(20), outer_cone=math.radians(30)
        )
        middle = self.radiance(spot, downwards(0, 2, 0))
        self.assertAlmostEqual(middle / (0.8 / math.pi * 3.0 / 4), 1.0, delta=2e-3)
        self.assertEqual(
            self.radiance(spot, downwards(0, 2, 0), (2 * math.tan(math.radians(31)), 0)), 0.0
        )
        between = self.radiance(spot, downwards(0, 2, 0), (2 * math.tan(math.radians(25)), 0))
        self.assertTrue(0 < between < middle)

    def test_range(self) -> None:
        self.assertEqual(
            self.radiance(Light("p", "point", (1, 1, 1), 3.0, range=1.5), downwards(0, 2, 0)), 0.0
        )

    def test_disc(self) -> None:
        """Under the middle of a uniform disc:

        E = pi L r^2 / (r^2 + h^2) (Howell's catalog, B-13, differential element).
        """
        r, h, radiance = 0.5, 1.0, 2.0
        lamp = Material("lamp", (0, 0, 0, 1), 0.0, 1.0, emissive=(radiance,) * 3)
        scene = scene_of(
            (floor(4.0), self.matt),
            (disc(r, 64, h, up=False), lamp),
            eye=(0.9, 0.9, 0),
            at=(0, 0, 0),
            yfov=0.002,
        )
        mean, error = mean_luma(render(scene, samples=512, size=4, bounces=1))
        want = 0.8 / math.pi * math.pi * radiance * r * r / (r * r + h * h)
        self.assertAlmostEqual(mean, want, delta=max(4 * error, 0.003))
        self.assertLess(error, 0.02 * want)

    def test_a_lamp_shines_from_its_front_only(self) -> None:
        lamp = Material("lamp", (0, 0, 0, 1), 0.0, 1.0, emissive=(2, 2, 2))
        scene = scene_of(
            (floor(4.0), self.matt),
            (disc(0.5, 16, 1.0, up=True), lamp),
            eye=(0.9, 0.9, 0),
            yfov=0.002,
        )
        self.assertEqual(mean_luma(render(scene, samples=8, size=4, bounces=2))[0], 0.0)

    def test_two_ways_of_sampling_agree(self) -> None:
        """Aiming at a lamp and finding it by chance, weighed together, give what either gives alone
        (Veach and Guibas 1995).

        A mirror-like floor finds the lamp by its own direction, a matt one by aiming: both against
        one closed form.
        """
        lamp = Material("lamp", (0, 0, 0, 1), 0.0, 1.0, emissive=(2.0,) * 3)
        mirror = Material("mirror", (1, 1, 1, 1), 1.0, 0.03)
        scene = scene_of(
            (floor(4.0), mirror),
            (disc(0.6, 64, 1.0, up=False), lamp),
            eye=(0.5, 1.0, 0),
            at=(0.25, 0, 0),
            yfov=0.01,
        )
        # The mirrored direction meets the middle of the lamp, so the floor shows its radiance.
        scene_mean, error = mean_luma(render(scene, samples=128, size=4, bounces=1))
        self.assertAlmostEqual(scene_mean, 2.0, delta=max(4 * error, 0.02))


class TestFogAndGlass(unittest.TestCase):
    def test_beer_lambert_through_fog(self) -> None:
        """A glowing wall behind absorbing fog: L exp(-sigma d)."""
        wall = Material("wall", (0, 0, 0, 1), 0.0, 1.0, emissive=(1, 1, 1))
        sheet = shapes.sheet(
            np.array([-9, -9, 0.0]), np.array([18.0, 0, 0]), np.array([0, 18.0, 0])
        )
        for absorb in (0.2, 0.8):
            fog = Medium("fog", (-9, -9, 1), (9, 9, 3), scatter=0.0, absorb=absorb)
            scene = scene_of((sheet, wall), eye=(0, 0, 5), yfov=0.02, media=(fog,))
            mean, error = mean_luma(render(scene, samples=2048, size=4, bounces=0))
            self.assertAlmostEqual(mean, math.exp(-2 * absorb), delta=max(4 * error, 1e-3))

    def test_fog_that_only_scatters_loses_nothing(self) -> None:
        """In an even sky of radiance 1, fog of albedo 1 is invisible once enough bounces are
        followed.
        """
        fog = Medium("fog", (-1, -1, -1), (1, 1, 1), scatter=1.0, g=0.4)
        far = shapes.moved(shapes.box((0.1, 0.1, 0.1)), (0, -50, 0))
        scene = scene_of((far, WHITE), environment=even_sky(), yfov=0.2, media=(fog,))
        mean, error = mean_luma(render(scene, samples=256, size=8, bounces=64))
        self.assertAlmostEqual(mean, 1.0, delta=max(4 * error, 0.003))

    def test_attenuation_in_glass(self) -> None:
        """KHR_materials_volume:

        after the attenuation distance the attenuation colour is left; the faces reflect 0.04 each.
        """
        glass = Material(
            "g",
            (1, 1, 1, 1),
            0.0,
            0.0,
            transmission=1.0,
            thickness=1.0,
            ior=1.5,
            attenuation_color=(0.5, 0.5, 0.5),
            attenuation_distance=1.0,
        )
        wall = Material("wall", (0, 0, 0, 1), 0.0, 1.0, emissive=(1, 1, 1))
        sheet = shapes.sheet(
            np.array([-9, -9, -3.0]), np.array([18.0, 0, 0]), np.array([0, 18.0, 0])
        )
        slab = shapes.moved(shapes.box((8, 8, 2)), (0, -4, 0))
        scene = scene_of((slab, glass), (sheet, wall), yfov=0.01)
        mean, error = mean_luma(render(scene, samples=1024, size=4, bounces=0))
        want = (
            0.96 * 0.96 * 0.5**2
        )  # light reflected to and fro inside is cut off by the limit of no bounces
        self.assertAlmostEqual(mean, want, delta=max(4 * error, 2e-3))

    def test_slab_shifts_the_ray(self) -> None:
        """Lateral shift of a plane-parallel slab:

        t sin(i - r) / cos(r) (Hecht, Optics, section 4.4).
        """
        i, n, t = math.radians(50), 1.5, 1.0
        r = math.asin(math.sin(i) / n)
        d = microfacet.refract(math.sin(i), -math.cos(i), 0.0, 0.0, 1.0, 0.0, n)
        self.assertAlmostEqual(d[0], math.sin(r), places=12)
        inside = np.array(d) * (t / -d[1])
        straight = np.array([math.sin(i), -math.cos(i), 0.0])
        shift = np.linalg.norm(inside - straight * (inside @ straight))
        self.assertAlmostEqual(shift, t * math.sin(i - r) / math.cos(r), places=12)
        out = microfacet.refract(*d, 0.0, 1.0, 0.0, 1 / n)
        np.testing.assert_allclose(out, straight, atol=1e-12)

    def test_layers_limit(self) -> None:
        """Five thin panes need five pass-through layers; with four the light does not arrive."""
        pane = Material(
            "pane", (1, 1, 1, 1), 0.0, 0.0, transmission=1.0, ior=1.0, double_sided=True
        )
        wall = Material("wall", (0, 0, 0, 1), 0.0, 1.0, emissive=(1, 1, 1))

        def sheet(z: float) -> object:
            return shapes.sheet(
                np.array([-9, -9, z]), np.array([18.0, 0, 0]), np.array([0, 18.0, 0])
            )

        panes = [(sheet(1 + 0.2 * k), pane) for k in range(5)]
        scene = scene_of(*panes, (sheet(0.0), wall), yfov=0.1)  # type: ignore[arg-type]
        for limit, want in ((5, 1.0), (4, 0.0)):
            got = mean_luma(render(scene, samples=4, size=4, bounces=0, transparent_layers=limit))[
                0
            ]
            self.assertAlmostEqual(got, want, places=6)


class TestFresnel(unittest.TestCase):
    def test_known_angles(self) -> None:
        self.assertAlmostEqual(microfacet.fresnel(1.0, 1.5), 0.04, places=12)
        # At Brewster's angle only the light across the plane is reflected: half of sin^2(i - r).
        brewster = math.atan(1.5)
        self.assertAlmostEqual(math.degrees(brewster), 56.31, places=2)
        r = math.asin(math.sin(brewster) / 1.5)
        self.assertAlmostEqual(
            microfacet.fresnel(math.cos(brewster), 1.5),
            0.5 * math.sin(brewster - r) ** 2,
            places=12,
        )
        # From the dense side: total beyond 41.81 degrees.
        self.assertEqual(microfacet.fresnel(math.cos(math.radians(41.82)), 1 / 1.5), 1.0)
        self.assertLess(microfacet.fresnel(math.cos(math.radians(41.80)), 1 / 1.5), 1.0)

    def test_grazing(self) -> None:
        self.assertAlmostEqual(microfacet.fresnel(0.0, 1.5), 1.0, places=12)
