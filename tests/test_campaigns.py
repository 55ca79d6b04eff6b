"""Short forms of the benches that kill, damage, crowd and guess; the long ones are in `bench`."""

from __future__ import annotations

import shutil
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path
from typing import ClassVar

from bench import clients, damage, kill, schema
from bench.server import Server
from tests.test_start import can_mount
from tests.thorough import thorough


@thorough
class TestWithAServer(unittest.TestCase):
    """On one server, for the sake of time."""

    server: ClassVar[Server]

    @classmethod
    def setUpClass(cls) -> None:
        keep = tempfile.TemporaryDirectory()
        cls.addClassCleanup(keep.cleanup)
        cls.server = Server(Path(keep.name) / "home")
        cls.addClassCleanup(cls.server.stop)
        cls.server.start()

    def test_clients(self) -> None:
        found = clients.campaign(self.server, clients=6, seconds=10, slow=3)
        self.assertGreater(found["downloaded"], 10**6)
        self.assertGreater(found["pages"], 8)
        self.assertEqual((found["errors_5xx"], found["unanswered"], found["lost_rows"]), (0, 0, 0))

    def test_kills(self) -> None:
        """A killed worker in the middle of a frame, a killed server in the middle of an upload."""
        found = kill.campaign(self.server, 2, 1, ("worker", "server"), ("run", "upload"))
        self.assertEqual(found["rounds"], 2)
        for name in ("lost", "damaged", "different_bits"):
            self.assertEqual(found[name], 0, found)
        self.assertEqual(found["worker_back"], 2)
        self.assertLessEqual(found["seconds_lost_max"], 10.0)


class TestCampaigns(unittest.TestCase):
    @thorough
    def test_damage(self) -> None:
        found = damage.run(files=140, seed=11)
        self.assertEqual(found["files"], 140)
        self.assertGreater(found["read"], 5)
        for name in ("crashes", "uncaught", "outside"):
            self.assertEqual(found[name], 0, found)

    @thorough
    def test_schema(self) -> None:
        found = schema.run(cases=300)
        self.assertGreaterEqual(found["cases"], 250)
        self.assertEqual(found["errors_5xx"], 0)

    @unittest.skipUnless(can_mount(), "no disk can be mounted here")
    def test_a_disk_that_fills_up(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            command = [shutil.which("unshare") or "", "-rm", sys.executable, "-W", "ignore"]
            done = subprocess.run(
                [*command, "-m", "tests.full_disk", folder],
                capture_output=True,
                text=True,
                timeout=120,
                check=False,
            )
        self.assertEqual(done.stdout.strip(), "all is well", done.stderr[-1500:])
