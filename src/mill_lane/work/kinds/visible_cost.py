"""Measuring what trims change in the picture: crops before and after."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Any

from pydantic import BaseModel

from mill_lane.core.recipe import Recipe
from mill_lane.core.trim.crops import Crop
from mill_lane.core.trim.model import Choice
from mill_lane.core.trim.visible import Difference
from mill_lane.core.weigh.analysis import Analysis
from mill_lane.core.weigh.analysis_versions import read_analysis
from mill_lane.store.files import Taken, list_file
from mill_lane.store.home import Home
from mill_lane.store.models import SceneVersion
from mill_lane.work.kinds.base import AT_ONCE, Context, Kind, Report
from mill_lane.work.kinds.final import final_recipe

PICTURES = ("before", "after", "apart")


class Payload(BaseModel):
    """Of which scene version, through which camera, and what is done to it together; `key` tells
    these choices apart.
    """

    version: int
    camera: str = ""
    key: str
    choices: list[Choice]


class Request(BaseModel):
    """The scene, what is known of it, the final picture, and where to put the crops."""

    scene: Path
    analysis: Analysis
    recipe: Recipe
    choices: list[Choice]
    folder: Path


class Pair(BaseModel):
    """A crop, how far it changed, and its pictures by `PICTURES`."""

    crop: Crop
    difference: Difference
    pictures: dict[str, Path]


class Result(BaseModel):
    """All crops."""

    pairs: list[Pair]


class VisibleCost(Kind[Payload, Request, Result]):
    """Render crops of a scene before and after a trim."""

    name = "visible_cost"
    payload_type = Payload
    request_type = Request
    result_type = Result
    priority = 8
    gives_way = True  # it is nobody's hurry: what an artist asks for goes first
    apart = True
    kernels = True
    grace = AT_ONCE

    def prepare(self, context: Context, payload: Payload) -> Request:
        """Find the scene, what weighing told, and the final recipe."""
        row = context.db.get_one(SceneVersion, payload.version)
        recipe = final_recipe(context.db, row.job_id)
        analysis = read_analysis(row.analysis)
        camera = analysis.camera_for(payload.camera or recipe.camera)
        recipe = recipe.model_copy(update={"camera": camera})
        return Request(
            scene=context.home.files.path(row.file_hash),
            analysis=analysis,
            recipe=recipe.model_copy(update={"environment_picture": ""}),
            choices=payload.choices,
            folder=context.folder,
        )

    def run(self, request: Request, report: Report) -> Result:
        """Look at one crop after another."""
        from mill_lane.core.formats.pictures import write_pixels
        from mill_lane.core.progress import part
        from mill_lane.core.render.session import threads_to_use
        from mill_lane.work.kept_scene import forget_scene
        from mill_lane.work.looking import looker_of
        from mill_lane.work.warm import prepare

        prepare(part(report, 0.0, 0.02))
        forget_scene()
        threads = threads_to_use(64)
        looker = looker_of(request.scene, request.analysis, request.recipe, threads)
        pairs = []
        for k, pair in enumerate(looker.look(request.choices, part(report, 0.02, 1.0))):
            shown = {"before": pair.before, "after": pair.after, "apart": pair.apart}
            paths = {}
            for name in PICTURES:
                paths[name] = request.folder / f"{name}-{k}.png"
                write_pixels(paths[name], (shown[name] * 255 + 0.5).astype("uint8"))
            pairs.append(Pair(crop=pair.crop, difference=pair.difference, pictures=paths))
        return Result(pairs=pairs)

    def store(self, home: Home, result: Result) -> dict[str, Taken]:
        """Take the pictures in."""
        return {
            f"{name}-{k}": home.files.put(path)
            for k, pair in enumerate(result.pairs)
            for name, path in pair.pictures.items()
        }

    def keep(
        self, context: Context, payload: Payload, result: Result, taken: Mapping[str, Taken]
    ) -> dict[str, Any]:
        """Keep them with the task; they are no trial."""
        hashes = {name: list_file(context.db, file) for name, file in taken.items()}
        return {
            "pairs": [
                {
                    "crop": pair.crop.model_dump(mode="json"),
                    "difference": pair.difference.model_dump(mode="json"),
                    "pictures": {name: hashes[f"{name}-{k}"] for name in PICTURES},
                }
                for k, pair in enumerate(result.pairs)
            ]
        }


VISIBLE_COST = VisibleCost()
