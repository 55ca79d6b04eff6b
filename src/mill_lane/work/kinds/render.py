"""Rendering a crop or a frame."""

from __future__ import annotations

import json
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from pydantic import BaseModel
from sqlalchemy.orm import Session

from mill_lane.core.errors import MillError
from mill_lane.core.recipe_versions import read_recipe, stored
from mill_lane.core.render.state import passes_of
from mill_lane.store.files import Taken, list_file
from mill_lane.store.home import Home
from mill_lane.store.models import Render
from mill_lane.work import queue, runs
from mill_lane.work.failures import MEMORY
from mill_lane.work.kinds.base import AT_ONCE, Context, Kind, Report
from mill_lane.work.kinds.denoise import DENOISE, DENOISE_LATER
from mill_lane.work.kinds.denoise import Payload as DenoisePayload
from mill_lane.work.kinds.needs import own_cpu, sky_file
from mill_lane.work.kinds.render_parts import Request, Result, of_run
from mill_lane.work.put_aside import can_add, frame_key, whole_key

STATE = "state"  # among the layers of a frame: from which it can get more samples


class Payload(BaseModel):
    """The render; the key under which its state was saved, if that was another's.

    For more samples the file of the state that an ended frame left, by its hash, and its key.
    """

    render: int
    key: str | None = None
    state: str | None = None
    ended: str = ""


class RenderKind(Kind[Payload, Request, Result]):
    """Render with previews and checkpoints; stopped by hand it keeps what it has."""

    name = "render"
    payload_type = Payload
    request_type = Request
    result_type = Result
    alone = True
    resumable = True
    grace = 24.0  # a pass of a large picture may have to end first
    checkpoint_seconds: float = 8.0

    def prepare(self, context: Context, payload: Payload) -> Request:
        """Gather scene, recipe and machine.

        A simulated card's pixels come from the CPU, with the CPU's threads and memory.
        """
        db, home = context.db, context.home
        row = db.get_one(Render, payload.render)
        recipe = read_recipe(row.recipe)
        cpu = own_cpu(db)
        shown = {"region": row.region, "frame": row.frame, "preview": row.preview}
        values = stored(recipe)
        scene = row.version.file_hash
        about = {"file_hash": scene, "recipe": values, **shown, "note": row.note}
        run = of_run(db, row)
        key = payload.key or frame_key(scene, recipe, shown, run.get("means"))
        ended = ""
        whole = whole_key(scene, recipe, shown, run.get("means"))
        if payload.state is not None and can_add(payload.ended, whole):
            ended = payload.ended
            link(home.files.path(payload.state), context.folder / "state.npz")
        return Request(
            ended=ended,
            textures=home.textures,
            scene=home.files.path(scene),
            recipe=recipe,
            region=tuple(row.region),
            frame=row.frame,
            preview=row.preview,
            threads=cpu.render_threads,
            memory_limit=cpu.free_bytes,
            key=key,
            about=json.dumps(about),
            sky=sky_file(db, home, recipe),
            folder=context.folder,
            taken_apart=row.kind == "trial",
            checkpoint_seconds=self.checkpoint_seconds,
            **run,
        )

    def run(self, request: Request, report: Report) -> Result:
        """Render it."""
        from mill_lane.work.rendering import render

        return render(request, report)

    def store(self, home: Home, result: Result) -> dict[str, Taken]:
        """Take the pictures in."""
        files = {"picture": result.picture, "exr": result.exr}
        if result.state is not None:
            files["state"] = result.state
        files |= {f"layer {name}": layer.path for name, layer in result.layers.items()}
        return {name: home.files.put(path) for name, path in files.items()}

    def keep(
        self, context: Context, payload: Payload, result: Result, taken: Mapping[str, Taken]
    ) -> dict[str, Any]:
        """Write pictures and figures into the render's row."""
        row = context.db.get_one(Render, payload.render)
        digests = {name: list_file(context.db, file) for name, file in taken.items()}
        self.keep_picture(context.db, row, result, digests)
        return {"measured": result.measured, "stopped": result.stopped}

    def keep_picture(
        self, db: Session, row: Render, result: Result, digests: Mapping[str, str]
    ) -> None:
        """Write what was made and measured into a render's row, by the hashes of its files."""
        row.measured, row.time_profile = result.measured, result.time_profile
        row.picture, row.exr = digests["picture"], digests["exr"]
        state = {STATE: {"hash": digests["state"]}} if "state" in digests else {}
        row.layers = state | {
            name: {"hash": digests[f"layer {name}"]}
            | layer.model_dump(exclude={"path"}, exclude_none=True)
            for name, layer in result.layers.items()
        }
        denoise = read_recipe(row.recipe).denoise
        if denoise != "no":
            kind = DENOISE if denoise == "with" else DENOISE_LATER
            queue.put(db, kind, DenoisePayload(render=row.id), row.job_id)
        runs.frame_done(db, row, self, result.stopped)

    def ended_without(self, context: Context, payload: Payload) -> None:
        """Let the run of a frame go on after one that failed; one that was stopped stops it."""
        row = context.db.get_one(Render, payload.render)
        task = context.task
        why = task.error.get("error", "it failed") if task.state == "failed" else ""
        for_memory = bool(why) and task.error.get("code") == MEMORY
        again = bool(why) and bool(task.error.get("killed"))
        runs.frame_lost(context.db, row, self, why, for_memory, again)

    def stopped_by_hand(self, result: Result) -> bool:
        """Whether it was stopped with something to keep."""
        return result.stopped

    def left_something(self, context: Context) -> bool:
        """Whether there is a checkpoint with at least one whole pass."""
        path = context.home.scratch / f"task-{context.task.id}" / "state.npz"
        try:
            return passes_of(path) >= 1
        except MillError:
            return False

    def patience(self, live: Mapping[str, Any]) -> float:
        """While the scene is loaded there is nothing to wait for: a checkpoint lies in its file."""
        return AT_ONCE if live.get("phase", "loading") == "loading" else self.grace

    def memory_limit(self, request: Request) -> int | None:
        """What the machine's settings leave for rendering."""
        return request.memory_limit


def link(kept: Path, state: Path) -> None:
    """Have a kept state lie where a task takes it up, unless it has got further meanwhile."""
    if not kept.exists():
        raise MillError("The state of the frame is no longer kept.", "Render it again.")
    if not state.exists():
        state.hardlink_to(kept)


RENDER = RenderKind()
