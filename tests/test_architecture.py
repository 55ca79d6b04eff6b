"""What holds of all files: their length, their imports, where colours stand.

The layers themselves are checked by import-linter.
"""

from __future__ import annotations

import re
import unittest
from collections.abc import Iterator
from pathlib import Path

import grimp
import networkx

ROOT = Path(__file__).resolve().parent.parent
SOURCE = ROOT / "src" / "mill_lane"
MOST_LINES, WIDEST_TEMPLATE = 400, 140


def python_files() -> Iterator[Path]:
    for folder in ("src", "tests", "bench"):
        yield from (ROOT / folder).rglob("*.py")


class TestFiles(unittest.TestCase):
    def test_modules_are_short(self) -> None:
        long = {
            str(path.relative_to(ROOT)): count
            for path in python_files()
            if (count := len(path.read_text().splitlines())) > MOST_LINES
        }
        self.assertEqual(long, {})

    def test_lines_of_templates(self) -> None:
        long = [
            f"{path.relative_to(ROOT)}:{number}"
            for path in SOURCE.rglob("*.html")
            for number, line in enumerate(path.read_text().splitlines(), 1)
            if len(line) > WIDEST_TEMPLATE
        ]
        self.assertEqual(long, [])

    def test_colours_are_tokens(self) -> None:
        """A colour is named in frontend/app.css; nothing else writes one down."""
        written = re.compile(r"#[0-9a-fA-F]{6}\b|#[0-9a-fA-F]{3}\b(?![\w-])|rgba?\(|hsla?\(")
        files = [*SOURCE.rglob("*.html"), *(SOURCE / "web" / "static" / "app").glob("*.js")]
        found = [
            f"{path.relative_to(ROOT)}: {text}"
            for path in files
            for text in written.findall(re.sub(r"&#\d+;", "", path.read_text()))
        ]
        self.assertEqual(found, [])

    def test_formatting_is_never_switched_off(self) -> None:
        marks = ("fmt: " + "skip", "fmt: " + "off", "djlint:" + "off", "biome-" + "ignore")
        files = [*python_files(), *SOURCE.rglob("*.html"), *SOURCE.rglob("app/*.js")]
        found = [(p.name, m) for p in files for m in marks if m in p.read_text()]
        self.assertEqual(found, [])


class TestImports(unittest.TestCase):
    def test_no_circles(self) -> None:
        """No file imports, over whatever others, itself again."""
        graph = grimp.build_graph("mill_lane", exclude_type_checking_imports=True)
        edges = networkx.DiGraph(
            (module, other)
            for module in graph.modules
            for other in graph.find_modules_directly_imported_by(module)
        )
        circles = [sorted(c) for c in networkx.strongly_connected_components(edges) if len(c) > 1]
        self.assertEqual(circles, [])
