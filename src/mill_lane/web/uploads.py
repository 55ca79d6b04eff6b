"""Scenes coming in: sent by the page, or taken from the folder named at the start."""

from __future__ import annotations

import tempfile
from pathlib import Path
from typing import Annotated

from fastapi import APIRouter, Body, Request
from pydantic import BaseModel
from sqlalchemy import select

from mill_lane.core.errors import MillError
from mill_lane.core.formats.blob import inside
from mill_lane.core.formats.opening import ENDINGS
from mill_lane.core.recipe import DRAFT, FINAL
from mill_lane.store.models import DeviceRow, Job
from mill_lane.web.context import Db, home_of, settings_of
from mill_lane.work import queue

router = APIRouter(prefix="/api")
UPLOAD_LIMIT = 8 * 10**9


class Opened(BaseModel):
    job: int
    task: int


def check_name(name: str) -> str:
    """A file name fit to be shown.  Raises MillError for endings that are not read."""
    short = Path(name.replace("\\", "/")).name[:200] or "scene"
    if not short.lower().endswith(ENDINGS):
        raise MillError(
            f"“{short}” is not a scene file that is read.",
            f"Mill Lane reads {', '.join(ENDINGS)}. A scene with files beside it goes into one ZIP.",
            "Nothing was imported.",
        )
    return short


async def received(
    request: Request, folder: Path, name: str, limit: int, advice: str, again: str
) -> Path:
    """The body of the request in a file of its own, written as it comes.

    Raises MillError for none and for too much.
    """
    written = 0
    with tempfile.NamedTemporaryFile(
        dir=folder, suffix=Path(name).suffix.lower(), delete=False
    ) as f:
        path = Path(f.name)
        try:
            async for block in request.stream():
                written += len(block)
                if written > limit:
                    raise MillError(
                        f"“{name}” is over {limit / 10**9:g} GB.", advice, "Nothing was imported."
                    )
                f.write(block)
            if written == 0:
                raise MillError(f"“{name}” is empty (0 bytes).", again, "Nothing was imported.")
        except BaseException:
            path.unlink(missing_ok=True)  # also when the sender went away
            raise
    return path


@router.post("/scenes")
async def upload(request: Request, db: Db, name: str) -> Opened:
    """A scene file as the body of the request."""
    short = check_name(name)
    advice = "Put it into a folder and start with --scenes FOLDER."
    path = await received(
        request, home_of(request).scratch, short, UPLOAD_LIMIT, advice, "Export the scene again."
    )
    return _open(db, path, short, uploaded=True)


@router.post("/scenes/from-folder")
def from_folder(request: Request, db: Db, file: Annotated[str, Body(embed=True)]) -> Opened:
    """A file of the folder that was named at the start."""
    folder = settings_of(request).scenes
    if folder is None:
        raise MillError(
            "No folder of scenes was named at the start.", "Start with --scenes FOLDER."
        )
    path = inside(folder, file)
    if not path.is_file():
        raise MillError(f"“{file}” is no longer in the folder.", "Reload the page.")
    return _open(db, path, check_name(path.name), uploaded=False)


def _open(db: Db, path: Path, name: str, uploaded: bool) -> Opened:
    device = db.scalars(select(DeviceRow).where(DeviceRow.found, ~DeviceRow.removed)).first()
    assert device is not None  # found at every start
    job = Job(
        name=Path(name).stem,
        device_id=device.id,
        draft=DRAFT.model_dump(mode="json"),
        final=FINAL.model_dump(mode="json"),
    )
    db.add(job)
    db.flush()
    task = queue.put(db, "open", {"source": str(path), "name": name, "uploaded": uploaded}, job.id)
    return Opened(job=job.id, task=task.id)


def listed_scenes(folder: Path | None) -> list[tuple[str, int]]:
    """Scene files of the folder, as (name within it, bytes)."""
    if folder is None or not folder.is_dir():
        return []
    found = (p for p in folder.rglob("*") if p.suffix.lower() in ENDINGS and p.is_file())
    return sorted((str(p.relative_to(folder)), p.stat().st_size) for p in found)[:200]
