"""Each capability grows by one folder or file and one registry line: toys from outside do."""

from __future__ import annotations

import json
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path
from typing import Any

import numpy as np

from mill_lane.cli.command import Command
from mill_lane.cli.main import COMMANDS, main
from mill_lane.core.devices.kinds import DEVICE_KINDS
from mill_lane.core.formats.catalogue import FORMATS, read_endings
from mill_lane.core.formats.opening import open_scene
from mill_lane.core.formats.saving import save_scene
from mill_lane.core.plan.preflight import CHECKS, Check, Result, Shot
from mill_lane.core.registry import Registry
from mill_lane.core.trim import TRIMS, apply_choices
from mill_lane.core.trim.model import Choice
from mill_lane.core.weigh.measure import weigh
from mill_lane.store.models import DeviceRow, SceneVersion, TrimEntry
from mill_lane.web.stations import STATIONS
from tests.homes import do_tasks
from tests.scenes import small_demo
from tests.toys.device import NODE
from tests.toys.file_format import SOUP, geometries
from tests.toys.shelf.routes import SHELF
from tests.toys.trim import TAKE_OUT
from tests.web.case import STATIONS as USUAL
from tests.web.case import WebCase


def added(test: unittest.TestCase, registry: Registry[Any], thing: Any) -> None:
    """List a thing for the length of a test."""
    registry.add(thing)
    test.addCleanup(registry.remove, thing.name)


class TestRegistry(unittest.TestCase):
    def test_a_name_is_given_once(self) -> None:
        added(self, FORMATS, SOUP)
        with self.assertRaisesRegex(ValueError, "a format called 'soup' already"):
            FORMATS.add(SOUP)
        self.assertEqual((FORMATS["soup"], FORMATS.names[-1]), (SOUP, "soup"))


class TestTrim(WebCase):
    def setUp(self) -> None:
        added(self, TRIMS, TAKE_OUT)
        super().setUp()

    def test_from_proposal_to_a_lighter_scene(self) -> None:
        """Proposed on its page, staged, applied, and what was taken out stays out."""
        asked = self.page("/jobs/1/trim?trim=take_out")
        self.assertIn("not worked out yet", asked.get_text())
        go = self.done("POST", "/api/jobs/1/proposals", json={"trim": "take_out"})["go"]
        self.assertEqual(do_tasks(self.home, "propose"), 1)
        page = self.page(str(go))
        self.assertIn("Take out", page.find("h1").get_text())  # type: ignore[union-attr]
        self.assertGreater(len(page.select("tbody input[type=checkbox]")), 3)
        form = page.select_one("tbody form:has(input[name='targets'])")
        assert form is not None
        key = str(form.select_one("input[name='targets']")["value"])  # type: ignore[index]
        box = form.select_one("input[type=checkbox]")
        assert box is not None
        name = str(box["aria-label"]).removeprefix("Stage ")
        asked_for = {"trim": "take_out", "targets": [key]}
        self.done("POST", "/api/jobs/1/trim-list", json=asked_for)
        with self.home.sessions() as db:
            self.assertEqual(db.query(TrimEntry).one().trim, "take_out")
            old = db.query(SceneVersion).one()
            scene = open_scene(self.home.files.path(old.file_hash))
        choice = Choice.model_validate(
            {"trim": "take_out", "target": {"kind": "object", "index": int(key[7:]), "name": name}}
        )
        lighter, changes = apply_choices(scene, [choice])
        self.assertEqual([(c.target, TAKE_OUT.describe(c)) for c in changes], [(name, "taken out")])
        path = self.folder / "lighter.glb"
        save_scene(lighter, path)
        before, after = weigh(scene), weigh(open_scene(path))
        self.assertEqual(after.instances, before.instances - 1)
        self.assertLess(after.triangles, before.triangles)

    def test_its_page_lists_it_with_the_others(self) -> None:
        titles = [a.get_text() for a in self.page("/jobs/1/trim").select("nav[aria-label=Trims] a")]
        self.assertIn("All", titles[0])
        self.assertIn("Take out", " ".join(titles))
        self.assertIn("Texture size", " ".join(titles))


class TestFormat(unittest.TestCase):
    def test_read_and_written(self) -> None:
        added(self, FORMATS, SOUP)
        self.assertIn(".soup", read_endings())
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "tent.soup"
            path.write_text("0 0 0 1 0 0 0 1 0\n0 0 0 0 1 0 0 0 1\n")
            scene = open_scene(path)
            self.assertEqual(weigh(scene).triangles, 2)
            self.assertEqual(len(scene.cameras), 1)  # added, as to any scene without one
            again = Path(folder) / "again.soup"
            notes = save_scene(scene, again)
            self.assertEqual([n.code for n in notes], ["plain"])
            np.testing.assert_array_equal(
                geometries(open_scene(again))[0].positions, geometries(scene)[0].positions
            )


