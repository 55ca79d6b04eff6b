"""A run of frames made ready to be handed over: a film, a sheet of small pictures, its files."""

from __future__ import annotations

import zipfile
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from typing import Annotated, Any, Literal

from pydantic import BaseModel, Field
from sqlalchemy import select

from mill_lane.core.denoise.names import DENOISED
from mill_lane.core.disk import check_room
from mill_lane.core.errors import MillError
from mill_lane.core.formats.film_rates import RATES
from mill_lane.core.plan.run_sheet import RunSheet
from mill_lane.core.progress import of_megabytes
from mill_lane.core.words import plural
from mill_lane.store.files import Taken, list_file
from mill_lane.store.home import Home
from mill_lane.store.models import Render, RenderGroup
from mill_lane.work import runs
from mill_lane.work.kinds.base import AT_ONCE, Context, Kind, Report
from mill_lane.work.kinds.denoise import CLEAN_FOLDER

What = Literal["film.mp4", "film.webm", "sheet.png", "frames.zip"]


class Payload(BaseModel):
    """The run, what is made of it, and frames a second of a film."""

    run: int
    what: What
    rate: Annotated[float, Field(ge=RATES[0], le=RATES[1])] = 24.0


class Picture(BaseModel):
    """A frame's number and its picture."""

    frame: int
    path: Path


class Request(BaseModel):
    """The pictures by number, the files by their names, what is made of them, and where."""

    pictures: list[Picture]
    files: list[Path]
    below: Path
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
        settings = runs.settings_of(group)
        if settings is None:
            raise MillError("There is no such run.", "Choose another one.")
        query = select(Render).where(
            Render.group_id == group.id, ~Render.removed, Render.picture.is_not(None)
        )
        pictures, frames = [], []
        for row in db.scalars(query.order_by(Render.frame)):
            clean = (row.layers or {}).get(DENOISED)
            digest = clean["hash"] if clean else row.picture or ""
            pictures.append(Picture(frame=row.frame, path=context.home.files.path(digest)))
            frames.append(row.frame)
        return Request(
            pictures=pictures,
            files=files_of(settings.sheet, settings.folder, frames),
            below=settings.folder,
            what=payload.what,
            rate=payload.rate,
            folder=context.folder,
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
            report(0.1, plural(count, "frame"))
            panels = [(str(p.frame), p.path) for p in request.pictures]
            write_pixels(path, contact_sheet(panels))
            return Result(path=path, frames=count)

        if request.what == "frames.zip":
            pack(path, request.files, request.below, report)
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


def files_of(sheet: RunSheet, folder: Path, frames: Sequence[int]) -> list[Path]:
    """The files of frames that are there, those that are denoised among them."""
    name = Path(sheet.name)
    clean = sheet.model_copy(update={"name": (name.parent / CLEAN_FOLDER / name.name).as_posix()})
    every = (p for s in (sheet, clean) for n in frames for p in s.paths(folder, n))
    return [p for p in every if p.exists()]


def pack(path: Path, files: Sequence[Path], below: Path, report: Report) -> None:
    """Put files into a ZIP under their names below a folder; they are packed already.

    Raises
    ------
    MillError
        Where there is no file, or no room.
    """
    if not files:
        raise MillError("None of the files is there any more.", "Render the frames again.")
    total = sum(p.stat().st_size for p in files)
    check_room(path.parent, total, "the ZIP of all frames")
    done = 0
    with zipfile.ZipFile(path, "w", zipfile.ZIP_STORED) as archive:
        for file in files:
            archive.write(file, file.relative_to(below))
            done += file.stat().st_size
            report(done / total, of_megabytes(done, total))


DELIVER = Deliver()
