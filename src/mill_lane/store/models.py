"""The tables."""

from __future__ import annotations

import hashlib
import json
from datetime import UTC, datetime
from typing import Any, ClassVar

from sqlalchemy import JSON, ForeignKey, Index, Text, UniqueConstraint, text
from sqlalchemy.orm import DeclarativeBase, Mapped, mapped_column, relationship, validates

Json = dict[str, Any]


def now() -> datetime:
    """The time as it is stored: UTC without a zone, which is what SQLite keeps."""
    return datetime.now(UTC).replace(tzinfo=None)


class Base(DeclarativeBase):
    """What all tables share."""

    type_annotation_map: ClassVar[dict[Any, Any]] = {Json: JSON, list[Any]: JSON}


class StoredFile(Base):
    """A file in the content store; `hash` is its SHA-256 in hexadecimal."""

    __tablename__ = "files"
    hash: Mapped[str] = mapped_column(primary_key=True)
    name: Mapped[str]
    size: Mapped[int]
    created: Mapped[datetime] = mapped_column(default=now)


class DeviceRow(Base):
    """A device that jobs can choose; `data` is a core Device."""

    __tablename__ = "devices"
    id: Mapped[int] = mapped_column(primary_key=True)
    data: Mapped[Json]
    # Read off this computer, refreshed at each start.
    found: Mapped[bool] = mapped_column(default=False)
    removed: Mapped[bool] = mapped_column(default=False)


class ProfileRow(Base):
    """What another renderer's memory goes to.

    `data` is a core MemoryProfile, `decided` the units that trials told of.
    """

    __tablename__ = "memory_profiles"
    id: Mapped[int] = mapped_column(primary_key=True)
    data: Mapped[Json]
    decided: Mapped[list[Any]] = mapped_column(default=list)
    removed: Mapped[bool] = mapped_column(default=False)
    trials: Mapped[list[LoggedRow]] = relationship(order_by="LoggedRow.id")


class LoggedRow(Base):
    """A trial made elsewhere and logged by hand; `data` is a core Logged."""

    __tablename__ = "logged_trials"
    id: Mapped[int] = mapped_column(primary_key=True)
    profile_id: Mapped[int] = mapped_column(ForeignKey("memory_profiles.id"))
    data: Mapped[Json]
    created: Mapped[datetime] = mapped_column(default=now)
    removed: Mapped[bool] = mapped_column(default=False)


class Job(Base):
    """One client's work."""

    __tablename__ = "jobs"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str]
    demo: Mapped[bool] = mapped_column(default=False)
    device_id: Mapped[int] = mapped_column(ForeignKey("devices.id"))
    version_id: Mapped[int | None]  # the scene version in use
    # The core RunSheet that is being filled in; empty before.
    run_sheet: Mapped[Json] = mapped_column(default=dict, server_default="{}")
    # Pixels high of the largest picture that is delivered, whatever is rendered meanwhile.
    delivered_height: Mapped[int] = mapped_column(default=1080, server_default="1080")
    # Seconds since the epoch when a page of it was opened last, before one of another job.
    looked_at: Mapped[float] = mapped_column(default=0.0, server_default="0")
    # The number of the trial that others are told against; None for the one before each.
    base: Mapped[int | None]
    created: Mapped[datetime] = mapped_column(default=now)
    removed: Mapped[bool] = mapped_column(default=False)
    device: Mapped[DeviceRow] = relationship()
    recipes: Mapped[list[RecipeRow]] = relationship(order_by="RecipeRow.id")
    versions: Mapped[list[SceneVersion]] = relationship(
        back_populates="job", order_by="SceneVersion.number"
    )


class RecipeRow(Base):
    """A named set of render settings of a job.

    `data` is a core Recipe of any schema version; `chosen` is "draft" or "final" for the one of its
    job that is used as such.
    """

    __tablename__ = "recipes"
    __table_args__ = (
        Index(
            "recipes_chosen",
            "job_id",
            "chosen",
            unique=True,
            sqlite_where=text("chosen IS NOT NULL"),
        ),
    )
    id: Mapped[int] = mapped_column(primary_key=True)
    job_id: Mapped[int] = mapped_column(ForeignKey("jobs.id"))
    name: Mapped[str]
    chosen: Mapped[str | None]
    data: Mapped[Json]
    # What it was before that of a trial was taken over; empty where there is nothing to go back to.
    before: Mapped[Json] = mapped_column(default=dict, server_default="{}")
    created: Mapped[datetime] = mapped_column(default=now)
    removed: Mapped[bool] = mapped_column(default=False)


