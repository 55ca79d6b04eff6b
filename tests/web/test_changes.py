"""What pages ask for: it is done, kept, and undone; what cannot be done is refused with a
reason.
"""

from __future__ import annotations

import json
from pathlib import Path
from unittest import mock

import numpy as np
from fastapi.testclient import TestClient
from sqlalchemy import select
from sqlalchemy.orm import Session

from mill_lane.core.crop import crop_text, shares_of
from mill_lane.core.render.state import write_state
from mill_lane.jobs import looks, recipes
from mill_lane.jobs.lookup import find_job, recipe_of
from mill_lane.jobs.summary import Summary, summarise
from mill_lane.store.models import (
    DeviceRow,
    Job,
    Render,
    RenderGroup,
    SceneVersion,
    Task,
    TrimEntry,
)
from mill_lane.store.transactions import write
from mill_lane.web.shared import pages
from mill_lane.work.kinds import KINDS
from mill_lane.work.kinds.base import Context
from tests.scenes import small_demo, write_sky
from tests.web.case import WebCase, forms

SMALL = {"width": 64, "height": 36, "device": 1, "whole": True}

MEASURED = {
    "ended_by": "samples",
    "seconds": 3.0,
    "samples_mean": 4.0,
    "noise": 0.02,
    "peak_memory_bytes": 10**8,
}


class TestDevicesAndRecipes(WebCase):
    def test_devices(self) -> None:
        card = {"name": "Card, 8 GB", "memory_gb": "8", "desktop_gb": "0.5"}
        self.done("POST", "/api/jobs/1/devices", json=card)
        page = self.page("/jobs/1/machine")
        self.assertEqual(self.figure(page, "machine"), "7.50 GB free")
        self.assertIn("left", self.figure(page, "fit"))
        self.refused("PUT", "/api/devices/3", json={"name": "x", "memory_gb": 1, "desktop_gb": 2})
        self.refused("PUT", "/api/devices/3", json={"name": "x", "memory_gb": "much"})
        self.refused("DELETE", "/api/devices/1")
        kept = {"name": "x", "memory_gb": 1, "desktop_gb": 2, "threads_free": 0}
        self.done("PUT", "/api/devices/1", json=kept)
        self.done("DELETE", "/api/devices/3")
        with self.home.sessions() as db:
            cpu = db.get_one(DeviceRow, 1).data
            self.assertEqual((cpu["threads_free"], cpu["desktop_bytes"]), (0, 2 * 10**9))
            self.assertEqual(db.get_one(Job, 1).device_id, 1)
        self.assertEqual(len(forms(self.page("/jobs/1/machine"), "/api/jobs/1/device")), 2)
        self.done("POST", "/api/devices/3/restore")
        self.assertEqual(len(forms(self.page("/jobs/1/machine"), "/api/jobs/1/device")), 3)

    def test_recipes(self) -> None:
        values = {"width": "800", "height": "450", "noise_percent": "2.5", "light:sky": "0.5"}
        self.done("PUT", "/api/jobs/1/recipes/final", json=values)
        with self.home.sessions() as db:
            final = recipe_of(db, find_job(db, 1), "final")
        self.assertEqual((final.width, final.noise, final.light_scales), (800, 0.025, {"sky": 0.5}))
        for values, field in (
            ({"width": "-5"}, "Width"),
            ({"samples": "2"}, "Samples"),
            ({"noise_percent": "some"}, "Noise"),
            ({"layers": ["nothing"]}, "nothing"),
        ):
            self.assertIn(
                field, self.refused("PUT", "/api/jobs/1/recipes/final", json=values)["error"]
            )
        self.refused("PUT", "/api/jobs/1/recipes/other", 404, json={})
        with self.home.sessions() as db:
            self.assertEqual(recipe_of(db, find_job(db, 1), "final"), final)

    def test_sky_pictures(self) -> None:
        """A picture becomes the sky of both recipes; what is none leaves the sky as it was."""
        path = self.folder / "dawn.hdr"
        write_sky(path, np.full((8, 16, 3), 0.5))
        self.done("POST", "/api/jobs/1/sky?name=dawn.hdr", content=path.read_bytes())

        def skies() -> set[str]:
            with self.home.sessions() as db:
                job = find_job(db, 1)
                return {recipe_of(db, job, r).environment_picture for r in ("draft", "final")}

        (picture,) = skies()
        self.assertTrue(picture.endswith("/16x8/dawn.hdr"))
        for name, content in (("dawn.png", b"x"), ("dawn.hdr", b"x"), ("dawn.exr", b"")):
            self.refused("POST", f"/api/jobs/1/sky?name={name}", content=content)
        self.refused("POST", "/api/jobs/9/sky?name=dawn.hdr", 404, content=path.read_bytes())
        self.assertEqual(skies(), {picture})
        self.assertEqual(list(self.home.scratch.iterdir()), [])
        self.done("DELETE", "/api/jobs/1/sky")
        self.assertEqual(skies(), {""})


