"""Building the demo scene, once for all jobs of it."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Any, Literal

from pydantic import BaseModel

from mill_lane.core.progress import part
from mill_lane.store.files import Taken
from mill_lane.store.home import Home
from mill_lane.work.kinds.base import Context, Report
from mill_lane.work.kinds.versions import Into, Version, keep_version, listed


class Payload(BaseModel):
    """How large, and under which name."""

    size: Literal["full", "medium", "small"]
    name: str


class Request(BaseModel):
    """The size, and the file that it is kept in."""

    size: str
    cached: Path
    folder: Path


class Demo(Into[Payload, Request]):
    """Build the bakery unless it is there, and list it."""

    name = "demo"
    payload_type = Payload
    request_type = Request

    def prepare(self, context: Context, payload: Payload) -> Request:
        """Find the file that holds this edition of the scene."""
        from mill_lane.demo.make import EDITION

        name = f"bakery-{payload.size}-{EDITION}.glb"
        return Request(
            size=payload.size, cached=context.home.folder / "cache" / name, folder=context.folder
        )

    def run(self, request: Request, report: Report) -> Version:
        """Build and list."""
        from mill_lane.demo.make import make_demo

        if not request.cached.exists():
            request.cached.parent.mkdir(exist_ok=True)
            # Beside it, so that one that is half built is never taken for it.
            built = request.folder / "building.glb"
            make_demo(built, request.size, 2, part(report, 0.0, 0.85))
            built.replace(request.cached)
        made = listed(request.cached, part(report, 0.85, 1.0))
        # The cache keeps its own copy: a link costs nothing.
        linked = request.folder / request.cached.name
        linked.unlink(missing_ok=True)
        linked.hardlink_to(request.cached)
        return made.model_copy(update={"path": linked})

    def store(self, home: Home, result: Version) -> dict[str, Taken]:
        """Take the scene in."""
        return {"scene": home.files.put(result.path)}

    def keep(
        self, context: Context, payload: Payload, result: Version, taken: Mapping[str, Taken]
    ) -> dict[str, Any]:
        """Make it the job's scene."""
        return keep_version(context, result, taken["scene"], payload.name)


DEMO = Demo()
