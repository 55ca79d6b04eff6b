"""Lenses, motion, splits, limits, adaptive stopping:

against closed forms, and against doing it the plain way.
"""

from __future__ import annotations

import math
import unittest
from dataclasses import replace
from typing import Any

import numpy as np

from mill_lane.core.recipe import Recipe
from mill_lane.core.render.load import load
from mill_lane.core.render.session import Session
from mill_lane.core.render.settings import Preview, lens_radius
from mill_lane.core.scene.model import Channel, Geometry, Material, Node, Scene
from mill_lane.core.scene.surroundings import Environment, Medium
from mill_lane.demo import shapes
from tests.scenes import WHITE, disc, even_sky, floor, mean_luma, render, scene_of

MATT = Material("matt", (0.8, 0.8, 0.8, 1), 0.0, 1.0, ior=1.0)
GREY = Material("grey", (0.6, 0.6, 0.6, 1.0), 0.0, 0.5)
LAMP = Material("lamp", (0, 0, 0, 1), 0.0, 1.0, emissive=(2.0, 2.0, 2.0))
GLOW = Material("glow", (0, 0, 0, 1), 0.0, 1.0, emissive=(1.0, 1.0, 1.0), double_sided=True)


def wall(z: float, size: float = 18.0) -> Geometry:
    """A sheet across the view, facing +Z."""
    h = size / 2
    return shapes.sheet(np.array([-h, -h, z]), np.array([size, 0, 0.0]), np.array([0, size, 0.0]))


def parallel_discs(r1: float, r2: float, h: float) -> float:
    """View factor between coaxial parallel discs (Howell's catalog, C-41)."""
    a, b = r1 / h, r2 / h
    x = 1 + (1 + b * b) / (a * a)
    return 0.5 * (x - math.sqrt(x * x - 4 * (b / a) ** 2))


class TestAreaLights(unittest.TestCase):
    def irradiance(
        self, lamp: Geometry, at: tuple[float, float], bounces: int = 0
    ) -> tuple[float, float]:
        scene = scene_of(
            (floor(12.0), MATT),
            (lamp, LAMP),
            eye=(at[0], 0.4, at[1] + 0.3),
            at=(at[0], 0, at[1]),
            yfov=0.002,
        )
        mean, error = mean_luma(render(scene, samples=1024, size=4, bounces=bounces))
        return mean * math.pi / 0.8, error * math.pi / 0.8

    def test_off_axis_disc(self) -> None:
        """A differential element beside a parallel disc (Howell's catalog, B-14, from memory)."""
        r, h = 0.6, 1.0
        for x in (0.0, 0.7, 1.5):
            a2, r2 = (x / h) ** 2, (r / h) ** 2
            z = 1 + a2 + r2
            factor = 0.5 * (1 - (1 + a2 - r2) / math.sqrt(z * z - 4 * a2 * r2))
            got, error = self.irradiance(disc(r, 128, h, up=False), (x, 0.0))
            self.assertAlmostEqual(got, math.pi * 2.0 * factor, delta=max(4 * error, 0.004))

    def test_rectangle_over_its_corner(self) -> None:
        """A differential element under the corner of a parallel rectangle (Howell's catalog,
        B-4).
        """
        a, b, h = 1.0, 1.5, 1.0
        sheet = shapes.sheet(np.array([0, h, 0.0]), np.array([a, 0, 0.0]), np.array([0, 0, b]))
        x, y = a / h, b / h
        factor = (
            x / math.sqrt(1 + x * x) * math.atan(y / math.sqrt(1 + x * x))
            + y / math.sqrt(1 + y * y) * math.atan(x / math.sqrt(1 + y * y))
        ) / (2 * math.pi)
        down = float(np.cross([a, 0, 0], [0, 0, b])[1]) < 0
        self.assertTrue(down)
        got, error = self.irradiance(sheet, (0.0, 0.0))
        self.assertAlmostEqual(got, math.pi * 2.0 * factor, delta=max(4 * error, 0.006))

    def test_ball(self) -> None:
        """Under a glowing ball: E = pi L (r / d)^2 (Howell's catalog, B-1 turned to a sphere)."""
        r, d = 0.3, 1.2
        ball = shapes.moved(shapes.ball(r, 96), (0, d, 0))
        got, error = self.irradiance(ball, (0.0, 0.0))
        self.assertAlmostEqual(
            got / (math.pi * 2.0 * (r / d) ** 2), 1.0, delta=max(4 * error, 0.02)
        )

    def test_disc_to_disc(self) -> None:
        """The mean irradiance of a disc under a parallel disc is pi L F (reciprocity)."""
        r1, r2, h = 0.5, 0.4, 0.8
        # From far and low, past the lamp's rim, every part of the receiver is seen equally well.
        scene = scene_of(
            (disc(r2, 96, 0.0, up=True), MATT),
            (disc(r1, 96, h, up=False), LAMP),
            eye=(0, 14.0, 40.0),
            yfov=0.03,
        )
        session = render(scene, samples=64, size=96, bounces=0, layers=("components",))
        direct = session.layers()["direct_diffuse"][..., 1]
        inside = direct > 0.5 * np.median(direct[direct > 0])
        got = float(direct[inside].mean()) * math.pi / 0.8
        # The lamp's power per area of the receiver: A1 F12 / A2 = F21.
        want = math.pi * 2.0 * parallel_discs(r2, r1, h)
        self.assertAlmostEqual(got / want, 1.0, delta=0.02)
        self.assertAlmostEqual(parallel_discs(1.0, 1.0, 1.0), (3 - math.sqrt(5)) / 2, places=12)


