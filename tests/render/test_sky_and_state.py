"""Pictures of the sky from files, and saved sessions:

what is right is used whole, what is not is refused whole.
"""

from __future__ import annotations

import tempfile
import unittest
from pathlib import Path

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from pydantic import ValidationError

from mill_lane.core.devices.model import Device
from mill_lane.core.errors import MillError
from mill_lane.core.formats.pictures import write_pixels
from mill_lane.core.formats.sky_pictures import read_sky
from mill_lane.core.recipe import MOST_SAMPLES, Recipe
from mill_lane.core.render.load import load
from mill_lane.core.render.session import Session
from mill_lane.core.render.sizes import sky_bytes
from mill_lane.core.render.sky import picture_table
from mill_lane.core.render.state import read_state, state_about
from mill_lane.core.weigh.ledger import draw_up
from mill_lane.core.weigh.measure import weigh
from tests.scenes import WHITE, floor, mean_luma, scene_of, write_sky

SKY = "0/64x32/test.hdr"


class Folder(unittest.TestCase):
    def setUp(self) -> None:
        keep = tempfile.TemporaryDirectory()
        self.addCleanup(keep.cleanup)
        self.folder = Path(keep.name)


class TestSkyFiles(Folder):
    def test_what_is_written_is_read(self) -> None:
        pixels = np.random.default_rng(0).random((32, 64, 3)).astype(np.float32) * 4
        np.testing.assert_allclose(
            read_sky(write_sky(self.folder / "a.exr", pixels)), pixels, rtol=1e-6
        )
        # RGBE keeps 8 bits of the largest channel (Ward, Real Pixels, 1991).
        hdr = read_sky(write_sky(self.folder / "a.hdr", pixels))
        self.assertLess(float((np.abs(hdr - pixels) / pixels.max(2, keepdims=True)).max()), 1 / 128)

    def test_odd_values_are_no_light(self) -> None:
        pixels = np.ones((8, 16, 3), np.float32)
        pixels[0, 0], pixels[1, 1], pixels[2, 2] = np.nan, -3.0, np.inf
        read = read_sky(write_sky(self.folder / "odd.exr", pixels))
        self.assertTrue(np.isfinite(read).all() and (read >= 0).all())
        self.assertEqual((float(read[0, 0, 0]), float(read[1, 1, 0])), (0.0, 0.0))

    def test_others_are_refused(self) -> None:
        square, wide = self.folder / "square.exr", self.folder / "wide.exr"
        write_sky(square, np.ones((8, 8, 3), np.float32))
        write_sky(wide, np.ones((1, 8194, 3), np.float32))
        flat = self.folder / "flat.png"
        write_pixels(flat, np.zeros((8, 16, 3), np.uint8))
        grey = write_sky(self.folder / "grey.exr", np.ones((8, 16, 1), np.float32))
        broken = self.folder / "broken.hdr"
        broken.write_bytes(b"#?RADIANCE\nFORMAT=32-bit_rle_rgbe\n\n-Y 32 +X 64\nabc")
        for path in (square, wide, flat, grey, broken, self.folder / "missing.hdr"):
            with self.assertRaises(MillError, msg=path.name) as caught:
                read_sky(path)
            self.assertIn("twice as wide", caught.exception.hint)

    @settings(max_examples=60, deadline=None)
    @given(st.integers(0, 3000), st.binary(min_size=1, max_size=40))
    def test_damage_is_refused_or_harmless(self, at: int, junk: bytes) -> None:
        with tempfile.TemporaryDirectory() as folder:
            for ending in (".hdr", ".exr"):
                path = write_sky(
                    Path(folder) / f"x{ending}", np.random.default_rng(1).random((16, 32, 3))
                )
                data = bytearray(path.read_bytes())
                data[at % len(data) : at % len(data) + len(junk)] = junk
                path.write_bytes(data)
                try:
                    pixels = read_sky(path)
                except MillError:
                    continue
                self.assertTrue(np.isfinite(pixels).all() and pixels.shape[1] <= 8192)


