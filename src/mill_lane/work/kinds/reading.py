"""Reading a scene in another unit, or with another axis up."""

from __future__ import annotations

from typing import Literal

from mill_lane.core.progress import part
from mill_lane.core.trim.model import Change
from mill_lane.work.kinds.base import Report
from mill_lane.work.kinds.versions import Edit, OfVersion, Source, Version, listed

Unit = Literal["m", "cm", "mm", "in", "ft"]
Axis = Literal["y", "z"]


class Payload(OfVersion):
    """The version to be read anew, and how."""

    unit: Unit
    up: Axis


class Request(Source):
    """The scene, how it is to be read, and what was told of it before."""

    unit: Unit
    up: Axis


class Reading(Edit[Payload, Request]):
    """Read a scene otherwise: a new version, all else as it was."""

    name = "reading"
    payload_type = Payload
    request_type = Request

    def run(self, request: Request, report: Report) -> Version:
        """Turn and scale, write, list."""
        from mill_lane.core.formats.gltf import write_glb
        from mill_lane.core.formats.gltf.turn import read_in
        from mill_lane.core.formats.opening import open_scene
        from mill_lane.core.formats.units import from_declared, put_right, said
        from mill_lane.core.scene.framing import world_bounds

        unit, up = request.unit, request.up
        scene, path = open_scene(request.scene, own=True), request.folder / "scene.glb"
        turned = read_in(scene, from_declared(unit, up, scene.declared), (unit, up))
        write_glb(turned, path, part(report, 0.0, 0.8))
        change = Change(kind=self.name, target="scene", key="scene:0", to=[unit, up])
        made = listed(path, part(report, 0.8, 1.0), [change])
        low, high = world_bounds(open_scene(path))
        size = float((high - low).max())
        declared = scene.declared
        note = said(unit, up, size) if declared is None else put_right(unit, up, declared, size)
        # What was told when the file came in still holds, but for the unit.
        notes = [note, *(n for n in request.notes if n.code != note.code)]
        update = {"notes": notes, "read_as": (unit, up), "declared": declared}
        return made.model_copy(update={"analysis": made.analysis.model_copy(update=update)})


READING = Reading()
