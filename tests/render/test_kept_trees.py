"""Acceleration structures kept on the disk: the same bits as built anew, whatever happens."""

from __future__ import annotations

import errno
import multiprocessing
import os
import tempfile
import unittest
from dataclasses import replace
from pathlib import Path
from unittest.mock import patch

import numpy as np

from mill_lane.core.devices.model import Device
from mill_lane.core.formats.opening import open_scene
from mill_lane.core.recipe import FINAL, Recipe
from mill_lane.core.render import kept_trees, load, shelf
from mill_lane.core.render.session import Session
from mill_lane.core.render.texture_cache import TextureCache
from mill_lane.core.scene.model import Scene
from mill_lane.core.weigh.ledger import draw_up
from mill_lane.core.weigh.measure import weigh
from tests.scenes import WHITE, floor, scene_of, small_demo


def fill(folder: str, scene: str) -> None:
    """Fill a cache, in a process of its own."""
    load.WORTH_KEEPING = 1
    load.load(open_scene(Path(scene)), 1, cache=TextureCache(Path(folder)))


class TestKeptTrees(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.scene: Scene = open_scene(small_demo())
        cls.fresh = load.load(cls.scene, 2)

    def setUp(self) -> None:
        held = tempfile.TemporaryDirectory(prefix="mill-lane-tests-")
        self.addCleanup(held.cleanup)
        self.folder = Path(held.name) / "kept"
        worth = patch.object(load, "WORTH_KEEPING", 1)  # the small demo is below it
        worth.start()
        self.addCleanup(worth.stop)

    def load(self, scene: Scene | None = None) -> tuple[load.Loaded, int]:
        """(the scene through the cache, how many meshes were built)."""
        with patch.object(load, "build_mesh", wraps=load.build_mesh) as build:
            loaded = load.load(scene or self.scene, 2, cache=TextureCache(self.folder))
            return loaded, build.call_count

    def files(self) -> list[Path]:
        return sorted(self.folder.glob(f"*{kept_trees.ENDING}"))

    def same(self, loaded: load.Loaded) -> None:
        for name in ("nodes", "leaves", "parts", "triangles", "normals", "uvs", "bounds"):
            one, other = getattr(loaded, name), getattr(self.fresh, name)
            self.assertEqual(one.tobytes(), other.tobytes(), name)
        self.assertEqual(loaded.leaf_counts, self.fresh.leaf_counts)
        self.assertEqual(loaded.held["acceleration"], self.fresh.held["acceleration"])

    def test_kept_and_taken_up(self) -> None:
        """Bit for bit as without; nothing is built the second time; a picture is the same; what
        is mapped is told, and lies where the kernels want it.
        """
        first, built = self.load()
        self.same(first)
        self.assertGreater(built, 3)
        again, built = self.load()
        self.same(again)
        self.assertEqual(built, 0)
        self.assertEqual((again.nodes.ctypes.data % 64, again.leaves.ctypes.data % 64), (0, 0))
        told = again.held["mapped"] - first.held["mapped"]
        self.assertEqual(told, self.fresh.held["acceleration"])
        pictures = []
        for loaded in (self.fresh, again):
            session = Session(loaded, Recipe(width=32, height=18, samples=2, min_samples=1))
            while not session.done:
                session.step(5.0)
            pictures.append(session.film.light.tobytes())
        self.assertEqual(*pictures)

    def test_the_ledger_tells_it_apart(self) -> None:
        """What the ledger says may be mapped is what is: textures to the byte, acceleration within
        what it is estimated to.
        """
        self.load()
        loaded, _ = self.load()
        cpu = Device(name="cpu", kind="cpu", memory_bytes=10**10, threads=2)
        ledger = draw_up(weigh(self.scene), FINAL, cpu)
        textures = ledger.by_kind()["textures"]
        self.assertEqual(textures, loaded.held["textures"])
        trees = loaded.held["mapped"] - textures
        self.assertEqual(trees, loaded.held["acceleration"])
        self.assertAlmostEqual((ledger.mapped - textures) / trees, 1.0, delta=0.1)

    def test_another_mesh_is_another_file(self) -> None:
        """One vertex that moved is noticed; so is another order of the same meshes."""
        self.load()
        moved = floor(2.0)
        self.load(scene_of((moved, WHITE)))
        nudged = replace(moved, positions=moved.positions + np.float32([1e-3, 0, 0]))
        loaded, built = self.load(scene_of((nudged, WHITE)))
        self.assertEqual((built, len(self.files())), (1, 3))
        self.assertEqual(
            loaded.leaves.tobytes(), load.load(scene_of((nudged, WHITE)), 1).leaves.tobytes()
        )
        a, b = (kept_trees.digest_of_mesh(g.positions, g.triangles) for g in (moved, nudged))
        self.assertNotEqual(kept_trees.key_of([a, b]), kept_trees.key_of([b, a]))

    def test_damaged(self) -> None:
        """Truncated, another mark, counts that lie, nothing in it: built anew, and kept again."""

        def cut(path: Path) -> None:
            os.truncate(path, path.stat().st_size // 2)

        def emptied(path: Path) -> None:
            os.truncate(path, 0)

        def marked(path: Path) -> None:
            with path.open("r+b") as f:
                f.seek(-shelf.MARK, os.SEEK_END)
                f.write(b"x" * shelf.MARK)

        def counted_wrongly(path: Path) -> None:
            with path.open("r+b") as f:
                f.seek(-shelf.MARK - 16, os.SEEK_END)
                f.write(np.int64([7, 7]).tobytes())

        self.load()
        for spoil in (cut, emptied, marked, counted_wrongly):
            spoil(self.files()[0])
            loaded, built = self.load()
            self.same(loaded)
            self.assertGreater(built, 3, spoil.__name__)
            self.assertEqual(self.load()[1], 0, spoil.__name__)

    def test_another_builder(self) -> None:
        self.load()
        with patch.object(kept_trees, "_edition", return_value="another"):
            loaded, built = self.load()
        self.same(loaded)
        self.assertGreater(built, 3)

    def test_nowhere_to_keep_it(self) -> None:
        """A full disk, and a folder that cannot be made: as without a cache."""
        full = OSError(errno.ENOSPC, os.strerror(errno.ENOSPC))
        with patch.object(shelf.Path, "replace", side_effect=full):
            self.same(self.load()[0])
        self.assertEqual(list(self.folder.iterdir()), [])
        with patch.object(shelf.Path, "mkdir", side_effect=PermissionError()):
            cache = TextureCache(Path("/proc/nowhere"))
            self.same(load.load(self.scene, 2, cache=cache))

    def test_other_textures_keep_the_trees(self) -> None:
        """What of the geometry is mapped still is, and is told, after the pictures changed."""
        self.load()
        loaded, _ = self.load()
        again = load.retextured(loaded, self.scene, 2, cache=TextureCache(self.folder))
        self.assertEqual(again.held["mapped"], loaded.held["mapped"])
        bare = load.retextured(self.fresh, self.scene, 2)
        self.assertEqual(bare.held["mapped"], 0)

    def test_two_at_once(self) -> None:
        """Two processes that fill it side by side leave one whole file, which both can use."""
        spawn = multiprocessing.get_context("spawn")
        scene = str(small_demo())
        both = [spawn.Process(target=fill, args=(str(self.folder), scene)) for _ in range(2)]
        for process in both:
            process.start()
        for process in both:
            process.join(120)
        self.assertEqual([p.exitcode for p in both], [0, 0])
        self.assertEqual(len(self.files()), 1)
        self.assertEqual(list(self.folder.glob("*.part")), [])
        loaded, built = self.load()
        self.same(loaded)
        self.assertEqual(built, 0)

    def test_removed_while_used(self) -> None:
        self.load()
        again, _ = self.load()
        for path in self.files():
            path.unlink()
        self.same(again)

    def test_small_scenes_are_built(self) -> None:
        with patch.object(load, "WORTH_KEEPING", 10**9):
            self.load()
        self.assertEqual(self.files(), [])


if __name__ == "__main__":
    unittest.main()
