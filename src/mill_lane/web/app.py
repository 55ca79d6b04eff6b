"""Putting the server together."""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import HTMLResponse, JSONResponse, Response
from fastapi.staticfiles import StaticFiles
from fastapi.templating import Jinja2Templates
from starlette.exceptions import HTTPException

from mill_lane import __version__
from mill_lane.core.errors import MillError
from mill_lane.store.home import Home
from mill_lane.web import api, events, filing, pages, profiles, uploads
from mill_lane.web.format import FILTERS
from mill_lane.web.security import LOCAL, Guard

HERE = Path(__file__).parent


@dataclass(frozen=True)
class Settings:
    """How this server was started."""

    home: Home
    scenes: Path | None = None  # a folder of scenes that may be opened from
    hosts: tuple[str, ...] = field(default=LOCAL)


def make_templates() -> Jinja2Templates:
    templates = Jinja2Templates(directory=HERE / "templates")
    templates.env.filters.update(FILTERS)
    templates.env.trim_blocks = templates.env.lstrip_blocks = True
    templates.env.globals["build"] = _build_stamp()
    return templates


def _build_stamp() -> str:
    """Changes when a static file does, so that no browser keeps an old one."""
    newest = max(f.stat().st_mtime_ns for f in (HERE / "static").rglob("*") if f.is_file())
    return f"{newest:x}"


def create_app(settings: Settings) -> FastAPI:
    """The whole application on an installation."""
    app = FastAPI(title="Mill Lane", version=__version__, docs_url=None, redoc_url=None)
    app.state.settings = settings
    app.state.templates = make_templates()
    app.add_middleware(Guard, hosts=settings.hosts)
    app.mount("/static", StaticFiles(directory=HERE / "static"), name="static")
    app.include_router(pages.router)
    app.include_router(api.router)
    app.include_router(uploads.router)
    app.include_router(filing.router)
    app.include_router(profiles.router)
    app.include_router(events.router)

    @app.get("/healthz")
    def health() -> dict[str, str]:
        return {"status": "ok", "version": __version__}

    @app.exception_handler(MillError)
    def on_mill_error(request: Request, e: Exception) -> Response:
        assert isinstance(e, MillError)
        return problem(request, 422, e.as_json())

    @app.exception_handler(RequestValidationError)
    def on_invalid(request: Request, e: Exception) -> Response:
        assert isinstance(e, RequestValidationError)
        first = e.errors()[0]
        where = ".".join(str(x) for x in first["loc"][1:])
        text = str(first["msg"]).removeprefix("Value error, ")
        return problem(
            request,
            422,
            {
                "error": f"{where}: {text}." if where else f"{text}.",
                "hint": "Correct it and send it again.",
                "kept": "Nothing was changed.",
            },
        )

    @app.exception_handler(HTTPException)
    def on_http(request: Request, e: Exception) -> Response:
        assert isinstance(e, HTTPException)
        hint = (
            "It may have been removed. Go back to your jobs."
            if e.status_code == 404
            else "Go back and try again."
        )
        message = "There is nothing at this address." if e.status_code == 404 else str(e.detail)
        return problem(request, e.status_code, {"error": message, "hint": hint, "kept": ""})

    return app


def problem(request: Request, status: int, error: dict[str, Any]) -> Response:
    """An error as a page for people and as JSON for programs."""
    if "text/html" in request.headers.get("accept", "") and request.method == "GET":
        response: HTMLResponse = request.app.state.templates.TemplateResponse(
            request,
            "problem.html",
            {"error": error, "stamp": "", "title": "Problem", "waiting": []},
            status_code=status,
        )
        return response
    return JSONResponse(error, status)
