"""The registry of layers: what an entry decides, sums of squares, and a layer from outside."""

from __future__ import annotations

import tempfile
import unittest
from collections.abc import Iterator, Sequence
from dataclasses import replace
from pathlib import Path

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from hypothesis.extra import numpy as hnp

from mill_lane.core.devices.cpu import cpu_device, find_machine
from mill_lane.core.errors import MillError
from mill_lane.core.formats.exr import read_exr, write_exr
from mill_lane.core.image.maps import Show, layer_picture, ramp
from mill_lane.core.recipe import FINAL, Recipe
from mill_lane.core.render.film import new_film
from mill_lane.core.render.layers import (
    LAYERS,
    Layer,
    Picture,
    Sums,
    exr_names,
    pictures,
    show_of,
    variance_of_mean,
)
from mill_lane.core.render.load import load
from mill_lane.core.render.session import Session
from mill_lane.core.render.sizes import film_bytes
from mill_lane.core.scene.model import Geometry, Material
from mill_lane.core.weigh.ledger import draw_up
from mill_lane.core.weigh.measure import weigh
from tests.scenes import WHITE, even_sky, floor, picture, scene_of


def luminance(film: Sums, _: Sequence[str]) -> Iterator[tuple[str, np.ndarray]]:
    yield "luminance", film.luma[..., 0] / np.maximum(film.samples, 1)


TOY = Layer(
    "luminance",
    (Picture("luminance", "luminance", ("Y",), Show("map", "cd/m2")),),
    luminance,
)


class TestRegistry(unittest.TestCase):
    def setUp(self) -> None:
        self.scene = scene_of((floor(4.0), WHITE), environment=even_sky(), eye=(0, 2, 5))

    def session(self, **recipe: object) -> Session:
        values = {"width": 24, "height": 16, "samples": 4, "min_samples": 1} | recipe
        return Session(load(self.scene, 1), Recipe.model_validate(values))

    def inputs(self, *things: tuple[Geometry, Material]) -> dict[str, float]:
        """Means of a material's own inputs over the picture."""
        session = Session(
            load(scene_of(*things, eye=(0, 3, 0.001), environment=even_sky()), 1),
            Recipe(width=8, height=8, samples=256, min_samples=256, layers=("material",)),
        )
        while not session.done:
            session.step(1.0)
        planes = session.layers()
        return {p.name: float(planes[p.name].mean()) for p in LAYERS["material"].pictures}

    def test_what_a_material_is_told(self) -> None:
        """As it stands in the file, whatever light falls on it; a pane hides what it says, and what
        is seen through it tells of itself.
        """
        below = replace(WHITE, roughness=0.3, metallic=0.75)
        told = self.inputs((floor(9.0), below))
        for name, value in {"roughness": 0.3, "metallic": 0.75, "opacity": 1.0}.items():
            self.assertAlmostEqual(told[name], value, places=5, msg=name)
        pane = replace(
            WHITE, roughness=0.9, metallic=0.0, alpha_mode="BLEND", base_color=(1, 1, 1, 0.25)
        )
        told = self.inputs((floor(9.0), below), (floor(9.0, 1.0), pane))
        self.assertAlmostEqual(told["opacity"], 0.25, places=5)
        self.assertAlmostEqual(told["roughness"], 0.25 * 0.9 + 0.75 * 0.3, delta=0.01)
        gone = replace(pane, alpha_mode="MASK", alpha_cutoff=0.5)
        told = self.inputs((floor(9.0), below), (floor(9.0, 1.0), gone))
        self.assertAlmostEqual(told["opacity"], 0.0)
        self.assertAlmostEqual(told["metallic"], 0.75, places=5)
        bare = replace(WHITE, unlit=True, roughness=0.2, metallic=1.0)
        told = self.inputs((floor(9.0), bare))
        self.assertEqual((told["roughness"], told["metallic"]), (1.0, 0.0))

    def test_shares_are_shown_from_nothing_to_all(self) -> None:
        """Not by what the picture has; a gain makes the scale shorter and says so."""
        show = show_of("roughness")
        assert show is not None
        grey = np.full((2, 2), 0.25, np.float32)
        drawn, scale = layer_picture(grey, show)
        np.testing.assert_array_equal(drawn, ramp(grey))
        assert scale is not None
        self.assertEqual((scale.low, scale.high), (0.0, 1.0))
        drawn, scale = layer_picture(grey, show, gain=1.0)
        np.testing.assert_array_equal(drawn, ramp(2 * grey))
        assert scale is not None
        self.assertEqual(scale.high, 0.5)
        depth = show_of("depth")
        assert depth is not None
        self.assertFalse(depth.takes_gain)

    def test_a_layer_from_outside(self) -> None:
        """One entry: it is rendered, counted in the ledger, written to EXR, read, shown."""
        before = weigh(self.scene)
        cpu = cpu_device(find_machine())
        LAYERS.add(TOY)
        self.addCleanup(LAYERS.remove, TOY.name)
        session = self.session(layers=("luminance",))
        while not session.done:
            session.step(1)
        planes = session.layers()
        self.assertEqual(set(planes), {"beauty", "luminance"})
        light = planes["beauty"] @ np.array([0.2126, 0.7152, 0.0722], np.float32)
        np.testing.assert_allclose(planes["luminance"], light, rtol=1e-4)
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "out.exr"
            write_exr(path, session.each_layer(), names=exr_names())
            back = read_exr(path, exr_names())
        np.testing.assert_array_equal(back["luminance"], planes["luminance"])
        show = show_of("luminance")
        assert show is not None
        _, scale = layer_picture(planes["luminance"], show)
        assert scale is not None
        self.assertEqual(scale.unit, "cd/m2")
        with_it = FINAL.model_copy(update={"layers": ("luminance",)})
        without = FINAL.model_copy(update={"layers": ()})
        more = draw_up(before, with_it, cpu).total - draw_up(before, without, cpu).total
        self.assertEqual(more, 4 * FINAL.width * FINAL.height)  # while it is written

    def test_what_is_not_there_is_refused(self) -> None:
        with self.assertRaises(MillError) as caught:
            new_film(4, 4, ("luminance",))
        self.assertIn("luminance", caught.exception.message)
        with self.assertRaises(ValueError):
            Recipe(layers=("no such thing",))

    def test_titles_and_channels_are_told_apart(self) -> None:
        known = pictures()
        self.assertEqual(next(iter(known)), "beauty")
        for what in (
            [p.title for p in known.values()],
            [c for p in known.values() for c in p.channels],
        ):
            self.assertEqual(len(what), len(set(what)))

    def test_bytes_are_those_of_the_film(self) -> None:
        for layers in (
            (),
            ("albedo",),
            ("variance",),
            ("variance", "albedo", "depth"),
            LAYERS.names,
        ):
            film = new_film(31, 17, layers, 3)
            held = sum(p.nbytes for p in film.planes().values())
            self.assertEqual(held, sum(film_bytes(31, 17, layers, 3).values()), layers)


