"""A night of frames: the run sheet, and the run as it goes."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

from fastapi import APIRouter, Request
from fastapi.responses import FileResponse, Response
from pydantic import BaseModel, Field

from mill_lane.core.errors import MillError
from mill_lane.core.plan.run_sheet import RunSheet
from mill_lane.core.words import plural
from mill_lane.jobs import nights, preflight, rehearsals, run_lookup
from mill_lane.jobs.delivering import deliver, delivered_file
from mill_lane.jobs.lookup import find_job, find_version
from mill_lane.jobs.summary import summarise
from mill_lane.web.shared.context import AHome, Db, Done, settings_of
from mill_lane.web.shared.pages import station_page
from mill_lane.web.stations.finish import night_view
from mill_lane.web.stations.finish.night_view import checked
from mill_lane.web.stations.finish.report import report_context
from mill_lane.work.kinds.deliver import What

router = APIRouter()
TYPES = {".mp4": "video/mp4", ".webm": "video/webm", ".png": "image/png", ".zip": "application/zip"}


@router.get("/jobs/{job}/finish/night", include_in_schema=False)
def page(
    request: Request,
    db: Db,
    job: int,
    run: int | None = None,
    at: int = 0,
    frame: int | None = None,
) -> Response:
    """The run sheet, and the run that is chosen: the newest, or one by its number."""
    c = station_page(request, db, job, "finish", "Night")
    if isinstance(c, Response):
        return c
    own = settings_of(request)
    shown = night_view.context(db, own.home, c.summary, own.frames_folder, run, at, frame)
    return c.draw("night.html", **shown, scheduler=own.scheduler)


class SheetForm(RunSheet):
    """A run sheet as the page sends it."""

    keep_states: bool = False
    png: bool = False  # a box that is not ticked is not sent
    rungs: tuple[str, ...] = ()
    read: bool = False  # whether the warnings were

    @property
    def sheet(self) -> RunSheet:
        """The sheet alone."""
        return RunSheet.model_validate(self.model_dump(exclude={"read"}))


class Begun(Done):
    """The run that was begun."""

    run: int


@router.put("/api/jobs/{job}/run-sheet")
def keep(db: Db, job: int, form: SheetForm) -> Done:
    """Keep the run sheet as it is being filled in, so that its checks follow."""
    nights.keep_draft(db, find_job(db, job), form.sheet)
    return Done()


class Mend(BaseModel):
    """The check that found what is to be mended."""

    code: Annotated[str, Field(max_length=80)]


@router.post("/api/jobs/{job}/run-sheet/mend")
def mend(request: Request, db: Db, job: int, form: Mend) -> Done:
    """Put in order what a check found, in the final recipe or in the sheet."""
    row = find_job(db, job)
    summary = summarise(db, row, find_version(db, row))
    preflight.mend(db, summary, settings_of(request).frames_folder, form.code)
    return Done()


@router.post("/api/nights/{run}/copy")
def copy(db: Db, run: int) -> Done:
    """Fill the run sheet in as that of a run."""
    group, settings = run_lookup.find_run(db, run)
    nights.keep_draft(db, find_job(db, group.job_id), settings.sheet)
    return Done()


@router.post("/api/jobs/{job}/nights")
def begin(request: Request, db: Db, job: int, form: SheetForm) -> Begun:
    """Begin a run of frames, once its warnings are ticked off."""
    sheet = form.sheet
    row = find_job(db, job)
    nights.keep_draft(db, row, sheet)
    folder = settings_of(request).frames_folder
    version = find_version(db, row)
    checks, _ = checked(db, summarise(db, row, version), sheet, folder)
    warnings = [c.text for c in checks if c.level == "warning"]
    errors = [c.text for c in checks if c.level == "error"]
    if warnings and not errors and not form.read:
        raise MillError(
            f"{plural(len(warnings), 'warning is', 'warnings are')} not ticked off: {warnings[0]}",
            "Read them, tick them off, and begin again.",
            "The sheet is kept.",
        )
    scheduler = settings_of(request).scheduler
    group = nights.begin(db, row, sheet, folder, warnings=warnings, scheduler=scheduler)
    if errors:  # one that beginning does not find by itself: nothing of it is kept
        raise MillError(errors[0], "Mend it, then begin again.", "Nothing was begun.")
    return Begun(go=f"/jobs/{row.id}/finish/night?run={group.number}", run=group.id)


@router.post("/api/jobs/{job}/rehearsals")
def rehearse(request: Request, db: Db, job: int, form: SheetForm) -> Begun:
    """Render some of the frames small and with few samples."""
    sheet = form.sheet
    row = find_job(db, job)
    nights.keep_draft(db, row, sheet)
    group = rehearsals.rehearse(db, row, sheet, settings_of(request).frames_folder)
    return Begun(go=f"/jobs/{row.id}/finish/night?run={group.number}", run=group.id)


class Deliver(BaseModel):
    """What is made of the frames that are done."""

    what: What
    rate: float = 24.0


@router.post("/api/nights/{run}/deliver")
def make(db: Db, run: int, form: Deliver) -> Done:
    """Make a film or a sheet of the frames that are done."""
    deliver(db, run, form.what, form.rate)
    return Done()


@router.get("/deliveries/{task}", include_in_schema=False)
def made(db: Db, home: AHome, task: int) -> FileResponse:
    """What was made of a run."""
    path, name = delivered_file(db, home, task)
    return FileResponse(path, media_type=TYPES[Path(name).suffix], filename=name)


@router.get("/jobs/{job}/finish/report", include_in_schema=False)
def report(request: Request, db: Db, job: int, run: int) -> Response:
    """The report of a run, to print."""
    c = station_page(request, db, job, "finish", "Report")
    if isinstance(c, Response):
        return c
    return c.draw("report.html", **report_context(db, c.summary, run))


class Stop(BaseModel):
    """Whether the frame that is rendered is stopped as well."""

    now: bool = False


@router.post("/api/nights/{run}/stop")
def stop(db: Db, run: int, form: Stop) -> Done:
    """Stop a run after the frame that is rendered, or at once."""
    nights.stop(db, run, form.now)
    return Done()


@router.post("/api/nights/{run}/go-on")
def go_on(db: Db, run: int) -> Done:
    """Let a run go on."""
    nights.go_on(db, run)
    return Done()


class Frames(BaseModel):
    """The frames that are left, in their order."""

    frames: Annotated[str, Field(max_length=4000)]


@router.put("/api/nights/{run}/frames")
def change(db: Db, run: int, form: Frames) -> Done:
    """Take frames out, add some, or put them into another order."""
    nights.change(db, run, form.frames)
    return Done()


class MoreSamples(BaseModel):
    """As many samples at most as a frame is to have in the end."""

    samples: Annotated[int, Field(ge=1, le=65536)]


@router.post("/api/frames/{frame}/more")
def more(db: Db, home: AHome, frame: int, form: MoreSamples) -> Done:
    """Give a frame that is done more samples, from where it ended."""
    nights.more_samples(db, home, frame, form.samples)
    return Done()


@router.post("/api/frames/{frame}/again")
def again(db: Db, frame: int) -> Done:
    """Render a frame of a run anew."""
    nights.render_again(db, frame)
    return Done()
