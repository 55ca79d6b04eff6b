"""Files that are kept, by their content: /files/HASH.png or .exr."""

from __future__ import annotations

from fastapi import APIRouter
from fastapi.responses import FileResponse, Response

from mill_lane.core.errors import NotFoundError
from mill_lane.store.models import StoredFile
from mill_lane.web.shared.context import AHome, Db

router = APIRouter(include_in_schema=False)
KINDS = {"png": "image/png", "exr": "image/x-exr"}
FOR_EVER = {"Cache-Control": "max-age=31536000, immutable"}
HASH = 64  # digits
LONGEST = 80  # of a name


@router.get("/files/{name}")
def kept_file(db: Db, home: AHome, name: str, save: str = "") -> Response:
    """A kept picture, under the name `save` where it is to be saved."""
    digest, _, ending = name.partition(".")
    if ending not in KINDS or len(digest) != HASH or db.get(StoredFile, digest) is None:
        raise NotFoundError("file of that name")
    stem = "".join(ch for ch in save if ch.isalnum() or ch in "-_ ")[:LONGEST]
    return FileResponse(
        home.files.path(digest),
        media_type=KINDS[ending],
        headers=FOR_EVER,
        filename=f"{stem}.{ending}" if stem else None,
    )
