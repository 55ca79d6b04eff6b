"""The frames of a run on the workers of a scheduler."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any

from pydantic import BaseModel

from mill_lane.core.recipe_versions import read_recipe
from mill_lane.store.files import Taken, list_file
from mill_lane.store.models import RenderGroup, SceneVersion
from mill_lane.work import queue, runs
from mill_lane.work.kinds.base import AT_ONCE, Context, Kind, Report
from mill_lane.work.kinds.needs import own_cpu, sky_file
from mill_lane.work.kinds.render import RENDER
from mill_lane.work.kinds.render_parts import Request, of_group
from mill_lane.work.kinds.spread_parts import FrameDone, SpreadRequest, SpreadResult
from mill_lane.work.put_aside import frame_key


class Payload(BaseModel):
    """The run."""

    run: int


class Spread(Kind[Payload, SpreadRequest, SpreadResult]):
    """Share the frames of a run out, and keep each as it comes back."""

    name = "spread"
    payload_type = Payload
    request_type = SpreadRequest
    result_type = SpreadResult
    lane = "machines"
    elsewhere = True
    grace = AT_ONCE

    def prepare(self, context: Context, payload: Payload) -> SpreadRequest:
        """Gather the frames that are left, and what they need."""
        db, home = context.db, context.home
        settings = runs.known_settings(db.get_one(RenderGroup, payload.run))
        version = db.get_one(SceneVersion, settings.version)
        recipe = read_recipe(settings.recipe)
        sky = sky_file(db, home, recipe)
        scene = home.files.path(version.file_hash)
        shown = {"region": [0, 0, recipe.width, recipe.height], "preview": {}}
        frame = Request(
            scene=scene,
            recipe=recipe,
            region=(0, 0, recipe.width, recipe.height),
            frame=0,
            preview={},
            threads=1,
            memory_limit=own_cpu(db).free_bytes,
            key=frame_key(version.file_hash, recipe, shown, settings.means),
            about="",
            sky=sky,
            folder=context.folder,
            taken_apart=False,
            checkpoint_seconds=RENDER.checkpoint_seconds,
            **of_group(settings, version),
        )
        assert frame.output is not None
        sheet = frame.output.sheet.model_copy(update={"keep_states": False})  # they stay there
        frame = frame.model_copy(
            update={"output": frame.output.model_copy(update={"sheet": sheet})}
        )
        files = {version.file_hash: scene} | ({sky.name: sky} if sky is not None else {})
        return SpreadRequest(
            scheduler=settings.scheduler,
            frames=settings.left,
            frame=frame,
            scene=version.file_hash,
            sky=sky.name if sky is not None else "",
            files=files,
            store=home.files.folder,
            folder=context.folder,
        )

    def run(self, request: SpreadRequest, report: Report) -> SpreadResult:
        """Share them out."""
        from mill_lane.work.machines.spread import spread

        return spread(request, report)

    def keep_part(self, context: Context, payload: Payload, result: SpreadResult) -> None:
        """Keep frames that came back."""
        for done in result.frames:
            self._keep(context, payload, done)

    def files_of_part(self, result: SpreadResult) -> Iterable[Taken]:
        """The pictures of frames that came back."""
        return [file for done in result.frames for file in done.taken.values()]

    def _keep(self, context: Context, payload: Payload, done: FrameDone) -> None:
        db = context.db
        group = db.get_one(RenderGroup, payload.run)
        settings = runs.known_settings(group)
        if done.frame not in settings.left:  # kept before
            return
        left = [n for n in settings.left if n != done.frame]
        runs.store(group, settings.model_copy(update={"left": left}))
        row = runs.add_frame(db, group, settings, done.frame)
        row.task_id = context.task.id
        digests = {name: list_file(db, file) for name, file in done.taken.items()}
        named = {n if n in ("picture", "exr") else f"layer {n}": d for n, d in digests.items()}
        RENDER.keep_picture(db, row, done.result, named)
        if runs.known_settings(group).state == "stopped":  # for what is wrong with the frame
            queue.want(db, context.task, finish=True)

    def keep(
        self,
        context: Context,
        payload: Payload,
        result: SpreadResult,
        taken: Mapping[str, Taken],
    ) -> dict[str, Any]:
        """Keep what was not kept yet, and go on, with less memory where it failed, or stop."""
        self.keep_part(context, payload, result)
        db = context.db
        group = db.get_one(RenderGroup, payload.run)
        changed: dict[str, Any] = {}
        settings = runs.known_settings(group)
        if result.memory and (found := runs.less(db, settings, min(result.lost))):
            changed = found
        elif result.lost:
            frame, why = min(result.lost.items())
            changed = {"state": "stopped", "why": f"frame {frame}: {why}"}
        elif settings.state == "stopping" or (result.stopped and settings.state == "running"):
            changed = {"state": "stopped"}
        elif not settings.left and settings.state == "running":
            changed = {"state": "done"}
        settings = settings.model_copy(update=changed | {"task": None})
        runs.store(group, settings)
        if settings.state == "running" and settings.left:
            runs.go(db, group, RENDER, self)
        elif settings.state == "done" and (follower := runs.next_in_line(db, group)):
            runs.go(db, follower, RENDER, self)
        return {"frames": len(result.frames)}

    def ended_without(self, context: Context, payload: Payload) -> None:
        """Say why the run does not go on."""
        group = context.db.get_one(RenderGroup, payload.run)
        settings = runs.known_settings(group)
        why = str(context.task.error.get("error", ""))
        update = {"state": "stopped", "why": why, "task": None}
        runs.store(group, settings.model_copy(update=update))

    def left_something(self, context: Context) -> bool:
        """Nothing: each frame is kept as it comes."""
        return False


SPREAD = Spread()