class TestFormatOnItsPage(WebCase):
    def setUp(self) -> None:
        added(self, FORMATS, SOUP)
        super().setUp()

    def test_it_is_offered(self) -> None:
        buttons = [b.get_text() for b in self.page("/jobs/1/trim").select("button[name=format]")]
        self.assertIn("Write Soup", buttons)
        self.done("POST", "/api/jobs/1/exports", json={"format": "soup"})


class TestDevice(WebCase):
    def setUp(self) -> None:
        added(self, DEVICE_KINDS, NODE)
        super().setUp()

    def test_added_chosen_and_weighed_against(self) -> None:
        page = self.page("/jobs/1/machine")
        self.assertIn("Add a simulated computer elsewhere", [h.get_text() for h in page("h2")])
        form = {"kind": "node", "name": "Attic", "memory_gb": 2, "desktop_gb": 0.5}
        self.done("POST", "/api/jobs/1/devices", json=form | {"threads_free": 2})
        with self.home.sessions() as db:
            row = db.query(DeviceRow).order_by(DeviceRow.id.desc()).first()
            assert row is not None
            self.assertEqual((row.data["kind"], row.data["threads_free"]), ("node", 2))
        self.assertIn("Attic (simulated): 1.50 GB", self.page("/jobs/1/machine").h1.get_text())
        self.assertIn("Attic (simulated)", self.page("/jobs/1/fit").h1.get_text(" "))

    def test_no_kind_of_that_name(self) -> None:
        form = {"kind": "abacus", "name": "Attic", "memory_gb": 2}
        problem = self.refused("POST", "/api/jobs/1/devices", json=form)
        self.assertIn("abacus", problem["error"])
        self.assertIn("node", problem["hint"])


class TestStation(WebCase):
    def setUp(self) -> None:
        added(self, STATIONS, SHELF)
        super().setUp()

    def test_a_page_and_a_figure_on_every_other(self) -> None:
        page = self.page("/jobs/1/shelf")
        self.assertEqual([p.get_text() for p in page.select("main p")][:2], ["rye", "spelt"])
        for station in (*USUAL, "shelf"):
            self.assertIn("2 jars", self.figure(self.page(f"/jobs/1/{station}"), "shelf"))


class TestCheckAndCommand(WebCase):
    def test_a_check_before_the_frame(self) -> None:
        def full_moon(shot: Shot) -> list[Result]:
            return [Result("moon", "warning", f"No moon over {shot.analysis.camera}.")]

        added(self, CHECKS, Check("moon", full_moon))
        self.assertIn("No moon over", self.page("/jobs/1/finish").get_text())

    def test_a_command(self) -> None:
        got = []
        add = lambda sub: sub.add_argument("scene")  # noqa: E731
        added(self, COMMANDS, Command("ask", "Ask.", add, lambda a: got.append(a.scene) or {}))
        self.assertEqual((main(["ask", str(small_demo())]), got), (0, [str(small_demo())]))


class TestNothingIsMissing(unittest.TestCase):
    def loaded(self, modules: str, *unwanted: str) -> list[str]:
        """Which of the unwanted modules a process has read that imported some."""
        code = (
            f"import sys, json, {modules}\n"
            f"found = [m for m in sys.modules if (m + '.').startswith({tuple(unwanted)!r})]\n"
            "print(json.dumps(found))"
        )
        command = [sys.executable, "-c", code]
        done = subprocess.run(command, capture_output=True, text=True, check=False)
        self.assertEqual(done.returncode, 0, done.stderr)
        found: list[str] = json.loads(done.stdout)
        return found

    def test_the_command_line_does_without_the_web(self) -> None:
        modules = "mill_lane.cli.main, mill_lane.jobs.trims, mill_lane.work.kinds"
        unwanted = ("fastapi.", "jinja2.", "mill_lane.web.")
        self.assertEqual(self.loaded(modules, *unwanted), [])
        self.assertIn("mill_lane.cli.main", self.loaded(modules, "mill_lane."))

    def test_a_process_that_computes_starts_with_little(self) -> None:
        """An artist waits for it: what only the server uses is not read."""
        unwanted = ("alembic.", "fastapi.", "jinja2.", "mill_lane.web.")
        self.assertEqual(self.loaded("mill_lane.work.child, mill_lane.work.kinds", *unwanted), [])
