"""Reading a scene file that came in."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from pathlib import Path
from typing import Any

from pydantic import BaseModel
from sqlalchemy import select

from mill_lane.core.progress import part
from mill_lane.core.recipe import framed
from mill_lane.core.recipe_versions import read_recipe, stored
from mill_lane.store.files import Taken
from mill_lane.store.home import Home
from mill_lane.store.models import Job, RecipeRow
from mill_lane.work.kinds.base import Context, Report
from mill_lane.work.kinds.versions import Into, Version, keep_version, listed, told


class Payload(BaseModel):
    """A file: in the scratch folder if it was uploaded, else anywhere; what is chosen of it, and
    which scene where it is a ZIP with several.
    """

    source: str
    name: str
    uploaded: bool = False
    choose: str = ""
    root: str = ""


class Request(BaseModel):
    """The file, the name that the artist knows it by, and where to work."""

    source: Path
    name: str
    uploaded: bool
    folder: Path
    choose: str = ""
    root: str = ""


class Open(Into[Payload, Request]):
    """Read a file, check every vertex, pack it as one GLB, and list it."""

    name = "open"
    payload_type = Payload
    request_type = Request

    def prepare(self, context: Context, payload: Payload) -> Request:
        """Find the file."""
        home = context.home
        source = home.scratch / payload.source if payload.uploaded else Path(payload.source)
        return Request(
            source=source,
            name=payload.name,
            uploaded=payload.uploaded,
            folder=context.folder,
            choose=payload.choose,
            root=payload.root,
        )

    def run(self, request: Request, report: Report) -> Version:
        """Read, check, pack and list."""
        from mill_lane.core.formats.choices import parse_choices
        from mill_lane.core.formats.gltf import write_glb
        from mill_lane.core.formats.opening import check_vertices, open_scene

        report(0.02, "reading the file")
        source, path = request.source, request.folder / "scene.glb"
        if request.uploaded:
            # Under the name that the artist knows: meshes and messages are called by it.
            named = request.folder / "sent" / request.name
            named.parent.mkdir(exist_ok=True)
            named.unlink(missing_ok=True)
            named.symlink_to(source.absolute())
            source = named
        choices = parse_choices(request.choose)
        if request.root:
            choices = replace(choices, root=request.root)
        scene = open_scene(source, part(report, 0.02, 0.4), choices=choices)
        check_vertices(scene, part(report, 0.4, 0.6))
        write_glb(scene, path, part(report, 0.6, 0.85))
        made = listed(path, part(report, 0.85, 1.0))
        return made.model_copy(update={"analysis": told(made.analysis, scene)})

    def keep(
        self, context: Context, payload: Payload, result: Version, taken: Mapping[str, Taken]
    ) -> dict[str, Any]:
        """Make it the job's scene; pictures stand as the first camera's frame does."""
        shape = result.analysis.shape_of(result.analysis.camera_for(""))
        for row in context.db.scalars(
            select(RecipeRow).where(
                RecipeRow.job_id == context.task.job_id, RecipeRow.chosen.is_not(None)
            )
        ):
            recipe = read_recipe(row.data)
            upright = framed(recipe, shape)
            if upright == recipe:
                continue
            row.data = stored(upright)
            job = context.db.get_one(Job, context.task.job_id)
            if row.chosen == "final" and job.delivered_height == recipe.height:
                job.delivered_height = upright.height
        return keep_version(context, result, taken["scene"], payload.name)

    def files_of(self, home: Home, payload: Payload) -> list[Path]:
        """The upload, which is the task's until it has ended."""
        return [home.scratch / payload.source] if payload.uploaded else []


OPEN = Open()
