"""A night of frames: the run sheet, and the run as it goes."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Annotated, Any, Literal

from fastapi import APIRouter, Request
from fastapi.responses import FileResponse, Response
from pydantic import BaseModel, Field
from sqlalchemy.orm import Session

from mill_lane.core.errors import MillError
from mill_lane.core.plan.frames import frames_in_words
from mill_lane.core.plan.less_memory import RUNGS
from mill_lane.core.plan.preflight import Shot
from mill_lane.core.plan.range_checks import Range, RangeCheck, check_range
from mill_lane.core.plan.run_sheet import RunSheet
from mill_lane.jobs import nights, rehearsals, run_lookup
from mill_lane.jobs.delivering import deliver, delivered, delivered_file
from mill_lane.jobs.lookup import find_job, find_version
from mill_lane.jobs.run_lookup import FrameRow, Overview
from mill_lane.jobs.summary import Summary, summarise
from mill_lane.web.shared.context import AHome, Db, Done, settings_of
from mill_lane.web.shared.format import duration, predicted
from mill_lane.web.shared.pages import station_page
from mill_lane.web.stations.finish.report import report_context
from mill_lane.work.kinds.deliver import What

router = APIRouter()
TYPES = {".mp4": "video/mp4", ".webm": "video/webm", ".png": "image/png"}
SHOWN = 60  # thumbnails at a time
WIDE, HIGH = 860.0, 64.0  # of the row of bars


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
    folder = settings_of(request).frames_folder
    return c.draw("night.html", **context(db, c.summary, folder, run, at, frame))


@dataclass(frozen=True)
class Bar:
    """A frame in the row of bars, in pixels: where, how high, what it is."""

    x: float
    width: float
    y: float
    height: float
    kind: str
    title: str


def context(
    db: Session, summary: Summary, folder: Path, run: int | None, at: int, frame: int | None
) -> dict[str, Any]:
    """All that the page needs beside what every station has."""
    known = run_lookup.runs_of(db, summary.job)
    group = next((g for g in known if g.number == run), known[0] if known else None)
    seen = run_lookup.overview(db, group) if group is not None else None
    first, last = summary.analysis.frames
    sheet = nights.draft(db, summary.job)
    checks, trouble = _checked(db, summary, sheet, folder)
    rows = seen.rows if seen is not None else []
    begin = max(0, min(at, max(0, len(rows) - 1)) // SHOWN * SHOWN)
    chosen = next((r for r in rows if frame is not None and r.frame == frame), None)
    earlier = [r for r in rows if chosen and r.picture and r.frame < chosen.frame]
    return {
        "nights": known,
        "seen": seen,
        "sheet": sheet,
        "folder": folder,
        "example": _example(sheet, first),
        "range_checks": checks,
        "range_trouble": trouble,
        "bars": bars(seen) if seen is not None else [],
        "wide": WIDE,
        "high": HIGH,
        "rows": rows[begin : begin + SHOWN],
        "begin": begin,
        "shown": SHOWN,
        "row_count": len(rows),
        "chosen": chosen,
        "before": earlier[-1] if earlier else None,
        "marked": [r for r in rows if r.troubles or r.state == "failed"],
        "left_words": frames_in_words(seen.settings.left) if seen is not None else "",
        "time_left": _left(seen),
        "rungs": list(RUNGS),
        "delivered": delivered(db, seen.group.id) if seen is not None else {},
        "scene_frames": (first, last),
    }


def _checked(
    db: Session, summary: Summary, sheet: RunSheet, folder: Path
) -> tuple[list[RangeCheck], MillError | None]:
    try:
        told = rehearsals.rehearsed(db, summary.job, sheet)
        shot = Shot(summary.analysis, summary.final, summary.device)
        return check_range(Range(shot, sheet, folder, summary.estimate, told)), None
    except MillError as e:
        return [], e


def _example(sheet: RunSheet, frame: int) -> str:
    try:
        stem = sheet.pattern().path(frame)
    except MillError:
        return ""
    return ", ".join(f"{stem}{ending}" for ending in sheet.endings)


def _left(seen: Overview | None) -> str:
    if seen is None or seen.left is None:
        return ""
    if seen.left.seconds <= 0:
        return duration(0)
    return predicted(seen.left.seconds, seen.left.margin)


def bars(seen: Overview) -> list[Bar]:
    """A bar for each frame by number: as high as it took long; low where it is not done."""
    by_frame: dict[int, FrameRow] = {row.frame: row for row in seen.rows}
    numbers = sorted(set(seen.settings.every))
    if not numbers:
        return []
    width = WIDE / len(numbers)
    most = max((row.seconds or 0.0 for row in seen.rows), default=0.0) or 1.0
    out = []
    for k, n in enumerate(numbers):
        row = by_frame.get(n)
        done = row is not None and bool(row.picture)
        share = (row.seconds or 0.0) / most if row is not None and done else 0.0
        height = max(4.0, share * (HIGH - 4))
        kind, said = "left", "not begun"
        if row is not None and done:
            kind, said = "done", duration(row.seconds or 0.0)
        elif row is not None:
            kind = "failed" if row.state in ("failed", "cancelled") else "running"
            said = row.state
        if row is not None and row.troubles:
            kind, said = "marked", row.troubles[0]
        gap = min(1.0, width / 4)
        x, y = round(k * width, 2), round(HIGH - height, 1)
        out.append(Bar(x, round(width - gap, 2), y, round(height, 1), kind, f"frame {n}: {said}"))
    return out


class SheetForm(RunSheet):
    """A run sheet as the page sends it."""

    png: bool = False  # a box that is not ticked is not sent
    rungs: tuple[Literal["denoise_later", "fewer_layers"], ...] = ()
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
    checks, _ = _checked(db, summarise(db, row, version), sheet, folder)
    warnings = [c.text for c in checks if c.level == "warning"]
    errors = [c.text for c in checks if c.level == "error"]
    if warnings and not errors and not form.read:
        raise MillError(
            f"{len(warnings)} warnings are not ticked off: {warnings[0]}",
            "Read them, tick them off, and begin again.",
            "The sheet is kept.",
        )
    group = nights.begin(db, row, sheet, folder, warnings=warnings)
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
    """A film or a sheet that was made."""
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


@router.post("/api/frames/{frame}/again")
def again(db: Db, frame: int) -> Done:
    """Render a frame of a run anew."""
    nights.render_again(db, frame)
    return Done()
