"""Runs of frames: begun, rendered one after another, written by name, stopped, gone on with."""

from __future__ import annotations

import numpy as np
import OpenEXR
from PIL import Image
from sqlalchemy import select

from mill_lane.core.formats.exr import read_exr
from mill_lane.core.formats.pictures import THUMBNAIL_SIZE
from mill_lane.core.image.srgb import view
from mill_lane.core.plan.way import Means
from mill_lane.core.render.layers import exr_names
from mill_lane.store.models import RecipeRow, Render, RenderGroup, Task
from mill_lane.work import queue
from mill_lane.work.ending import conclude
from mill_lane.work.failures import died
from mill_lane.work.kinds.base import Context
from mill_lane.work.kinds.render import RENDER
from mill_lane.work.runs import frame_done, known_settings, store
from tests.homes import do_tasks
from tests.web.case import WebCase

PAGE = "/jobs/1/finish/night"
SMALL = {"width": 48, "height": 27, "samples": 2, "min_samples": 1}


class NightCase(WebCase):
    """A small final recipe on this computer, and how a run is begun and rendered."""

    def setUp(self) -> None:
        super().setUp()
        self.done("PUT", "/api/jobs/1/device", json={"device": 1})
        self.done("PUT", "/api/jobs/1/recipes/final", json=SMALL)
        self.out = self.home.frames

    def text(self, query: str = "") -> str:
        return " ".join(self.page(PAGE + query).get_text().split())

    def begin(self, **sheet: object) -> int:
        found = self.done(
            "POST", "/api/jobs/1/nights", json={"name": "n/s.####", "read": True, **sheet}
        )
        return int(str(found["run"]))

    def settings(self, run: int) -> dict:
        with self.home.sessions() as db:
            return dict(db.get_one(RenderGroup, run).settings)

    def render(self, most: int = 99) -> int:
        """Render frames until nothing waits; returns how many."""
        count = 0
        while count < most and do_tasks(self.home, "render"):
            count += 1
        return count