class TestGlass(unittest.TestCase):
    def test_rough_glass_loses_only_what_scatters_twice(self) -> None:
        for thickness in (0.0, 1.0):
            glass = Material("frost", (1, 1, 1, 1), 0.0, 0.4, transmission=1.0, thickness=thickness)
            scene = scene_of((shapes.ball(1.0, 48), glass), environment=even_sky(), yfov=0.3)
            mean, error = mean_luma(
                render(scene, samples=64, size=16, bounces=64, bounces_transmission=64)
            )
            self.assertLess(mean, 1.0 + 4 * error)
            self.assertGreater(mean, 0.9)

    def test_coat_keeps_the_furnace_closed(self) -> None:
        coated = Material(
            "coated", (1, 1, 1, 1), 0.0, 1.0, ior=1.0, clearcoat=1.0, clearcoat_roughness=0.1
        )
        scene = scene_of((shapes.ball(1.0, 48), coated), environment=even_sky(), yfov=0.3)
        mean, error = mean_luma(render(scene, samples=64, size=16, bounces=32))
        self.assertLess(mean, 1.0 + 4 * error)
        self.assertGreater(mean, 0.95)

    def test_caustics_can_be_left_out(self) -> None:
        """A lamp seen by a matt floor in a mirror: gone without caustics, and the loss is told."""
        mirror = Material("mirror", (1, 1, 1, 1), 1.0, 0.03)
        side = shapes.sheet(np.array([-1.0, 0, 2.0]), np.array([0, 0, -4.0]), np.array([0, 3.0, 0]))
        scene = scene_of(
            (floor(4.0), MATT),
            (side, mirror),
            (shapes.moved(shapes.ball(0.2, 16), (0.5, 1, 0)), LAMP),
            eye=(0, 1.5, 4),
        )
        on, off = (render(scene, samples=64, size=16, bounces=3, caustics=c) for c in (True, False))
        self.assertLess(mean_luma(off)[0], mean_luma(on)[0])
        self.assertGreater(off.light_lost, 0.0)
        self.assertEqual(on.light_lost, 0.0)


