"""Basis textures in KTX2, as the reference encoder makes them."""

from __future__ import annotations

import itertools
import tempfile
import unittest
from pathlib import Path

import alktx2
import numpy as np

from mill_lane.core.errors import MillError
from mill_lane.core.formats.basis import header_of
from mill_lane.core.formats.gltf import write_glb
from mill_lane.core.formats.opening import open_scene
from mill_lane.core.formats.pictures import decode
from mill_lane.core.formats.saving import save_scene
from mill_lane.core.trim.shrink import shrink
from tests.gltf_tools import glb, triangle


def picture(alpha: bool) -> np.ndarray:
    """Red above blue, 32 x 64; the left half half clear."""
    out = np.zeros((64, 32, 4), np.uint8)
    out[:32], out[32:] = (200, 90, 30, 255), (20, 120, 220, 255)
    if alpha:
        out[:, :16, 3] = 90
    return out


def encoded(codec: str, alpha: bool) -> bytes:
    raw = picture(alpha).tobytes()
    data = alktx2.encode_raw_rgba_to_ktx2(raw, 32, 64, has_alpha=alpha, codec=codec, quality=100)
    return bytes(data)


class TestBasis(unittest.TestCase):
    def setUp(self) -> None:
        keep = tempfile.TemporaryDirectory()
        self.addCleanup(keep.cleanup)
        self.folder = Path(keep.name)

    def textured(self, data: bytes) -> Path:
        name = "KHR_texture_basisu"
        root, binary = triangle(
            images=[{"bufferView": 1, "mimeType": "image/ktx2", "name": "crust"}],
            textures=[{"extensions": {name: {"source": 0}}}],
            materials=[{"pbrMetallicRoughness": {"baseColorTexture": {"index": 0}}}],
            extensionsUsed=[name],
            extensionsRequired=[name],
        )
        root["meshes"][0]["primitives"][0]["material"] = 0
        view = {"buffer": 0, "byteOffset": len(binary), "byteLength": len(data)}
        root["bufferViews"].append(view)
        root["buffers"][0]["byteLength"] = len(binary) + len(data)
        path = self.folder / "ktx.glb"
        path.write_bytes(glb(root, binary + data))
        return path

    def test_read_and_kept_as_it_came(self) -> None:
        for codec, alpha in itertools.product(("etc1s", "uastc"), (False, True)):
            data = encoded(codec, alpha)
            scene = open_scene(self.textured(data))
            image = scene.images[0]
            self.assertEqual((image.width, image.height, image.missing), (32, 64, False))
            self.assertEqual(image.channels, 4 if alpha else 3, codec)
            pixels = decode(image.read(), image.mime)
            error = pixels.astype(float) - picture(alpha)[..., : image.channels]
            self.assertLess(np.abs(error).mean(), 3.0, codec)
            again = self.folder / "again.glb"
            write_glb(scene, again)
            self.assertIn(data, again.read_bytes())
            self.assertEqual(open_scene(again).images[0].mime, "image/ktx2")
            # Made smaller it is a PNG.
            write_glb(shrink(scene, {0: 16})[0], again)
            made = open_scene(again).images[0]
            self.assertEqual((made.mime, made.height), ("image/png", 16))
            self.assertEqual(made.channels, image.channels)

    def test_other_programs_get_a_png(self) -> None:
        scene = open_scene(self.textured(encoded("uastc", False)))
        save_scene(scene, self.folder / "out.obj")
        written = open_scene(self.folder / "out.obj").images
        self.assertEqual([(i.mime, i.width) for i in written if not i.missing], [("image/png", 32)])

    def test_cut_short(self) -> None:
        data = encoded("etc1s", True)
        for cut in (30, 90, len(data) // 2):
            try:
                for left in open_scene(self.textured(data[:cut])).images:
                    if not left.missing:
                        decode(left.read(), left.mime)
            except MillError as e:
                self.assertTrue(e.hint)

    def test_headers_nobody_can_mean(self) -> None:
        data = encoded("uastc", False)
        self.assertEqual(header_of(data[:4096]), (32, 64, 3))
        for at, value in ((12, 37), (28, 4), (32, 6), (36, 2), (48, 2**31), (52, 2**31)):
            wrong = bytearray(data)
            wrong[at : at + 4] = value.to_bytes(4, "little")
            self.assertIsNone(header_of(bytes(wrong[:4096])), at)