class TestNights(NightCase):
    def test_a_range_under_its_own_names(self) -> None:
        """In the order that shows the range early, each file whole, numbers as they should be."""
        self.assertIn("No run yet", self.text())
        run = self.begin(frames="1-5", exr="half", png=True, jpeg=90)
        self.assertEqual(self.settings(run)["every"], [1, 5, 3, 2, 4])
        with self.home.sessions() as db:
            waiting = list(db.scalars(select(Task).where(Task.state == "queued")))
            self.assertEqual([t.kind for t in waiting], ["render"])  # one at a time
        self.assertEqual(self.render(), 5)
        self.assertEqual(self.settings(run)["state"], "done")
        names = {f"s.{n:04d}{e}" for n in range(1, 6) for e in (".exr", ".png", ".jpg")}
        self.assertEqual({p.name for p in (self.out / "n").iterdir()}, names)
        self.assertIn("5 of 5 frames", self.text())
        self.files()
        with self.home.sessions() as db:
            rows = list(db.scalars(select(Render).where(Render.group_id == run)))
        self.assertEqual([r.measured["warm"] for r in rows[1:]], [True] * 4)  # loaded once
        for r in rows:
            self.assertGreater(r.measured["whole_seconds"], r.measured["seconds"])

    def files(self) -> None:
        """16 bits by the reference binding; the view transform in PNG and JPEG, as IEC 61966-2-1
        has it: linear light would be far darker.
        """
        path = self.out / "n/s.0001.exr"
        with OpenEXR.File(str(path), separate_channels=True) as f:
            self.assertEqual(f.channels()["R"].pixels.dtype, np.float16)
            self.assertEqual(f.channels()["Z"].pixels.dtype, np.float32)
            self.assertEqual(f.channels()["distance"].pixels.dtype, np.float32)
            said = dict(f.header())
        self.assertEqual((said["imageCounter"], said["millLane:samplesAtMost"]), (1, 2))
        self.assertEqual(len(said["millLane:sceneHash"]), 64)
        linear = read_exr(path, exr_names())["beauty"]
        shown = view(linear, 0.0)[..., :3].astype(int)
        png = np.asarray(Image.open(path.with_suffix(".png")))[..., :3].astype(int)
        self.assertLessEqual(np.abs(png - shown).max(), 2)
        jpeg = np.asarray(Image.open(path.with_suffix(".jpg"))).astype(int)
        self.assertLess(np.abs(jpeg - shown).mean(), 12)

    def test_stopped_and_gone_on_with(self) -> None:
        run = self.begin(frames="1-4", order="straight")
        self.refused(
            "POST", "/api/jobs/1/nights", json={"frames": "7", "name": "m/s.#", "read": True}
        )
        self.render(1)
        self.done("POST", f"/api/nights/{run}/stop", json={"now": False})  # none has begun
        self.assertEqual(
            (self.settings(run)["state"], self.settings(run)["left"]), ("stopped", [2, 3, 4])
        )
        self.assertEqual(self.render(), 0)
        self.assertIn("stopped", self.text())
        self.done("PUT", f"/api/nights/{run}/frames", json={"frames": "4, 9, 1"})
        self.assertEqual(self.settings(run)["left"], [4, 9])  # 1 is done
        self.refused("PUT", f"/api/nights/{run}/frames", json={"frames": "4-2"})
        self.refused("PUT", f"/api/nights/{run}/frames", json={"frames": "100000"})
        self.done("POST", f"/api/nights/{run}/go-on", json={})
        self.assertEqual(self.render(), 2)
        self.assertEqual(
            sorted(p.name for p in (self.out / "n").glob("*.exr")),
            [f"s.{n:04d}.exr" for n in (1, 4, 9)],
        )
        self.refused("POST", f"/api/nights/{run}/stop", json={"now": True})
        self.refused("POST", "/api/nights/999/go-on", 404, json={})

    def test_a_frame_that_is_stopped_by_itself(self) -> None:
        """Its task, as any other can be: the run stops with it, and renders it when it goes on."""
        run = self.begin(frames="1-2", order="straight")
        with self.home.sessions.begin() as db:
            row = db.scalars(select(Render).where(Render.group_id == run)).one()
            row.picture = "0" * 64
            frame_done(db, row, RENDER, stopped=True)
            queue.end(db, db.get_one(Task, row.task_id), "done")
        settings = self.settings(run)
        self.assertEqual((settings["state"], settings["left"]), ("stopped", [1, 2]))
        self.done("POST", f"/api/nights/{run}/go-on", json={})
        self.assertEqual(self.render(), 2)
        self.assertIn("2 of 2 frames", self.text())

    def test_stopping_after_the_frame(self) -> None:
        run = self.begin(frames="1-3", order="straight")
        with self.home.sessions.begin() as db:
            task = db.scalars(select(Task).where(Task.state == "queued")).one()
            task.state = "running"
        self.done("POST", f"/api/nights/{run}/stop", json={"now": False})
        self.assertIn("stops after this frame", self.text())
        with self.home.sessions.begin() as db:
            db.get_one(Task, task.id).state = "queued"
        self.assertEqual(self.render(), 1)
        self.assertEqual(self.settings(run)["state"], "stopped")

    def test_what_is_there(self) -> None:
        self.begin(frames="1-2", png=True)
        self.render()
        told = self.refused(
            "POST", "/api/jobs/1/nights", json={"frames": "1-3", "name": "n/s.####", "png": True}
        )
        self.assertIn("there already", told["error"])
        text = self.text()
        self.assertIn("it would not begin", text)
        run = self.begin(frames="1-3", there="skip", png=True)
        self.assertEqual(self.settings(run)["every"], [3])
        self.render()
        told = self.refused(
            "POST",
            "/api/jobs/1/nights",
            json={"frames": "1-3", "name": "n/s.####", "png": True, "there": "skip", "read": True},
        )
        self.assertIn("All of the frames", told["error"])
        run = self.begin(frames="2", there="overwrite", png=True)
        self.assertEqual(self.settings(run)["every"], [2])

    def test_sheets_that_are_wrong(self) -> None:
        for sheet, words in (
            ({"frames": "0-3"}, "outside the range"),
            ({"frames": "3-1"}, "no frames"),
            ({"frames": "one"}, "no frame and no range"),
            ({"name": "shot"}, "no place for the frame"),
            ({"name": "../s.####"}, "not below"),
            ({"name": "/tmp/s.####"}, "not below"),
            ({"exr": ""}, "Nothing would be written"),
        ):
            told = self.refused(
                "POST", "/api/jobs/1/nights", json={"frames": "1", "name": "n/s.####"} | sheet
            )
            self.assertIn(words, told["error"], sheet)
            self.text()  # the page of such a sheet says so
        self.refused("POST", "/api/jobs/1/nights", json={"order": "magic"})
        self.assertEqual(self.settings_count(), 0)

    def settings_count(self) -> int:
        with self.home.sessions() as db:
            return len(list(db.scalars(select(RenderGroup).where(RenderGroup.kind == "run"))))

    def test_the_sheet_is_kept_and_checked(self) -> None:
        sheet = {"frames": "1-4x2, 1-4", "name": "a/b.##", "png": True, "jpeg": "80"}
        self.done("PUT", "/api/jobs/1/run-sheet", json=sheet)
        page = self.page(PAGE)
        text = " ".join(page.get_text().split())
        for words in (
            "a/b.01.exr, a/b.01.png, a/b.01.jpg",
            "GB free",
            "not known",
            "Written below",
        ):
            self.assertIn(words, text)
        self.assertNotIn("named twice", text)
        self.done("PUT", "/api/jobs/1/run-sheet", json=sheet | {"frames": "1, 1, 2"})
        self.assertIn("1 frames are named twice", self.text())
        self.done("PUT", "/api/jobs/1/recipes/final", json={"pattern_block": 4})
        self.assertIn("Preview means are on", self.text())
        for words in ("Everything is in focus", "Motion is not blurred"):
            self.assertIn(words, text)
        meant = {"f_stop": 2.8, "focus_distance": 3, "shutter": 0.5, "sun_elevation": 20}
        lights = {"light_scales": {"lamp": 0.0}, "environment_visible": False}
        with self.home.sessions.begin() as db:
            row = db.scalars(select(RecipeRow).where(RecipeRow.chosen == "final")).one()
            row.data = row.data | meant | lights
        text = self.text()
        told = ("at 3 m, f/2.8", "over 0.5 of a frame", "and is not seen", "“lamp” among")
        for words in told:
            self.assertIn(words, text)
        run = self.begin(frames="2")
        self.done("PUT", "/api/jobs/1/run-sheet", json=sheet)
        self.done("POST", f"/api/nights/{run}/copy", json={})
        self.assertIn("n/s.0001.exr", self.text())

    def test_warnings_are_ticked_off(self) -> None:
        """They stop it until they are read, and stay in its record."""
        sheet = {"frames": "1", "name": "n/s.####"}
        told = self.refused("POST", "/api/jobs/1/nights", json=sheet)
        self.assertIn("not ticked off", told["error"])
        run = self.begin(frames="1")
        self.assertIn("How long it takes is not known", " ".join(self.settings(run)["warnings"]))
        self.assertIn("read before it began", self.text())

    def test_a_rehearsal(self) -> None:
        """Five frames, small, and up to four beside the heaviest; what they took tells the range,
        and nothing of it is in the way.
        """
        big = {"width": 400, "height": 225, "samples": 8, "min_samples": 8}
        self.done("PUT", "/api/jobs/1/recipes/final", json=big)
        sheet = {"frames": "1-9", "name": "n/s.####"}
        found = self.done("POST", "/api/jobs/1/rehearsals", json=sheet)
        run = int(str(found["run"]))
        self.assertEqual(self.settings(run)["every"], [1, 9, 5, 3, 7])
        self.assertEqual(self.settings(run)["recipe"]["width"], 160)
        count = self.render()
        self.assertIn(count, range(6, 10))
        self.assertEqual(len(self.settings(run)["every"]), count)
        self.assertEqual(len(list((self.out / "rehearsal").glob("*.png"))), count)
        text = self.text()
        self.assertIn("Rehearsal 1", text)
        self.assertRegex(text, r"About [\d.]+ ± [\d.]+ minutes for 9 frames, from a rehearsal")
        self.done("PUT", "/api/jobs/1/recipes/final", json={"bounces": 3})
        self.assertNotIn("from a rehearsal", self.text())  # that is another picture

    def test_denoised_with_the_frame(self) -> None:
        """The clean picture lies beside the raw one, in a folder of its own."""
        self.done("PUT", "/api/jobs/1/recipes/final", json={"denoise": "with", "samples": 24})
        self.begin(frames="2", png=True)
        self.render()
        self.assertEqual(do_tasks(self.home, "denoise"), 1)
        raw, clean = (
            read_exr(self.out / path, exr_names())["beauty"]
            for path in ("n/s.0002.exr", "n/denoised/s.0002.exr")
        )
        self.assertEqual(raw.shape, clean.shape)
        self.assertTrue((raw != clean).any())
        self.assertTrue((self.out / "n/denoised/s.0002.png").exists())
        # The film strip shows it as well, where it is surely the better picture.
        with self.home.sessions() as db:
            layers = db.scalars(select(Render).where(Render.kind == "frame")).one().layers
        self.assertNotIn("unsure", layers["denoised"])
        with Image.open(self.home.files.path(layers["denoised"]["hash"])) as clean_picture:
            clean_picture.thumbnail(THUMBNAIL_SIZE)
            with Image.open(self.home.files.path(layers["thumbnail"]["hash"])) as small:
                self.assertEqual(small.tobytes(), clean_picture.tobytes())

    def test_the_picture_alone_in_all_its_bits(self) -> None:
        self.begin(frames="3", exr="float", layers="beauty")
        self.render()
        with OpenEXR.File(str(self.out / "n/s.0003.exr"), separate_channels=True) as f:
            self.assertEqual(set(f.channels()), {"R", "G", "B"})
            self.assertEqual(f.channels()["R"].pixels.dtype, np.float32)