class TestVariance(unittest.TestCase):
    def test_squares_are_those_of_the_samples(self) -> None:
        """Sample by sample: what each added to the sums, squared and added up, is what is kept."""
        wall = WHITE
        scene = scene_of(
            (floor(4.0), wall), environment=even_sky(0.7), eye=(0, 2, 5), images=(picture(),)
        )
        recipe = Recipe(width=20, height=12, samples=6, min_samples=6, layers=("variance",))
        session = Session(load(scene, 1), recipe, profiled=False)
        pairs = {"albedo": "albedo_squares", "normal": "normal_squares", "depth": "depth_squares"}
        before = {name: np.zeros_like(session.film[name], np.float64) for name in pairs}
        squares = {name: before[name].copy() for name in pairs}
        light, light_squares = np.zeros_like(session.film.light, np.float64), 0.0
        drawn = 0
        while not session.done:
            session.step(1e-9)
            self.assertLessEqual(session.film.samples.max() - drawn, 1)
            drawn = int(session.film.samples.max())
            for name in pairs:
                squares[name] += (session.film[name] - before[name]) ** 2
                before[name] = session.film[name].astype(np.float64)
            light_squares = light_squares + (session.film.light - light) ** 2
            light = session.film.light.astype(np.float64)
        for name, plane in pairs.items():
            np.testing.assert_allclose(session.film[plane], squares[name], rtol=1e-3, atol=1e-4)
        np.testing.assert_allclose(
            session.film["light_squares"], light_squares, rtol=1e-3, atol=1e-4
        )
        planes = session.layers()
        self.assertEqual(
            {n for n in planes if "variance" in n},
            {"variance", "albedo_variance", "normal_variance", "depth_variance"},
        )

    @settings(max_examples=40, deadline=None)
    @given(hnp.arrays(np.float32, (5, 4, 3), elements=st.floats(0, 8, width=16)))
    def test_variance_of_a_mean(self, samples: np.ndarray) -> None:
        """Against numpy: the sample variance (n - 1) over n."""
        n = len(samples)
        count = np.full(samples.shape[1:], n, np.uint32)
        got = variance_of_mean(samples.sum(0), (samples**2).sum(0), count)
        want = samples.astype(np.float64).var(0, ddof=1) / n
        np.testing.assert_allclose(got, want, rtol=1e-3, atol=1e-4)

    def test_one_sample_tells_nothing(self) -> None:
        one = np.ones((2, 2), np.float32)
        np.testing.assert_array_equal(variance_of_mean(one, one, np.ones((2, 2), np.uint32)), 0)
