"""The server without a browser: headers, who may ask, what is refused and how, figures."""

from __future__ import annotations

import csv
import io
import json
import tempfile
import unittest
from pathlib import Path
from types import SimpleNamespace

import numpy as np
from fastapi.testclient import TestClient
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from sqlalchemy import select

from mill_lane.core.formats.opening import open_scene
from mill_lane.core.render.state import write_state
from mill_lane.core.weigh.measure import weigh
from mill_lane.serve import furnish
from mill_lane.store.home import Home, open_home
from mill_lane.store.models import Job, Run, SceneVersion, Staged, Task, Trial
from mill_lane.web import format as shown
from mill_lane.web.app import Settings, create_app
from mill_lane.web.presenters.beam import beam
from mill_lane.web.presenters.plan import plan
from mill_lane.web.presenters.tables import as_csv
from mill_lane.web.presenters.trials import changes
from mill_lane.work import queue
from tests.scenes import small_demo, write_sky


def furnished(folder: Path) -> Home:
    """An installation whose demo job is open, without a worker."""
    home = open_home(folder)
    with home.sessions() as db:
        furnish(db, "small")
        for task in db.scalars(select(Task)):
            queue.end(db, task, "done")
        copy = home.scratch / "demo.glb"
        copy.write_bytes(small_demo().read_bytes())
        digest = home.files.take(copy, db, "bakery.glb")
        analysis = weigh(open_scene(home.files.path(digest))).model_dump(mode="json")
        # As heavy as the full one, so that there is something to say.
        for t in analysis["textures"]:
            t.update(width=4096, height=4096, memory_bytes=67108863)
        version = SceneVersion(
            job_id=1,
            number=1,
            file_hash=digest,
            file_name="bakery.glb",
            analysis=analysis,
            changes=[],
        )
        db.add(version)
        db.flush()
        db.get_one(Job, 1).version_id = version.id
        db.commit()
    return home


class WebCase(unittest.TestCase):
    def setUp(self) -> None:
        keep = tempfile.TemporaryDirectory()
        self.addCleanup(keep.cleanup)
        self.folder = Path(keep.name)
        self.home = furnished(self.folder / "home")
        (self.folder / "scenes").mkdir()
        app = create_app(Settings(self.home, self.folder / "scenes"))
        self.client = TestClient(app, base_url="http://127.0.0.1:8410")
        self.client.__enter__()
        self.addCleanup(self.client.__exit__, None, None, None)

    def page(self, path: str) -> str:
        answer = self.client.get(path, headers={"accept": "text/html"})
        self.assertEqual(answer.status_code, 200, answer.text[:300])
        return answer.text

    def refused(self, method: str, path: str, status: int = 422, **more: object) -> dict[str, str]:
        answer = self.client.request(method, path, **more)  # type: ignore[arg-type]
        self.assertEqual(answer.status_code, status, answer.text)
        problem: dict[str, str] = answer.json()
        self.assertTrue(problem["error"] and problem["hint"], problem)
        return problem


class TestGuard(WebCase):
    def test_headers(self) -> None:
        for path in ("/", "/healthz", "/static/app.js", "/nowhere"):
            h = self.client.get(path).headers
            self.assertIn("default-src 'none'", h["content-security-policy"])
            self.assertNotIn("unsafe", h["content-security-policy"])
            self.assertEqual(h["x-content-type-options"], "nosniff")

    def test_hosts_and_origins(self) -> None:
        self.refused("GET", "/", 403, headers={"host": "evil.example"})
        for origin in ("http://evil.example", "http://127.0.0.1:9999", "null"):
            self.refused(
                "PUT", "/api/jobs/1/name", 403, headers={"origin": origin}, json={"name": "x"}
            )
        ok = self.client.put(
            "/api/jobs/1/name", headers={"origin": "http://127.0.0.1:8410"}, json={"name": "Dawn"}
        )
        self.assertEqual(ok.status_code, 200)
        self.assertIn("Dawn", self.page("/"))
        self.assertEqual(
            self.client.get("/healthz", headers={"host": "localhost:1"}).json()["status"], "ok"
        )

    def test_no_script_or_style_in_the_pages(self) -> None:
        for path in (
            "/",
            *(f"/jobs/1/{s}" for s in ("scene", "machine", "fit", "trials", "trim", "finish")),
        ):
            text = self.page(path)
            self.assertNotIn(" style=", text)
            self.assertNotIn("<script>", text)
            self.assertNotIn("://", text.replace("http://www.w3.org", ""))

    def test_names_are_escaped(self) -> None:
        self.client.put("/api/jobs/1/name", json={"name": "<img src=x onerror=alert(1)>"})
        self.assertNotIn("<img src=x", self.page("/"))


