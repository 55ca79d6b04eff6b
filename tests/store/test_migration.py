"""A home made by version 0.1's code: every job, trial, version and run is there as before.

`homes/0003.tar.xz` was made by that code on the small demo: trials (one taken out, one of a crop
with something left out, one paused with its state, one waiting), a run, a trim, staged textures, an
export, a scene read in another unit, a job put away, a file that could not be read, a waiting
upload, a memory profile with trials.  The three scene files over 200 kB are left out to keep it
small.
"""

from __future__ import annotations

import shutil
import tarfile
import tempfile
import unittest
from pathlib import Path
from unittest import mock

from alembic import command
from alembic.config import Config
from alembic.migration import MigrationContext
from fastapi.testclient import TestClient
from sqlalchemy import create_engine, select, text

from mill_lane.core.plan.run_sheet import RunSheet
from mill_lane.core.recipe_versions import read_recipe
from mill_lane.core.trim.model import Change
from mill_lane.core.weigh.analysis_versions import read_analysis
from mill_lane.jobs import lookup, nights, trims, versions
from mill_lane.jobs.bootstrap import bootstrap
from mill_lane.store import database
from mill_lane.store.database import migrate
from mill_lane.store.home import Home, open_home
from mill_lane.store.models import (
    Job,
    LoggedRow,
    ProfileRow,
    Render,
    RenderGroup,
    SceneVersion,
    Task,
    TrimEntry,
)
from mill_lane.web.app import create_app
from mill_lane.web.shared.settings import Settings
from mill_lane.work import leftovers
from mill_lane.work.kinds import KINDS
from mill_lane.work.kinds.base import Context
from mill_lane.work.worker import Worker
from tests.scenes import small_demo
from tests.web.case import STATIONS

MIGRATIONS = Path(database.__file__).with_name("migrations")
OLD = Path(__file__).with_name("homes") / "0003.tar.xz"


class OldHome(unittest.TestCase):
    def setUp(self) -> None:
        keep = tempfile.TemporaryDirectory()
        self.addCleanup(keep.cleanup)
        with tarfile.open(OLD) as archive:
            archive.extractall(keep.name, filter="data")
        self.folder = Path(keep.name) / "home"

    def opened(self) -> Home:
        home = open_home(self.folder)
        self.addCleanup(home.sessions.kw["bind"].dispose)
        return home


