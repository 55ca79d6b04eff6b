"""Loading a scene before anybody renders it, in the process that will."""

from __future__ import annotations

from collections.abc import Mapping
from contextlib import suppress
from pathlib import Path
from typing import Any

from pydantic import BaseModel

from mill_lane.core.errors import MillError
from mill_lane.store.files import Taken
from mill_lane.store.models import SceneVersion
from mill_lane.work.kinds.base import AT_ONCE, Context, Kind, Nothing, Report
from mill_lane.work.kinds.needs import own_cpu


class Payload(BaseModel):
    """The scene version."""

    version: int


class Request(BaseModel):
    """The scene, the folder where decoded textures are kept, and what may be used."""

    scene: Path
    textures: Path
    threads: int
    memory_limit: int


class Preload(Kind[Payload, Request, Nothing]):
    """Load a scene, and keep it for the first trial: that begins with its first sample."""

    name = "preload"
    payload_type = Payload
    request_type = Request
    result_type = Nothing
    priority = 4  # before weighing, so that a trial meanwhile has it
    gives_way = True
    kernels = True
    grace = AT_ONCE

    def prepare(self, context: Context, payload: Payload) -> Request:
        """Find the scene."""
        row, cpu = context.db.get_one(SceneVersion, payload.version), own_cpu(context.db)
        return Request(
            scene=context.home.files.path(row.file_hash),
            textures=context.home.textures,
            threads=cpu.render_threads,
            memory_limit=cpu.free_bytes,
        )

    def run(self, request: Request, report: Report) -> Nothing:
        """Load it; one that does not fit is left to those who ask for it, who are told why."""
        from mill_lane.core.progress import part
        from mill_lane.work.kept_scene import forget_scene, loaded_scene
        from mill_lane.work.warm import prepare

        prepare(part(report, 0.0, 0.05))
        with suppress(MillError):
            try:
                loaded_scene(request.scene, {}, request.threads, report, textures=request.textures)
            except MemoryError:
                forget_scene()
        return Nothing()

    def keep(
        self, context: Context, payload: Payload, result: Nothing, taken: Mapping[str, Taken]
    ) -> dict[str, Any]:
        """Nothing is kept but what the process holds."""
        return {}

    def memory_limit(self, request: Request) -> int | None:
        """What the machine's settings leave for rendering."""
        return request.memory_limit


PRELOAD = Preload()
