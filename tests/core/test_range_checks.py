"""What each check before a range finds, and what it does not find."""

from __future__ import annotations

import tempfile
import unittest
from dataclasses import replace
from datetime import datetime
from pathlib import Path
from typing import Any

from mill_lane.core.devices.model import GB, Device
from mill_lane.core.formats.opening import open_scene
from mill_lane.core.plan.checks import CHECKS, Asked, Found, check_range
from mill_lane.core.plan.checks.time import next_time
from mill_lane.core.plan.estimate import Estimate
from mill_lane.core.plan.less_memory import RUNGS
from mill_lane.core.plan.night import TimeLeft
from mill_lane.core.plan.preflight import Shot
from mill_lane.core.plan.run_sheet import RunSheet
from mill_lane.core.plan.way import Way
from mill_lane.core.recipe import DENOISE_LAYERS, MOST_SAMPLES, Recipe
from mill_lane.core.render.load import load
from mill_lane.core.scene.defaults import ADDED_CAMERA
from mill_lane.core.weigh.analysis import Analysis, Visibility
from mill_lane.core.weigh.measure import weigh
from mill_lane.core.weigh.observe import observe
from mill_lane.core.weigh.visibility import Observer
from mill_lane.demo import shapes
from tests.scenes import WHITE, scene_of, small_demo

CPU = Device(name="Processor", kind="cpu", memory_bytes=16 * GB, threads=4)
PLAIN = Recipe(layers=DENOISE_LAYERS, transparent_layers=16)
LOOKED = Visibility(
    frames=[1],
    rays=1,
    steady=True,
    height=1080,
    transparency_depth=3,
    transparency_depth_p99=2,
    overlap="",
    overlap_frame=5,
    fog=0.0,
)
EVENING = datetime(2026, 11, 27, 22, 0)


