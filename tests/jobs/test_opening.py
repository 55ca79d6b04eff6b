"""Scenes that may be opened from a folder."""

from __future__ import annotations

import tempfile
import unittest
from pathlib import Path
from unittest import mock

from mill_lane.jobs.opening import LISTED_SECONDS, SceneFolder


class TestSceneFolder(unittest.TestCase):
    def test_it_is_looked_through_now_and_then(self) -> None:
        """Asked again at once it tells what it knows; later what is there then."""
        with tempfile.TemporaryDirectory() as name, mock.patch("time.monotonic") as clock:
            folder, clock.return_value = Path(name), 100.0
            (folder / "sub").mkdir()
            (folder / "sub" / "a.GLB").write_bytes(b"12345")
            (folder / "notes.txt").write_bytes(b"no scene")
            scenes = SceneFolder(folder)
            self.assertEqual(scenes.listed(), [("sub/a.GLB", 5)])
            (folder / "b.obj").write_bytes(b"123")
            self.assertEqual(len(scenes.listed()), 1)
            clock.return_value += LISTED_SECONDS + 1
            self.assertEqual(scenes.listed(), [("b.obj", 3), ("sub/a.GLB", 5)])

    def test_a_folder_that_is_not_there(self) -> None:
        for folder in (None, Path("/nowhere/at/all")):
            self.assertEqual(SceneFolder(folder).listed(), [])