class TestMoreSamples(NightCase):
    def test_from_where_it_ended(self) -> None:
        """The same bits as with all of them at once; the others stay as they are."""
        run = self.begin(frames="1-2", order="straight", keep_states=True, exr="float")
        self.render()
        with self.home.sessions() as db:
            rows = {r.frame: r for r in db.scalars(select(Render).where(Render.group_id == run))}
        self.refused("POST", f"/api/frames/{rows[1].id}/more", json={"samples": 2})
        self.assertIn("Go on", self.text("?frame=1"))
        self.done("POST", f"/api/frames/{rows[1].id}/more", json={"samples": 5})
        self.assertEqual(self.settings(run)["state"], "running")
        with self.home.sessions.begin() as db:  # killed on the way, it is tried again from there
            task = db.scalars(select(Task).where(Task.state == "queued")).one()
            conclude(Context(db, self.home, task), RENDER, "failed", died(-9), {})
        self.assertEqual(self.render(), 1)
        self.assertEqual((self.settings(run)["state"], self.settings(run)["more"]), ("done", {}))
        with self.home.sessions() as db:
            query = select(Render).where(Render.group_id == run, ~Render.removed)
            now = {r.frame: r for r in db.scalars(query)}
        self.assertEqual((now[1].recipe["samples"], now[1].measured["samples_mean"]), (5, 5.0))
        self.assertTrue(now[1].measured["resumed"])
        self.assertEqual(now[2].id, rows[2].id)
        self.done("PUT", "/api/jobs/1/recipes/final", json={**SMALL, "samples": 5})
        self.begin(frames="1", exr="float", name="m/s.####")
        self.render()
        far, once = (
            read_exr(self.out / f"{name}/s.0001.exr", exr_names())["beauty"] for name in "nm"
        )
        np.testing.assert_array_equal(far, once)

    def test_nothing_is_added_to_another_picture(self) -> None:
        """A frame of before textures were made smaller gets no samples of after; the page says
        so, and where the run changes after it was asked for, the frame is begun anew.
        """
        run = self.begin(frames="1-2", order="straight", keep_states=True, exr="float")
        self.render()
        with self.home.sessions() as db:
            found = db.scalars(select(Render).where(Render.group_id == run))
            rows = {r.frame: r.id for r in found}
        means = {"means": Means(sizes={0: 8, 1: 8, 2: 8})}
        changed = means | {"less": ["from frame 3 on: smaller textures"]}
        self.done("POST", f"/api/frames/{rows[1]}/more", json={"samples": 5})
        self.change(run, changed)
        self.render()
        with self.home.sessions() as db:
            row = db.scalars(select(Render).where(Render.frame == 1, ~Render.removed)).one()
        self.assertEqual((row.measured["samples_mean"], row.measured["resumed"]), (5.0, False))
        said = self.text("?frame=2")
        self.assertIn("No more samples can be added", said)
        self.assertIn("smaller textures", said)
        problem = self.refused("POST", f"/api/frames/{rows[2]}/more", json={"samples": 5})
        self.assertIn("smaller textures", problem["error"])
        self.assertNotIn("No more samples", self.text("?frame=1"))  # it is of the run as it is

    def change(self, run: int, changed: dict[str, object]) -> None:
        """Have a run go on with other means, as a step of less memory does."""
        with self.home.sessions.begin() as db:
            group = db.get_one(RenderGroup, run)
            store(group, known_settings(group).model_copy(update=changed))

    def test_no_state_no_more(self) -> None:
        run = self.begin(frames="1")
        self.render()
        with self.home.sessions() as db:
            row = db.scalars(select(Render).where(Render.group_id == run)).one()
        self.assertNotIn("Go on", self.text("?frame=1"))
        self.refused("POST", f"/api/frames/{row.id}/more", json={"samples": 50})
        self.refused("POST", "/api/frames/999/more", 404, json={"samples": 50})


