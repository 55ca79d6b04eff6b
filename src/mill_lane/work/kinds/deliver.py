"""A run of frames made ready to be shown: a film, a sheet of small pictures."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Any, Literal

from pydantic import BaseModel
from sqlalchemy import select

from mill_lane.core.denoise.names import DENOISED
from mill_lane.core.errors import MillError
from mill_lane.store.files import Taken, list_file
from mill_lane.store.home import Home
from mill_lane.store.models import Render, RenderGroup
from mill_lane.work import runs
from mill_lane.work.kinds.base import AT_ONCE, Context, Kind, Report

What = Literal["film.mp4", "film.webm", "sheet.png"]


class Payload(BaseModel):
    """The run, what is made of it, and frames a second of a film."""

    run: int
    what: What
    rate: float = 24.0


class Picture(BaseModel):
    """A frame's number and its picture."""

    frame: int
    path: Path


class Request(BaseModel):
    """The pictures by number, what is made of them, and where."""

    pictures: list[Picture]
    what: What
    rate: float
    folder: Path


class Result(BaseModel):
    """The file, and how many frames are in it."""

    path: Path
    frames: int


class Deliver(Kind[Payload, Request, Result]):
    """Make a film or a sheet of the frames that are done, denoised ones where there are."""

    name = "deliver"
    payload_type = Payload
    request_type = Request
    result_type = Result
    lane = "files"
    grace = AT_ONCE

    def prepare(self, context: Context, payload: Payload) -> Request:
        """Find the pictures."""
        db = context.db
        group = db.get_one(RenderGroup, payload.run)
        if runs.settings_of(group) is None:
            raise MillError("There is no such run.", "Choose another one.")
        query = select(Render).where(
            Render.group_id == group.id, ~Render.removed, Render.picture.is_not(None)
        )
        pictures = []
        for row in db.scalars(query.order_by(Render.frame)):
            clean = (row.layers or {}).get(DENOISED)
            digest = clean["hash"] if clean else row.picture or ""
            pictures.append(Picture(frame=row.frame, path=context.home.files.path(digest)))
        return Request(
            pictures=pictures, what=payload.what, rate=payload.rate, folder=context.folder
        )

    def run(self, request: Request, report: Report) -> Result:
        """Make it."""
        import numpy as np
        from PIL import Image

        from mill_lane.core.formats.film import contact_sheet, write_film
        from mill_lane.core.formats.pictures import write_pixels

        path, count = request.folder / request.what, len(request.pictures)
        if not count:
            raise MillError("No frame is done yet.", "Wait for some.")
        if request.what == "sheet.png":
            report(0.1, f"{count} frames")
            panels = [(str(p.frame), p.path) for p in request.pictures]
            write_pixels(path, contact_sheet(panels))
            return Result(path=path, frames=count)

        def shown() -> Iterator[np.ndarray]:
            for picture in request.pictures:
                with Image.open(picture.path, formats=("PNG",)) as found:
                    yield np.asarray(found.convert("RGB"))

        def tell(done: int) -> None:
            report(done / count, f"{done} of {count}")

        return Result(path=path, frames=write_film(path, shown(), request.rate, tell))

    def store(self, home: Home, result: Result) -> dict[str, Taken]:
        """Take the file in."""
        return {"made": home.files.put(result.path)}

    def keep(
        self, context: Context, payload: Payload, result: Result, taken: Mapping[str, Taken]
    ) -> dict[str, Any]:
        """Note where it lies."""
        file = taken["made"]
        digest = list_file(context.db, file)
        return {"made": {"hash": digest, "size": file.size, "frames": result.frames}}


DELIVER = Deliver()
