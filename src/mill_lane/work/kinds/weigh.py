"""Weighing a scene version in full, behind the page."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Any

from pydantic import BaseModel
from sqlalchemy import select

from mill_lane.core.progress import part
from mill_lane.core.weigh.analysis import Analysis
from mill_lane.core.weigh.analysis_versions import read_analysis
from mill_lane.store.files import Taken
from mill_lane.store.models import RecipeRow, SceneVersion
from mill_lane.work import queue
from mill_lane.work.kinds.base import Context, Kind, Report
from mill_lane.work.kinds.final import final_recipe, largest_picture
from mill_lane.work.kinds.propose import PROPOSE, usual_questions

# What weighing does not find out: it was told when the file came in.
TOLD = ("notes", "read_as", "declared", "variant_sets", "layered", "name")


class Payload(BaseModel):
    """The version to be weighed; the camera and the aspect of the picture, or none for those of
    the final set when it begins.
    """

    version: int
    camera: str = ""
    aspect: float = 0.0


class Request(BaseModel):
    """The scene, and the aspect of the picture that it is looked at in."""

    scene: Path
    aspect: float
    camera: str = ""


class Result(BaseModel):
    """What is known of it, as far as weighing has come."""

    analysis: Analysis


class Weigh(Kind[Payload, Request, Result]):
    """Weigh a scene in full; each stage is handed over as soon as it is done."""

    name = "weigh"
    payload_type = Payload
    request_type = Request
    result_type = Result
    priority = 10
    apart = True
    gives_way = True  # it is nobody's hurry: what an artist asks for goes first

    def prepare(self, context: Context, payload: Payload) -> Request:
        """Find the scene, and the aspect of the final recipe."""
        row = context.db.get_one(SceneVersion, payload.version)
        recipe = final_recipe(context.db, row.job_id)
        return Request(
            scene=context.home.files.path(row.file_hash),
            aspect=payload.aspect or recipe.width / recipe.height,
            camera=payload.camera or recipe.camera,
        )

    def run(self, request: Request, report: Report) -> Result:
        """Weigh it, with a part of the result after each stage."""
        from mill_lane.core.formats.opening import open_scene
        from mill_lane.core.render.session import threads_to_use
        from mill_lane.core.weigh.full import weigh_full
        from mill_lane.work.kept_scene import forget_scene
        from mill_lane.work.looking import forget_looker
        from mill_lane.work.memory import give_back
        from mill_lane.work.warm import prepare

        # The kernels look for what is seen as well.
        prepare(part(report, 0.0, 0.02))
        forget_scene()
        forget_looker()

        def ready(analysis: Analysis) -> None:
            report.live = {"stage": analysis.stage}
            report.partly(Result(analysis=analysis))

        try:
            scene = open_scene(request.scene)
            known = request.camera in (*scene.camera_names, *(c.name for c in scene.cameras))
            found = weigh_full(
                scene,
                request.aspect,
                request.camera if known else None,
                threads=threads_to_use(64),
                progress=part(report, 0.02, 1.0),
                ready=ready,
            )
            return Result(analysis=found)
        finally:
            give_back()

    def keep(
        self, context: Context, payload: Payload, result: Result, taken: Mapping[str, Taken]
    ) -> dict[str, Any]:
        """Put the fuller analysis in place of the listing, and ask what could be trimmed."""
        self.keep_part(context, payload, result)
        if context.task.cancel:
            return {}
        row = context.db.get_one(SceneVersion, payload.version)
        height = largest_picture(context.db, row.job_id)
        questions = usual_questions(payload.version, height, row.analysis_mark)
        queue.put(context.db, PROPOSE, questions, row.job_id)
        return {}

    def keep_part(self, context: Context, payload: Payload, result: Result) -> None:
        """Take over a stage; what was told when the file came in stays.

        What is being stopped may be of a camera that nobody looks through any more: it is left.
        """
        if context.task.cancel:
            return
        row = context.db.get_one(SceneVersion, payload.version)
        before = read_analysis(row.analysis)
        told = {name: getattr(before, name) for name in TOLD}
        analysis = result.analysis.model_copy(update=told)
        row.analysis, row.stage = analysis.model_dump(mode="json"), analysis.stage
        if payload.camera and payload.camera not in analysis.cameras:
            # Cameras of before were called otherwise: the recipes say what it is called now.
            chosen = select(RecipeRow).where(RecipeRow.job_id == row.job_id)
            for recipe in context.db.scalars(chosen):
                if recipe.data.get("camera") == payload.camera:
                    recipe.data = {**recipe.data, "camera": analysis.camera}


WEIGH = Weigh()