class TestTrials(WebCase):
    def test_trials_are_written_down_before_they_run(self) -> None:
        too_small = self.refused("POST", "/api/jobs/1/trials", json={"device": 2})
        self.assertIn("Card, 4 GB", too_small["error"])
        crop = {"device": 1, "crop": crop_text(shares_of((10, 20, 960, 200), 960, 540))}
        go = self.done("POST", "/api/jobs/1/trials", json=crop)["go"]
        self.assertEqual(go, "/jobs/1/trials?b=1&role=draft")
        for crop in ("2,0,3,1", "0.1,0.1", "left"):
            self.refused("POST", "/api/jobs/1/trials", json={"device": 1, "crop": crop})
        self.refused("POST", "/api/jobs/1/trials", json={"device": 1, "frame": 500})
        self.refused("POST", "/api/jobs/1/trials", json={"device": 1, "only_component": "magic"})
        with self.home.sessions() as db:
            trial = db.scalars(select(Render)).one()
            self.assertEqual((trial.number, trial.region), (1, [10, 20, 960, 200]))
            self.assertEqual(trial.task.state if trial.task else "", "queued")
            self.assertEqual(trial.device["kind"], "cpu")
            self.assertGreater(trial.predicted["memory_bytes"], 10**9)
            task = trial.task_id
        self.done("PUT", "/api/trials/1/note", json={"note": "grain on the jars"})
        note = self.page("/jobs/1/trials").find("input", attrs={"aria-label": "Note of trial 1"})
        self.assertEqual(note["value"], "grain on the jars")  # type: ignore[index]
        go = self.done("DELETE", "/api/trials/1")["go"]
        self.assertEqual(len(forms(self.page(str(go)), "/api/trials/1/restore")), 1)
        self.done("POST", "/api/trials/1/restore")
        self.done("POST", f"/api/tasks/{task}/cancel")
        self.assertEqual(len(forms(self.page("/jobs/1/trials"), f"/api/tasks/{task}/retry")), 1)
        self.done("POST", f"/api/tasks/{task}/retry")
        with self.home.sessions() as db:
            self.assertEqual(db.get_one(Task, task).state, "queued")

    def test_what_was_changed_is_there_when_the_answer_comes(self) -> None:
        """The commit happens before the answer is sent, not after it."""
        seen: list[str] = []
        app = self.client.app

        async def watched(scope: dict[str, object], receive: object, send: object) -> None:
            async def spy(message: dict[str, object]) -> None:
                if message["type"] == "http.response.start":
                    with self.home.sessions() as db:
                        seen.append(db.get_one(Job, 1).name)
                await send(message)  # type: ignore[operator]

            await app(scope, receive, spy)  # type: ignore[operator]

        client = TestClient(watched, base_url="http://127.0.0.1:8410")  # type: ignore[arg-type]
        client.put("/api/jobs/1/name", json={"name": "Renamed"})
        self.assertEqual(seen, ["Renamed"])

    def test_a_page_is_of_one_moment(self) -> None:
        """What changes while a page is drawn is not in its stamp either: it is told of that."""
        before = self.page("/jobs/1/scene").find("body")["data-stamp"]
        seen: list[int] = []

        def meanwhile(db: Session, job: Job, version: SceneVersion) -> Summary:
            found = summarise(db, job, version)
            write(self.home.sessions, lambda own: recipes.edit(own, job, "draft", {"bounces": 9}))
            write(self.home.sessions, lambda own: looks.ask_for_look(own, own.get_one(Job, 1)))
            seen.append(recipe_of(db, job, "draft").bounces)
            return found

        with mock.patch.object(pages, "summarise", meanwhile):
            page = self.page("/jobs/1/scene")
        self.assertEqual(page.find("body")["data-stamp"], before)
        self.assertNotEqual(seen, [9])
        self.assertNotEqual(self.page("/jobs/1/scene").find("body")["data-stamp"], before)

    def test_saved_sessions(self) -> None:
        """A session comes back as a paused trial; of another scene or edition it is refused."""
        self.done("POST", "/api/jobs/1/trials", json={**SMALL, "endless": "true"})
        with self.home.sessions() as db:
            trial = db.scalars(select(Render)).one()
            number = trial.task_id
            assert number is not None
            assert trial.task is not None
            self.assertGreater(trial.recipe["samples"], 10**6)
            self.assertLess(recipe_of(db, find_job(db, 1), "draft").samples, 10**6)
            kind = KINDS["render"]
            payload = kind.payload_type.model_validate(trial.task.payload)
            request = kind.prepare(Context(db, self.home, trial.task), payload)
            state = self.home.task_folder(number) / "state.npz"
            write_state(state, {"about": np.array(request.about), "key": np.array(request.key)})
            # It is not paused.
            self.assertEqual(self.client.get(f"/tasks/{number}/session").status_code, 404)
            trial.task.state = "paused"
            db.commit()
        about = json.loads(request.about)
        answer = self.client.get(f"/tasks/{number}/session")
        self.assertIn("trial-1.session", answer.headers["content-disposition"])
        go = self.done("POST", "/api/jobs/1/sessions?name=mine.session", content=answer.content)
        self.assertIn("b=2", str(go["go"]))
        with self.home.sessions() as db:
            second = db.scalars(select(Render).where(Render.number == 2)).one()
            assert second.task is not None
            self.assertEqual(second.task.state, "paused")
            kept = self.home.task_folder(second.task.id) / "state.npz"
            self.assertEqual(kept.read_bytes(), answer.content)
            payload = kind.payload_type.model_validate(second.task.payload)
            again = kind.prepare(Context(db, self.home, second.task), payload)
            self.assertEqual(again.key, request.key)

        def other(**more: object) -> bytes:
            path = self.folder / "other.session"
            said = json.dumps(about | more)
            write_state(path, {"about": np.array(said), "key": np.array("k")})
            return path.read_bytes()

        for content, words in (
            (b"", "empty"),
            (b"junk", "damaged"),
            (answer.content[:-40], "damaged"),
            (other(file_hash="0" * 64), "another scene"),
            (other(later=1), "another edition"),
            (other(recipe={"width": -1}), "another edition"),
        ):
            problem = self.refused("POST", "/api/jobs/1/sessions?name=x.session", content=content)
            self.assertIn(words, problem["error"])
        with self.home.sessions() as db:
            self.assertEqual(len(list(db.scalars(select(Render)))), 2)
        self.assertEqual(list(self.home.scratch.glob("upload-*")), [])
        self.assertEqual(self.client.get("/tasks/999/session").status_code, 404)

    def test_the_log_shows_the_newest_and_all_on_demand(self) -> None:
        for bounces in range(14):
            self.done("POST", "/api/jobs/1/trials", json=SMALL | {"bounces": bounces})
        with self.home.sessions() as db:
            for task in db.scalars(select(Task).where(Task.kind == "render")):
                task.state = "cancelled"
            db.commit()

        def numbers(query: str) -> list[int]:
            rows = self.page(f"/jobs/1/trials?{query}").select("#main tbody tr")
            return [
                int(r.select("td")[1].get_text().split()[0])
                for r in rows
                if len(r.select("td")) > 1
            ]

        self.assertEqual(numbers("b=14"), list(range(14, 2, -1)))
        self.assertEqual(numbers("a=1&b=14"), [*range(14, 2, -1), 1])
        self.assertEqual(numbers("all=1"), list(range(14, 0, -1)))
        text = self.page("/jobs/1/trials").get_text(" ")
        self.assertIn("bounces 1 → 2", text)  # against the one before, which is not shown itself

    def test_final_frames(self) -> None:
        self.refused("POST", "/api/jobs/1/runs", json={"frame": 1})  # it does not fit the card
        self.done("PUT", "/api/jobs/1/device", json={"device": "1"})
        for frame in ("7", "9"):
            self.done("POST", "/api/jobs/1/runs", json={"frame": frame})
        with self.home.sessions() as db:
            frames = db.scalars(select(Render).order_by(Render.id)).all()
            groups = {g.id: g for g in db.scalars(select(RenderGroup))}
            self.assertEqual([(r.frame, r.number) for r in frames], [(7, 1), (9, 2)])
            self.assertEqual([groups[r.group_id or 0].number for r in frames], [1, 2])
        page = self.page("/jobs/1/finish?run=1")
        self.assertIn("Frame 7", page.get_text())
        # Done, and on a card whose kind this edition may no longer know.
        for kind, words in (("card", "Old card (simulated), version 1"), ("gone", "Old card, ver")):
            with self.home.sessions() as db:
                frame = db.scalars(select(Render).where(Render.frame == 9)).one()
                db.get_one(Task, frame.task_id).state = "done"
                frame.device = {"kind": kind, "name": "Old card"}
                frame.measured = MEASURED
                frame.picture = "0" * 64
                db.commit()
            self.assertIn(words, self.page("/jobs/1/finish?run=2").get_text())


