"""What kinds of task share that end with a new scene version."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Any, TypeVar

from pydantic import BaseModel
from sqlalchemy import func, select

from mill_lane.core.progress import Progress
from mill_lane.core.scene.model import Note, Scene
from mill_lane.core.trim.model import Change
from mill_lane.core.weigh.analysis import Analysis
from mill_lane.core.weigh.analysis_versions import read_analysis
from mill_lane.store.files import Taken, list_file
from mill_lane.store.home import Home
from mill_lane.store.models import Job, SceneVersion
from mill_lane.work import queue
from mill_lane.work.kinds.base import AT_ONCE, Context, Kind, P, Q
from mill_lane.work.kinds.final import final_recipe
from mill_lane.work.kinds.first_look import FIRST_LOOK
from mill_lane.work.kinds.first_look import Payload as Look
from mill_lane.work.kinds.preload import PRELOAD
from mill_lane.work.kinds.preload import Payload as Ahead
from mill_lane.work.kinds.weigh import WEIGH, Payload


class Version(BaseModel):
    """A scene that was written, listed, with what was done to it."""

    path: Path
    analysis: Analysis
    changes: list[Change] = []


def listed(path: Path, report: Progress, changes: list[Change] | None = None) -> Version:
    """List a scene that was just written."""
    from mill_lane.core.formats.opening import open_scene
    from mill_lane.core.weigh.measure import weigh

    analysis = weigh(open_scene(path, own=True), progress=report)
    return Version(path=path, analysis=analysis, changes=changes or [])


def told(analysis: Analysis, scene: Scene | Analysis, first: tuple[Note, ...] = ()) -> Analysis:
    """The analysis with what was told when the file came in, and how it was read."""
    notes = [*first, *scene.notes]
    sets = [(str(a), list(b), str(c)) for a, b, c in scene.variant_sets]
    said = {"read_as": scene.read_as, "declared": scene.declared, "variant_sets": sets}
    return analysis.model_copy(update={"notes": notes, **said})


def keep_version(
    context: Context, version: Version, taken: Taken, name: str, parent: int | None = None
) -> dict[str, Any]:
    """Make the scene the newest version of the task's job, and the one in use.

    What takes longer than listing is found out behind the page: weighing in full is queued.
    """
    db, job = context.db, context.db.get_one(Job, context.task.job_id)
    last = select(func.coalesce(func.max(SceneVersion.number), 0)).where(
        SceneVersion.job_id == job.id
    )
    row = SceneVersion(
        job_id=job.id,
        number=last.scalar_subquery() + 1,
        parent_id=parent,
        file_hash=list_file(db, taken),
        file_name=name,
        stage=version.analysis.stage,
        analysis=version.analysis.model_dump(mode="json"),
        changes=[c.as_json() for c in version.changes],
    )
    db.add(row)
    db.flush()
    job.version_id = row.id
    final = final_recipe(db, job.id)
    known = final.camera if final.camera in version.analysis.cameras else ""
    aspect = final.width / final.height
    queue.put(db, FIRST_LOOK, Look(version=row.id, camera=known, aspect=aspect), job.id)
    queue.put(db, PRELOAD, Ahead(version=row.id), job.id)
    camera = version.analysis.camera_for(final.camera)
    queue.put(db, WEIGH, Payload(version=row.id, camera=camera, aspect=aspect), job.id)
    return {"version": row.id}


class Into(Kind[P, Q, Version]):
    """A kind of task that ends with a scene that was written and listed."""

    result_type = Version
    lane = "files"
    grace = AT_ONCE

    def store(self, home: Home, result: Version) -> dict[str, Taken]:
        """Take the scene in."""
        return {"scene": home.files.put(result.path)}


class OfVersion(BaseModel):
    """The version that another is made of, and the name of its file."""

    version: int
    name: str


class Source(BaseModel):
    """The scene that another is made of, where to work, and what was told when it came in."""

    scene: Path
    folder: Path
    notes: list[Note]


V = TypeVar("V", bound=OfVersion)
S = TypeVar("S", bound=Source)


class Edit(Into[V, S]):
    """A kind of task that makes a new version of another; all else stays as it was.

    What request and payload have of the same name is passed on.
    """

    def prepare(self, context: Context, payload: V) -> S:
        """Find the scene, and what was told when it came in."""
        row = context.db.get_one(SceneVersion, payload.version)
        asked = {name: getattr(payload, name) for name in type(payload).model_fields}
        return self.request_type(
            scene=context.home.files.path(row.file_hash),
            folder=context.folder,
            notes=read_analysis(row.analysis).notes,
            **{k: v for k, v in asked.items() if k in self.request_type.model_fields},
        )

    def keep(
        self, context: Context, payload: V, result: Version, taken: Mapping[str, Taken]
    ) -> dict[str, Any]:
        """Make it the newest version."""
        return keep_version(context, result, taken["scene"], payload.name, payload.version)
