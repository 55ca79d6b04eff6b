"""Compiling the renderer, or loading it from the cache."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from pydantic import BaseModel

from mill_lane.store.files import Taken
from mill_lane.work.kinds.base import Context, Kind, Nothing, Report


class Result(BaseModel):
    """The seconds that it took."""

    seconds: float


class Prepare(Kind[Nothing, Nothing, Result]):
    """Have every kernel ready before anybody waits for it."""

    name = "prepare"
    payload_type = Nothing
    request_type = Nothing
    result_type = Result

    def prepare(self, context: Context, payload: Nothing) -> Nothing:
        """Nothing is needed."""
        return Nothing()

    def run(self, request: Nothing, report: Report) -> Result:
        """Compile or load the kernels."""
        from mill_lane.work.warm import prepare

        return Result(seconds=prepare(report))

    def keep(
        self, context: Context, payload: Nothing, result: Result, taken: Mapping[str, Taken]
    ) -> dict[str, Any]:
        """Keep the time."""
        return {"seconds": result.seconds}


PREPARE = Prepare()
