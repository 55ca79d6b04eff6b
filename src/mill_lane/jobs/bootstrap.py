"""What every start needs: the CPU as found now, the demo's card and job, the compiled renderer."""

from __future__ import annotations

from sqlalchemy import select
from sqlalchemy.orm import Session

from mill_lane.core.devices.cpu import cpu_device, find_machine
from mill_lane.core.devices.model import DEMO_CARD
from mill_lane.jobs.lookup import device_of
from mill_lane.jobs.recipes import add_recipes
from mill_lane.store.models import DeviceRow, Job, Task
from mill_lane.work import queue
from mill_lane.work.kinds.base import Nothing
from mill_lane.work.kinds.demo import DEMO, Payload
from mill_lane.work.kinds.prepare import PREPARE


def bootstrap(db: Session, demo: str | None) -> None:
    """Bring an installation into the state that every start begins with, and commit.

    Parameters
    ----------
    db : Session
    demo : str or None
        The size of the demo that is made when there is none.
    """
    _this_computer(db)
    waiting = select(Task).where(Task.kind == PREPARE.name, Task.state == "queued")
    for task in db.scalars(waiting):
        queue.cancel(db, task)
    queue.put(db, PREPARE, Nothing())
    if demo is not None and db.scalars(select(Job).where(Job.demo)).first() is None:
        card = DeviceRow(data=DEMO_CARD.model_dump(mode="json"))
        db.add(card)
        db.flush()
        job = Job(name="Village bakery, dawn shot", demo=True, device_id=card.id)
        db.add(job)
        db.flush()
        add_recipes(db, job)
        payload = Payload.model_validate({"size": demo, "name": "bakery.glb"})
        queue.put(db, DEMO, payload, job.id)
    db.commit()


def _this_computer(db: Session) -> None:
    found = cpu_device(find_machine())
    row = db.scalars(select(DeviceRow).where(DeviceRow.found)).first()
    if row is None:
        db.add(DeviceRow(data=found.model_dump(mode="json"), found=True))
        return
    # What the artist set stays; what the machine has is read anew.  Where it has less memory than
    # was kept for the desktop, that is set anew as well.
    has = {"memory_bytes": found.memory_bytes, "threads": found.threads}
    if row.data.get("desktop_bytes", 0) >= found.memory_bytes:
        has["desktop_bytes"] = found.desktop_bytes
    row.data = device_of(row).model_copy(update=has).model_dump(mode="json")
