"""The tables."""

from __future__ import annotations

from datetime import UTC, datetime
from typing import Any, ClassVar

from sqlalchemy import JSON, ForeignKey, Index, Text, UniqueConstraint
from sqlalchemy.orm import DeclarativeBase, Mapped, mapped_column, relationship


def now() -> datetime:
    """The time as it is stored: UTC without a zone, which is what SQLite keeps."""
    return datetime.now(UTC).replace(tzinfo=None)


class Base(DeclarativeBase):
    type_annotation_map: ClassVar[dict[Any, Any]] = {dict[str, Any]: JSON, list[Any]: JSON}


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
    data: Mapped[dict[str, Any]]
    found: Mapped[bool] = mapped_column(
        default=False
    )  # read off this computer, refreshed at each start
    removed: Mapped[bool] = mapped_column(default=False)


class ProfileRow(Base):
    """What another renderer's memory goes to; `data` is a core MemoryProfile, `decided` the units
    that trials told of.
    """

    __tablename__ = "memory_profiles"
    id: Mapped[int] = mapped_column(primary_key=True)
    data: Mapped[dict[str, Any]]
    decided: Mapped[list[Any]] = mapped_column(default=list)
    removed: Mapped[bool] = mapped_column(default=False)
    trials: Mapped[list[LoggedRow]] = relationship(order_by="LoggedRow.id")


class LoggedRow(Base):
    """A trial made elsewhere and logged by hand; `data` is a core Logged."""

    __tablename__ = "logged_trials"
    id: Mapped[int] = mapped_column(primary_key=True)
    profile_id: Mapped[int] = mapped_column(ForeignKey("memory_profiles.id"))
    data: Mapped[dict[str, Any]]
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
    draft: Mapped[dict[str, Any]]
    final: Mapped[dict[str, Any]]
    created: Mapped[datetime] = mapped_column(default=now)
    removed: Mapped[bool] = mapped_column(default=False)
    device: Mapped[DeviceRow] = relationship()
    versions: Mapped[list[SceneVersion]] = relationship(
        back_populates="job", order_by="SceneVersion.number"
    )


class SceneVersion(Base):
    """A scene as it was opened, or after a trim.

    Never changed once it is there, but that weighing tells more of it.
    """

    __tablename__ = "scene_versions"
    __table_args__ = (UniqueConstraint("job_id", "number"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    job_id: Mapped[int] = mapped_column(ForeignKey("jobs.id"))
    number: Mapped[int]
    parent_id: Mapped[int | None]
    file_hash: Mapped[str] = mapped_column(ForeignKey("files.hash"))
    file_name: Mapped[str]
    analysis: Mapped[dict[str, Any]]
    changes: Mapped[list[Any]] = mapped_column(default=list)  # what the trim did
    created: Mapped[datetime] = mapped_column(default=now)
    job: Mapped[Job] = relationship(back_populates="versions")
    file: Mapped[StoredFile] = relationship()


class Staged(Base):
    """A change on the trim list of a scene version:

    a texture (by image) and the longest side it should have.
    """

    __tablename__ = "staged"
    __table_args__ = (UniqueConstraint("version_id", "image"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    version_id: Mapped[int] = mapped_column(ForeignKey("scene_versions.id"))
    image: Mapped[int]
    limit: Mapped[int]


class Trial(Base):
    """One kept test render."""

    __tablename__ = "trials"
    __table_args__ = (UniqueConstraint("job_id", "number"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    job_id: Mapped[int] = mapped_column(ForeignKey("jobs.id"))
    version_id: Mapped[int] = mapped_column(ForeignKey("scene_versions.id"))
    task_id: Mapped[int | None] = mapped_column(ForeignKey("tasks.id"))
    number: Mapped[int]
    recipe: Mapped[dict[str, Any]]
    region: Mapped[list[Any]]  # x0, y0, x1, y1 in pixels of the recipe's picture
    frame: Mapped[int]
    device: Mapped[str]
    note: Mapped[str] = mapped_column(Text, default="")
    preview: Mapped[dict[str, Any]] = mapped_column(
        default=dict, server_default="{}"
    )  # what was left out for looking
    measured: Mapped[dict[str, Any]] = mapped_column(
        default=dict
    )  # seconds, samples, noise, memory, load
    profile: Mapped[dict[str, Any]] = mapped_column(
        default=dict, server_default="{}"
    )  # where the time goes
    # Pictures by layer: {name: {"hash": …, "low": …, "high": …, "unit": …}}, the last three for
    # maps.
    layers: Mapped[dict[str, Any]] = mapped_column(default=dict, server_default="{}")
    picture: Mapped[str | None]  # file hashes
    exr: Mapped[str | None]
    created: Mapped[datetime] = mapped_column(default=now)
    removed: Mapped[bool] = mapped_column(default=False)
    version: Mapped[SceneVersion] = relationship()
    task: Mapped[Task | None] = relationship()


class Run(Base):
    """A final frame at full size."""

    __tablename__ = "runs"
    id: Mapped[int] = mapped_column(primary_key=True)
    job_id: Mapped[int] = mapped_column(ForeignKey("jobs.id"))
    version_id: Mapped[int] = mapped_column(ForeignKey("scene_versions.id"))
    task_id: Mapped[int | None] = mapped_column(ForeignKey("tasks.id"))
    recipe: Mapped[dict[str, Any]]
    frame: Mapped[int]
    device: Mapped[str]
    measured: Mapped[dict[str, Any]] = mapped_column(default=dict)
    picture: Mapped[str | None]
    exr: Mapped[str | None]
    created: Mapped[datetime] = mapped_column(default=now)
    version: Mapped[SceneVersion] = relationship()
    task: Mapped[Task | None] = relationship()


class Task(Base):
    """A long piece of work.  It is a row before it starts."""

    __tablename__ = "tasks"
    __table_args__ = (Index("tasks_by_state", "state", "id"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    kind: Mapped[str]  # prepare, demo, open, trial, trim, run
    job_id: Mapped[int | None] = mapped_column(ForeignKey("jobs.id"))
    payload: Mapped[dict[str, Any]]
    state: Mapped[str] = mapped_column(default="queued")  # running, paused, done, failed, cancelled
    share: Mapped[float] = mapped_column(default=0.0)
    text: Mapped[str] = mapped_column(default="waiting")
    live: Mapped[dict[str, Any]] = mapped_column(default=dict)  # figures while it runs
    result: Mapped[dict[str, Any]] = mapped_column(default=dict)
    error: Mapped[dict[str, Any]] = mapped_column(default=dict)
    attempts: Mapped[int] = mapped_column(default=0)
    cancel: Mapped[bool] = mapped_column(default=False)
    # What the artist wants of it while it runs: {"pause": true}, {"priority": [x, y]} in pixels of
    # the whole picture.
    wants: Mapped[dict[str, Any]] = mapped_column(default=dict, server_default="{}")
    lease: Mapped[float] = mapped_column(
        default=0.0
    )  # seconds since the epoch until which a worker holds it
    created: Mapped[datetime] = mapped_column(default=now)
    started: Mapped[datetime | None]
    finished: Mapped[datetime | None]

    @property
    def over(self) -> bool:
        return self.state in ("done", "failed", "cancelled")