class TestTrimListAndJobs(WebCase):
    def staged(self) -> list[TrimEntry]:
        with self.home.sessions() as db:
            return list(db.scalars(select(TrimEntry).order_by(TrimEntry.id)))

    def test_trim_list(self) -> None:
        self.refused("POST", "/api/jobs/1/trim", json={})
        self.done("POST", "/api/jobs/1/trim-list", json={"all": "true", "stage": "true"})
        n = len(self.staged())
        self.assertGreater(n, 20)
        self.assertEqual(self.figure(self.page("/jobs/1/scene"), "trim"), f"{n} staged")
        first = self.staged()[0]
        self.assertEqual(first.proposal["parameters"], first.parameters)
        off = {"targets": ["image:9"], "stage": "false"}
        self.done("POST", "/api/jobs/1/trim-list", json=off)
        unknown = {"targets": ["image:12345", "mesh:0", "nonsense"], "stage": "true"}
        self.done("POST", "/api/jobs/1/trim-list", json=unknown)
        self.done("POST", "/api/jobs/1/trim-list", json={"targets": [first.target]})  # again
        self.assertEqual(len(self.staged()), n - 1)
        self.refused("POST", "/api/jobs/1/trim-list", 404, json={"trim": "magic", "all": True})
        self.done("POST", "/api/jobs/1/trim", json={})
        self.refused("POST", "/api/jobs/1/trim", json={})
        with self.home.sessions() as db:
            task = db.scalars(select(Task).where(Task.kind == "trim")).one()
            targets = {c["target"]["index"] for c in task.payload["choices"]}
            self.assertEqual(len(targets), n - 1)
            self.assertNotIn(9, targets)

    def test_scenes_go_out(self) -> None:
        self.refused("POST", "/api/jobs/1/exports", json={"format": "ply"})
        self.done("POST", "/api/jobs/1/exports", json={"format": "obj"})
        with self.home.sessions() as db:
            task = db.scalars(select(Task).where(Task.kind == "export")).one()
            self.assertEqual(task.payload["ending"], ".zip")
        self.page("/jobs/1/trim")

    def test_jobs_can_be_put_away_and_back(self) -> None:
        go = self.done("DELETE", "/api/jobs/1")["go"]
        self.assertEqual(self.client.get("/jobs/1/scene").status_code, 404)
        self.assertEqual(len(forms(self.page(str(go)), "/api/jobs/1/restore")), 1)
        self.done("POST", "/api/jobs/1/restore")
        self.page("/jobs/1/scene")

    def test_scenes_come_in(self) -> None:
        content = small_demo().read_bytes()
        made = self.done("POST", "/api/scenes?name=my%20scene.glb", content=content)
        with self.home.sessions() as db:
            source = db.get_one(Task, made["task"]).payload["source"]
        self.assertEqual((self.home.scratch / source).read_bytes(), content)
        self.page(f"/jobs/{made['job']}/scene")
        empty = self.refused("POST", "/api/scenes?name=a.glb", content=b"")
        self.assertIn("0 bytes", empty["error"])
        self.refused("POST", "/api/scenes?name=a.exe", content=b"x")
        self.assertEqual([p.name for p in self.home.scratch.iterdir()], [Path(source).name])

    def test_variants_are_chosen_as_a_file_is_opened(self) -> None:
        content = small_demo().read_bytes()
        at = "/api/scenes?name=a.glb&choose="
        self.assertIn("names no payload", self.refused("POST", f"{at}-x", content=content)["error"])
        made = self.done("POST", f"{at}look%3Dred", content=content)
        (self.folder / "scenes" / "shop.glb").write_bytes(content)
        asked = {"file": "shop.glb", "choose": "red"}
        again = self.done("POST", "/api/scenes/from-folder", json=asked)
        with self.home.sessions() as db:
            said = [db.get_one(Task, m["task"]).payload["choose"] for m in (made, again)]
        self.assertEqual(said, ["look=red", "red"])

    def test_scenes_from_the_folder(self) -> None:
        (self.folder / "scenes" / "shop.glb").write_bytes(small_demo().read_bytes())
        listed = self.page("/").find("input", attrs={"name": "file", "value": "shop.glb"})
        self.assertIsNotNone(listed)
        made = self.done("POST", "/api/scenes/from-folder", json={"file": "shop.glb"})
        self.assertEqual(made["go"], f"/jobs/{made['job']}/scene")
        self.refused("POST", "/api/scenes/from-folder", json={"file": "gone.glb"})
