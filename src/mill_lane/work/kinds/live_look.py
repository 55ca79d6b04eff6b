"""The look that runs: a picture that sharpens by itself, and begins anew when other is wanted."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from pydantic import BaseModel
from sqlalchemy import select

from mill_lane.core.errors import MillError
from mill_lane.store.files import Taken
from mill_lane.store.models import SceneVersion
from mill_lane.work import queue
from mill_lane.work.kinds.base import AT_ONCE, Context, Kind, Report
from mill_lane.work.kinds.needs import own_cpu
from mill_lane.work.live_files import LiveFiles, Request


class Payload(BaseModel):
    """Whose scene."""

    job: int


class Result(BaseModel):
    """The wish that was looked at last, and what ended it."""

    number: int
    why: str


class LiveLook(Kind[Payload, Request, Result]):
    """Look at what is wanted last, until it is clear enough, or nobody looks any more."""

    name = "live_look"
    payload_type = Payload
    request_type = Request
    result_type = Result
    lane = "live"
    gives_way = True
    kernels = True
    grace = way = 1.5

    def prepare(self, context: Context, payload: Payload) -> Request:
        """Find the newest version of the scene."""
        db, home = context.db, context.home
        newest = select(SceneVersion).where(SceneVersion.job_id == payload.job)
        version = db.scalars(newest.order_by(SceneVersion.number.desc())).first()
        if version is None:
            raise MillError("There is no scene to look at.", "Open one.")
        cpu = own_cpu(db)
        return Request(
            scene=home.files.path(version.file_hash),
            file_hash=version.file_hash,
            textures=home.textures,
            folder=home.looks,
            job=payload.job,
            threads=cpu.render_threads,
            memory_limit=cpu.free_bytes,
        )

    def run(self, request: Request, report: Report) -> Result:
        """Look."""
        from mill_lane.work.live import run

        number, why = run(request, report)
        return Result(number=number, why=why)

    def keep(
        self, context: Context, payload: Payload, result: Result, taken: Mapping[str, Taken]
    ) -> dict[str, Any]:
        """Nothing is kept; where something else was wanted at the last moment, look again."""
        wish = LiveFiles(context.home.looks, payload.job).wanted()
        if wish is not None and wish.number > result.number and not wish.paused:
            queue.put(context.db, self, payload, payload.job)
        return {"why": result.why}

    def patience(self, live: Mapping[str, Any]) -> float:
        """What it has in memory is worth a moment; while a scene is loaded there is nothing."""
        return AT_ONCE if live.get("phase", "loading") == "loading" else self.grace

    def memory_limit(self, request: Request) -> int | None:
        """What the machine's settings leave for rendering."""
        return request.memory_limit


LIVE_LOOK = LiveLook()