class TestPages(WebCase):
    def test_stations_tell_the_figures(self) -> None:
        scene = self.page("/jobs/1/scene?mesh=0&tab=textures&sort=name")
        self.assertIn("meshes are copies of 7, 2 of them turned, mirrored or scaled", scene)
        fit = self.page("/jobs/1/fit")
        self.assertIn("It would fail while loading textures", fit)
        trim = self.page("/jobs/1/trim")
        self.assertIn("larger than the distance rule asks", trim)
        self.assertIn("too small for this scene", self.page("/jobs/1/trials"))

    def test_every_view_of_the_scene(self) -> None:
        for tab in ("meshes", "textures", "lights", "nonsense"):
            for sort in (
                "memory",
                "name",
                "copies",
                "triangles",
                "nearest",
                "pixels",
                "file",
                "nonsense",
            ):
                self.page(f"/jobs/1/scene?tab={tab}&sort={sort}")

    def test_tables_sort_narrow_and_leave_as_csv(self) -> None:
        def names(query: str) -> list[str]:
            answer = self.client.get(f"/jobs/1/scene.csv?{query}")
            self.assertEqual(answer.status_code, 200)
            return [row[0] for row in csv.reader(io.StringIO(answer.text))][1:]

        every = names("tab=meshes&sort=name")
        self.assertEqual(every, sorted(every))
        self.assertEqual(names("tab=meshes&sort=name&turned=true"), every[::-1])
        self.assertEqual(
            names("tab=meshes&sort=name&q=ROLL"), [n for n in every if "roll" in n.lower()]
        )
        self.assertEqual(names("tab=meshes&q=nothing+like+it"), [])
        with self.home.sessions() as db:
            analysis = db.get_one(SceneVersion, 1).analysis
        for tab, key, field in (
            ("meshes", "triangles", "triangles"),
            ("textures", "file", "file_bytes"),
            ("lights", "power", "power"),
        ):
            values = {r["name"]: r[field] for r in analysis[tab]}
            got = [values[n] for n in names(f"tab={tab}&sort={key}")]
            self.assertEqual((len(got), got), (len(analysis[tab]), sorted(got, reverse=True)))
        text = self.client.get("/jobs/1/scene.csv?tab=meshes").text
        self.assertIn("nearest_m", text.splitlines()[0])
        self.assertEqual(self.client.get("/jobs/1/scene.csv?tab=nothing").status_code, 404)
        self.assertIn("No mesh with these words", self.page("/jobs/1/scene?q=nothing+like+it"))

    def test_csv_is_no_formula(self) -> None:
        row = SimpleNamespace(name="=cmd()", kind="point", power=1.5, size_m=0.0, nearest_m=None)
        lines = list(csv.reader(io.StringIO(as_csv("lights", [row]))))
        self.assertEqual(lines[1], ["'=cmd()", "point", "1.5", "0.0", "", "", ""])

    def test_odd_addresses(self) -> None:
        for path in (
            "/jobs/99/scene",
            "/jobs/1/nowhere",
            "/files/xyz.png",
            "/files/" + "0" * 64 + ".png",
            "/tasks/7/preview.png",
        ):
            self.assertEqual(self.client.get(path).status_code, 404, path)
        self.assertEqual(self.client.get("/files/..%2f..%2fetc%2fpasswd").status_code, 404)
        self.page("/jobs/1/trials?region=1,2&a=99")
        self.assertIn(
            "nothing at this address",
            self.client.get("/jobs/99/scene", headers={"accept": "text/html"}).text,
        )

    def test_the_scene_comes_back_whole(self) -> None:
        answer = self.client.get("/jobs/1/scene.glb")
        self.assertEqual(answer.content, small_demo().read_bytes())
        self.assertIn("v1.glb", answer.headers["content-disposition"])
        self.assertEqual(self.client.get("/jobs/1/scene.glb?version=5").status_code, 404)

    def test_pages_are_quick(self) -> None:
        """Not timed here (see bench/page.py): but no page may ask the database much."""
        from sqlalchemy import event

        engine = self.home.sessions.kw["bind"]
        for station in ("scene", "machine", "fit", "trials", "trim", "finish"):
            asked: list[str] = []

            def count(
                conn: object,
                cursor: object,
                statement: str,
                *rest: object,
                asked: list[str] = asked,
            ) -> None:
                asked.append(statement)

            event.listen(engine, "before_cursor_execute", count)
            self.page(f"/jobs/1/{station}")
            event.remove(engine, "before_cursor_execute", count)
            self.assertLess(len(asked), 30, station)