class TestCamera(unittest.TestCase):
    def test_circle_of_confusion(self) -> None:
        """A point behind the focus spreads to a disc of diameter A |d - f| / d in the plane of
        focus (thin lens).
        """
        dot = Material("dot", (0, 0, 0, 1), 0.0, 1.0, emissive=(1e4,) * 3)
        small = shapes.moved(shapes.ball(0.03, 24), (0, 0, -5.0))
        scene = scene_of((small, dot), eye=(0, 0, 5), at=(0, 0, 0), yfov=0.2)
        f, d, n = 5.0, 10.0, 0.25
        aperture = 2 * lens_radius(0.2, n)
        self.assertAlmostEqual(aperture, 0.012 / math.tan(0.1) / n)
        session = render(scene, samples=512, size=128, bounces=0, f_stop=n, focus_distance=f)
        lit = session.layers()["beauty"][..., 1] > 0
        across = lit.any(0).sum() / 128 * 2 * f * math.tan(0.1)  # metres in the plane of focus
        blur = aperture * (d - f) / d + 0.06 * f / d
        self.assertAlmostEqual(across / blur, 1.0, delta=0.06)
        sharp = render(scene, samples=64, size=128, bounces=0).layers()["beauty"][..., 1] > 0
        self.assertLess(sharp.sum(), lit.sum() / 20)

    def moving_edge(self, what: str) -> Scene:
        """A glowing half plane, or the camera before it, that moves 1 m a second to the right."""
        half = shapes.sheet(
            np.array([-20.0, -20, 0]), np.array([20.0, 0, 0]), np.array([0, 40.0, 0])
        )
        scene = scene_of((half, GLOW), eye=(0, 0, 5), yfov=0.4, frame_rate=10.0)
        nodes = list(scene.nodes)
        node = nodes[0] if what == "object" else nodes[1]
        start = np.zeros(3) if what == "object" else np.array([0.0, 0, 5])
        step = np.array([1.0, 0, 0]) * (1 if what == "object" else -1)
        channel = Channel(
            "translation", "LINEAR", np.array([0.0, 10.0]), np.array([start, start + 10 * step])
        )
        moved = Node(node.name, mesh=node.mesh, camera=node.camera, channels=(channel,))
        nodes[0 if what == "object" else 1] = moved
        return replace(scene, nodes=tuple(nodes))

    def test_motion_blur_is_speed_times_shutter(self) -> None:
        for what in ("object", "camera"):
            scene = self.moving_edge(what)
            # Pixels a sixth of the blur, so that their own width hardly counts.
            middle: Any = {"size": 256, "bounces": 0, "region": (0, 128, 256, 130)}
            session = render(scene, samples=128, shutter=0.5, **middle)
            row = session.layers()["beauty"][0, :, 1]
            width = 2 * 5 * math.tan(0.2) / 256  # metres a pixel
            # The integral of t (1 - t) over a ramp is a sixth of it.
            ramp = float((row * (1 - row)).sum() * 6 * width)
            self.assertAlmostEqual(ramp / (1.0 * 0.5 / 10), 1.0, delta=0.08)
            still = render(scene, samples=64, **middle).layers()["beauty"][0, :, 1]
            self.assertLess(float((still * (1 - still)).sum() * 6 * width), 0.5 * ramp)
            hidden = Session(
                load(scene, 1),
                Recipe(width=64, height=64, samples=8, min_samples=1, shutter=0.5),
                preview=Preview(motion=False),
            )
            self.assertEqual(len(hidden.world.moves), 0)

    def test_motion_layer(self) -> None:
        """The picture moves by the speed over a frame: 0.1 m, in pixels to the right."""
        for what in ("object", "camera"):
            session = render(
                self.moving_edge(what), samples=4, size=64, bounces=0, layers=("motion",)
            )
            motion = session.layers()["motion"][32, 8]
            self.assertAlmostEqual(
                float(motion[0]) / (0.1 * 64 / (2 * 5 * math.tan(0.2))), 1.0, delta=0.01
            )
            self.assertAlmostEqual(float(motion[1]), 0.0, delta=0.01)

    def test_sky_can_be_kept_out_of_the_picture(self) -> None:
        scene = scene_of((floor(1.0), WHITE), environment=even_sky(), eye=(0, 2, 5))
        shown, hidden = (
            render(scene, samples=8, size=16, bounces=1, environment_visible=v)
            for v in (True, False)
        )
        a, b = shown.layers()["beauty"], hidden.layers()["beauty"]
        self.assertEqual(float(b[0, 0].sum()), 0.0)
        self.assertGreater(float(a[0, 0].sum()), 0.0)
        self.assertGreater(float(b.sum()), 0.0)


def room(**more: Any) -> Scene:
    """A floor, a ball, a lamp, some fog and some sky: every component but transmission."""
    fog = Medium("fog", (-3, 0, -3), (3, 2, 3), scatter=0.1, absorb=0.02, g=0.3)
    return scene_of(
        (floor(8.0), GREY),
        (shapes.moved(shapes.ball(0.6, 24), (0, 0.6, 0)), GREY),
        (disc(0.8, 24, 2.2, up=False), LAMP),
        eye=(0, 1.2, 5),
        at=(0, 0.5, 0),
        media=(fog,),
        environment=Environment((0.1,) * 3, (0.3,) * 3, (0.1,) * 3),
        **more,
    )


