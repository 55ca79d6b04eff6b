"""The look that runs: coarse first, then as a trial would be; it begins anew only where it must."""

from __future__ import annotations

import unittest
from typing import ClassVar

import numpy as np

from mill_lane.core.errors import MillError
from mill_lane.core.formats.opening import open_scene
from mill_lane.core.image.maps import STOPS, in_stops
from mill_lane.core.image.srgb import view
from mill_lane.core.recipe import Recipe
from mill_lane.core.render.live import (
    Limits,
    LiveLook,
    Wanted,
    choices,
    endless,
    quick_view,
)
from mill_lane.core.render.load import Loaded, load
from mill_lane.core.render.session import Session
from mill_lane.core.render.settings import Preview
from tests.scenes import small_demo

RECIPE = Recipe(width=120, height=68, samples=4, min_samples=2, noise=0.0, bounces=2)
CROP = (0.25, 0.25, 0.75, 0.75)


def wanted(crop: tuple[float, float, float, float] | None = None, **more: object) -> Wanted:
    preview = more.pop("preview", Preview())
    assert isinstance(preview, Preview)
    frame = int(str(more.pop("frame", 1)))
    return Wanted(RECIPE.model_copy(update=more), crop, frame, preview)


class TestLiveLook(unittest.TestCase):
    loaded: ClassVar[Loaded]

    @classmethod
    def setUpClass(cls) -> None:
        cls.loaded = load(open_scene(small_demo()), 1)

    def setUp(self) -> None:
        self.look = LiveLook(self.loaded, 1)

    def until(self, samples: int) -> None:
        while self.look.session is None or self.look.session.index < samples:
            self.look.step(0.05)

    def test_brighter_and_in_false_colour(self) -> None:
        """Light, colours and shares; what has a scale tells it."""
        self.look.want(wanted())
        self.until(2)
        session = self.look.session
        assert session is not None
        planes = session.layers()
        brighter = view(planes["beauty"] * 4.0)
        off = np.abs(self.look.picture("beauty", 0.5, 1.5).astype(int) - brighter)
        self.assertLessEqual(off.max(), 1)
        self.assertIsNone(self.look.scale)
        stops = self.look.picture("stops", 0.5, 1.5)
        off = np.abs(stops.astype(int) - in_stops(planes["beauty"], 2.0))
        self.assertLessEqual(np.percentile(off, 99), 1)
        self.assertEqual(self.look.scale, STOPS)
        albedo = self.look.picture("albedo", exposure=3.0)
        np.testing.assert_array_equal(albedo, view(planes["albedo"]))  # no light falls on it
        np.testing.assert_array_equal(
            self.look.picture("albedo", gain=1.0), view(planes["albedo"], 1)
        )
        self.look.picture("roughness", gain=2.0)
        scale = self.look.scale
        assert scale is not None
        self.assertEqual(scale.high, 0.25)

    def test_coarse_first_and_whole_from_the_first_step_on(self) -> None:
        self.assertFalse(self.look.shown)
        self.look.want(wanted())
        self.look.step(0.5)
        self.assertTrue(self.look.shown)
        self.assertLess(self.look.samples, 0.2)
        picture = self.look.picture()
        self.assertEqual(picture.shape, (34, 60, 3))  # fewer pixels: less to send
        self.assertFalse((picture == 0x76).all(-1).any())  # no grey is left
        seen = [self.look.samples]
        while seen[-1] < 1:
            self.look.step(0.5)
            seen.append(self.look.samples)
        self.assertEqual(seen, sorted(seen))

    def test_the_full_picture_is_a_trial_that_is_not_over(self) -> None:
        for crop in (None, CROP):
            self.look.want(wanted(crop))
            self.until(3)
            live = self.look.session
            assert live is not None
            compared = np.zeros(live.film.samples.shape, bool)
            region = (30, 17, 90, 51) if crop else None
            trial = Session(self.loaded, endless(RECIPE), region=region, profiled=False)
            while trial.index < live.index + 1:
                trial.step(1e-9)  # a tile at a time, however fast the machine is
                # Compared wherever both have as many samples, whole tiles ahead or behind.
                alike = trial.film.samples == live.film.samples
                found = trial.film.light[alike], live.film.light[alike]
                np.testing.assert_array_equal(*found)
                compared |= alike
            self.assertGreater(compared.mean(), 0.2)

    def test_what_begins_anew(self) -> None:
        self.look.want(wanted())
        self.until(1)
        session = self.look.session
        self.assertFalse(self.look.want(wanted()))
        self.assertFalse(self.look.want(wanted(exposure=2.0)))  # how it is shown, not what it is
        self.assertFalse(self.look.want(wanted(samples=64)))
        self.assertIs(self.look.session, session)
        for other in (
            wanted(CROP),
            wanted(bounces=1),
            wanted(light_scales={"sun": 0.0}),
            wanted(preview=Preview(indirect=False)),
            wanted(width=60, height=34),
        ):
            self.assertTrue(self.look.want(other))
            self.assertFalse(self.look.shown)
            self.until(1)

    def test_a_scene_is_placed_once(self) -> None:
        """What changes neither geometry nor lights needs no new world."""
        self.look.want(wanted())
        self.until(1)
        assert self.look.session is not None
        world = self.look.session.world
        self.look.want(wanted(bounces=1, radiance_limit_indirect=2.0))
        self.until(1)
        assert self.look.session is not None
        self.assertIs(self.look.session.world, world)
        self.look.want(wanted(light_scales={"sky": 0.5}))
        self.until(1)
        self.assertIsNot(self.look.session.world, world)

    def test_an_end_of_its_own(self) -> None:
        self.look.limits = Limits(samples=2)
        self.look.want(wanted())
        for _ in range(400):
            self.look.step(0.05)
            if self.look.done:
                break
        self.assertEqual(self.look.done, "samples")
        self.look.limits = Limits(samples=64, clean=0.02)
        self.look.want(wanted(noise=0.5))
        for _ in range(400):
            self.look.step(0.05)
            if self.look.done:
                break
        self.assertEqual(self.look.done, "noise")

    def test_what_cannot_be_looked_at_leaves_it_as_it_is(self) -> None:
        self.look.want(wanted())
        self.until(1)
        before = self.look.session
        self.assertRaises(MillError, self.look.want, wanted(camera="nobody"))
        self.assertIs(self.look.session, before)
        self.assertFalse(self.look.want(wanted()))

    def test_every_layer_while_it_runs(self) -> None:
        self.look.want(wanted(CROP))
        self.look.step(0.5)
        names = list(choices())
        self.assertLessEqual({"albedo", "normal", "indirect_diffuse", "noise", "work"}, set(names))
        for steps in (0, 3):
            if steps:
                self.until(steps)
            drawn = {name: self.look.picture(name) for name in names}
            for name, picture in drawn.items():
                self.assertLessEqual(picture.shape, (34, 60, 3), name)
        self.assertTrue((drawn["albedo"] != drawn["beauty"]).any())
        brighter = self.look.picture("diffuse_light", 2.0)
        self.assertGreater(brighter.mean(), drawn["diffuse_light"].mean())

    def test_the_quick_curve(self) -> None:
        light = np.random.default_rng(1).uniform(-0.1, 1.4, (50, 50, 3)).astype(np.float32)
        for exposure in (0.0, 1.5, -2.0):
            off = quick_view(light, exposure).astype(int) - view(light, exposure).astype(int)
            self.assertLessEqual(np.abs(off).max(), 1)
