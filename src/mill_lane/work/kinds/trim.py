"""Applying a trim list: a new scene version, the old one stays."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from sqlalchemy.orm import Session

from mill_lane.core.progress import part
from mill_lane.core.trim.model import Change, Choice, Proposal
from mill_lane.core.weigh.analysis_versions import read_analysis
from mill_lane.store.files import Taken
from mill_lane.store.models import SceneVersion, TrimEntry
from mill_lane.work.kinds.base import Context, Report
from mill_lane.work.kinds.versions import (
    Edit,
    OfVersion,
    Source,
    Version,
    keep_version,
    listed,
    told,
)


class Payload(OfVersion):
    """The version to be trimmed, and what is to be done."""

    choices: list[Choice]


class Request(Source):
    """The scene, what is to be done, and where to work."""

    choices: list[Choice]


class Trim(Edit[Payload, Request]):
    """Make the staged changes and write the scene anew."""

    name = "trim"
    payload_type = Payload
    request_type = Request

    def run(self, request: Request, report: Report) -> Version:
        """Trim, write, list."""
        from mill_lane.core.formats.gltf import write_glb
        from mill_lane.core.formats.opening import open_scene
        from mill_lane.core.trim import apply_choices

        scene, path = open_scene(request.scene, own=True), request.folder / "scene.glb"
        trimmed, changes = apply_choices(scene, request.choices, part(report, 0.0, 0.8))
        write_glb(trimmed, path, part(report, 0.8, 0.95))
        return listed(path, part(report, 0.95, 1.0), changes)

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
        row = db.get_one(SceneVersion, kept["version"])
        row.changes = [c.as_json() for c in explained(db, parent, result.changes)]
        sizes = [parent.made_for]
        for entry in db.query(TrimEntry).filter(TrimEntry.version_id == parent.id):
            if (entry.trim, entry.target) in done:
                sizes.append(entry.made_for)
                db.delete(entry)
        row.made_for = min(filter(None, sizes), default=0)
        return kept


def explained(db: Session, version: SceneVersion, changes: list[Change]) -> list[Change]:
    """The changes with what their proposals rested on, in words."""
    from mill_lane.core.trim import TRIMS

    why = {}
    for entry in db.query(TrimEntry).filter(TrimEntry.version_id == version.id):
        if entry.trim in TRIMS and entry.proposal:
            proposal = Proposal.model_validate(entry.proposal)
            why[entry.trim, entry.target] = TRIMS[entry.trim].explain(proposal)
    return [
        c if c.why else c.model_copy(update={"why": why.get((c.kind, c.key), "")}) for c in changes
    ]


TRIM = Trim()
