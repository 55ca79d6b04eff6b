"""Taking the noise out of files in the folder of frames, one after another."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Annotated, Any, Literal

from pydantic import BaseModel, Field

from mill_lane.core.denoise.names import MOST_BESIDE, RADIUS, STRENGTH
from mill_lane.store.files import Taken
from mill_lane.work.kinds.base import AT_ONCE, Context, Kind, Report

Share = Annotated[float, Field(ge=0, le=1)]
Guide = Literal["albedo", "normal", "depth", "motion"]


class Payload(BaseModel):
    """What is read and written, by names with a place for the frame's number, and how it is worked.

    `there` says what becomes of files of the second name that are there already; `guides_from`
    names the layers that guides are read from.
    """

    source: Path
    out: Path
    mode: Literal["quality", "preview", "fireflies"] = "quality"
    strength: Share = STRENGTH
    radius: Annotated[int, Field(ge=1, le=20)] = RADIUS
    beside: Annotated[int, Field(ge=0, le=MOST_BESIDE)] = 0
    guides_from: dict[Guide, Annotated[str, Field(max_length=200)]] = {}
    there: Literal["refuse", "skip", "overwrite"] = "refuse"


class Request(Payload):
    """The same, and since when what is written is its own, seconds since the epoch."""

    since: float


class Result(BaseModel):
    """What was done, in figures."""

    measured: dict[str, Any]


class DenoiseFiles(Kind[Payload, Request, Result]):
    """Denoise a sequence; what is written stays when it is stopped, and it goes on after that."""

    name = "denoise_files"
    priority = 5
    payload_type = Payload
    request_type = Request
    result_type = Result
    grace = AT_ONCE

    def prepare(self, context: Context, payload: Payload) -> Request:
        """Say since when it runs: what it wrote from then on is not done again."""
        from datetime import UTC

        began = context.task.created.replace(tzinfo=UTC).timestamp()
        return Request(**payload.model_dump(), since=began)

    def run(self, request: Request, report: Report) -> Result:
        """Denoise one file after another."""
        import time

        from mill_lane.core.denoise.batch import batch_of, denoise_batch
        from mill_lane.core.denoise.files import Wishes
        from mill_lane.core.denoise.strips import Settings
        from mill_lane.core.render.session import threads_to_use
        from mill_lane.work.kept_scene import forget_scene
        from mill_lane.work.memory import peak_since, reset_peak, resident, return_large_blocks

        forget_scene()
        return_large_blocks()
        baseline, start = resident(), time.perf_counter()
        reset_peak()
        r = request
        batch = batch_of(r.source, r.out, r.there, r.beside, r.beside, r.since)
        settings = Settings(r.mode, r.radius, {}, threads_to_use(64))
        wishes = Wishes(
            settings, r.strength, guides_from={str(k): v for k, v in r.guides_from.items()}
        )
        r.out.parent.mkdir(parents=True, exist_ok=True)
        outcome = denoise_batch(batch, wishes, report)
        measured: dict[str, Any] = {
            "frames": len(batch.frames),
            "every": len(batch.every),
            "seconds": time.perf_counter() - start,
            "peak_memory_bytes": peak_since(baseline),
            "light_change": outcome.light_change,
            "notes": list(outcome.notes),
        }
        if outcome.shimmer is not None:
            measured["shimmer"] = list(outcome.shimmer)
        return Result(measured=measured)

    def keep(
        self, context: Context, payload: Payload, result: Result, taken: Mapping[str, Taken]
    ) -> dict[str, Any]:
        """Keep the figures; the files lie where they were asked for."""
        return {"measured": result.measured}


DENOISE_FILES = DenoiseFiles()
