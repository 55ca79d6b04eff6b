"""Starting where it cannot work: one line that says what to do, and exit status 2."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

SERVE = [sys.executable, "-m", "mill_lane.cli", "serve"]
NOBODY = 65534


def can_mount() -> bool:
    """Whether this user may mount a small disk of their own, in a namespace."""
    if shutil.which("unshare") is None:
        return False
    done = subprocess.run(
        ["unshare", "-rm", "sh", "-c", "mount -t tmpfs none /mnt"], capture_output=True, check=False
    )
    return done.returncode == 0


class TestStart(unittest.TestCase):
    def setUp(self) -> None:
        keep = tempfile.TemporaryDirectory()
        self.addCleanup(keep.cleanup)
        self.folder = Path(keep.name)

    def refused(self, command: list[str], *words: str) -> str:
        done = subprocess.run(command, capture_output=True, text=True, timeout=60, check=False)
        said = done.stderr.strip()
        self.assertEqual(done.returncode, 2, said)
        self.assertEqual(len(said.splitlines()), 1, said)
        self.assertNotIn("Traceback", said)
        for word in words:
            self.assertIn(word, said)
        return said

    def serve(self, *more: str) -> list[str]:
        return [*SERVE, "--home", str(self.folder / "home"), *more]

    def test_ports_and_hosts(self) -> None:
        self.refused(self.serve("--port", "70000"), "70000", "--port")

    def test_a_database_that_is_none(self) -> None:
        home = self.folder / "home"
        home.mkdir()
        (home / "mill-lane.sqlite").write_bytes(b"this is no database, but a text. " * 100)
        self.refused(self.serve(), "not a database", "--home")
        self.assertEqual((home / "mill-lane.sqlite").stat().st_size, 3300)  # nothing is lost

    def test_a_file_in_the_place_of_the_folder(self) -> None:
        (self.folder / "home").write_text("x")
        self.refused(self.serve(), "cannot be used", "--home")

    def test_two_servers_on_one_home(self) -> None:
        from mill_lane.store.home import lock

        held = lock(self.folder / "home")
        self.addCleanup(held.close)
        self.refused(self.serve(), "already serving", "--home")

    @unittest.skipUnless(os.getuid() == 0, "only root can be somebody else")
    def test_a_home_of_another_user(self) -> None:
        home = self.folder / "home"
        home.mkdir(mode=0o755)
        self.folder.chmod(0o755)
        code = (
            f"import os, sys; os.setgid({NOBODY}); os.setuid({NOBODY})\n"
            "from pathlib import Path\n"
            "from mill_lane.core.errors import MillError\n"
            "from mill_lane.store.home import lock\n"
            "try: lock(Path(sys.argv[1]))\n"
            "except MillError as e: print(e.message, e.hint, file=sys.stderr); sys.exit(2)\n"
        )
        # Everything is imported before, since this user's own folders may be closed to others.
        code = "import mill_lane.store.home\n" + code
        self.refused([sys.executable, "-c", code, str(home)], "another user", "--home")

    @unittest.skipUnless(can_mount(), "no disk can be mounted here")
    def test_disks(self) -> None:
        """One of 100 kB, and one that can only be read."""
        disk = self.folder / "disk"
        disk.mkdir()
        start = f"{' '.join(SERVE)} --home {disk}/home"
        small = f"mount -t tmpfs -o size=100k none {disk} && {start}"
        self.refused(["unshare", "-rm", "sh", "-c", small], "disk", "full", "--home")
        read_only = f"mount -t tmpfs -o ro none {disk} && {start}"
        self.refused(["unshare", "-rm", "sh", "-c", read_only], "only be read", "--home")
