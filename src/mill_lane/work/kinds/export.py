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


class Payload(BaseModel):
    """The version and its number, and the format with the ending of its files."""

    version: int
    number: int
    format: str
    ending: str


class Request(BaseModel):
    """The scene, and the file to write."""

    scene: Path
    path: Path


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
        return Request(scene=context.home.files.path(row.file_hash), path=path)

    def run(self, request: Request, report: Report) -> Result:
        """Write it."""
        from mill_lane.core.formats.opening import open_scene
        from mill_lane.core.formats.saving import save_scene

        notes = save_scene(open_scene(request.scene, own=True), request.path, report)
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
