"""Installations for the tests, without a worker unless a test starts one."""

from __future__ import annotations

import shutil
import tempfile
import unittest
from pathlib import Path

from sqlalchemy import select

from mill_lane.core.formats.opening import open_scene
from mill_lane.core.recipe_versions import read_recipe
from mill_lane.core.weigh.measure import weigh
from mill_lane.jobs.bootstrap import bootstrap
from mill_lane.jobs.lookup import chosen_recipe, find_job
from mill_lane.store.files import list_file
from mill_lane.store.home import Home, open_home
from mill_lane.store.models import Job, SceneVersion, Task
from mill_lane.work import queue
from mill_lane.work.kinds import KINDS
from mill_lane.work.kinds.base import Context, Unheard
from mill_lane.work.kinds.weigh import WEIGH, Payload
from tests.coarse import coarsely
from tests.kept import kept
from tests.scenes import small_demo


class WithHome(unittest.TestCase):
    """A test with an empty installation."""

    def setUp(self) -> None:
        keep = tempfile.TemporaryDirectory()
        self.addCleanup(keep.cleanup)
        self.home: Home = _copy(_empty(), Path(keep.name))
        self.addCleanup(self.home.sessions.kw["bind"].dispose)


def _empty() -> Path:
    """An installation with its tables and nothing in them."""
    return kept("empty", lambda folder: _shut(open_home(folder)))


def _shut(home: Home) -> None:
    """What the database's log holds is in the database then."""
    home.sessions.kw["bind"].dispose()


def furnished(folder: Path) -> Home:
    """An installation whose demo job is open, without a worker: a copy of one made before."""
    return _copy(kept("furnished", _furnish), folder)


def weighed(folder: Path) -> Home:
    """The same, weighed in full for a small picture, and what could be trimmed is worked out."""
    return _copy(kept("weighed", _weigh), folder)


def make_all() -> None:
    """Make what tests copy, before several processes of tests ask for it."""
    kept("weighed", _weigh)


def _copy(source: Path, folder: Path) -> Home:
    shutil.copytree(source, folder, dirs_exist_ok=True)
    return open_home(folder, migrated=True)


def _furnish(folder: Path) -> None:
    home = open_home(folder)
    with home.sessions() as db:
        bootstrap(db, "small")
        for task in db.scalars(select(Task)):
            queue.end(db, task, "done")
        db.commit()
    add_version(home, 1)
    _shut(home)


def _weigh(folder: Path) -> None:
    home = furnished(folder)
    small_picture(home)
    weigh_fully(home)
    _shut(home)


def small_picture(home: Home) -> None:
    """A final recipe whose looks take no time."""
    with home.sessions.begin() as db:
        row = chosen_recipe(db, find_job(db, 1), "final")
        small = {"width": 96, "height": 54, "samples": 2, "min_samples": 1}
        row.data = read_recipe(row.data).model_copy(update=small).model_dump(mode="json")


def weigh_fully(home: Home) -> None:
    """As the worker would: what could be trimmed is worked out after it."""
    with home.sessions.begin() as db:
        version = db.scalars(select(SceneVersion)).one()
        queue.put(db, WEIGH, Payload(version=version.id), 1)
    for name in ("weigh", "propose"):
        if do_tasks(home, name) != 1:
            raise AssertionError(name)


def add_version(home: Home, number: int, job: int = 1) -> int:
    """Give a job a version of the small demo, as heavy as the full one; returns its id."""
    copy = home.scratch / "demo.glb"
    copy.write_bytes(small_demo().read_bytes())
    taken = home.files.put(copy, "bakery.glb")
    with home.sessions() as db:
        list_file(db, taken)
        db.commit()
    analysis = weigh(open_scene(home.files.path(taken.hash))).model_dump(mode="json")
    for t in analysis["textures"]:
        t.update(width=4096, height=4096, memory_bytes=67108863)
    with home.sessions() as db:
        version = SceneVersion(
            job_id=job,
            number=number,
            file_hash=list_file(db, taken),
            file_name="bakery.glb",
            analysis=analysis,
        )
        db.add(version)
        db.flush()
        db.get_one(Job, job).version_id = version.id
        db.commit()
        return version.id


def do_tasks(home: Home, name: str) -> int:
    """Do all waiting tasks of a kind in this process; returns how many there were."""
    kind = KINDS[name]
    with home.sessions() as db:
        query = select(Task.id).where(Task.kind == name, Task.state == "queued")
        waiting = list(db.scalars(query))
    for number in waiting:
        with home.sessions() as db:
            task = db.get_one(Task, number)
            context = Context(db, home, task)
            payload = kind.payload_type.model_validate(task.payload)
            with coarsely():
                result = kind.run(kind.prepare(context, payload), Quiet())
            taken = kind.store(home, result)
            task.result = kind.keep(context, payload, result, taken)
            queue.end(db, task, "done")
            db.commit()
    return len(waiting)


class Quiet(Unheard):
    """A report that nobody listens to."""