class TestMends(NightCase):
    def test_one_click_mends(self) -> None:
        """What a check found is put in order, in the recipe or in the sheet, and found no more."""
        self.done(
            "PUT",
            "/api/jobs/1/recipes/final",
            json={"russian_roulette_threshold": 0.1, "layers": [], "noise": 0.02, "samples": 64},
        )
        self.done("PUT", "/api/jobs/1/run-sheet", json={"frames": "3-9,5", "name": "s.#"})
        for code, words in (
            ("preview", "Preview means are on"),
            ("denoise", "Denoising later needs more"),
            ("noise", "misses bright paths"),
            ("twice", "named twice"),
            ("output", "Nothing would be written"),
        ):
            if code == "output":
                sheet = {"frames": "3", "name": "s.#", "exr": ""}
                self.done("PUT", "/api/jobs/1/run-sheet", json=sheet)
            self.assertIn(words, self.text())
            self.done("POST", "/api/jobs/1/run-sheet/mend", json={"code": code})
            self.assertNotIn(words, self.text())
            if code != "denoise":
                self.refused("POST", "/api/jobs/1/run-sheet/mend", json={"code": "disk"})
        with self.home.sessions() as db:
            final = db.scalars(select(RecipeRow).where(RecipeRow.chosen == "final")).one().data
        self.assertEqual((final["russian_roulette_threshold"], final["min_samples"]), (0.0, 16))
        self.refused("POST", "/api/jobs/1/run-sheet/mend", 404, json={"code": "magic"})

    def test_rungs_in_their_order(self) -> None:
        """What may be taken, in the artist's order, with what each would leave."""
        rungs = ["strips", "smaller_textures"]
        sheet = {"frames": "1", "name": "s.#", "rungs": rungs, "far_m": 2}
        self.done("PUT", "/api/jobs/1/run-sheet", json=sheet)
        boxes = self.page(PAGE).select("input[name='rungs']")
        self.assertEqual([str(b["value"]) for b in boxes][:2], rungs)
        self.assertEqual(len([b for b in boxes if b.has_attr("checked")]), 2)
        self.refused("PUT", "/api/jobs/1/run-sheet", 422, json={**sheet, "rungs": ["magic"]})
        self.refused("PUT", "/api/jobs/1/run-sheet", 422, json={**sheet, "ready_by": "25:00"})
        self.done("PUT", "/api/jobs/1/run-sheet", json={**sheet, "ready_by": "07:30"})
        self.assertIn("07:30", str(self.page(PAGE).select_one("#sheet-ready")))
