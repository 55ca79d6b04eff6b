"""Runs on cards that are too small: each step is taken where it is needed, and the run finishes."""

from __future__ import annotations

from sqlalchemy import select

from mill_lane.core.devices.model import Device
from mill_lane.core.plan.less_memory import RUNGS
from mill_lane.core.plan.run_sheet import RunSheet
from mill_lane.jobs import nights
from mill_lane.store.models import DeviceRow, Job, Render
from tests.web.test_nights import NightCase

LAYERS = ["albedo", "components", "variance"]


class TestLadder(NightCase):
    def tight(self, denoise: str) -> None:
        """The job's card is a byte smaller than its frames are predicted to need."""
        values = {"denoise": denoise, "layers": [] if denoise == "with" else LAYERS}
        self.done("PUT", "/api/jobs/1/recipes/final", json={"height": 36, **values})
        with self.home.sessions.begin() as db:
            job = db.get_one(Job, 1)
            card = db.scalars(select(DeviceRow).where(~DeviceRow.found)).first()
            assert card is not None
            job.device_id = card.id
            device = Device.model_validate(card.data).model_copy(update={"desktop_bytes": 0})
            card.data = device.model_dump(mode="json")
            db.flush()
            db.refresh(job)
            needed = nights.way_for(db, job, RunSheet()).ledger.total
            card.data = device.model_dump(mode="json") | {"memory_bytes": needed - 1}

    def test_each_step_where_it_is_needed(self) -> None:
        """A card that refuses; with the step allowed it finishes, and says what was done."""
        for k, rung in enumerate(RUNGS):
            with self.subTest(rung.name):
                self.tight("with" if rung.name == "denoise_later" else "no")
                name, far = f"{rung.name}/s.#", {"far_m": 0}
                wanted = {"frames": "1", "name": name, "read": True, **far}
                self.refused("POST", "/api/jobs/1/nights", json={**wanted, "rungs": []})
                found = self.done(
                    "POST", "/api/jobs/1/nights", json={**wanted, "rungs": [rung.name]}
                )
                run = int(str(found["run"]))
                settings = self.settings(run)
                self.assertEqual(settings["less"], [f"from the beginning on: {rung.title}"])
                self.render()
                self.assertEqual(self.settings(run)["state"], "done")
                self.assertTrue((self.out / rung.name / "s.1.exr").exists())
                text = self.text(f"?run={k + 1}")
                self.assertIn("it went on with less", text)
                with self.home.sessions() as db:
                    row = db.scalars(select(Render).where(Render.group_id == run)).one()
                    fits = Device.model_validate(row.device).free_bytes
                    self.assertLessEqual(row.predicted["memory_bytes"], fits)
