"""A kind of long task: it counts, in the child, and keeps what it counted."""

from __future__ import annotations

import time
from collections.abc import Mapping
from typing import Any

from pydantic import BaseModel

from mill_lane.store.files import Taken, list_file
from mill_lane.store.home import Home
from mill_lane.work.kinds import KINDS
from mill_lane.work.kinds.base import Context, Kind, Report


class Payload(BaseModel):
    """How far to count, and whether to wait at each number."""

    to: int
    seconds: float = 0.0
    take: int = 0  # bytes that are held at each number


class Request(Payload):
    """The same, and where to write."""

    path: str


class Result(BaseModel):
    """What was counted."""

    total: int
    path: str


class Count(Kind[Payload, Request, Result]):
    """Count to a number."""

    name = "count"
    payload_type = Payload
    request_type = Request
    result_type = Result
    grace = 1.0

    def prepare(self, context: Context, payload: Payload) -> Request:
        """Find a place for the answer."""
        return Request(**payload.model_dump(), path=str(context.folder / "total.txt"))

    def run(self, request: Request, report: Report) -> Result:
        """Count."""
        held: list[bytearray] = []
        for i in range(request.to):
            time.sleep(request.seconds)
            held.append(bytearray(request.take))
            report.live = {"number": i}
            report(i / request.to, f"at {i}")
        with open(request.path, "w") as f:
            f.write(str(request.to))
        return Result(total=request.to, path=request.path)

    def memory_limit(self, request: Request) -> int | None:
        """Little, where a lot is wanted."""
        return 900 * 10**6 if request.take else None

    def store(self, home: Home, result: Result) -> dict[str, Taken]:
        """Take the answer in."""
        from pathlib import Path

        return {"total": home.files.put(Path(result.path))}

    def keep(
        self, context: Context, payload: Payload, result: Result, taken: Mapping[str, Taken]
    ) -> dict[str, Any]:
        """Keep what was counted."""
        return {"total": result.total, "hash": list_file(context.db, taken["total"])}


COUNT = Count()
if COUNT.name not in KINDS:
    KINDS.add(COUNT)
