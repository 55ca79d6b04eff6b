"""Trims of textures: decoded against the original, with the roles that they may have."""

from __future__ import annotations

import io
import unittest
from dataclasses import replace

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image as Pillow

from mill_lane.core.image.srgb import to_linear
from mill_lane.core.render.load import load
from mill_lane.core.scene.model import Scene, Texture, TextureUse
from mill_lane.core.trim import foresee
from mill_lane.core.trim.bumps import mean_normals, rougher
from mill_lane.core.trim.pictures import decoded
from mill_lane.core.trim.shrink import shrink
from mill_lane.core.weigh.images import as_jpeg, jpeg_size, to_bytes
from tests.scenes import WHITE, floor, scene_of
from tests.trim.case import (
    applied,
    dressed,
    image_of,
    looked_into,
    material_of,
    pixels_of,
    proposed,
)

RNG = np.random.default_rng(11)


def smooth(size: int = 64, channels: int = 3) -> np.ndarray:
    """A picture like a photograph: slow waves and a little grain."""
    y, x = np.mgrid[0:size, 0:size] / size
    waves = [np.sin(6 * x + k) * np.cos(5 * y - k) for k in range(channels)]
    noise = RNG.normal(0, 2, (size, size, channels))
    return np.clip(128 + 80 * np.stack(waves, 2) + noise, 0, 255).astype(np.uint8)


class TestChannels(unittest.TestCase):
    def forms(self, scene: Scene) -> list[tuple[int, int]]:
        return [(x.channels, x.bits) for x in scene.images]

    def test_grey_solid_and_shallow(self) -> None:
        """Each is stored with what it uses, and decodes to the same values."""
        grey = smooth(32, 1)
        three = np.repeat(grey, 3, 2)
        solid = np.concatenate([smooth(32), np.full((32, 32, 1), 255, np.uint8)], 2)
        deep = smooth(32).astype(np.uint16) * 257
        every = [three, solid, deep, smooth(32), RNG.integers(0, 65535, (8, 8, 3), np.uint16)]
        scene = dressed(
            *(image_of(p, f"p{i}") for i, p in enumerate(every)),
            base=0,
            roughness=1,
            emissive=2,
            clearcoat=3,
            specular_color=4,
        )
        found = proposed(scene, "texture_channels")
        self.assertEqual(sorted(p.target.index for p in found), [0, 1, 2])
        lean, changes = applied(scene, found)
        self.assertEqual(self.forms(lean), [(1, 8), (3, 8), (3, 8), (3, 8), (3, 16)])
        np.testing.assert_array_equal(decoded(lean.images[0])[..., 0], grey[..., 0])
        np.testing.assert_array_equal(decoded(lean.images[1]), solid[..., :3])
        np.testing.assert_array_equal(decoded(lean.images[2]), to_bytes(deep))
        self.assertIs(lean.images[3], scene.images[3])
        before, after = load(scene, 1).held["textures"], load(lean, 1).held["textures"]
        self.assertEqual(before - after, sum(c.memory_saved_bytes for c in changes))
        self.assertEqual(before - after, sum(p.memory_saved_bytes for p in found))
        np.testing.assert_array_equal(pixels_of(scene), pixels_of(lean))
        told = foresee(looked_into(scene), [p.choice for p in found])
        self.assertEqual(sum(t.memory_bytes for t in told.textures), after)

    def test_an_alpha_that_is_needed_stays(self) -> None:
        alpha = np.concatenate([smooth(16), smooth(16, 1)], 2)
        scene = dressed(image_of(alpha), base=0)
        self.assertEqual(len(proposed(scene, "texture_channels")), 1)  # opaque: nobody asks it
        mask = replace(material_of(scene), alpha_mode="MASK")
        self.assertEqual(proposed(replace(scene, materials=(mask,)), "texture_channels"), [])
        tinted = replace(scene, materials=(replace(WHITE, specular_texture=TextureUse(0)),))
        self.assertEqual(proposed(tinted, "texture_channels"), [])

    @given(st.integers(0, 65535))
    def test_codes_are_rounded(self, code: int) -> None:
        (got,) = to_bytes(np.array([code], np.uint16))
        self.assertLessEqual(abs(int(got) * 257 - code), 128)


