"""A ZIP with several scenes: the page asks which, and opens the one that is chosen."""

from __future__ import annotations

import io
import zipfile

from sqlalchemy import select

from mill_lane.core.formats.unpack import SeveralError
from mill_lane.jobs.lookup import analysis_of, find_job, find_version
from mill_lane.store.models import Task
from mill_lane.work import queue
from tests.homes import do_tasks
from tests.web.case import WebCase

CORNERS = "v 0 0 0\nv 1 0 0\nv 0 1 0\n"


class TestRoots(WebCase):
    def test_which_scene(self) -> None:
        data = io.BytesIO()
        with zipfile.ZipFile(data, "w") as z:
            z.writestr("day.obj", f"{CORNERS}o day\nf 1 2 3\n")
            z.writestr("night.obj", f"{CORNERS}o night\nf 1 2 3\n")
        answer = self.client.post("/api/scenes?name=two.zip", content=data.getvalue())
        job = int(answer.json()["job"])
        with self.assertRaises(SeveralError) as caught:
            do_tasks(self.home, "open")
        with self.home.sessions.begin() as db:  # as the worker ends a task that failed
            task = db.scalars(select(Task).where(Task.kind == "open", Task.job_id == job)).one()
            queue.end(db, task, "failed", error=caught.exception.as_json())
        page = self.page(f"/jobs/{job}/scene")
        self.assertIn("Which scene is to be opened?", page.get_text())
        offered = [o.get_text() for o in page.select("select[name='root'] option")]
        self.assertEqual(offered, ["day.obj", "night.obj"])
        address = f"/api/jobs/{job}/root"
        self.refused("POST", address, json={"root": "dusk.obj"})
        self.done("POST", address, json={"root": "night.obj"})
        self.assertEqual(do_tasks(self.home, "open"), 1)
        with self.home.sessions() as db:
            found = analysis_of(db, find_version(db, find_job(db, job)))
        self.assertEqual([m.name for m in found.meshes], ["night"])
        self.refused("POST", address, json={"root": "day.obj"})  # nothing to choose any more
