"""What textures need is reckoned for what is delivered, whatever is rendered meanwhile."""

from __future__ import annotations

from sqlalchemy import select

from mill_lane.jobs.lookup import find_job
from mill_lane.jobs.proposals import propose_all
from mill_lane.store.models import SceneVersion, Task
from tests.homes import do_tasks, weighed
from tests.web.case import WebCase

FINAL = "/api/jobs/1/recipes/final"
DELIVERY = "/api/jobs/1/delivery"
LIST = "/api/jobs/1/trim-list"
PAGE = "/jobs/1/trim?trim=texture_size"


class TestDelivery(WebCase):
    made = staticmethod(weighed)  # its final set is 96 x 54

    def limits(self) -> dict[str, int]:
        with self.home.sessions() as db:
            found = propose_all(db, find_job(db, 1))
        return {
            p.target.key: int(p.parameters["limit"])
            for x in found
            for p in x.found
            if p.trim == "texture_size"
        }

    def asked(self) -> int:
        """How many times it is to be worked out what could be trimmed."""
        with self.home.sessions() as db:
            rows = select(Task).where(Task.kind == "propose", Task.state == "queued")
            return len(list(db.scalars(rows)))

    def text(self, path: str) -> str:
        return " ".join(self.page(path).get_text().split())

    def test_a_rehearsal_changes_nothing(self) -> None:
        """Smaller final sets leave textures as they are; larger ones ask for more."""
        self.done("PUT", DELIVERY, json={"height": 216})
        self.done("PUT", FINAL, json={"width": 384, "height": 216})
        do_tasks(self.home, "propose")
        before = self.limits()
        self.assertIn("Trimmed for 216 px high.", self.text(PAGE))
        self.assertGreater(len(before), 1)
        self.done("PUT", FINAL, json={"width": 96, "height": 54})
        self.assertEqual(self.limits(), before)
        self.assertIn("216 px high, though the final set has 54 now", self.text(PAGE))
        self.assertEqual(self.asked(), 0)
        self.done("PUT", FINAL, json={"width": 1920, "height": 1080})
        larger = self.limits()
        self.assertTrue(set(larger) <= set(before), (larger, before))
        self.assertTrue(all(larger[k] >= before[k] for k in larger))
        self.assertNotEqual(larger, before)
        self.assertIn("1080 px high, as the final set is", self.text(PAGE))

    def test_it_is_said_by_hand(self) -> None:
        self.assertEqual(self.asked(), 0)  # weighed and asked as it is
        before = self.limits()
        self.done("PUT", DELIVERY, json={"height": 108})
        self.assertEqual(self.asked(), 1)
        self.done("PUT", DELIVERY, json={"height": 108})
        self.assertEqual(self.asked(), 1)
        self.assertIn("Trimmed for 108 px high", self.text(PAGE))
        self.assertGreater(len(self.limits()), len(before))
        self.done("PUT", DELIVERY, json={"height": 1080})
        self.assertEqual(self.limits(), before)
        for wrong in (0, -4, 20_000):
            self.refused("PUT", DELIVERY, json={"height": wrong})

    def trimmed(self, name: str) -> SceneVersion:
        self.done("POST", LIST, json={"trim": name, "all": True})
        self.done("POST", "/api/jobs/1/trim", json={})
        self.assertEqual(do_tasks(self.home, "trim"), 1)
        with self.home.sessions() as db:
            newest = select(SceneVersion).order_by(SceneVersion.id.desc())
            return db.scalars(newest).first()  # type: ignore[return-value]

    def test_a_version_that_was_trimmed_for_less(self) -> None:
        """It is told among the versions, and in Finish where more is delivered."""
        self.done("PUT", DELIVERY, json={"height": 108})
        made = self.trimmed("texture_size")
        self.assertEqual(made.made_for, 108)
        self.assertIn("for 108 px", self.text("/jobs/1/trim"))
        said = "textures and shapes of this version were trimmed for a picture 108 px high"
        self.assertNotIn(said, self.text("/jobs/1/finish/night"))
        self.done("PUT", FINAL, json={"width": 1920, "height": 1080})
        self.assertIn(said, self.text("/jobs/1/finish/night"))
        self.assertIn(said, self.text("/jobs/1/finish"))
        self.done("PUT", FINAL, json={"width": 192, "height": 108})
        self.assertNotIn(said, self.text("/jobs/1/finish/night"))
        self.done("PUT", DELIVERY, json={"height": 1080})  # only a rehearsal is that small
        self.assertIn(said, self.text("/jobs/1/finish/night"))

    def test_what_no_size_is_asked_for_is_good_for_any(self) -> None:
        self.assertEqual(self.trimmed("instances").made_for, 0)
