"""Another variant of a scene that is open: a version of its own, from what is kept of the file."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field

from mill_lane.core.progress import part
from mill_lane.core.trim.model import Change
from mill_lane.work.kinds.base import Report
from mill_lane.work.kinds.versions import Edit, OfVersion, Source, Version, listed, told


class Payload(OfVersion):
    """The version as it was opened, and what is chosen of it; see `core.formats.choices`."""

    choose: Annotated[str, Field(max_length=2000)]


class Request(Source):
    """The scene, what is chosen of it, and what was told before."""

    choose: str


class Variant(Edit[Payload, Request]):
    """Open the scene in other variants: a new version of it, without the trims of before."""

    name = "variant"
    payload_type = Payload
    request_type = Request

    def run(self, request: Request, report: Report) -> Version:
        """Open, write, list."""
        from mill_lane.core.formats.choices import parse_choices
        from mill_lane.core.formats.gltf import write_glb
        from mill_lane.core.formats.opening import check_vertices
        from mill_lane.core.formats.reopening import reopened

        choices = parse_choices(request.choose)
        scene = reopened(request.scene, choices, part(report, 0.0, 0.4))
        check_vertices(scene, part(report, 0.4, 0.6))
        path = request.folder / "scene.glb"
        write_glb(scene, path, part(report, 0.6, 0.85))
        change = Change(kind=self.name, target="scene", key="scene:variant", to=request.choose)
        made = listed(path, part(report, 0.85, 1.0), [change])
        return made.model_copy(update={"analysis": told(made.analysis, scene)})


VARIANT = Variant()
