"""What is written for people: links lead somewhere, examples run, the README stays a door."""

from __future__ import annotations

import io
import os
import re
import shlex
import socket
import tempfile
import time
import unittest
import urllib.request
from contextlib import redirect_stderr, redirect_stdout
from pathlib import Path

from mill_lane.cli import main
from mill_lane.cli.main import COMMANDS
from tests.browser.server import Server
from tests.coarse import coarsely

ROOT = Path(__file__).resolve().parents[1]
PAGES = [ROOT / "README.md", ROOT / "CHANGELOG.md", *sorted((ROOT / "docs").glob("*.md"))]
LINK = re.compile(r"\]\(([^)#\s]*)(#[^)\s]*)?\)|(?:href|src)=\"([^\"]+)\"")
LARGEST_DOOR = 9_000  # bytes
WIDEST = 200  # characters of a line, tables and figures apart


def anchors(path: Path) -> set[str]:
    """What can be linked to within a page: its headings, as they are written in addresses."""
    heads = re.findall(r"^#+ (.+)$", path.read_text(), re.MULTILINE)
    return {re.sub(r"[^\w\- ]", "", h.lower()).strip().replace(" ", "-") for h in heads}


def examples() -> list[str]:
    text = (ROOT / "docs/terminal.md").read_text()
    return re.findall(r"^    (mill-lane .+)$", text, re.MULTILINE)


class TestPages(unittest.TestCase):
    def test_links_lead_somewhere(self) -> None:
        met = 0
        for page in PAGES:
            for file, anchor, source in LINK.findall(page.read_text()):
                name = file or source
                if re.match(r"[a-z]+:", name):
                    continue
                target = (page.parent / name).resolve() if name else page
                with self.subTest(page=page.name, link=name + anchor):
                    met += 1
                    self.assertTrue(target.exists())
                    if anchor:
                        self.assertIn(anchor[1:], anchors(target))
        self.assertGreater(met, 30)

    def test_every_page_is_linked_from_the_door(self) -> None:
        said = (ROOT / "README.md").read_text()
        for page in PAGES[1:]:
            self.assertIn(f"({page.relative_to(ROOT).as_posix()})", said)
        for picture in (ROOT / "docs/screenshots").glob("*.png"):
            text = "".join(p.read_text() for p in PAGES)
            self.assertIn(f"screenshots/{picture.name}", text)

    def test_the_readme_is_a_door(self) -> None:
        text = (ROOT / "README.md").read_text()
        self.assertLessEqual(len(text.encode()), LARGEST_DOOR)
        for page in PAGES:
            if page.name in ("performance.md", "architecture.md", "security.md"):
                continue
            wide = [x for x in page.read_text().splitlines() if len(x) > WIDEST]
            self.assertEqual([x for x in wide if not x.startswith(("|", "    "))], [], page.name)


class TestTerminal(unittest.TestCase):
    def test_every_command_has_an_example(self) -> None:
        named = {shlex.split(line)[1] for line in examples()}
        self.assertEqual(named, {command.name for command in COMMANDS})

    def test_examples_run(self) -> None:
        """One after another in an empty folder, as they are written."""
        before = os.getcwd()
        self.addCleanup(os.chdir, before)
        with tempfile.TemporaryDirectory() as folder:
            os.chdir(folder)
            for line in examples():
                with self.subTest(line):
                    arguments = shlex.split(line)[1:]
                    if arguments[0] == "serve":
                        self.served(arguments)
                        continue
                    said = io.StringIO()
                    with redirect_stdout(said), redirect_stderr(said), coarsely():
                        status = main(arguments)
                    self.assertEqual(status or 0, 0, said.getvalue()[-600:])
            made = {p.name for p in Path().iterdir()}
            os.chdir(before)
        self.assertLessEqual({"bakery.glb", "look.exr", "clean.exr", "lighter.glb"}, made)

    def served(self, arguments: list[str]) -> None:
        """The server answers at the port that it was given."""
        port = int(arguments[arguments.index("--port") + 1])
        with socket.socket() as s:
            if s.connect_ex(("127.0.0.1", port)) == 0:
                self.skipTest(f"port {port} is taken here")
        server = Server(Path("home").absolute(), None, port=port)
        try:
            with urllib.request.urlopen(f"http://127.0.0.1:{port}/", timeout=10) as answer:
                self.assertEqual(answer.status, 200)
        finally:
            server.close()
            time.sleep(0.1)