class TestJpeg(unittest.TestCase):
    def test_roles(self) -> None:
        """All but normal maps and pictures with an alpha that is needed (common practice)."""
        big = [image_of(smooth(96), f"p{i}") for i in range(4)]
        cut = image_of(np.concatenate([smooth(96), smooth(96, 1)], 2), "cut")
        scene = dressed(*big, cut, roughness=0, normal=1, emissive=2, clearcoat=3, base=4)
        scene = replace(scene, materials=(replace(material_of(scene), alpha_mode="BLEND"),))
        found = {p.target.index: p for p in proposed(scene, "texture_jpeg")}
        self.assertEqual({i for i, p in found.items() if p.left_alone}, {1, 4})
        self.assertIn("directions", found[1].left_alone)
        self.assertIn("alpha", found[4].left_alone)
        # The same picture as data here and as a normal map there.
        both = replace(
            scene, materials=(replace(material_of(scene), normal_texture=TextureUse(0)),)
        )
        (row,) = [p for p in proposed(both, "texture_jpeg") if p.target.index == 0]
        self.assertTrue(row.left_alone)

    def test_within_the_error_of_its_quality(self) -> None:
        pixels = smooth(128)
        scene = dressed(image_of(pixels), base=0)
        for quality, most in ((90, 3.0), (50, 8.0)):
            (p,) = proposed(scene, "texture_jpeg", quality=quality)
            lean, (change,) = applied(scene, [p])
            image = lean.images[0]
            self.assertEqual((image.mime, image.channels), ("image/jpeg", 3))
            with Pillow.open(io.BytesIO(image.read())) as opened:
                self.assertEqual(opened.format, "JPEG")
            off = decoded(image).astype(float) - pixels
            self.assertLess(float(np.sqrt((off**2).mean())), most)
            self.assertEqual(change.memory_saved_bytes, 0)  # 8 bits and three channels as before
            self.assertGreater(change.file_saved_bytes, 0)

    def test_sixteen_bits_become_eight(self) -> None:
        deep = (smooth(64).astype(np.uint16) * 257) ^ 1
        scene = dressed(image_of(deep), base=0)
        (p,) = proposed(scene, "texture_jpeg")
        lean, (change,) = applied(scene, [p])
        self.assertEqual(lean.images[0].bits, 8)
        self.assertEqual(change.memory_saved_bytes, p.memory_saved_bytes)
        self.assertEqual(load(lean, 1).held["textures"] * 2, load(scene, 1).held["textures"])

    def test_one_that_would_be_larger_stays(self) -> None:
        flat = np.full((64, 64, 3), 7, np.uint8)
        flat[0, 0] = 9
        scene = dressed(image_of(flat), base=0)
        self.assertEqual(proposed(scene, "texture_jpeg"), [])

    def test_size_from_a_sample(self) -> None:
        pixels = np.tile(smooth(256), (4, 5, 1))
        self.assertAlmostEqual(jpeg_size(pixels) / len(as_jpeg(pixels)), 1.0, delta=0.15)


