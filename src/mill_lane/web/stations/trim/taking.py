"""Taking the trim list home: as CSV, as JSON, as a page to print."""

from __future__ import annotations

from urllib.parse import quote

from fastapi import APIRouter, Request
from fastapi.responses import JSONResponse, Response
from sqlalchemy.orm import Session

from mill_lane.core.trim.report import as_csv, report_rows
from mill_lane.jobs import versions
from mill_lane.jobs.lookup import find_job
from mill_lane.store.models import Job, SceneVersion
from mill_lane.web.shared.context import Db, file_stem
from mill_lane.web.shared.pages import draw

router = APIRouter()


def _asked(db: Session, job: int, version: int | None) -> tuple[Job, SceneVersion]:
    row = find_job(db, job)
    return row, versions.numbered(db, row, version)


def _as_file(job: Job, version: SceneVersion, ending: str) -> dict[str, str]:
    name = quote(f"{file_stem(job.name)} v{version.number} trim list.{ending}")
    return {"Content-Disposition": f"attachment; filename*=UTF-8''{name}"}


@router.get("/jobs/{job}/trim-list.csv", include_in_schema=False)
def csv_list(db: Db, job: int, version: int | None = None) -> Response:
    """Everything that was trimmed on the way to a version, as CSV."""
    row, found = _asked(db, job, version)
    text = as_csv(report_rows(versions.changes_since_opened(db, found)))
    return Response(text, media_type="text/csv; charset=utf-8", headers=_as_file(row, found, "csv"))


@router.get("/jobs/{job}/trim-list.json", include_in_schema=False)
def json_list(db: Db, job: int, version: int | None = None) -> Response:
    """The same as JSON, for a script."""
    row, found = _asked(db, job, version)
    rows = report_rows(versions.changes_since_opened(db, found))
    body = {"scene": row.name, "version": found.number, "changes": rows}
    return JSONResponse(body, headers=_as_file(row, found, "json"))


@router.get("/jobs/{job}/trim-report", include_in_schema=False)
def report(request: Request, db: Db, job: int, version: int | None = None) -> Response:
    """The same as a page to print."""
    row, found = _asked(db, job, version)
    rows = report_rows(versions.changes_since_opened(db, found))
    return draw(
        request,
        db,
        "trim/report.html",
        title=f"Trim list · {row.name}",
        job=row,
        version=found,
        rows=rows,
        base=f"/jobs/{row.id}",
    )
