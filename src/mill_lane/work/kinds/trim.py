"""Applying a trim list: a new scene version, the old one stays."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Any

from pydantic import BaseModel

from mill_lane.core.progress import part
from mill_lane.core.trim.model import Choice
from mill_lane.core.weigh.analysis_versions import read_analysis
from mill_lane.store.files import Taken
from mill_lane.store.home import Home
from mill_lane.store.models import SceneVersion, TrimEntry
from mill_lane.work.kinds.base import Context, Kind, Report
from mill_lane.work.kinds.versions import Version, keep_version, listed, told


class Payload(BaseModel):
    """The version to be trimmed, and what is to be done."""

    version: int
    name: str
    choices: list[Choice]


class Request(BaseModel):
    """The scene, what is to be done, and where to work."""

    scene: Path
    folder: Path
    choices: list[Choice]


class Trim(Kind[Payload, Request, Version]):
    """Make the staged changes and write the scene anew."""

    name = "trim"
    payload_type = Payload
    request_type = Request
    result_type = Version
    lane = "files"

    def prepare(self, context: Context, payload: Payload) -> Request:
        """Find the scene."""
        row = context.db.get_one(SceneVersion, payload.version)
        return Request(
            scene=context.home.files.path(row.file_hash),
            folder=context.folder,
            choices=payload.choices,
        )

    def run(self, request: Request, report: Report) -> Version:
        """Trim, write, list."""
        from mill_lane.core.formats.gltf import write_glb
        from mill_lane.core.formats.opening import open_scene
        from mill_lane.core.trim import apply_choices

        scene, path = open_scene(request.scene, own=True), request.folder / "scene.glb"
        trimmed, changes = apply_choices(scene, request.choices, part(report, 0.0, 0.8))
        write_glb(trimmed, path, part(report, 0.8, 0.95))
        return listed(path, part(report, 0.95, 1.0), changes)

    def store(self, home: Home, result: Version) -> dict[str, Taken]:
        """Take the scene in."""
        return {"scene": home.files.put(result.path)}

    def keep(
        self, context: Context, payload: Payload, result: Version, taken: Mapping[str, Taken]
    ) -> dict[str, Any]:
        """Make it the newest version; what was applied is no longer staged."""
        db = context.db
        parent = db.get_one(SceneVersion, payload.version)
        # What was told when the file came in, and how it was read, is as true of it trimmed.
        analysis = told(result.analysis, read_analysis(parent.analysis))
        made = result.model_copy(update={"analysis": analysis})
        kept = keep_version(context, made, taken["scene"], payload.name, parent.id)
        done = {(c.trim, c.target.key) for c in payload.choices}
        for entry in db.query(TrimEntry).filter(TrimEntry.version_id == parent.id):
            if (entry.trim, entry.target) in done:
                db.delete(entry)
        return kept


TRIM = Trim()