class TestChecks(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        found = weigh(open_scene(small_demo()), 16 / 9)
        cls.analysis: Analysis = found.model_copy(update={"visibility": LOOKED})

    def setUp(self) -> None:
        held = tempfile.TemporaryDirectory(prefix="mill-lane-tests-")
        self.addCleanup(held.cleanup)
        self.folder = Path(held.name)

    def asked(
        self, recipe: Recipe = PLAIN, sheet: RunSheet | None = None, **analysis: Any
    ) -> Asked:
        seen = self.analysis.model_copy(update=analysis)
        sheet = sheet or RunSheet(frames="1-9", name="n/s.####")
        shot = Shot(seen, recipe, CPU)
        known = Estimate(60.0, 6.0, "a trial")
        return Asked(shot, sheet, self.folder, frame=known, now=EVENING)

    def found(self, asked: Asked, code: str) -> list[Found]:
        return [f for f in check_range(asked) if f.code == code]

    def level(self, asked: Asked, code: str) -> str:
        """The worst level at which a code is found, empty for none."""
        levels = [f.level for f in self.found(asked, code)]
        return next((x for x in ("error", "warning", "ok") if x in levels), "")

    def test_nothing_is_wrong(self) -> None:
        wrong = [f for f in check_range(self.asked()) if f.level != "ok"]
        self.assertEqual([f.code for f in wrong], [])

    def test_each_finds_what_it_is_for(self) -> None:
        """A level with what is wrong, and "ok" or nothing without it."""
        changed = PLAIN.model_copy
        for code, level, asked in (
            ("lights", "warning", self.asked(changed(update={"light_scales": {"lamp": 0.0}}))),
            ("overlap", "warning", self.asked(changed(update={"transparent_layers": 2}))),
            ("overlap", "warning", self.asked(visibility=None)),
            ("denoise", "warning", self.asked(changed(update={"layers": ("albedo",)}))),
            ("samples", "error", self.asked(changed(update={"samples": MOST_SAMPLES}))),
            ("preview", "warning", self.asked(changed(update={"pattern_block": 2}))),
            ("noise", "warning", self.asked(changed(update={"noise": 0.02, "min_samples": 64}))),
            ("noise", "warning", self.asked(changed(update={"noise": 0.02, "min_samples": 4}))),
            ("twice", "warning", self.asked(sheet=RunSheet(frames="1-9,3", name="s.#"))),
            ("camera", "warning", self.asked(camera=ADDED_CAMERA)),
            ("hidden", "warning", replace(self.asked(), hidden=("crate",))),
            ("output", "error", self.asked(sheet=RunSheet(name="s.#", exr="", png=False))),
            ("time", "warning", replace(self.asked(), frame=None)),
            (
                "inside",
                "warning",
                self.asked(visibility=LOOKED.model_copy(update={"inside": [("crate", 3, 0.9)]})),
            ),
        ):
            with self.subTest(code):
                self.assertEqual(self.level(asked, code), level)
                self.assertIn(self.level(self.asked(), code), ("ok", ""))

    def test_every_fourth_first_is_meant(self) -> None:
        sheet = RunSheet(frames="1-9x4, 1-9", name="s.#")
        self.assertEqual(self.found(self.asked(sheet=sheet), "twice"), [])

    def test_mends_mend(self) -> None:
        """With what a mend says, the check finds nothing any more."""
        changed = PLAIN.model_copy
        for code, asked in (
            ("lights", self.asked(changed(update={"light_scales": {"lamp": 0.0, "sun": 2.0}}))),
            ("overlap", self.asked(changed(update={"transparent_layers": 2}))),
            ("denoise", self.asked(changed(update={"layers": ("albedo",)}))),
            ("samples", self.asked(changed(update={"samples": MOST_SAMPLES}))),
            ("preview", self.asked(changed(update={"russian_roulette_threshold": 0.1}))),
            ("noise", self.asked(changed(update={"noise": 0.02, "min_samples": 64}))),
            ("twice", self.asked(sheet=RunSheet(frames="1-9,3", name="s.#"))),
            ("output", self.asked(sheet=RunSheet(name="s.#", exr="", png=False))),
        ):
            with self.subTest(code):
                mend = self.found(asked, code)[0].mend
                assert mend is not None
                shot = asked.shot
                recipe = Recipe.model_validate(shot.recipe.model_dump() | dict(mend.recipe))
                sheet = RunSheet.model_validate(asked.sheet.model_dump() | dict(mend.sheet))
                again = replace(asked, shot=replace(shot, recipe=recipe), sheet=sheet)
                self.assertNotIn(self.level(again, code), ("warning", "error"))

    def test_files_that_are_there(self) -> None:
        for there, level in (("refuse", "error"), ("skip", "ok"), ("overwrite", "warning")):
            sheet = RunSheet(frames="1-3", name="s.#", there=there)
            self.assertEqual(self.level(self.asked(sheet=sheet), "output"), "ok")
            for path in sheet.paths(self.folder, 2):
                path.touch()
            self.assertEqual(self.level(self.asked(sheet=sheet), "output"), level)
            for path in sheet.paths(self.folder, 2):
                path.unlink()

    def test_memory(self) -> None:
        """Too little is an error, unless a step that is allowed makes it fit."""
        card = Device(name="Card", kind="card", memory_bytes=10**7, samples_in_flight=1 << 18)
        asked = self.asked()
        way = Way(self.analysis, PLAIN, card, cpu=CPU)
        for rungs, level in (((), "error"), (("processor",), "warning")):
            tight = replace(asked, way=way, sheet=RunSheet(name="s.#", rungs=rungs))
            self.assertEqual(self.level(tight, "memory"), level)
        self.assertIn(RUNGS["processor"].title, self.found(tight, "memory")[0].text)
        self.assertEqual(self.level(replace(asked, way=replace(way, device=CPU)), "memory"), "ok")

    def test_a_deadline(self) -> None:
        """160 frames at 3 minutes are 8 hours (common practice): from 22:00 that is 6:00."""
        sheet = RunSheet(frames=f"1-{self.analysis.frames[1]}", name="s.#")
        each, count = 8 * 3600 / 160, len(sheet.listed())
        asked = replace(self.asked(), frame=Estimate(each, each / 20, "a trial"))
        self.assertEqual(round(each / 60), 3)
        for minutes, level, words in (
            (count * 3 * 1.1, "ok", "In time"),
            (count * 3 * 1.01, "warning", "may not"),
            (count * 3 * 0.9, "warning", "will not"),
        ):
            hour, minute = divmod(22 * 60 + round(minutes), 60)
            due = sheet.model_copy(update={"ready_by": f"{hour % 24:02d}:{minute:02d}"})
            found = self.found(replace(asked, sheet=due), "deadline")
            self.assertEqual([f.level for f in found], [level])
            self.assertIn(words, found[0].text)
        every = replace(asked, every=TimeLeft(60.0, 1.0, 0), sheet=due)
        self.assertIn("In time", self.found(every, "deadline")[0].text)
        self.assertEqual(self.found(asked, "deadline"), [])

    def test_the_next_time(self) -> None:
        """Tonight or tomorrow, never now."""
        self.assertEqual(next_time("23:30", EVENING), datetime(2026, 11, 27, 23, 30))
        self.assertEqual(next_time("06:00", EVENING), datetime(2026, 11, 28, 6, 0))
        self.assertEqual(next_time("22:00", EVENING), datetime(2026, 11, 28, 22, 0))

    def test_all_are_listed(self) -> None:
        self.assertEqual(len(CHECKS), len({c.look for c in CHECKS}))


class TestInside(unittest.TestCase):
    def test_the_camera_in_a_ball(self) -> None:
        """A ball around the camera is seen from inside; one before it, or a room, is not."""
        ball = shapes.ball(0.5, 16)
        for at, inside in (((0.0, 0.0, 5.0), True), ((0.0, 0.0, 0.0), False)):
            scene = scene_of((shapes.moved(ball, at), WHITE), eye=(0, 0, 5))
            view = observe(Observer(load(scene, 1), 16 / 9, 1080))
            self.assertEqual([i for _, i, _ in view.inside], [0] if inside else [])
            for _, _, share in view.inside:
                self.assertGreater(share, 0.99)