class SceneVersion(Base):
    """A scene as it was opened, or after a trim.

    Never changed once it is there, but that weighing tells more of it.  `analysis` is a core
    Analysis of any schema version, read only where it is asked for; `analysis_mark` is another
    whenever it is; `stage` says how far weighing has come; `changes` are core Changes, and
    `made_for` the height in pixels of the largest picture that they are good for, 0 for any.
    """

    __tablename__ = "scene_versions"
    __table_args__ = (UniqueConstraint("job_id", "number"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    job_id: Mapped[int] = mapped_column(ForeignKey("jobs.id"))
    number: Mapped[int]
    parent_id: Mapped[int | None]
    file_hash: Mapped[str] = mapped_column(ForeignKey("files.hash"))
    file_name: Mapped[str]
    stage: Mapped[int] = mapped_column(default=0)
    analysis: Mapped[Json] = mapped_column(deferred=True)
    analysis_mark: Mapped[str] = mapped_column(default="", server_default="")
    made_for: Mapped[int] = mapped_column(default=0, server_default="0")
    changes: Mapped[list[Any]] = mapped_column(default=list)
    created: Mapped[datetime] = mapped_column(default=now)
    job: Mapped[Job] = relationship(back_populates="versions")
    file: Mapped[StoredFile] = relationship()

    @validates("analysis")
    def _mark(self, _: str, analysis: Json) -> Json:
        text_of_it = json.dumps(analysis, sort_keys=True)
        self.analysis_mark = hashlib.sha256(text_of_it.encode()).hexdigest()[:20]
        return analysis


class TrimEntry(Base):
    """Something on the trim list of a scene version.

    `trim` names the trim, `target` what is trimmed ("image:3"); `parameters` say how, and
    `proposal` is the core Proposal that it was staged from; `made_for` is the height in pixels of
    the picture that it was proposed for, 0 where the trim does not go by that.
    """

    __tablename__ = "trim_list"
    __table_args__ = (UniqueConstraint("version_id", "trim", "target"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    version_id: Mapped[int] = mapped_column(ForeignKey("scene_versions.id"))
    trim: Mapped[str]
    target: Mapped[str]
    name: Mapped[str]
    parameters: Mapped[Json]
    proposal: Mapped[Json] = mapped_column(default=dict)
    made_for: Mapped[int] = mapped_column(default=0, server_default="0")
    created: Mapped[datetime] = mapped_column(default=now)


class RenderGroup(Base):
    """Renders that belong together: a run of final frames, or a series of trials."""

    __tablename__ = "render_groups"
    __table_args__ = (UniqueConstraint("job_id", "kind", "number"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    job_id: Mapped[int] = mapped_column(ForeignKey("jobs.id"))
    kind: Mapped[str]  # run, series
    number: Mapped[int]
    settings: Mapped[Json] = mapped_column(default=dict)
    created: Mapped[datetime] = mapped_column(default=now)
    removed: Mapped[bool] = mapped_column(default=False)


class Render(Base):
    """A picture that was rendered, or is to be: a trial, or a frame of a run."""

    __tablename__ = "renders"
    __table_args__ = (
        UniqueConstraint("job_id", "kind", "number"),
        Index("renders_by_task", "task_id"),
        Index("renders_by_group", "group_id", "frame", "removed", "picture", "task_id"),
    )
    id: Mapped[int] = mapped_column(primary_key=True)
    job_id: Mapped[int] = mapped_column(ForeignKey("jobs.id"))
    kind: Mapped[str]  # trial, frame
    number: Mapped[int]
    version_id: Mapped[int] = mapped_column(ForeignKey("scene_versions.id"))
    group_id: Mapped[int | None] = mapped_column(ForeignKey("render_groups.id"))
    task_id: Mapped[int | None] = mapped_column(ForeignKey("tasks.id"))
    recipe: Mapped[Json]  # of any schema version
    region: Mapped[list[Any]]  # x0, y0, x1, y1 in pixels of the recipe's picture
    frame: Mapped[int]
    device: Mapped[Json]  # what the device was then: a core Device, or what is known of it
    note: Mapped[str] = mapped_column(Text, default="")
    preview: Mapped[Json] = mapped_column(default=dict)  # what was left out for looking
    predicted: Mapped[Json] = mapped_column(default=dict)  # beforehand: seconds, margin, memory
    measured: Mapped[Json] = mapped_column(default=dict)  # seconds, samples, noise, memory, load
    time_profile: Mapped[Json] = mapped_column(default=dict, deferred=True)
    # Pictures by layer, {name: {"hash": …}}; maps have "low", "high" and "unit" beside it.
    layers: Mapped[Json] = mapped_column(default=dict)
    picture: Mapped[str | None]  # file hashes
    exr: Mapped[str | None]
    created: Mapped[datetime] = mapped_column(default=now)
    removed: Mapped[bool] = mapped_column(default=False)
    starred: Mapped[bool] = mapped_column(default=False, server_default="0")
    version: Mapped[SceneVersion] = relationship()
    task: Mapped[Task | None] = relationship()


class Task(Base):
    """A long piece of work.  It is a row before it starts."""

    __tablename__ = "tasks"
    __table_args__ = (Index("tasks_by_state", "state", "id"), Index("tasks_by_job", "job_id", "id"))
    id: Mapped[int] = mapped_column(primary_key=True)
    kind: Mapped[str]  # the name of one of `work.kinds.KINDS`
    job_id: Mapped[int | None] = mapped_column(ForeignKey("jobs.id"))
    payload: Mapped[Json]
    state: Mapped[str] = mapped_column(default="queued")  # running, paused, done, failed, cancelled
    share: Mapped[float] = mapped_column(default=0.0)
    text: Mapped[str] = mapped_column(default="waiting")
    live: Mapped[Json] = mapped_column(default=dict)  # figures while it runs
    result: Mapped[Json] = mapped_column(default=dict)
    error: Mapped[Json] = mapped_column(default=dict)
    attempts: Mapped[int] = mapped_column(default=0)
    cancel: Mapped[bool] = mapped_column(default=False)
    # What the artist wants of it while it runs: {"pause": true}, {"priority": [x, y]} in pixels of
    # the whole picture.
    wants: Mapped[Json] = mapped_column(default=dict, server_default="{}")
    # Larger ones go first: seconds since the epoch when it was put first, 0 in its usual turn.
    turn: Mapped[float] = mapped_column(default=0.0, server_default="0")
    # Seconds since the epoch until which a worker holds it.
    lease: Mapped[float] = mapped_column(default=0.0)
    created: Mapped[datetime] = mapped_column(default=now)
    started: Mapped[datetime | None]
    finished: Mapped[datetime | None]

    @property
    def over(self) -> bool:
        """Whether nothing more is done about it unless somebody asks."""
        return self.state in ("done", "failed", "cancelled")
