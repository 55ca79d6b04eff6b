"""Writing a scene version in another format, to be downloaded."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Any

from pydantic import BaseModel

from mill_lane.store.files import Taken, list_file
from mill_lane.store.home import Home
from mill_lane.store.models import SceneVersion
from mill_lane.work.kinds.base import AT_ONCE, Context, Kind, Report

# What can be written of a version beside whole scenes: what changed since it was opened.
CHANGED = {
    "pictures": "changed pictures, ZIP",
    "meshes-obj": "thinned meshes, OBJ",
    "meshes-glb": "thinned meshes, GLB",
}


class Payload(BaseModel):
    """The version and its number, and the format with the ending of its files.

    With `original`, the version that it came from, only what changed is written: see `CHANGED`.
    """

    version: int
    number: int
    format: str
    ending: str
    original: int | None = None


class Request(BaseModel):
    """The scene, and the file to write."""

    scene: Path
    path: Path
    format: str = ""
    original: Path | None = None


class Result(BaseModel):
    """The file, and what the format could not hold."""

    path: Path
    notes: list[str]


class Export(Kind[Payload, Request, Result]):
    """Write a scene in the format that an ending names."""

    name = "export"
    payload_type = Payload
    request_type = Request
    result_type = Result
    lane = "files"
    grace = AT_ONCE

    def prepare(self, context: Context, payload: Payload) -> Request:
        """Find the scene."""
        row = context.db.get_one(SceneVersion, payload.version)
        path = context.folder / f"scene.{payload.ending.lstrip('.')}"
        original = None
        if payload.original is not None:
            first = context.db.get_one(SceneVersion, payload.original)
            original = context.home.files.path(first.file_hash)
        scene = context.home.files.path(row.file_hash)
        return Request(scene=scene, path=path, format=payload.format, original=original)

    def run(self, request: Request, report: Report) -> Result:
        """Write it."""
        from mill_lane.core.formats.opening import open_scene
        from mill_lane.core.formats.saving import save_scene

        scene = open_scene(request.scene, own=True)
        if request.original is None:
            notes = save_scene(scene, request.path, report, flat=request.format.endswith("-flat"))
        else:
            from mill_lane.core.trim.take_home import write_meshes_zip, write_pictures_zip

            before = open_scene(request.original, own=True)
            if request.format == "pictures":
                notes = write_pictures_zip(before, scene, request.path, report)
            else:
                kind = request.format.removeprefix("meshes-")
                notes = write_meshes_zip(before, scene, request.path, kind, report)
        return Result(path=request.path, notes=[n.text for n in notes])

    def store(self, home: Home, result: Result) -> dict[str, Taken]:
        """Take the file in."""
        return {"export": home.files.put(result.path)}

    def keep(
        self, context: Context, payload: Payload, result: Result, taken: Mapping[str, Taken]
    ) -> dict[str, Any]:
        """Note where it lies."""
        file = taken["export"]
        digest = list_file(context.db, file)
        return {"export": {"hash": digest, "size": file.size, "notes": result.notes}}


EXPORT = Export()