class TestMigration(OldHome):
    def test_everything_is_there(self) -> None:
        with self.opened().sessions() as db:
            jobs = db.scalars(select(Job).order_by(Job.id)).all()
            self.assertEqual([j.removed for j in jobs], [False, False, False, True, False])
            trials = db.scalars(
                select(Render).where(Render.kind == "trial").order_by(Render.id)
            ).all()
            self.assertEqual([t.number for t in trials], [1, 2, 3, 4, 5])
            self.assertEqual([t.removed for t in trials], [False, True, False, False, False])
            self.assertEqual([bool(t.measured) for t in trials], [True, True, True, False, False])
            self.assertEqual([t.note for t in trials], ["base", "", "", "paused", "waiting"])
            crop = trials[2]
            self.assertEqual(crop.region, [4, 4, 20, 16])
            self.assertEqual(crop.preview, {"fog": False, "only_object": "Floor"})
            self.assertEqual(crop.device["kind"], "card")
            self.assertEqual(crop.device["memory_bytes"], 4 * 10**9)
            (run,) = db.scalars(select(Render).where(Render.kind == "frame"))
            group = db.get_one(RenderGroup, run.group_id)
            self.assertEqual((run.frame, group.kind, group.number), (3, "run", 1))
            (profile,) = db.scalars(select(ProfileRow))
            self.assertEqual(len(list(db.scalars(select(LoggedRow)))), 2)
            self.assertTrue(profile.decided)

    def test_recipes_are_read_with_their_new_names(self) -> None:
        with self.opened().sessions() as db:
            trials = db.scalars(
                select(Render).where(Render.kind == "trial").order_by(Render.id)
            ).all()
            second = read_recipe(trials[1].recipe)
            self.assertEqual(second.radiance_limit_indirect, 2.0)
            self.assertEqual(second.russian_roulette_threshold, 0.1)
            self.assertEqual((second.converged_fraction, second.noise), (0.95, 0.05))
            third = read_recipe(trials[2].recipe)
            self.assertEqual((third.radiance_limit_direct, third.light_sampling), (3.0, "all"))
            self.assertEqual(third.light_scales, {"sky": 0.5})
            job = lookup.find_job(db, 1)
            final = lookup.recipe_of(db, job, "final")
            self.assertEqual((final.environment_rotation, final.environment_intensity), (90.0, 2.0))
            draft = lookup.recipe_of(db, job, "draft")
            self.assertEqual(draft.radiance_limit_direct, 3.0)  # as the last trial left it
            kept = trials[0].measured
            self.assertIn("converged_fraction", kept)
            self.assertIn("transparent", kept["rays"])
            profile = lookup.with_time_profile(db, trials[0]).time_profile
            self.assertTrue(all("noise" in row and "leaves" in row for row in profile["lights"]))

    def test_versions_staged_changes_and_analyses(self) -> None:
        home = self.opened()
        with home.sessions() as db:
            job = lookup.find_job(db, 1)
            first, second = versions.versions_of(db, job)
            marks = db.scalars(select(SceneVersion.analysis_mark)).all()
            self.assertTrue(all(marks) and len(set(marks)) == len(marks))
            self.assertEqual(job.delivered_height, 1080)  # its final set is smaller
            self.assertEqual((first.stage, second.stage, second.parent_id), (4, 4, first.id))
            changes = [Change.model_validate(c) for c in second.changes]
            self.assertEqual([c.kind for c in changes], ["texture_size"] * 2)
            self.assertEqual((changes[0].from_, changes[0].to), ([64, 64], [32, 32]))
            analysis = lookup.analysis_of(db, first)
            self.assertEqual(analysis.stage, 4)
            self.assertLessEqual(
                {m.seen for m in analysis.meshes}, {"camera", "reflection", "light_only", "never"}
            )
            self.assertGreater(sum(m.duplicate_of is not None for m in analysis.meshes), 0)
            (entry,) = trims.staged(db, second)
            self.assertEqual((entry.target, entry.parameters), ("image:3", {"limit": 16}))
            after = trims.foreseen(lookup.analysis_of(db, second), [entry])
            self.assertLess(after.textures[3].memory_bytes, analysis.textures[3].memory_bytes)
            self.assertEqual(len(list(db.scalars(select(TrimEntry)))), 2)
            plate = versions.versions_of(db, lookup.find_job(db, 2))[-1]
            self.assertEqual(Change.model_validate(plate.changes[0]).to, ["mm", "z"])
            notes = lookup.analysis_of(db, plate).notes
            self.assertEqual(notes[0].code, "unit_guessed")
            for row in db.scalars(select(SceneVersion)):
                read_analysis(row.analysis)

    def test_tasks_are_typed(self) -> None:
        home = self.opened()
        with home.sessions() as db:
            for task in db.scalars(select(Task)):
                KINDS[task.kind].payload_type.model_validate(task.payload)
            upload = db.scalars(
                select(Task).where(Task.kind == "open", Task.state == "queued")
            ).one()
            kind = KINDS["open"]
            payload = kind.payload_type.model_validate(upload.payload)
            (source,) = kind.files_of(home, payload)
            self.assertTrue(source.is_file())
        leftovers.sweep(home)
        self.assertTrue(source.is_file())  # a task owns it

    def test_every_page_shows_it(self) -> None:
        home = self.opened()
        with home.sessions() as db:
            bootstrap(db, "small")
        client = TestClient(create_app(Settings(home)), base_url="http://127.0.0.1:8410")
        paths = ["/", *(f"/jobs/{j}/{s}" for j in (1, 2, 3, 5) for s in STATIONS)]
        paths += ["/jobs/1/trials?a=1&b=3", "/jobs/1/trials?a=1&panel=profile&layer=noise"]
        paths += ["/jobs/1/finish?run=1", "/jobs/1/machine?profile=1", "/jobs/1/fit?profile=1"]
        paths += [f"/jobs/1/scene?tab={t}" for t in ("textures", "lights", "transparency")]
        for path in paths:
            answer = client.get(path, headers={"accept": "text/html"})
            self.assertEqual(answer.status_code, 200, path)
        log = client.get("/jobs/1/trials").text
        for said in ("clamp 0 → 2", "lights aimed at estimate → all", "no fog, only Floor"):
            self.assertIn(said, log)
        self.assertIn("2 textures made smaller", client.get("/jobs/1/trim").text)
        self.assertIn("read as millimetres with Z up", client.get("/jobs/2/trim").text)

    def test_the_way_there_is_all_or_nothing(self) -> None:
        """What breaks in the middle leaves the old database as it was; and a copy is kept."""
        path = self.folder / "mill-lane.sqlite"
        broken = mock.patch("alembic.op.create_index", side_effect=RuntimeError("power went"))
        with broken, self.assertRaises(RuntimeError):
            open_home(self.folder)
        engine = create_engine(f"sqlite:///{path}")
        self.addCleanup(engine.dispose)
        with engine.connect() as c:
            self.assertEqual(MigrationContext.configure(c).get_current_revision(), "0003")
            self.assertEqual(c.execute(text("SELECT count(*) FROM trials")).scalar(), 5)
            self.assertEqual(c.execute(text("SELECT count(draft) FROM jobs")).scalar(), 5)
        self.opened()
        copy = self.folder / "mill-lane.sqlite.before-0009"
        before = create_engine(f"sqlite:///{copy}")
        self.addCleanup(before.dispose)
        with before.connect() as c:
            self.assertEqual(c.execute(text("SELECT count(*) FROM trials")).scalar(), 5)
        copy.unlink()
        migrate(self.opened().sessions.kw["bind"], path)
        self.assertFalse(copy.exists())  # nothing to do, nothing to copy


