"""Putting a camera up by hand: a new version of the scene, all else as it was."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import replace
from typing import Annotated, Any

from pydantic import BaseModel, Field

from mill_lane.core.progress import part
from mill_lane.core.recipe_versions import read_recipe, stored
from mill_lane.core.trim.model import Change
from mill_lane.store.files import Taken
from mill_lane.store.models import RecipeRow
from mill_lane.work.kinds.base import Context, Report
from mill_lane.work.kinds.versions import Edit, OfVersion, Source, Version, listed


class View(BaseModel):
    """Where from: degrees round the scene and above it, and the full vertical angle."""

    name: Annotated[str, Field(min_length=1, max_length=80)] = "By hand"
    azimuth: Annotated[float, Field(ge=-360, le=360)] = 35.0
    elevation: Annotated[float, Field(ge=-89, le=89)] = 20.0
    angle: Annotated[float, Field(ge=2, le=150)] = 40.0


class Payload(OfVersion):
    """The version, and how it is looked at."""

    view: View


class Request(Source):
    """The scene, the view, and what was told before."""

    view: View


class PutUp(Edit[Payload, Request]):
    """Put a camera up that sees all of the scene."""

    name = "camera"
    payload_type = Payload
    request_type = Request

    def run(self, request: Request, report: Report) -> Version:
        """Place it, write, list."""
        from mill_lane.core.formats.gltf import write_glb
        from mill_lane.core.formats.opening import open_scene
        from mill_lane.core.scene.framing import framed
        from mill_lane.core.scene.model import Camera, Node

        view, scene = request.view, open_scene(request.scene, own=True)
        yfov = math.radians(view.angle)
        matrix = framed(scene, view.azimuth, view.elevation, yfov)
        # One that was added since there was none makes way.
        nodes = tuple(n for n in scene.nodes if n.camera < 0 or not scene.cameras[n.camera].added)
        kept = tuple(c for c in scene.cameras if not c.added)
        node = Node(view.name, matrix=matrix, camera=len(kept))
        scene = replace(scene, cameras=(*kept, Camera(view.name, yfov)), nodes=(*nodes, node))
        path = request.folder / "scene.glb"
        write_glb(scene, path, part(report, 0.0, 0.8))
        said = [f"{view.azimuth:g}°", f"{view.elevation:g}°"]
        change = Change(kind=self.name, target=view.name, key="scene:camera", to=said)
        made = listed(path, part(report, 0.8, 1.0), [change])
        notes = [n for n in request.notes if n.code != "camera_added"]
        return made.model_copy(
            update={"analysis": made.analysis.model_copy(update={"notes": notes})}
        )

    def keep(
        self, context: Context, payload: Payload, result: Version, taken: Mapping[str, Taken]
    ) -> dict[str, Any]:
        """Make it the newest version, looked at through the new camera."""
        job = context.task.job_id
        for row in context.db.query(RecipeRow).filter(
            RecipeRow.job_id == job, RecipeRow.chosen.is_not(None)
        ):
            recipe = read_recipe(row.data)
            row.data = stored(recipe.model_copy(update={"camera": payload.view.name}))
        return super().keep(context, payload, result, taken)


PUT_UP = PutUp()
