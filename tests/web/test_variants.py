"""Another variant of a job that is open, without the file that was sent."""

from __future__ import annotations

import io
import zipfile

from mill_lane.core.formats.opening import open_scene
from mill_lane.jobs.lookup import analysis_of, find_job, find_version
from mill_lane.jobs.versions import changes_since_opened
from tests.core.test_usd_layers import Layered
from tests.homes import do_tasks
from tests.web.case import WebCase


class TestVariants(WebCase):
    def sent(self) -> int:
        """The layered scene as a ZIP; what was sent is gone afterwards."""
        made = Layered()
        made.setUp()
        self.addCleanup(made.doCleanups)
        data = io.BytesIO()
        with zipfile.ZipFile(data, "w") as z:
            for file in (p for p in made.sent.rglob("*") if p.is_file()):
                z.write(file, file.relative_to(made.sent).as_posix())
        found = self.client.post("/api/scenes?name=shop.zip", content=data.getvalue())
        self.assertLess(found.status_code, 300, found.text)
        do_tasks(self.home, "open")
        return int(found.json()["job"])

    def drawn(self, job: int) -> tuple[str, set[str]]:
        """The variant that is drawn, and the names of what is."""
        with self.home.sessions() as db:
            version = find_version(db, find_job(db, job))
            scene = open_scene(self.home.files.path(version.file_hash), own=True)
            ((_, _, drawn),) = analysis_of(db, version).variant_sets
            return drawn, {scene.nodes[n].name for n, _ in scene.instances}

    def test_chosen_on_the_page(self) -> None:
        job = self.sent()
        drawn, names = self.drawn(job)
        self.assertEqual((drawn, "leaf_red" in names), ("red", True))
        self.assertIn("Variant of colour", self.page(f"/jobs/{job}").get_text())
        self.done("PUT", f"/api/jobs/{job}/name", json={"name": "Shop"})
        url = f"/api/jobs/{job}/variant"
        self.done("POST", url, json={"group": "colour", "name": "blue"})
        do_tasks(self.home, "variant")
        drawn, names = self.drawn(job)
        self.assertEqual((drawn, "leaf_red" in names, "leaf_blue" in names), ("blue", False, True))
        with self.home.sessions() as db:
            changes = changes_since_opened(db, find_version(db, find_job(db, job)))
            self.assertEqual([c.kind for c in changes], ["variant"])
        self.assertIn("variant colour=blue", self.page(f"/jobs/{job}/trim").get_text())
        self.done("POST", url, json={"group": "colour", "name": "red"})
        do_tasks(self.home, "variant")
        self.assertEqual(self.drawn(job)[0], "red")
        self.refused("POST", url, json={"group": "colour", "name": "green"})
        self.refused("POST", url, json={"group": "size", "name": "red"})
        self.refused("POST", "/api/jobs/1/variant", json={"group": "", "name": "red"})
