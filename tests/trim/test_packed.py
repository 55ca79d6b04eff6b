"""Maps packed into one picture: the channels that glTF reads, and the same render."""

from __future__ import annotations

import unittest
from dataclasses import replace

import numpy as np

from mill_lane.core.errors import MillError
from mill_lane.core.scene.model import Scene
from mill_lane.core.trim import TRIMS, apply_choices, foresee
from mill_lane.core.trim.pictures import decoded
from mill_lane.core.weigh.measure import weigh
from tests.trim.case import applied, dressed, image_of, looked_into, pixels_of, proposed

RNG = np.random.default_rng(5)


def noise(size: int = 16, channels: int = 3) -> np.ndarray:
    return RNG.integers(0, 255, (size, size, channels)).astype(np.uint8)


def coated(*pictures: np.ndarray, **slots: int) -> Scene:
    """A floor with a clear coat, dressed in pictures."""
    named = [image_of(x, f"map {i}") for i, x in enumerate(pictures)]
    scene = dressed(*named, **slots)
    m = replace(scene.materials[0], clearcoat=1.0, clearcoat_roughness=0.6)
    return replace(scene, materials=(m,))


class TestPacked(unittest.TestCase):
    def test_the_red_of_one_and_the_green_of_the_other(self) -> None:
        a, b = noise(), noise()
        scene = coated(a, b, clearcoat=0, clearcoat_roughness=1)
        (p,) = proposed(scene, "packed_maps")
        self.assertEqual((p.target.index, p.parameters), (1, {"red": 0}))
        lean, (change,) = applied(scene, [p])
        self.assertEqual({t.image for t in lean.textures}, {1})
        made = decoded(lean.images[1])
        np.testing.assert_array_equal(made, np.dstack([a[..., 0], b[..., 1], b[..., 2]]))
        np.testing.assert_array_equal(pixels_of(scene), pixels_of(lean))
        self.assertEqual(change.memory_saved_bytes, p.memory_saved_bytes)
        said = TRIMS["packed_maps"].describe(change)
        self.assertEqual(said, "takes in the red of map 0")

    def test_roughness_keeps_its_metal(self) -> None:
        """Transmission and occlusion are read from red, roughness and metal from the others."""
        a, b = noise(), noise()
        scene = coated(a, b, transmission=0, roughness=1)
        lean, _ = applied(scene, proposed(scene, "packed_maps"))
        np.testing.assert_array_equal(decoded(lean.images[1])[..., 1:], b[..., 1:])
        np.testing.assert_array_equal(pixels_of(scene), pixels_of(lean))

    def test_foreseen(self) -> None:
        scene = coated(noise(), noise(), clearcoat=0, clearcoat_roughness=1)
        a = looked_into(scene)
        found = proposed(scene, "packed_maps", a)
        lean, _ = applied(scene, found)
        ahead = sum(t.memory_bytes for t in foresee(a, [p.choice for p in found]).textures)
        self.assertEqual(ahead, sum(t.memory_bytes for t in weigh(lean).textures))

    def test_what_stays_apart(self) -> None:
        """Other sizes, a picture that is read from more, grey ones that one channel holds."""
        grey = np.repeat(noise(channels=1), 3, 2)
        for scene in (
            coated(noise(16), noise(8), clearcoat=0, clearcoat_roughness=1),
            coated(noise(), noise(), clearcoat=0, clearcoat_roughness=1, base=0),
            coated(noise(), noise(), clearcoat=0, transmission=1),
            coated(grey, noise(), clearcoat=0, clearcoat_roughness=1),
            coated(noise(), clearcoat=0, clearcoat_roughness=0),
        ):
            self.assertEqual(proposed(scene, "packed_maps"), [])

    def test_sizes_that_changed_meanwhile_and_what_is_gone(self) -> None:
        scene = coated(noise(), noise(), clearcoat=0, clearcoat_roughness=1)
        (p,) = proposed(scene, "packed_maps")
        other = replace(scene, images=(image_of(noise(8), "map 0"), scene.images[1]))
        same, changes = apply_choices(other, [p.choice])
        self.assertEqual((changes, same.images), ([], other.images))
        gone = p.choice.model_copy(update={"parameters": {"red": 9}})
        with self.assertRaisesRegex(MillError, "has no texture"):
            apply_choices(scene, [gone])
