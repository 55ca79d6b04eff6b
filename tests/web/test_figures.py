"""Figures in words, the memory bar, the floor plan, what changed between two trials."""

from __future__ import annotations

import unittest

from mill_lane.core.formats.opening import open_scene
from mill_lane.core.progress import left_of
from mill_lane.core.recipe import DRAFT
from mill_lane.core.weigh.ledger import Ledger, Step
from mill_lane.core.weigh.measure import weigh
from mill_lane.store.models import Render, SceneVersion, Task
from mill_lane.web.shared import format as shown
from mill_lane.web.shared.events import said_of
from mill_lane.web.shared.memory_bar import memory_bar
from mill_lane.web.stations.scene.floor_plan import HEIGHT, WIDTH, floor_plan
from mill_lane.web.stations.trials.log import changes, rows
from tests.scenes import small_demo


class TestFigures(unittest.TestCase):
    def test_three_digits(self) -> None:
        for x, text in (
            (6.214, "6.21"),
            (62.14, "62.1"),
            (621.4, "621"),
            (6214, "6214"),
            (0.06214, "0.0621"),
            (9.996, "10.0"),
            (0, "0"),
        ):
            self.assertEqual(shown.three(x), text)

    def test_units(self) -> None:
        self.assertEqual(
            [shown.size(n) for n in (999, 1500, 12_300_000, 999_900_000, 3.2e9)],
            ["999 B", "1.50 kB", "12.3 MB", "1.00 GB", "3.20 GB"],
        )
        self.assertEqual(
            [shown.count(n) for n in (812, 48_000, 6_214_000)], ["812", "48.0 k", "6.21 M"]
        )
        self.assertEqual(
            [shown.duration(s) for s in (0.42, 36.1, 280, 51600, None)],
            ["0.420 s", "36.1 s", "4:40 min", "14 h 20", "–"],
        )
        self.assertEqual(shown.predicted(2797, 1119), "47 ± 19 min")
        self.assertEqual(shown.predicted(51600, 2400), "14 h 20 ± 40 min")
        self.assertEqual(shown.listed(["a", "b", "c", "d"], 2), "a, b and 2 more")

    def test_live_figures_are_written_as_at_rest(self) -> None:
        """One way to write a duration: the page gets the very words that it is drawn with."""
        live = {"left": 280.0, "seconds": 51600.0, "samples": 12.34, "noise": 0.0314}
        said = said_of(Task(kind="x", payload={}, share=0.5, text="sample 3", live=live))
        self.assertEqual(said["seconds"], shown.duration(51600))
        self.assertIn(shown.duration(280), said["left"])
        self.assertEqual(said["noise"], shown.percent(0.0314))

    def test_time_left_is_told_of_loading_and_of_rendering_apart(self) -> None:
        """While a scene is loaded, nobody knows how long the rendering will take."""
        task = Task(kind="x", payload={}, share=0.0, text="reading the scene", live={})
        self.assertNotIn("left", said_of(task))
        task.live = {"phase": "loading", "left": 12.0}
        self.assertEqual(said_of(task)["left"], f"about {shown.duration(12)} to load")
        self.assertEqual([left_of(s, t) for s, t in ((0.02, 60), (0.5, 0.9))], [None, None])
        self.assertEqual(left_of(0.25, 10), 30)

    def test_a_trial_that_is_almost_black_says_so(self) -> None:
        measured = {
            "setup_seconds": 1.0,
            "seconds": 2.0,
            "noise": 0.002,
            "threads": 2,
            "peak_memory_bytes": 1e9,
            "load_before": 0.1,
            "load_after": 0.2,
        }
        for luminance, black in ((0.0005, True), (0.02, False), (None, False)):
            known = {} if luminance is None else {"mean_luminance": luminance}
            trial = Render(
                id=1,
                version=SceneVersion(number=1),
                number=1,
                recipe=DRAFT.model_dump(),
                region=[0, 0, 640, 360],
                frame=1,
                device={"kind": "cpu"},
                note="",
                preview={},
                measured=measured | known,
            )
            row = rows([trial], None, 16 / 9)[0]
            self.assertEqual(row.black, black)
            self.assertEqual("almost black" in row.title, black)

    def test_the_memory_bar_adds_up(self) -> None:
        steps = (Step("geometry", "g", 200), Step("textures", "t", 600), Step("film", "f", 200))
        b = memory_bar(Ledger(steps), 500, 1000)
        self.assertAlmostEqual(sum(s.width + s.over_width for s in b.segments), b.end, places=1)
        self.assertAlmostEqual(sum(s.width for s in b.segments), b.post, places=1)
        self.assertEqual([s.over_width > 0 for s in b.segments], [False, True, True])

    def test_the_floor_plan_keeps_inside(self) -> None:
        p = floor_plan(weigh(open_scene(small_demo())), ())
        self.assertGreater(len(p.outlines), 60)
        x, y = p.camera
        self.assertTrue(0 < x < WIDTH and 0 < y < HEIGHT)

    def test_what_changed_in_words(self) -> None:
        def trial(**recipe: object) -> Render:
            values = DRAFT.model_dump(mode="json") | recipe
            region = [0, 0, values["width"], values["height"]]
            return Render(recipe=values, region=region, version_id=1, frame=1, preview={})

        self.assertEqual(changes(trial(), None), "base")
        self.assertEqual(changes(trial(), trial()), "same again")
        self.assertEqual(changes(trial(bounces=4), trial()), "bounces 2 → 4")
        told = changes(trial(noise=0.02), trial(noise=0.0))
        self.assertEqual(told, "noise threshold 0 % → 2 %")
        # A recipe of an earlier schema is the same recipe.
        old = {"clamp_bounced": 2.0, "width": 960, "height": 540, "samples": 16, "min_samples": 4}
        before = Render(recipe=old, region=[0, 0, 960, 540], version_id=1, frame=1, preview={})
        self.assertIn("clamp 2 → 0", changes(trial(), before))