class TestSkyPictures(unittest.TestCase):
    def render(self, sky: np.ndarray, **more: object) -> Session:
        scene = scene_of((floor(2.0), WHITE), eye=(0, 3, 0.01), at=(0, 0, 0))
        recipe = Recipe(
            width=8,
            height=8,
            samples=256,
            min_samples=1,
            bounces=1,
            environment_picture=SKY,
            **more,
        )  # type: ignore[arg-type]
        session = Session(load(scene, 1), recipe, threads=2, sky=sky)
        while not session.done:
            session.step(10)
        return session

    def test_an_even_sky_lights_a_white_floor_fully(self) -> None:
        """A white diffuser under an even sky of radiance L shows L (its albedo is 1)."""
        lit, error = mean_luma(self.render(np.full((32, 64, 3), 0.7, np.float32)))
        # The white of the tests has a gloss of index 1.5 above it that loses a little on the way.
        self.assertAlmostEqual(lit, 0.7, delta=0.7 * 0.03 + 3 * error)

    def test_strength_scales_it(self) -> None:
        sky = np.random.default_rng(2).random((32, 64, 3)).astype(np.float32)
        a, b = self.render(sky), self.render(sky, environment_intensity=2.5)
        np.testing.assert_allclose(b.film.light, 2.5 * a.film.light, rtol=1e-4)

    def test_turning_it_moves_the_light(self) -> None:
        """A sky lit on one side:

        the lamp's direction in the picture turns with it, a quarter for 90 degrees.
        """
        sky = np.zeros((32, 64, 3), np.float32)
        sky[10:14, 4:8] = 50.0
        turned = self.render(sky, environment_rotation=90.0)
        still = self.render(np.roll(sky, 16, axis=1))
        np.testing.assert_array_equal(turned.film.light, still.film.light)

    def test_its_table_is_an_upper_bound_of_what_is_read(self) -> None:
        """Read bilinearly, a bright pixel lights its neighbours' cells too:

        none of them may have no chance.
        """
        sky = np.zeros((8, 16, 3), np.float32)
        sky[3, 0] = 1.0
        rows, columns, mean = picture_table(sky)
        chance = np.diff(rows)[:, None] * np.diff(columns, axis=1)
        # A thousandth is spread over the whole sphere.
        self.assertEqual(
            {(int(i), int(j)) for i, j in np.argwhere(chance > 0.01)},
            {(i, j) for i in (2, 3, 4) for j in (15, 0, 1)},
        )
        self.assertGreater(mean, 0)

    def test_its_name_tells_its_size(self) -> None:
        self.assertEqual(
            Recipe(environment_picture="ab/4096x2048/dawn.hdr").environment_size, (4096, 2048)
        )
        self.assertEqual(Recipe().environment_size, (0, 0))
        for name in ("dawn.hdr", "a/0x0/b", "a/1x1/", "../x/1x1/b/c"):
            with self.assertRaises(ValidationError, msg=name):
                Recipe(environment_picture=name)
        sky = np.zeros((64, 128, 3), np.float32)
        held = sky.nbytes + sum(t.nbytes for t in picture_table(sky)[:2])
        # Beside what stays: the table's cells in float64, and the brightest neighbours twice in
        # float32 while it is made.
        self.assertAlmostEqual(sky_bytes(128, 64) / (held + 128 * 64 * 16), 1.0, delta=0.02)
        self.assertEqual(sky_bytes(128, 64, turned=True) - sky_bytes(128, 64), sky.nbytes)
        inventory = weigh(scene_of((floor(), WHITE)))
        device = Device(name="card", kind="card", memory_bytes=10**10)
        ledger = draw_up(inventory, Recipe(environment_picture="ab/4096x2048/dawn.hdr"), device)
        self.assertEqual(ledger.by_kind()["environment"], sky_bytes(4096, 2048))


class TestSavedSessions(Folder):
    def session(self, samples: int = 8, size: int = 16, about: str = "") -> Session:
        scene = scene_of((floor(2.0), WHITE), eye=(0, 3, 0.01), at=(0, 0, 0))
        recipe = Recipe(width=size, height=size, samples=samples, min_samples=1, bounces=1)
        return Session(load(scene, 1), recipe, threads=1, key="k", about=about)

    def saved(self) -> Path:
        session = self.session(about="the floor")
        session.step(0.0001)
        path = self.folder / "state.npz"
        session.save(path)
        return path

    def test_it_tells_what_it_is(self) -> None:
        self.assertEqual(state_about(self.saved()), "the floor")

    def test_another_size_is_refused_and_nothing_is_taken(self) -> None:
        path = self.saved()
        other = self.session(size=24)
        with self.assertRaises(MillError):
            other.restore(path)
        self.assertEqual((other.seconds, other.index, float(other.film.light.sum())), (0.0, 0, 0.0))

    def test_no_end_of_samples(self) -> None:
        """Without an end the render goes on past any number that a recipe would name, until it is
        told to stop.
        """
        session = self.session(samples=MOST_SAMPLES, size=2)
        self.assertTrue(session.recipe.endless)
        while session.index < 70000:
            session.step(0.5)
        self.assertEqual(session.done, "")
        self.assertLess(session.share, 0.01)
        session.stop()
        self.assertEqual(session.done, "hand")
        self.assertAlmostEqual(mean_luma(session)[0], mean_luma(self.few())[0], delta=0.01)

    def few(self) -> Session:
        session = self.session(samples=4096, size=2)
        while not session.done:
            session.step(1.0)
        return session

    def test_damage_is_refused_whole(self) -> None:
        """Whatever byte is wrong:

        a clear refusal that changes nothing, or the very picture that was saved.
        """
        path = self.saved()
        good = path.read_bytes()
        reference = self.session()
        reference.restore(path)

        @settings(max_examples=80, deadline=None)
        @given(st.integers(0, len(good) - 1), st.binary(min_size=0, max_size=30), st.booleans())
        def damage(at: int, junk: bytes, cut: bool) -> None:
            path.write_bytes(good[:at] if cut else good[:at] + junk + good[at + len(junk) :])
            session = self.session()
            try:
                session.restore(path)
            except MillError as e:
                self.assertTrue(e.hint)
                self.assertEqual(
                    (session.seconds, session.index, float(session.film.light.sum())), (0.0, 0, 0.0)
                )
                return
            np.testing.assert_array_equal(session.film.light, reference.film.light)

        damage()

    def test_what_is_no_session(self) -> None:
        for name, write in (
            ("single.npy", lambda p: np.save(p, np.zeros(3))),
            ("text", lambda p: p.write_text("hello")),
        ):
            path = self.folder / name
            write(path)
            with self.assertRaises(MillError, msg=name):
                state_about(path)
        with self.assertRaises(MillError), read_state(self.folder / "none"):
            pass
