"""Reading a scene in another unit, or with another axis up."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Any, Literal

from pydantic import BaseModel

from mill_lane.core.progress import part
from mill_lane.core.scene.model import Note
from mill_lane.core.trim.model import Change
from mill_lane.core.weigh.analysis_versions import read_analysis
from mill_lane.store.files import Taken
from mill_lane.store.home import Home
from mill_lane.store.models import SceneVersion
from mill_lane.work.kinds.base import Context, Kind, Report
from mill_lane.work.kinds.versions import Version, keep_version, listed

Unit = Literal["m", "cm", "mm", "in", "ft"]
Axis = Literal["y", "z"]


class Payload(BaseModel):
    """The version to be read anew, and how."""

    version: int
    name: str
    unit: Unit
    up: Axis


class Request(BaseModel):
    """The scene, how it is to be read, and what was told of it before."""

    scene: Path
    folder: Path
    unit: Unit
    up: Axis
    notes: list[Note]


class Reading(Kind[Payload, Request, Version]):
    """Read a scene otherwise: a new version, all else as it was."""

    name = "reading"
    payload_type = Payload
    request_type = Request
    result_type = Version
    lane = "files"

    def prepare(self, context: Context, payload: Payload) -> Request:
        """Find the scene, and what was told when it came in."""
        row = context.db.get_one(SceneVersion, payload.version)
        return Request(
            scene=context.home.files.path(row.file_hash),
            folder=context.folder,
            unit=payload.unit,
            up=payload.up,
            notes=read_analysis(row.analysis).notes,
        )

    def run(self, request: Request, report: Report) -> Version:
        """Turn and scale, write, list."""
        from mill_lane.core.formats.gltf import write_glb
        from mill_lane.core.formats.gltf.turn import read_in
        from mill_lane.core.formats.opening import open_scene
        from mill_lane.core.formats.units import reading, said
        from mill_lane.core.scene.framing import world_bounds

        unit, up = request.unit, request.up
        scene, path = open_scene(request.scene, own=True), request.folder / "scene.glb"
        write_glb(read_in(scene, reading(unit, up)), path, part(report, 0.0, 0.8))
        change = Change(kind=self.name, target="scene", key="scene:0", to=[unit, up])
        made = listed(path, part(report, 0.8, 1.0), [change])
        low, high = world_bounds(open_scene(path))
        note = said(unit, up, float((high - low).max()))
        # What was told when the file came in still holds, but for the unit.
        notes = [note, *(n for n in request.notes if n.code != note.code)]
        update = {"notes": notes, "read_as": (unit, up)}
        return made.model_copy(update={"analysis": made.analysis.model_copy(update=update)})

    def store(self, home: Home, result: Version) -> dict[str, Taken]:
        """Take the scene in."""
        return {"scene": home.files.put(result.path)}

    def keep(
        self, context: Context, payload: Payload, result: Version, taken: Mapping[str, Taken]
    ) -> dict[str, Any]:
        """Make it the newest version."""
        return keep_version(context, result, taken["scene"], payload.name, payload.version)


READING = Reading()