class TestConstant(unittest.TestCase):
    def test_a_factor_draws_the_same(self) -> None:
        """Every slot: the picture with the texture and the one with the factor are equal."""
        values = {
            "base": (200, 100, 50),
            "roughness": (0, 128, 200),
            "emissive": (30, 60, 90),
            "transmission": (128, 0, 0),
            "clearcoat": (200, 0, 0),
            "clearcoat_roughness": (0, 90, 0),
            "specular_color": (90, 180, 220),
            "sheen_color": (120, 10, 60),
            "normal": (128, 128, 255),
        }
        for slot, value in values.items():
            pixels = np.tile(np.uint8(value), (8, 8, 1))
            scene = dressed(image_of(pixels, slot), **{slot: 0})
            strong = replace(
                material_of(scene),
                emissive=(0.5, 0.4, 0.3),
                transmission=0.6,
                clearcoat=0.8,
                clearcoat_roughness=0.7,
                sheen_color=(0.6, 0.5, 0.4),
                sheen_roughness=0.5,
                metallic=0.4,
                roughness=0.9,
            )
            scene = replace(scene, materials=(strong,))
            lean, changes = applied(scene, proposed(scene, "constant_texture"))
            self.assertEqual(len(changes), 1, slot)
            self.assertEqual(material_of(lean).uses(), [], slot)
            # A normal of 128 is half a code off straight up.
            loose = 0.02 if slot == "normal" else 2e-3
            np.testing.assert_allclose(
                pixels_of(lean).mean(), pixels_of(scene).mean(), rtol=loose, err_msg=slot
            )

    def test_alpha_and_by_alpha(self) -> None:
        pixels = np.tile(np.uint8([255, 255, 255, 128]), (8, 8, 1))
        for slot, field in (("base", "base_color"), ("specular", "specular")):
            scene = dressed(image_of(pixels), **{slot: 0})
            lean, _ = applied(scene, proposed(scene, "constant_texture"))
            got = getattr(material_of(lean), field)
            self.assertAlmostEqual(got[3] if slot == "base" else got, 128 / 255, 6)

    def test_colour_is_made_linear(self) -> None:
        pixels = np.tile(np.uint8([188, 188, 188]), (4, 4, 1))
        scene = dressed(image_of(pixels), base=0)
        lean, _ = applied(scene, proposed(scene, "constant_texture"))
        self.assertAlmostEqual(material_of(lean).base_color[0], float(to_linear(188 / 255)), 6)

    def test_a_tilted_normal_map_stays(self) -> None:
        scene = dressed(image_of(np.tile(np.uint8([160, 128, 240]), (4, 4, 1))), normal=0)
        (p,) = proposed(scene, "constant_texture")
        self.assertIn("tilts", p.left_alone)


class TestSamePicture(unittest.TestCase):
    def scene(self, *slots: str) -> Scene:
        pixels = smooth(32)
        names = dict(zip(slots, range(len(slots)), strict=True))
        return dressed(*(image_of(pixels, x) for x in slots), **names)

    def test_stored_once(self) -> None:
        scene = self.scene("base", "emissive")
        (p,) = proposed(scene, "same_picture")
        lean, (change,) = applied(scene, [p])
        self.assertEqual([t.image for t in lean.textures], [0, 0])
        self.assertEqual(change.memory_saved_bytes, p.memory_saved_bytes)
        self.assertEqual(load(lean, 1).held["textures"] * 2, load(scene, 1).held["textures"])
        np.testing.assert_array_equal(pixels_of(scene), pixels_of(lean))

    def test_colour_and_data_stay_apart(self) -> None:
        (p,) = proposed(self.scene("base", "roughness"), "same_picture")
        self.assertIn("colour", p.left_alone)

    def test_the_larger_need_counts_for_both(self) -> None:
        """One near, one far: what stands for both is no smaller than the near one needs."""
        image = replace(image_of(smooth(32)), width=4096, height=4096)
        m = [replace(WHITE, name=str(i), base_texture=TextureUse(i)) for i in range(2)]
        things = [(floor(1.0, -d), m[i]) for i, d in enumerate((40.0, 5.0))]
        scene = scene_of(*things, eye=(0, 0, 0), at=(0, -1, 0), up=(0, 0, -1))
        scene = replace(
            scene, images=(image, image), textures=(Texture("far", 0), Texture("near", 1))
        )
        a = looked_into(replace(scene, images=(image_of(smooth(32)),) * 2))
        rows = [t.model_copy(update={"width": 4096, "height": 4096}) for t in a.textures]
        found = proposed(scene, "texture_size", a.model_copy(update={"textures": rows}))
        self.assertEqual({p.after[0] for p in found}, {2048})


