"""Another camera, another picture: every figure is of the camera that is chosen."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from PIL import Image
from sqlalchemy import select

from mill_lane.core.formats.gltf import write_glb
from mill_lane.core.formats.opening import open_scene
from mill_lane.core.scene.framing import world_bounds
from mill_lane.core.scene.model import Camera, Node, Scene
from mill_lane.core.weigh.analysis import Analysis
from mill_lane.core.weigh.measure import weigh
from mill_lane.demo import shapes
from mill_lane.jobs import looks
from mill_lane.jobs.lookup import analysis_of, find_job, find_version, recipe_of
from mill_lane.jobs.proposals import propose_all
from mill_lane.jobs.summary import summarise
from mill_lane.store.files import list_file
from mill_lane.store.models import Job, RenderGroup, SceneVersion, Task
from mill_lane.work.kinds import first_look
from mill_lane.work.kinds.base import Context
from mill_lane.work.kinds.weigh import WEIGH, Payload, Result
from mill_lane.work.runs import known_settings
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

    def test_another_shape_is_looked_at_anew(self) -> None:
        """Once; what waits in a shape that is wanted no more is stopped, what is there is shown."""

        def tasks() -> list[tuple[str, float]]:
            with self.home.sessions() as db:
                found = db.scalars(select(Task).where(Task.kind == "first_look").order_by(Task.id))
                return [(t.state, round(t.payload.get("aspect", 0.0), 3)) for t in found]

        with self.home.sessions.begin() as db:
            looks.ask_for_look(db, find_job(db, 1))
        self.assertEqual(tasks(), [("queued", 1.778)])
        self.assertEqual(do_tasks(self.home, "first_look"), 1)
        for width, height in ((1080, 1920), (1080, 1920), (540, 960)):
            self.done("PUT", "/api/jobs/1/recipes/final", json={"width": width, "height": height})
        self.assertEqual(tasks(), [("done", 1.778), ("queued", 0.562)])
        with self.home.sessions() as db:
            job = find_job(db, 1)
            shown = looks.look_of(db, summarise(db, job, find_version(db, job)))
            assert shown is not None
            self.assertTrue(shown.shown)
        self.done("PUT", "/api/jobs/1/recipes/final", json={"width": 1000, "height": 1000})
        self.assertEqual(tasks()[1:], [("cancelled", 0.562), ("queued", 1.0)])
        self.assertEqual(do_tasks(self.home, "first_look"), 1)
        with self.home.sessions() as db:
            job = find_job(db, 1)
            shown = looks.look_of(db, summarise(db, job, find_version(db, job)))
            assert shown is not None
            picture = Image.open(looks.picture_of(self.home, shown.task))
        self.assertEqual(picture.size[0], picture.size[1])
        self.done("PUT", "/api/jobs/1/recipes/final", json={"width": 1920, "height": 1080})
        self.assertEqual(len(tasks()), 3)  # there is one

    def test_a_look_has_the_shape_of_the_picture(self) -> None:
        """Upright ones, too; a strip still has some rows."""
        for aspect in (16 / 9, 1.0, 9 / 16, 2.39):
            width, height = first_look.size_of(aspect)
            self.assertEqual(max(width, height), first_look.WIDTH)
            self.assertAlmostEqual(width / height / aspect, 1.0, delta=0.005)
        self.assertEqual(first_look.size_of(1000.0)[1], first_look.LEAST)

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
        text = " ".join(page.get_text().split())
        self.assertIn("Figures are of “close” until “wide” is weighed", text)
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


class TestFrames(WebCase):
    """A camera whose frame stands upright gets upright pictures; a sheet can name several."""

    def sent(self, *shapes_: float | None) -> int:
        """Open a scene with a camera for each shape; returns the job."""
        base = scene_of((shapes.box((1, 1, 1)), WHITE), environment=even_sky())
        nodes = [n for n in base.nodes if n.camera < 0]
        nodes += [
            Node(f"cam {k}", matrix=looking((0, 0, 4 + k), (0, 0, 0)), camera=k)
            for k in range(len(shapes_))
        ]
        cameras = tuple(Camera(f"lens {k}", 0.5, shape) for k, shape in enumerate(shapes_))
        path = self.home.scratch / "sent.glb"
        write_glb(replace(base, nodes=tuple(nodes), cameras=cameras), path)
        job = int(self.upload(path.read_bytes(), "sent.glb")["job"])
        do_tasks(self.home, "open")
        return job

    def upload(self, data: bytes, name: str) -> dict:
        found = self.client.post(f"/api/scenes?name={name}", content=data)
        self.assertLess(found.status_code, 300, found.text)
        return dict(found.json())

    def size(self, job: int, role: str) -> tuple[int, int]:
        with self.home.sessions() as db:
            recipe = recipe_of(db, find_job(db, job), role)
            return recipe.width, recipe.height

    def sizes(self, job: int) -> list[tuple[int, int]]:
        return [self.size(job, role) for role in ("draft", "final")]

    def test_an_upright_frame(self) -> None:
        """On opening and when another camera is chosen; told, and set by hand it stays."""
        job = self.sent(9 / 16, 16 / 9, 0.75)
        self.assertEqual(
            (self.size(job, "draft"), self.size(job, "final")), ((540, 960), (1080, 1920))
        )
        text = " ".join(self.page(f"/jobs/{job}").get_text().split())
        self.assertIn("“cam 0” stands upright (9:16)", text)
        self.done("POST", f"/api/jobs/{job}/camera", json={"name": "cam 1"})
        self.assertEqual(
            (self.size(job, "draft"), self.size(job, "final")), ((960, 540), (1920, 1080))
        )
        self.done("POST", f"/api/jobs/{job}/camera", json={"name": "cam 2"})
        self.assertEqual(self.size(job, "final"), (1440, 1920))
        self.done("PUT", f"/api/jobs/{job}/recipes/final", json={"width": 300, "height": 600})
        self.done("POST", f"/api/jobs/{job}/camera", json={"name": "cam 0"})
        self.assertEqual(self.size(job, "final"), (300, 600))

    def test_without_a_shape_of_its_own(self) -> None:
        self.assertEqual(self.size(self.sent(1.37), "final"), (1920, 1080))

    def test_a_sheet_of_two_cameras(self) -> None:
        """One run each, the second once the first is done, each in its own files and shape."""
        job = self.sent(16 / 9, 9 / 16)
        small = {"width": 32, "height": 18, "samples": 1, "min_samples": 1}
        self.done("PUT", f"/api/jobs/{job}/recipes/final", json=small)
        sheet = {"frames": "1", "cameras": ["cam 0", "cam 1"], "read": True, "exr": "", "png": True}
        url = f"/api/jobs/{job}/nights"
        refused = self.refused("POST", url, json=sheet | {"name": "s.#"})
        self.assertIn("same files", str(refused))
        sheet["name"] = "{camera}/s.#"
        self.done("POST", url, json=sheet)
        self.assertEqual(self.states(), ["running", "waiting"])
        page = f"/jobs/{job}/finish/night"
        self.assertIn("waits for the camera before it", self.page(page).get_text())
        do_tasks(self.home, "render")
        self.assertEqual(self.states(), ["done", "running"])
        do_tasks(self.home, "render")
        self.assertEqual(self.states(), ["done", "done"])
        sizes = {p.parent.name: Image.open(p).size for p in self.home.frames.glob("*/s.1.png")}
        self.assertEqual(sizes, {"cam_0": (32, 18), "cam_1": (18, 32)})
        self.refused("POST", url, json=sheet)
        self.done("POST", url, json=sheet | {"there": "overwrite"})
        self.done("POST", f"/api/nights/{self.runs()[-1]}/stop", json={"now": False})
        do_tasks(self.home, "render")
        self.assertEqual(self.states(), ["done", "done", "done", "stopped"])

    def runs(self) -> list[int]:
        with self.home.sessions() as db:
            return list(db.scalars(select(RenderGroup.id).order_by(RenderGroup.id)))

    def states(self) -> list[str]:
        with self.home.sessions() as db:
            rows = db.scalars(select(RenderGroup).order_by(RenderGroup.id))
            return [known_settings(row).state for row in rows]


class TestReadOtherwise(WebCase):
    def test_what_the_file_declares_is_put_right(self) -> None:
        """glTF is metres with Y up; one that was modelled in inches with Z up is put right, told,
        and put back.
        """
        text = " ".join(self.page("/jobs/1").get_text().split())
        self.assertIn("The file says metres with Y up", text)
        before = self.bounds()
        self.done("POST", "/api/jobs/1/reading", json={"unit": "in", "up": "z"})
        do_tasks(self.home, "reading")
        low, high = self.bounds()
        turned = np.array([[1, 0, 0], [0, 0, 1], [0, -1, 0.0]])
        wanted = np.sort(np.stack(before) @ turned.T * 0.0254, 0)
        np.testing.assert_allclose([low, high], wanted, rtol=1e-5)
        text = " ".join(self.page("/jobs/1").get_text().split())
        self.assertIn("it is read as inches with Z up", text)
        self.done("POST", "/api/jobs/1/reading", json={"unit": "m", "up": "y"})
        do_tasks(self.home, "reading")
        np.testing.assert_allclose(self.bounds(), before, rtol=1e-5)

    def bounds(self) -> tuple[np.ndarray, np.ndarray]:
        with self.home.sessions() as db:
            row = find_version(db, find_job(db, 1))
            return world_bounds(open_scene(self.home.files.path(row.file_hash), own=True))