class TestChanges(WebCase):
    def test_devices(self) -> None:
        self.client.post(
            "/api/jobs/1/devices",
            json={"name": "Card, 8 GB", "memory_gb": "8", "desktop_gb": "0.5"},
        )
        text = self.page("/jobs/1/machine")
        self.assertIn("Card, 8 GB (simulated): 7.50 GB free", text)
        self.assertIn("left", self.page("/jobs/1/fit"))
        self.refused("PUT", "/api/devices/3", json={"name": "x", "memory_gb": 1, "desktop_gb": 2})
        self.refused("PUT", "/api/devices/3", json={"name": "x", "memory_gb": "much"})
        self.refused("DELETE", "/api/devices/1")
        self.client.put(
            "/api/devices/1", json={"name": "x", "memory_gb": 1, "desktop_gb": 2, "threads_free": 0}
        )
        self.client.delete("/api/devices/3")
        self.assertNotIn(
            "Card, 8 GB", self.page("/jobs/1/machine").split("Add a simulated card")[0]
        )
        self.client.post("/api/devices/3/restore")
        self.assertIn("Card, 8 GB", self.page("/jobs/1/machine"))

    def test_recipes(self) -> None:
        self.client.put(
            "/api/jobs/1/recipes/final",
            json={"width": "800", "height": "450", "noise_percent": "2.5"},
        )
        with self.home.sessions() as db:
            final = db.get_one(Job, 1).final
            self.assertEqual((final["width"], final["noise"]), (800, 0.025))
        self.assertIn(
            "Width", self.refused("PUT", "/api/jobs/1/recipes/final", json={"width": "-5"})["error"]
        )
        self.assertIn(
            "Samples",
            self.refused("PUT", "/api/jobs/1/recipes/final", json={"samples": "2"})["error"],
        )
        self.refused("PUT", "/api/jobs/1/recipes/final", json={"noise_percent": "some"})
        self.refused("PUT", "/api/jobs/1/recipes/other", 404, json={})

    def test_trials_are_written_down_before_they_run(self) -> None:
        too_small = self.refused("POST", "/api/jobs/1/trials", json={"device": 2})
        self.assertIn("does not fit Card, 4 GB", too_small["error"])
        answer = self.client.post(
            "/api/jobs/1/trials",
            json={"device": 1, "region_0": 10, "region_1": 20, "region_2": 5000, "region_3": 200},
        )
        self.assertEqual(answer.json()["go"], "/jobs/1/trials?b=1&region=10,20,960,200")
        self.refused(
            "POST",
            "/api/jobs/1/trials",
            json={"device": 1, "region_0": 2000, "region_2": 3000, "region_3": 1},
        )
        self.refused("POST", "/api/jobs/1/trials", json={"device": 1, "frame": 500})
        with self.home.sessions() as db:
            trial = db.scalars(select(Trial)).one()
            self.assertEqual(
                (trial.number, trial.region, db.get_one(Task, trial.task_id).state),
                (1, [10, 20, 960, 200], "queued"),
            )
        self.client.put("/api/trials/1/note", json={"note": "grain on the jars"})
        self.assertIn("grain on the jars", self.page("/jobs/1/trials"))
        self.client.delete("/api/trials/1")
        self.assertIn("Trial 1 was taken out", self.page("/jobs/1/trials?removed=1"))
        self.client.post("/api/trials/1/restore")
        self.client.post(f"/api/tasks/{trial.task_id}/cancel")
        self.assertIn("Run trial 1 again", self.page("/jobs/1/trials"))
        self.client.post(f"/api/tasks/{trial.task_id}/again")
        with self.home.sessions() as db:
            self.assertEqual(db.get_one(Task, trial.task_id).state, "queued")

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

    def sky(self) -> bytes:
        path = self.folder / "dawn.hdr"
        write_sky(path, np.full((8, 16, 3), 0.5))
        return path.read_bytes()

    def test_sky_pictures(self) -> None:
        """A picture becomes the sky of both recipes and of the ledger; what is none leaves the sky
        as it was.
        """
        self.assertEqual(
            self.client.post("/api/jobs/1/sky?name=dawn.hdr", content=self.sky()).status_code, 200
        )
        with self.home.sessions() as db:
            job = db.get_one(Job, 1)
            self.assertTrue(job.draft["environment_picture"].endswith("/16x8/dawn.hdr"))
            self.assertEqual(job.draft["environment_picture"], job.final["environment_picture"])
        self.assertIn("dawn.hdr", self.page("/jobs/1/trials"))
        for name, content in (("dawn.png", b"x"), ("dawn.hdr", b"x"), ("dawn.exr", b"")):
            self.refused("POST", f"/api/jobs/1/sky?name={name}", content=content)
        self.assertIn("dawn.hdr", self.page("/jobs/1/trials"))
        self.client.post(
            "/api/jobs/1/trials", json={"width": 64, "height": 36, "device": 1, "whole": True}
        )
        with self.home.sessions() as db:
            payload = db.scalars(select(Task).where(Task.kind == "trial")).one().payload
            self.assertIn("dawn.hdr", payload["recipe"]["environment_picture"])
        self.assertEqual(self.client.delete("/api/jobs/1/sky").status_code, 200)
        self.assertNotIn("dawn.hdr", self.page("/jobs/1/finish"))
        gone = {
            "environment_picture": f"{'0' * 64}/16x8/gone.hdr",
            "width": 64,
            "height": 36,
            "device": 1,
            "whole": True,
        }
        self.assertIn("sky picture", self.refused("POST", "/api/jobs/1/trials", json=gone)["error"])

    def test_saved_sessions(self) -> None:
        """A session comes back as a paused trial; of another scene, another edition or damaged it
        is refused.
        """
        self.client.post(
            "/api/jobs/1/trials",
            json={"width": 64, "height": 36, "device": 1, "whole": True, "endless": "true"},
        )
        with self.home.sessions() as db:
            task = db.scalars(select(Task).where(Task.kind == "trial")).one()
            number, about = task.id, json.loads(task.payload["about"])
            self.assertGreater(task.payload["recipe"]["samples"], 10**6)
            self.assertLess(db.get_one(Job, 1).draft["samples"], 10**6)
            state = self.home.task_folder(number) / "state.npz"
            write_state(state, {"about": np.array(task.payload["about"]), "film": np.zeros(3)})
            self.assertEqual(
                self.client.get(f"/tasks/{number}/session").status_code, 404
            )  # it is not paused
            task.state = "paused"
            db.commit()
        answer = self.client.get(f"/tasks/{number}/session")
        self.assertIn("trial-1.session", answer.headers["content-disposition"])
        go = self.client.post(
            "/api/jobs/1/sessions?name=mine.session", content=answer.content
        ).json()["go"]
        self.assertIn("b=2", go)
        with self.home.sessions() as db:
            trial = db.scalars(select(Trial).where(Trial.number == 2)).one()
            assert trial.task is not None
            self.assertEqual((trial.task.state, trial.note), ("paused", "loaded from mine.session"))
            self.assertEqual(
                (self.home.task_folder(trial.task.id) / "state.npz").read_bytes(), answer.content
            )
            first = db.scalars(select(Trial).where(Trial.number == 1)).one()
            assert first.task is not None
            self.assertEqual(trial.task.payload["key"], first.task.payload["key"])
        self.assertIn("Save session", self.page(go))

        def other(**more: object) -> bytes:
            path = self.folder / "other.session"
            write_state(path, {"about": np.array(json.dumps(about | more))})
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
            self.assertEqual(len(list(db.scalars(select(Trial)))), 2)
        self.assertEqual(self.client.get("/tasks/999/session").status_code, 404)

    def test_trim_list(self) -> None:
        self.refused("POST", "/api/jobs/1/trim", json={})
        self.client.post("/api/jobs/1/staged", json={"all": "true", "stage": "true"})
        with self.home.sessions() as db:
            n = len(db.scalars(select(Staged)).all())
        self.assertGreater(n, 20)
        self.assertIn(f"{n} staged", self.page("/jobs/1/scene"))
        self.client.post("/api/jobs/1/staged", json={"images": ["9"], "stage": "false"})
        self.client.post("/api/jobs/1/staged", json={"images": ["12345"], "stage": "true"})
        self.assertIn(f"{n - 1} staged", self.page("/jobs/1/trim"))
        self.client.post("/api/jobs/1/trim", json={})
        self.refused("POST", "/api/jobs/1/trim", json={})
        with self.home.sessions() as db:
            task = db.scalars(select(Task).where(Task.kind == "trim")).one()
            self.assertEqual(len(task.payload["sizes"]), n - 1)
            self.assertNotIn("9", task.payload["sizes"])

    def test_final_frames(self) -> None:
        self.assertIn(
            "does not fit", self.refused("POST", "/api/jobs/1/runs", json={"frame": 1})["error"]
        )
        self.client.put("/api/jobs/1/device", json={"device": "1"})
        self.assertEqual(self.client.post("/api/jobs/1/runs", json={"frame": "7"}).status_code, 200)
        with self.home.sessions() as db:
            run = db.scalars(select(Run)).one()
            self.assertEqual(run.frame, 7)
        self.page("/jobs/1/finish")

    def test_jobs_can_be_put_away_and_back(self) -> None:
        self.client.delete("/api/jobs/1")
        self.assertEqual(self.client.get("/jobs/1/scene").status_code, 404)
        self.assertIn("Put it back", self.page("/?removed=1"))
        self.client.post("/api/jobs/1/restore")
        self.page("/jobs/1/scene")

    def test_scenes_come_in(self) -> None:
        answer = self.client.post(
            "/api/scenes?name=my%20scene.glb", content=small_demo().read_bytes()
        )
        self.assertEqual(answer.status_code, 200)
        with self.home.sessions() as db:
            task = db.get_one(Task, answer.json()["task"])
            self.assertEqual(Path(task.payload["source"]).read_bytes(), small_demo().read_bytes())
        self.page(f"/jobs/{answer.json()['job']}/scene")
        self.assertIn(
            "0 bytes", self.refused("POST", "/api/scenes?name=a.glb", content=b"")["error"]
        )
        self.assertIn(
            "not a scene file",
            self.refused("POST", "/api/scenes?name=a.exe", content=b"x")["error"],
        )
        self.assertEqual(
            [p.name for p in self.home.scratch.glob("tmp*")], [Path(task.payload["source"]).name]
        )

    def test_scenes_from_the_folder(self) -> None:
        (self.folder / "scenes" / "shop.glb").write_bytes(small_demo().read_bytes())
        (self.folder / "secret.glb").write_bytes(b"x")
        self.assertIn("shop.glb", self.page("/"))
        self.assertEqual(
            self.client.post("/api/scenes/from-folder", json={"file": "shop.glb"}).status_code, 200
        )
        self.refused("POST", "/api/scenes/from-folder", json={"file": "../secret.glb"})
        self.refused("POST", "/api/scenes/from-folder", json={"file": "gone.glb"})

    @settings(max_examples=60, deadline=None, suppress_health_check=list(HealthCheck))
    @given(
        st.sampled_from(
            [
                "jobs/1/trials",
                "jobs/1/runs",
                "jobs/1/staged",
                "jobs/1/devices",
                "jobs/1/trim",
                "scenes/from-folder",
                "tasks/1/cancel",
                "tasks/9/again",
            ]
        ),
        st.dictionaries(
            st.sampled_from(
                [
                    "width",
                    "samples",
                    "device",
                    "frame",
                    "images",
                    "stage",
                    "name",
                    "memory_gb",
                    "file",
                    "region_0",
                    "noise_percent",
                ]
            ),
            st.none()
            | st.integers()
            | st.floats()
            | st.text(max_size=5)
            | st.lists(st.integers(), max_size=2),
        ),
    )
    def test_any_body_is_answered(self, path: str, body: dict[str, object]) -> None:
        """No 5xx, whatever is sent."""
        answer = self.client.post(
            f"/api/{path}", content=json.dumps(body), headers={"content-type": "application/json"}
        )
        self.assertLess(answer.status_code, 500, (path, body, answer.text))


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

    def test_beam_adds_up(self) -> None:
        from mill_lane.core.weigh.ledger import Ledger, Step

        ledger = Ledger(
            (Step("geometry", "g", 200), Step("textures", "t", 600), Step("film", "f", 200))
        )
        b = beam(ledger, 500, 1000)
        self.assertAlmostEqual(sum(s.width + s.over_width for s in b.segments), b.end, places=1)
        self.assertAlmostEqual(sum(s.width for s in b.segments), b.post, places=1)
        self.assertEqual([s.over_width > 0 for s in b.segments], [False, True, True])

    def test_plan_keeps_inside(self) -> None:
        p = plan(weigh(open_scene(small_demo())), ())
        self.assertGreater(len(p.outlines), 60)
        x, y = p.camera
        self.assertTrue(0 < x < 620 and 0 < y < 470)

    def test_what_changed_in_words(self) -> None:
        from mill_lane.core.recipe import DRAFT

        def trial(**recipe: object) -> Trial:
            values = DRAFT.model_dump(mode="json") | recipe
            return Trial(
                recipe=values,
                region=[0, 0, values["width"], values["height"]],
                version_id=1,
                frame=1,
            )

        self.assertEqual(changes(trial(), None), "base")
        self.assertEqual(changes(trial(), trial()), "same again")
        self.assertEqual(changes(trial(bounces=4), trial()), "bounces 2 → 4")
        self.assertEqual(changes(trial(noise=0.02), trial(noise=0.0)), "noise threshold 0 % → 2 %")