class TestNormalMaps(unittest.TestCase):
    def bumpy(self, tilt: float) -> np.ndarray:
        """Normals that lean left and right by turns, by so many degrees."""
        lean = np.radians(tilt) * np.where(np.arange(64) % 2, 1, -1)
        n = np.stack([np.sin(lean), np.zeros(64), np.cos(lean)], 1)
        return np.round((np.tile(n, (64, 1, 1)) + 1) / 2 * 255).astype(np.uint8)

    def test_means_are_directions(self) -> None:
        """Two normals at 30 degrees either way: straight up, and shorter by the cosine."""
        means = mean_normals(self.bumpy(30), 1)
        np.testing.assert_allclose(means[..., 2], np.cos(np.radians(30)), atol=0.01)
        scene = dressed(image_of(self.bumpy(30)), normal=0)
        lean, _ = shrink(scene, {0: 16})
        codes = decoded(lean.images[0]).astype(float) / 255 * 2 - 1
        np.testing.assert_allclose(np.linalg.norm(codes, axis=2), 1.0, atol=0.01)
        np.testing.assert_allclose(codes[..., 2], 1.0, atol=0.01)

    def test_lost_bumps_make_it_rougher(self) -> None:
        """Toksvig 2005: 1 / s' = 1 / s + (1 - L) / L for the exponent s = 2 / alpha^2 - 2, up to
        terms of the squared width.
        """
        length = np.cos(np.radians(10.0))
        alpha2 = 0.2**4
        s = 2 / alpha2 - 2
        s2 = 1 / (1 / s + (1 - length) / length)
        wanted = (2 / (s2 + 2)) ** 0.25
        self.assertAlmostEqual(float(rougher(np.array(0.2), np.array(length))), wanted, delta=0.01)
        self.assertEqual(float(rougher(np.array(0.3), np.array(1.0))), 0.3)

    def test_into_the_materials(self) -> None:
        scene = dressed(image_of(self.bumpy(12), "bumps"), normal=0)
        scene = replace(scene, materials=(replace(material_of(scene), roughness=0.3),))
        (p,) = proposed(scene, "texture_size", self.as_if_large(scene), rule="distance")
        wish = p.model_copy(update={"parameters": {"limit": 16, "bumps": True}})
        lean, _ = applied(scene, [wish])
        m = material_of(lean)
        assert m.roughness_texture is not None
        rough = decoded(lean.images[lean.textures[m.roughness_texture.texture].image])
        self.assertEqual(rough.shape, (16, 16, 3))
        self.assertGreater(rough[..., 1].mean() / 255 * m.roughness, 0.36)
        # The highlight is as wide as before, where a smooth mirror would be left without it.
        plain, _ = applied(scene, [p.model_copy(update={"parameters": {"limit": 16}})])
        self.assertIsNone(material_of(plain).roughness_texture)

    def as_if_large(self, scene: Scene):  # type: ignore[no-untyped-def]
        a = looked_into(scene)
        rows = [
            t.model_copy(update={"width": 4096, "height": 4096, "nearest_m": 50.0})
            for t in a.textures
        ]
        return a.model_copy(update={"textures": rows})

    @settings(max_examples=20, deadline=None)
    @given(st.integers(1, 40), st.integers(1, 40), st.integers(0, 5))
    def test_any_size_halves(self, width: int, height: int, times: int) -> None:
        pixels = np.full((height, width, 3), (128, 128, 255), np.uint8)
        means = mean_normals(pixels, times)
        self.assertEqual(means.shape, (max(1, height >> times), max(1, width >> times), 3))
        np.testing.assert_allclose(means[..., 2], 1.0, atol=1e-4)