class TestSplits(unittest.TestCase):
    def test_the_mean_stays(self) -> None:
        """More rays for any component change the grain, never the mean."""
        scene = room()
        want, e1 = mean_luma(render(scene, samples=512, size=16, bounces=2))
        for splits in (
            {"split_diffuse": 3},
            {"split_specular": 4},
            {"split_lights": 4},
            {"split_volume": 3},
            {"split_diffuse": 2, "split_specular": 2, "split_lights": 3},
        ):
            got, e2 = mean_luma(render(scene, samples=256, size=16, bounces=2, **splits))
            self.assertLess(abs(got - want), 3.5 * math.hypot(e1, e2) + 0.002 * want, splits)

    def test_each_multiplies_its_own_rays(self) -> None:
        scene = scene_of((floor(40.0), GREY), environment=even_sky(), eye=(0, 2, 2), yfov=0.3)
        base = render(scene, samples=8, size=16, bounces=0, split_lights=2).rays_by_kind()
        more = render(
            scene, samples=8, size=16, bounces=0, split_lights=2, split_diffuse=5
        ).rays_by_kind()
        self.assertEqual(more["camera"], base["camera"])
        self.assertAlmostEqual(more["diffuse"] / base["diffuse"], 5.0, delta=0.05)
        self.assertEqual(more["specular"], base["specular"])

    def test_more_light_rays_make_less_direct_grain(self) -> None:
        scene = scene_of(
            (floor(8.0), MATT),
            (disc(0.8, 24, 1.0, up=False), LAMP),
            eye=(0, 1.2, 5),
            at=(0, 0.2, 0),
            yfov=0.3,
        )
        one, eight = (
            render(scene, samples=16, size=24, bounces=0, split_lights=n).noise().rms
            for n in (1, 8)
        )
        self.assertLess(eight, one * 0.6)


class TestNoLeaksAnywhere(unittest.TestCase):
    def test_ray_offsets_at_a_centimetre_and_at_ten_kilometres(self) -> None:
        """Far away, baked into the vertices or placed by a matrix:

        no light leaks in, no surface shades itself.
        """
        for at in (0.01, 10_000.0):
            for size in (0.02, 2.0):
                if at > 1 and size < 1:
                    continue  # vertices of a 2 cm box at 10 km are a millimetre apart in float32
                where = np.eye(4)
                where[:3, 3] = (at, 0, 0)
                ground = shapes.sheet(
                    np.array([-size, 0, size]),
                    np.array([2 * size, 0, 0]),
                    np.array([0, 0, -2 * size]),
                )
                baked = shapes.moved(ground, (at, 0, 0))
                eye, target = np.array([at, 2 * size, 3 * size]), np.array([at, 0, 0.0])
                for thing, matrix in ((ground, where), (baked, np.eye(4))):
                    scene = scene_of(
                        (thing, MATT),
                        eye=tuple(eye),
                        at=tuple(target),
                        yfov=0.2,
                        environment=even_sky(),
                    )
                    nodes = (replace(scene.nodes[0], matrix=matrix), *scene.nodes[1:])
                    mean, error = mean_luma(
                        render(replace(scene, nodes=nodes), samples=64, size=8, bounces=0)
                    )
                    self.assertAlmostEqual(
                        mean, 0.8, delta=max(5 * error, 0.01), msg=f"{at} {size}"
                    )
        closed = shapes.box((2, 2, 2))
        for at in (0.0, 10_000.0):
            where = np.eye(4)
            where[:3, 3] = (at, -1, 0)
            scene = scene_of(
                (closed, MATT),
                eye=(at, 0, 0.5),
                at=(at, 0, 0),
                yfov=1.2,
                environment=even_sky(100.0),
            )
            nodes = (replace(scene.nodes[0], matrix=where), *scene.nodes[1:])
            self.assertEqual(
                mean_luma(render(replace(scene, nodes=nodes), samples=16, size=16, bounces=4))[0],
                0.0,
            )


class TestInstances(unittest.TestCase):
    def test_instanced_equals_copied(self) -> None:
        """The same loaf placed three times, and three loaves baked into one mesh:

        the same picture within its grain.
        """
        loaf = shapes.loaf(0.6, 0.4, 0.3, 24, 2, 1)
        places = [(-0.8, 0, 0), (0, 0, 0.2), (0.8, 0, -0.1)]
        baked = shapes.join(*(shapes.moved(loaf, p) for p in places))
        one = scene_of((loaf, GREY), (floor(4.0), GREY), eye=(0, 1.5, 3), environment=even_sky(0.5))
        nodes = [
            replace(one.nodes[0], name=f"loaf {i}", translation=p) for i, p in enumerate(places)
        ]
        instanced = replace(one, nodes=(*nodes, *one.nodes[1:]))
        copied = scene_of(
            (baked, GREY), (floor(4.0), GREY), eye=(0, 1.5, 3), environment=even_sky(0.5)
        )
        a, b = (
            render(s, samples=8, size=32, bounces=2, layers=("depth", "normal"))
            for s in (instanced, copied)
        )
        np.testing.assert_allclose(a.layers()["depth"], b.layers()["depth"], atol=2e-3)
        differing = np.abs(a.layers()["beauty"] - b.layers()["beauty"]).max(2) > 1e-3
        self.assertLess(differing.mean(), 0.03)
