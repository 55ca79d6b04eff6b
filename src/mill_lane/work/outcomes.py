"""What a task needs when it starts, and what is kept of it when it ends."""

from __future__ import annotations

import shutil
from pathlib import Path
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from mill_lane.demo.make import EDITION
from mill_lane.store.home import Home
from mill_lane.store.models import Job, Run, SceneVersion, Staged, Task, Trial
from mill_lane.work import queue


def payload_for(session: Session, home: Home, task: Task) -> dict[str, Any]:
    """The task's payload with the paths of this installation filled in."""
    folder = home.task_folder(task.id)
    payload = {**task.payload, "folder": str(folder)}
    if task.kind == "demo":
        cached = home.folder / "cache" / f"bakery-{payload['size']}-{EDITION}.glb"
        cached.parent.mkdir(exist_ok=True)
        payload["path"] = str(cached)
    elif task.kind in ("open", "trim", "read_in"):
        payload["path"] = str(folder / "scene.glb")
    if "version" in payload:
        version = session.get_one(SceneVersion, payload["version"])
        payload["scene"] = str(home.files.path(version.file_hash))
    if task.kind == "weigh":
        final = session.get_one(Job, task.job_id).final
        payload["aspect"] = final["width"] / final["height"]
    sky = payload.get("recipe", {}).get("environment_picture")
    if sky:
        payload["sky"] = str(home.files.path(sky.split("/")[0]))
    return payload


def conclude(
    session: Session, home: Home, task: Task, outcome: str, result: dict[str, Any]
) -> None:
    """Write down how a task ended.

    Nothing half-done stays but the checkpoint of a render that may go on.
    """
    if outcome == "done":
        KEEP[task.kind](session, home, task, result)
        stopped = bool(result.get("stopped"))
        kept = {
            k: v
            for k, v in result.items()
            if k in ("measured", "stopped", "version", "seconds", "export")
        }
        queue.end(
            session,
            task,
            "done",
            share=1.0,
            text="stopped by hand, kept" if stopped else "done",
            result=kept,
            live={},
        )
    elif outcome == "cancelled":
        queue.end(session, task, "cancelled", text="cancelled", live={})
    elif outcome == "waits" and not task.cancel:
        task.state, task.text, task.attempts = "queued", "waits for what you asked for", 0
    elif outcome == "waits":
        queue.end(session, task, "cancelled", text="cancelled", live={})
    elif outcome == "paused":
        task.state, task.text = "paused", "paused"
    else:
        queue.end(session, task, "failed", text="failed", error=result, live={})
    if outcome == "done" or task.kind not in ("trial", "run"):
        source = task.payload.get("source")
        if task.kind == "open" and source and task.payload.get("uploaded"):
            Path(source).unlink(missing_ok=True)
        shutil.rmtree(home.task_folder(task.id), ignore_errors=True)


def _keep_scene(session: Session, home: Home, task: Task, result: dict[str, Any]) -> None:
    """A new scene version of the task's job, which becomes the one in use."""
    job = session.get_one(Job, task.job_id)
    path = Path(result["path"])
    if task.kind == "demo":
        # The cache keeps its own copy: a link costs nothing.
        linked = home.task_folder(task.id) / path.name
        linked.unlink(missing_ok=True)
        linked.hardlink_to(path)
        path = linked
    if task.kind == "trim":
        # What was told when the file came in, and how it was read, is as true of it with smaller
        # textures.
        parent = session.get_one(SceneVersion, task.payload["version"])
        result["analysis"] |= {
            k: parent.analysis[k] for k in ("notes", "read_as") if k in parent.analysis
        }
    digest = home.files.take(path, session, task.payload["name"])
    number = 1 + max((v.number for v in job.versions), default=0)
    version = SceneVersion(
        job_id=job.id,
        number=number,
        parent_id=task.payload.get("version"),
        file_hash=digest,
        file_name=task.payload["name"],
        analysis=result["analysis"],
        changes=result.get("changes", []),
    )
    session.add(version)
    session.flush()
    job.version_id = version.id
    result["version"] = version.id
    # What takes longer than listing is found out behind the page.
    queue.put(session, "weigh", {"version": version.id}, job.id)
    if task.kind == "trim":
        for row in session.scalars(
            select(Staged).where(Staged.version_id == task.payload["version"])
        ):
            session.delete(row)


def _keep_trial(session: Session, home: Home, task: Task, result: dict[str, Any]) -> None:
    trial = session.scalars(select(Trial).where(Trial.task_id == task.id)).one()
    _keep_pictures(session, home, trial, result)
    trial.profile = result.get("profile", {})
    trial.layers = {
        name: {
            "hash": home.files.take(Path(entry["path"]), session),
            **{k: v for k, v in entry.items() if k != "path"},
        }
        for name, entry in result.get("layers", {}).items()
    }


def _keep_run(session: Session, home: Home, task: Task, result: dict[str, Any]) -> None:
    _keep_pictures(
        session, home, session.scalars(select(Run).where(Run.task_id == task.id)).one(), result
    )


def _keep_pictures(session: Session, home: Home, row: Trial | Run, result: dict[str, Any]) -> None:
    row.measured = result["measured"]
    row.picture = home.files.take(Path(result["files"]["picture"]), session)
    row.exr = home.files.take(Path(result["files"]["exr"]), session)


def _keep_weighing(session: Session, home: Home, task: Task, result: dict[str, Any]) -> None:
    """The fuller analysis in place of the listing; what was told when the file came in stays."""
    version = session.get_one(SceneVersion, task.payload["version"])
    kept: dict[str, Any] = {
        k: version.analysis[k] for k in ("notes", "read_as", "name") if k in version.analysis
    }
    version.analysis = {**result["analysis"], **kept}


def keep_partly(session: Session, home: Home, task: Task, result: dict[str, Any]) -> None:
    """Take over what a running task hands over before it is done."""
    if task.state == "running":
        KEEP[task.kind](session, home, task, result)


def _keep_export(session: Session, home: Home, task: Task, result: dict[str, Any]) -> None:
    path = Path(result["path"])
    size = path.stat().st_size
    result["export"] = {
        "hash": home.files.take(path, session),
        "size": size,
        "notes": result["notes"],
    }


def _keep_nothing(session: Session, home: Home, task: Task, result: dict[str, Any]) -> None:
    pass


KEEP = {
    "prepare": _keep_nothing,
    "demo": _keep_scene,
    "open": _keep_scene,
    "trim": _keep_scene,
    "read_in": _keep_scene,
    "weigh": _keep_weighing,
    "export": _keep_export,
    "trial": _keep_trial,
    "run": _keep_run,
}
