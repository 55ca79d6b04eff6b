"""Another camera, another picture: every figure is of the camera that is chosen."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from sqlalchemy import select

from mill_lane.core.formats.gltf import write_glb
from mill_lane.core.formats.opening import open_scene
from mill_lane.core.scene.model import Camera, Node, Scene
from mill_lane.core.weigh.analysis import Analysis
from mill_lane.core.weigh.measure import weigh
from mill_lane.demo import shapes
from mill_lane.jobs.lookup import analysis_of, find_job, find_version, recipe_of
from mill_lane.jobs.proposals import propose_all
from mill_lane.store.files import list_file
from mill_lane.store.models import Job, SceneVersion, Task
from mill_lane.work.kinds.base import Context
from mill_lane.work.kinds.weigh import WEIGH, Payload, Result
from tests.homes import do_tasks
from tests.scenes import WHITE, even_sky, looking, scene_of
from tests.web.case import WebCase

CAMERA = "/api/jobs/1/camera"
EYES = {"wide": (0, 0, 40), "middle": (0, 0, 9), "close": (0, 0, 4), "behind": (0, 0, -6)}


def many_cameras() -> Scene:
    """A box that four cameras see from further and further, each a node with a name of its own."""
    base = scene_of((shapes.box((1, 1, 1)), WHITE), environment=even_sky())
    nodes = [n for n in base.nodes if n.camera < 0]
    cameras = []
    for name, eye in EYES.items():
        nodes.append(Node(name, matrix=looking(eye, (0, 0, 0)), camera=len(cameras)))
        cameras.append(Camera(f"lens {len(cameras)}", 0.5, 1.5))
    return replace(base, nodes=tuple(nodes), cameras=tuple(cameras))


class TestCameras(WebCase):
    def setUp(self) -> None:
        super().setUp()
        path = self.home.scratch / "cameras.glb"
        write_glb(many_cameras(), path)
        listed = weigh(open_scene(path))
        taken = self.home.files.put(path, "cameras.glb")
        with self.home.sessions.begin() as db:
            version = SceneVersion(
                job_id=1,
                number=2,
                file_hash=list_file(db, taken),
                file_name="cameras.glb",
                analysis=listed.model_dump(mode="json"),
            )
            db.add(version)
            db.flush()
            db.get_one(Job, 1).version_id = version.id

    def analysis(self) -> Analysis:
        with self.home.sessions() as db:
            return analysis_of(db, find_version(db, find_job(db, 1)))

    def waiting(self) -> int:
        with self.home.sessions() as db:
            rows = select(Task).where(Task.kind == "weigh", Task.state == "queued")
            return len(list(db.scalars(rows)))

    def look_through(self, name: str) -> Analysis:
        self.done("POST", CAMERA, json={"name": name})
        do_tasks(self.home, "weigh")
        do_tasks(self.home, "propose")
        return self.analysis()

    def test_there_and_back(self) -> None:
        """Distances, the plan, what is seen and proposed follow, as often as it changes."""
        self.assertEqual(self.analysis().cameras, list(EYES))
        for name in ("close", "wide", "close", "behind", "wide"):
            with self.subTest(camera=name):
                found = self.look_through(name)
                self.assertEqual((found.camera, found.stage), (name, 4))
                away = abs(EYES[name][2]) - 0.5
                self.assertAlmostEqual(found.meshes[0].nearest_m, away, places=4)
                page = self.page("/jobs/1/scene")
                self.assertIn(f"{away:.1f}", page.get_text())
                chosen = page.select_one("select[name='name'] option[selected]")
                self.assertEqual(chosen.get_text(), name)  # type: ignore[union-attr]
                at = np.array(found.camera_path[0])
                np.testing.assert_allclose(at, (0, EYES[name][2]), atol=1e-5)

    def test_changed_while_it_is_weighed(self) -> None:
        """There and back before anything was weighed; what was begun for another is not kept."""
        self.look_through("close")
        self.done("POST", CAMERA, json={"name": "wide"})
        self.assertEqual(self.waiting(), 1)
        page = self.page("/jobs/1/scene")
        self.assertIn(
            "Figures are of “close” until “wide” is weighed", " ".join(page.get_text().split())
        )
        self.done("POST", CAMERA, json={"name": "close"})
        self.assertEqual(self.waiting(), 0)  # nothing to do: it is weighed for that one
        with self.home.sessions() as db:
            self.assertEqual(recipe_of(db, find_job(db, 1), "final").camera, "close")
        for name in ("wide", "behind"):
            self.done("POST", CAMERA, json={"name": name})
        self.assertEqual(self.waiting(), 1)
        do_tasks(self.home, "weigh")
        self.assertEqual(self.analysis().camera, "behind")

    def test_what_is_being_stopped_keeps_nothing(self) -> None:
        """A part of what is weighed for another camera, handed over at the last moment."""
        now = self.look_through("close")
        self.done("POST", CAMERA, json={"name": "wide"})
        with self.home.sessions.begin() as db:
            going = select(Task).where(Task.kind == "weigh", Task.state == "queued")
            task = db.scalars(going).one()
            task.state = "running"
        self.done("POST", CAMERA, json={"name": "close"})
        with self.home.sessions.begin() as db:
            task = db.get_one(Task, task.id)
            self.assertTrue(task.cancel)
            late = now.model_copy(update={"camera": "wide", "stage": 1})
            context, asked = Context(db, self.home, task), Payload.model_validate(task.payload)
            WEIGH.keep_part(context, asked, Result(analysis=late))
            WEIGH.keep(context, asked, Result(analysis=late), {})
        self.assertEqual((self.analysis().camera, self.analysis().stage), ("close", 4))

    def test_by_the_final_set_and_another_shape(self) -> None:
        """A camera or a shape of the picture that comes in with the final set counts as well."""
        first = self.look_through("middle")
        self.done("PUT", "/api/jobs/1/recipes/final", json={"camera": "wide"})
        self.assertEqual(self.waiting(), 1)
        do_tasks(self.home, "weigh")
        self.assertEqual(self.analysis().camera, "wide")
        self.done("PUT", "/api/jobs/1/recipes/final", json={"width": 960, "height": 540})
        self.assertEqual(self.waiting(), 0)  # smaller, of the same shape
        self.done("PUT", "/api/jobs/1/recipes/final", json={"width": 540, "height": 960})
        self.assertEqual(self.waiting(), 1)
        do_tasks(self.home, "weigh")
        self.assertLess(self.analysis().camera_half_angle, first.camera_half_angle)

    def test_proposals_of_another_camera_are_not_shown(self) -> None:
        self.look_through("close")
        with self.home.sessions() as db:
            before = [p.ready for p in propose_all(db, find_job(db, 1))]
        self.assertTrue(all(before))
        self.done("POST", CAMERA, json={"name": "wide"})
        do_tasks(self.home, "weigh")  # what could be trimmed is still being worked out
        with self.home.sessions() as db:
            found = propose_all(db, find_job(db, 1))
        self.assertFalse(all(p.ready for p in found))
