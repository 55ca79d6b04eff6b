"""Serving: the web server and its worker, set up on an installation folder."""

from __future__ import annotations

import socket
from pathlib import Path

import uvicorn
from sqlalchemy import select
from sqlalchemy.orm import Session

from mill_lane.core.devices.cpu import cpu_device, find_machine
from mill_lane.core.devices.model import DEMO_CARD, Device
from mill_lane.core.errors import MillError
from mill_lane.core.recipe import DRAFT, FINAL
from mill_lane.store.home import Home, lock, open_home
from mill_lane.store.models import DeviceRow, Job, Task
from mill_lane.web.app import Settings, create_app
from mill_lane.web.security import LOCAL
from mill_lane.work import queue, worker


def furnish(db: Session, demo: str | None) -> None:
    """What every start needs:

    the CPU as found now, the demo's card, the demo job, the compiled renderer.
    """
    found = cpu_device(find_machine())
    row = db.scalars(select(DeviceRow).where(DeviceRow.found)).first()
    if row is None:
        db.add(DeviceRow(data=found.model_dump(mode="json"), found=True))
    else:
        # What the artist set stays; what the machine has is read anew.
        old = Device.model_validate(row.data)
        kept = {"memory_bytes": found.memory_bytes, "threads": found.threads}
        row.data = {**old.model_dump(mode="json"), **kept}
    for task in db.scalars(select(Task).where(Task.kind == "prepare", Task.state == "queued")):
        queue.cancel(db, task)
    queue.put(db, "prepare", {})
    if demo is not None and db.scalars(select(Job).where(Job.demo)).first() is None:
        card = DeviceRow(data=DEMO_CARD.model_dump(mode="json"))
        db.add(card)
        db.flush()
        job = Job(
            name="Village bakery, dawn shot",
            demo=True,
            device_id=card.id,
            draft=DRAFT.model_dump(mode="json"),
            final=FINAL.model_dump(mode="json"),
        )
        db.add(job)
        db.flush()
        queue.put(db, "demo", {"size": demo, "name": "bakery.glb"}, job.id)
    db.commit()


def tidy(home: Home) -> None:
    """Remove what unfinished uploads left behind."""
    for path in home.scratch.glob("tmp*"):
        if path.is_file():
            path.unlink()


def free_port(host: str, port: int) -> int:
    """The port, or the next free one of ten.  Raises MillError when all are taken."""
    for candidate in range(port, port + 10):
        with socket.socket(socket.AF_INET6 if ":" in host else socket.AF_INET) as s:
            s.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            try:
                s.bind((host, candidate))
            except OSError:
                continue
            return candidate
    raise MillError(
        f"The ports {port} to {port + 9} are all taken.", "Name another one with --port."
    )


def serve(folder: Path, host: str, port: int, scenes: Path | None, demo: str | None) -> None:
    """Serve until stopped.  Raises MillError when the folder or the port cannot be had."""
    folder = folder.absolute()
    home = open_home(folder)
    held = lock(folder)
    port = free_port(host, port)
    tidy(home)
    with home.sessions() as db:
        furnish(db, demo)
    process = worker.start(folder)
    shown = f"[{host}]" if ":" in host else host
    app = create_app(Settings(home, scenes, (*LOCAL, shown)))
    print(
        f"Mill Lane is at http://{shown}:{port}/   (its files: {folder}; stop it with Ctrl-C)",
        flush=True,
    )
    try:
        # Open event streams would keep a stopping server waiting for ever.
        uvicorn.run(app, host=host, port=port, log_level="warning", timeout_graceful_shutdown=1)
    finally:
        process.terminate()
        process.join(5)
        held.close()
