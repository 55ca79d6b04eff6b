"""Textures between mip levels and along grazing views, against supersampling; flat cameras.

The reference is the same picture with the texture's own texels and very many samples: no level is
chosen there, the samples alone average.
"""

from __future__ import annotations

import math
import unittest
from dataclasses import replace
from typing import Any
from unittest import mock

import numpy as np

from mill_lane.core.formats.blob import Blob
from mill_lane.core.formats.pictures import encode
from mill_lane.core.formats.textures import image_of
from mill_lane.core.render import load as loading
from mill_lane.core.scene.model import Camera, Material, Scene, Texture, TextureUse
from mill_lane.core.weigh.measure import weigh
from mill_lane.demo import shapes
from tests.scenes import WHITE, even_sky, floor, looking, render, scene_of

GLOW = Material(
    "print",
    (0.0, 0.0, 0.0, 1.0),
    metallic=0.0,
    unlit=True,
    base_texture=TextureUse(0),
)


def printed(pixels: np.ndarray, **more: Any) -> Scene:
    """A square with a picture on it, shown as it is."""
    image = image_of(Blob.of(encode(pixels, "image/png")), "print")
    white = replace(GLOW, base_color=(1.0, 1.0, 1.0, 1.0))
    return scene_of((floor(2.0), white), images=(image,), textures=(Texture("print", 0),), **more)


def drawn(scene: Scene, samples: int, size: int = 32) -> np.ndarray:
    film = render(scene, samples=samples, size=size, bounces=0).film
    return np.asarray(film.light / film.samples[..., None])[..., 0]


def without_levels(scene: Scene, samples: int, size: int = 32) -> np.ndarray:
    """The same, always from the finest level."""
    plain = loading._materials

    def finest(*given: Any) -> Any:
        made = plain(*given)
        made["transforms"][..., loading.s.U_LEVEL] = -60.0
        return made

    with mock.patch.object(loading, "_materials", finest):
        return drawn(scene, samples, size)


def stripes(n: int, period: int) -> np.ndarray:
    """Grey waves across, of a period in texels."""
    wave = 127.5 + 120 * np.sin(2 * math.pi * np.arange(n) / period)
    return np.ascontiguousarray(np.broadcast_to(wave[None, :, None], (n, n, 3)).astype(np.uint8))


class TestLevels(unittest.TestCase):
    def contrast(self, picture: np.ndarray) -> float:
        return float(picture.std())

    def test_contrast_between_two_levels(self) -> None:
        """At 1.4 texels a pixel the nearest level would be twice too coarse: waves stay."""
        for texels in (90, 128, 180):  # across 64 pixels: 1.4, 2 and 2.8 texels a pixel
            scene = printed(
                stripes(256, 16), eye=(0, 4, 0), up=(0, 0, -1), yfov=2 * math.atan(0.25)
            )
            narrower = replace(GLOW.base_texture, scale=(texels / 256, texels / 256))
            worn = replace(scene.materials[0], base_texture=narrower)
            scene = replace(scene, materials=(worn,))
            found, truth = drawn(scene, 64, 64), without_levels(scene, 256, 64)
            self.assertAlmostEqual(found.mean(), truth.mean(), delta=0.01)
            self.assertGreater(self.contrast(found) / self.contrast(truth), 0.8, texels)

    def test_along_a_grazing_view(self) -> None:
        """Stripes that run away from the camera stay stripes: the narrow side chooses the level."""
        scene = printed(stripes(512, 64), eye=(0, 0.12, 1.6), at=(0, 0, 0.2), yfov=0.35)
        found, truth = drawn(scene, 128), without_levels(scene, 512)
        seen = truth > 0
        error = np.sqrt(((found - truth)[seen] ** 2).mean())
        self.assertLess(error, 0.25 * truth[seen].std())

    def test_far_away_it_is_the_mean(self) -> None:
        """However far, a texture shows its mean in linear light."""
        pixels = np.zeros((64, 64, 3), np.uint8)
        pixels[::2] = 255
        scene = printed(pixels, eye=(0, 400, 0), up=(0, 0, -1), yfov=2 * math.atan(1 / 400) * 0.8)
        self.assertAlmostEqual(float(drawn(scene, 16, 4).mean()), 0.5, delta=0.02)


class TestFlatCameras(unittest.TestCase):
    def test_size_does_not_change_with_distance(self) -> None:
        """An orthographic camera of 2 m height shows a disc of 1 m radius over pi / 4 of it."""
        for distance in (3.0, 30.0):
            scene = scene_of(
                (shapes.ball(1.0, 64), WHITE), eye=(0, 0, distance), environment=even_sky()
            )
            scene = replace(scene, cameras=(Camera("flat", 0.0, 1.0, half_height=1.0),))
            film = render(scene, samples=4, size=64, bounces=0, layers=("depth",)).film
            covered = (film["depth"] > 0).mean()
            self.assertAlmostEqual(float(covered), math.pi / 4, delta=0.02)

    def test_it_is_weighed(self) -> None:
        """What stands beside its picture is not in view, however far it opens."""
        beside = shapes.ball(0.2, 12)
        moved = replace(beside, positions=beside.positions + np.float32([3, 0, -50]))
        scene = scene_of((floor(1.0), WHITE), (moved, WHITE), eye=(0, 0, 5))
        flat = replace(scene, cameras=(Camera("flat", 0.0, 1.0, half_height=1.0),))
        self.assertEqual([m.in_view for m in weigh(flat, 1.0).meshes], [True, False])
        self.assertEqual([m.in_view for m in weigh(scene, 1.0).meshes], [True, True])

    def test_cameras_by_node_where_they_share_a_name(self) -> None:
        scene = scene_of((floor(), WHITE))
        nodes = (
            *scene.nodes,
            replace(scene.nodes[-1], name="second", matrix=looking((0, 9, 1), (0, 0, 0))),
        )
        twice = replace(scene, nodes=nodes)
        self.assertEqual(twice.camera_names, ["camera", "second"])
        self.assertEqual(twice.camera_node("second"), len(nodes) - 1)
