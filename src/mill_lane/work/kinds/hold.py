"""Finding how few samples hold, denoised: a pilot of a crop, and a render that confirms it."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Annotated, Any

from pydantic import BaseModel, Field

from mill_lane.core.denoise.found import SAMPLES, Found
from mill_lane.core.recipe import Recipe, Region
from mill_lane.store.files import Taken
from mill_lane.store.models import SceneVersion
from mill_lane.work.kinds.base import AT_ONCE, Context, Kind, Report
from mill_lane.work.kinds.final import final_recipe
from mill_lane.work.kinds.needs import own_cpu, sky_file


class Payload(BaseModel):
    """Of which scene version, where, and with which error at most (relative, squared, mean)."""

    version: int
    region: Region
    frame: int
    target: Annotated[float, Field(gt=0, le=1)]
    samples: int = SAMPLES


class Request(BaseModel):
    """The scene, the final recipe, and what the artist wants."""

    scene: Path
    recipe: Recipe
    sky: Path | None
    threads: int
    textures: Path  # the folder where decoded ones are kept
    wanted: Payload


class Hold(Kind[Payload, Request, Found]):
    """Run a pilot."""

    name = "hold"
    payload_type = Payload
    request_type = Request
    result_type = Found
    kernels = True
    alone = True  # its time per sample counts
    grace = AT_ONCE

    def prepare(self, context: Context, payload: Payload) -> Request:
        """Find the scene and the final recipe."""
        db, home = context.db, context.home
        version = db.get_one(SceneVersion, payload.version)
        recipe = final_recipe(db, version.job_id)
        return Request(
            scene=home.files.path(version.file_hash),
            recipe=recipe,
            sky=sky_file(db, home, recipe),
            threads=own_cpu(db).render_threads,
            textures=home.textures,
            wanted=payload,
        )

    def run(self, request: Request, report: Report) -> Found:
        """Render and denoise the crop at several counts."""
        from mill_lane.core.denoise.pilot import Shot, run_pilot
        from mill_lane.core.progress import part
        from mill_lane.work.kept_scene import loaded_scene
        from mill_lane.work.rendering import sky_pixels
        from mill_lane.work.warm import prepare

        prepare(part(report, 0.0, 0.02))
        wanted, recipe = request.wanted, request.recipe
        sky = sky_pixels(request.sky, recipe)
        loaded, _ = loaded_scene(
            request.scene, {}, request.threads, report, textures=request.textures
        )
        shot = Shot(loaded, recipe, wanted.region, wanted.frame, request.threads, sky)
        return run_pilot(shot, wanted.target, wanted.samples, part(report, 0.15, 1.0))

    def keep(
        self, context: Context, payload: Payload, result: Found, taken: Mapping[str, Taken]
    ) -> dict[str, Any]:
        """Keep the curves with the task."""
        return {"found": result.model_dump(mode="json")}


HOLD = Hold()