class TestRunSheets(OldHome):
    def test_the_sheet_becomes_the_jobs(self) -> None:
        """A sheet that was being filled in is the job's afterwards, and back again."""
        home = self.opened()
        sheet = RunSheet(frames="1-9x2", name="n/s.##")
        with home.sessions.begin() as db:
            nights.keep_draft(db, db.get_one(Job, 1), sheet)
        engine = home.sessions.kw["bind"]
        config = Config()
        config.set_main_option("script_location", str(MIGRATIONS))
        with engine.begin() as c:
            config.attributes["connection"] = c
            command.downgrade(config, "0004")
            kept = c.execute(text("SELECT count(*) FROM render_groups WHERE kind = 'sheet'"))
            self.assertEqual(kept.scalar(), 1)
        migrate(engine)
        with home.sessions() as db:
            self.assertEqual(nights.draft(db, db.get_one(Job, 1)), sheet)
            self.assertEqual(db.get_one(Job, 2).run_sheet, {})
            groups = db.scalars(select(RenderGroup).where(RenderGroup.kind == "sheet"))
            self.assertEqual(list(groups), [])


class TestGoingOn(OldHome):
    def test_a_paused_render_goes_on(self) -> None:
        """Its state was saved under the names and the key of then, and is taken up."""
        home = self.opened()
        with home.sessions() as db:
            trial = db.scalars(select(Render).where(Render.note == "paused")).one()
            version = db.get_one(SceneVersion, trial.version_id)
            # The scene's own file is not part of the small home: the demo is the same scene.
            target = home.files.path(version.file_hash)
            target.parent.mkdir(exist_ok=True)
            shutil.copy(small_demo(), target)
            bootstrap(db, None)
            for task in db.scalars(select(Task).where(Task.state == "queued")):
                task.state = "cancelled"
            assert trial.task is not None
            kind = KINDS["render"]
            payload = kind.payload_type.model_validate(trial.task.payload)
            self.assertIn(payload.key, kind.prepare(Context(db, home, trial.task), payload).key)
            trial.task.state, trial.task.wants = "queued", {"finish": True}
            number = trial.id
            db.commit()
        worker = Worker(home)
        self.addCleanup(lambda: worker.child and worker.child.kill())
        self.assertTrue(worker.one())
        with home.sessions() as db:
            trial = db.get_one(Render, number)
            assert trial.task is not None
            self.assertEqual(trial.task.state, "done", trial.task.error)
            self.assertTrue(trial.measured["resumed"])
            self.assertGreaterEqual(trial.measured["passes"], 2)
