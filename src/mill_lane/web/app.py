"""Putting the server together."""

from __future__ import annotations

from pathlib import Path

from fastapi import FastAPI
from fastapi.staticfiles import StaticFiles
from fastapi.templating import Jinja2Templates
from jinja2 import Environment, FileSystemLoader, StrictUndefined, select_autoescape
from starlette.middleware.trustedhost import TrustedHostMiddleware

from mill_lane import __version__
from mill_lane.jobs.opening import SceneFolder
from mill_lane.web.home import queue, space
from mill_lane.web.home import routes as home_routes
from mill_lane.web.shared import events, health, kept_files, recipes, tasks
from mill_lane.web.shared.access import Password
from mill_lane.web.shared.errors import add_handlers
from mill_lane.web.shared.format import FILTERS
from mill_lane.web.shared.security import LONGEST_BODY, SameOrigin, SecurityHeaders
from mill_lane.web.shared.settings import Settings
from mill_lane.web.shared.turns import Turns
from mill_lane.web.stations import STATIONS

HERE = Path(__file__).parent


def make_templates() -> Jinja2Templates:
    """The templates: "shared/base.html", "scene/page.html", and those of stations from outside."""
    folders = [HERE, *dict.fromkeys(s.folder.parent for s in STATIONS)]
    env = Environment(
        loader=FileSystemLoader(folders),
        autoescape=select_autoescape(),
        undefined=StrictUndefined,
        trim_blocks=True,
        lstrip_blocks=True,
    )
    env.filters.update(FILTERS)
    env.globals["build"] = _build_stamp()
    return Jinja2Templates(env=env)


def _build_stamp() -> str:
    """Changes when a static file does, so that no browser keeps an old one."""
    newest = max(f.stat().st_mtime_ns for f in (HERE / "static").rglob("*") if f.is_file())
    return f"{newest:x}"


def create_app(settings: Settings) -> FastAPI:
    """Make the whole application on an installation."""
    app = FastAPI(title="Mill Lane", version=__version__, docs_url=None, redoc_url=None)
    app.state.settings = settings
    app.state.stations = list(STATIONS)
    app.state.scene_folder = SceneFolder(settings.scenes)
    app.state.newsroom = events.Newsroom(settings)
    app.state.templates = make_templates()
    # The last one added is the first to see a request.
    app.add_middleware(Turns)
    app.add_middleware(SameOrigin)
    app.add_middleware(Password, token=settings.token)
    app.add_middleware(TrustedHostMiddleware, allowed_hosts=settings.hosts, www_redirect=False)
    app.add_middleware(SecurityHeaders)
    app.mount("/static", StaticFiles(directory=HERE / "static"), name="static")
    for module in (health, home_routes, space, queue, tasks, recipes, events, kept_files):
        app.include_router(module.router, max_body_size=LONGEST_BODY)
    for station in STATIONS:
        app.include_router(station.router, max_body_size=LONGEST_BODY)

    add_handlers(app)
    return app
