"""Textures kept on the disk: the same bits as decoded anew, whatever happens to the files."""

from __future__ import annotations

import gc
import multiprocessing
import os
import shutil
import tempfile
import unittest
from pathlib import Path
from unittest.mock import patch

import numpy as np

from mill_lane.core.formats.opening import open_scene
from mill_lane.core.progress import silent
from mill_lane.core.recipe import Recipe
from mill_lane.core.render import shelf, texture_cache
from mill_lane.core.render.load import load
from mill_lane.core.render.load_textures import load_textures, texture_bytes
from mill_lane.core.render.session import Session
from mill_lane.core.render.texture import Textures
from mill_lane.core.render.texture_cache import ENDING, Patchwork, TextureCache
from mill_lane.core.scene.model import Scene
from tests.scenes import small_demo


def levels(t: Textures) -> list[np.ndarray]:
    """Every level of every texture, by the table."""
    out = []
    for wide, first, _, _, channels, _, _, count in t.table.tolist():
        numbers = t.wide if wide else t.narrow
        for at, w, h in t.levels[first : first + count].tolist():
            out.append(np.array(numbers[at : at + w * h * channels]))
    return out


def fill(folder: str, scene: str) -> None:
    """Fill a cache, in a process of its own."""
    load_textures(open_scene(Path(scene)), 2, silent, TextureCache(Path(folder)))


class TestCache(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.scene: Scene = open_scene(small_demo())
        cls.fresh = levels(load_textures(cls.scene, 2, silent)[0])

    def setUp(self) -> None:
        held = tempfile.TemporaryDirectory(prefix="mill-lane-tests-")
        self.addCleanup(held.cleanup)
        self.folder = Path(held.name) / "textures"

    def load(self, most: int = shelf.MOST_BYTES) -> Textures:
        return load_textures(self.scene, 2, silent, TextureCache(self.folder, most))[0]

    def same(self, t: Textures) -> None:
        found = levels(t)
        self.assertEqual(len(found), len(self.fresh))
        for one, other in zip(found, self.fresh, strict=True):
            np.testing.assert_array_equal(one, other)

    def files(self) -> list[Path]:
        return sorted(self.folder.glob(f"*{ENDING}"))

    def decoding(self) -> int:
        """How many pictures are decoded by loading now."""
        from mill_lane.core.render import load_textures as module

        with patch.object(module, "decode", wraps=module.decode) as decode:
            self.same(self.load())
            return decode.call_count

    def test_filled_and_used(self) -> None:
        """Bit for bit as without; nothing is decoded the second time; small levels come first."""
        self.same(self.load())
        count = len(self.files())
        self.assertGreater(count, 3)
        self.assertEqual(self.decoding(), 0)
        self.assertEqual(list(self.folder.glob("*.part")), [])
        total = sum(p.stat().st_size - shelf.MARK for p in self.files())
        self.assertEqual(total, texture_bytes(self.scene))

    def test_the_same_picture(self) -> None:
        """A render with mapped textures has the bits of one without."""
        recipe = Recipe(width=48, height=27, samples=2, min_samples=2, layers=())
        pictures = []
        for cache in (None, TextureCache(self.folder), TextureCache(self.folder)):
            session = Session(load(self.scene, 2, cache=cache), recipe, threads=2)
            session.step(60)
            pictures.append(session.layers()["beauty"])
        np.testing.assert_array_equal(pictures[1], pictures[0])
        np.testing.assert_array_equal(pictures[2], pictures[0])

    def test_damaged_files(self) -> None:
        """Truncated, longer, of another mark or edition, empty: each is made anew."""
        self.load()
        first, second, third, fourth, *_ = self.files()
        os.truncate(first, first.stat().st_size // 2)
        with second.open("ab") as f:
            f.write(b"more")
        with third.open("r+b") as f:
            f.seek(-shelf.MARK, os.SEEK_END)
            f.write(b"x" * shelf.MARK)
        fourth.write_bytes(b"")
        self.assertEqual(self.decoding(), 4)
        self.assertEqual(self.decoding(), 0)
        with patch.object(texture_cache, "EDITION", 2):
            self.assertGreater(self.decoding(), 4)

    def test_a_full_disk(self) -> None:
        """Nothing is kept, nothing is left behind, all is there."""
        with patch.object(shelf, "LEAST_FREE", 1 << 60):
            self.same(self.load())
        self.assertEqual(self.files(), [])
        with patch("os.fdatasync", side_effect=OSError(28, "No space left on device")):
            self.same(self.load())
        self.assertEqual(list(self.folder.iterdir()), [])

    def test_no_folder(self) -> None:
        """A file in its place, as where nobody may write: it is done without."""
        self.folder.write_text("not a folder")
        self.same(self.load())

    def test_removed_while_used(self) -> None:
        held = self.load()
        shutil.rmtree(self.folder)
        self.same(held)
        self.assertGreater(self.decoding(), 0)

    def test_bounded(self) -> None:
        """What was used least recently goes; what is in use stays."""
        self.load()
        old = self.folder / f"old{ENDING}"
        old.write_bytes(b"x" * 1000)
        os.utime(old, (1, 1))
        self.load(most=sum(p.stat().st_size for p in self.files()) - 1)
        self.assertFalse(old.exists())
        self.same(self.load(most=1))
        self.assertEqual(self.decoding(), 0)

    def test_broken_pieces(self) -> None:
        """What a killed process was writing goes; what may still be written stays."""
        self.load()
        old, new = (self.folder / f"{name}.part" for name in ("old", "new"))
        for path in (old, new):
            path.write_bytes(b"half")
        os.utime(old, (1, 1))
        self.load()
        self.assertEqual((old.exists(), new.exists()), (False, True))

    def test_two_at_once(self) -> None:
        """Two processes that fill it get in nobody's way."""
        context = multiprocessing.get_context("spawn")
        arguments = (str(self.folder), str(small_demo()))
        both = [context.Process(target=fill, args=arguments) for _ in range(2)]
        for process in both:
            process.start()
        for process in both:
            process.join(120)
            self.assertEqual(process.exitcode, 0)
        self.assertEqual(self.decoding(), 0)


class TestPatchwork(unittest.TestCase):
    def test_given_back(self) -> None:
        """Address space goes with the last array that looks at it."""
        page = texture_cache.PAGE

        def mapped() -> int:
            return sum(1 for line in Path("/proc/self/maps").read_text().splitlines() if line)

        gc.collect()
        gc.freeze()  # what other tests left need not be looked through each time
        self.addCleanup(gc.unfreeze)
        before = mapped()
        for _ in range(50):
            piece = Patchwork(8 * page)
            piece.own(page, page)
            view = piece.array()[page : 2 * page]
            view[:] = 7
            del piece
            gc.collect()
            self.assertEqual(int(view.sum()), 7 * page)
            del view
        gc.collect()
        self.assertLess(mapped(), before + 20)
