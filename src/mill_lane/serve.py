"""Serving: the web server and its worker, set up on an installation folder."""

from __future__ import annotations

import socket
from pathlib import Path

import uvicorn

from mill_lane.core.errors import MillError
from mill_lane.jobs.bootstrap import bootstrap, tidy
from mill_lane.store.home import lock, open_home
from mill_lane.web.app import create_app
from mill_lane.web.shared.settings import LOCAL, Settings
from mill_lane.work import worker

PORTS = 10  # that are tried


def free_port(host: str, port: int) -> int:
    """The port, or the next free one of ten.  Raises MillError when all are taken."""
    family = socket.AF_INET6 if ":" in host else socket.AF_INET
    for candidate in range(port, port + PORTS):
        with socket.socket(family) as s:
            s.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            try:
                s.bind((host, candidate))
            except OSError:
                continue
            return candidate
    last = port + PORTS - 1
    raise MillError(f"The ports {port} to {last} are all taken.", "Name another one with --port.")


def serve(folder: Path, host: str, port: int, scenes: Path | None, demo: str | None) -> None:
    """Serve until stopped.

    Parameters
    ----------
    folder : Path
        The installation.
    host, port : str, int
        Where to listen; a taken port makes way for the next free one.
    scenes : Path or None
        A folder of scenes that may be opened from the page.
    demo : str or None
        The size of the demo job that is made when there is none.

    Raises
    ------
    MillError
        When the folder or a port cannot be had.
    """
    folder = folder.absolute()
    # Held before anything in it is touched: another server may be using it.
    held = lock(folder)
    home = open_home(folder)
    port = free_port(host, port)
    with home.sessions() as db:
        tidy(home, db)
        bootstrap(db, demo)
    process = worker.start(folder)
    shown = f"[{host}]" if ":" in host else host
    app = create_app(Settings(home, scenes, (*LOCAL, host, shown)))
    address = f"http://{shown}:{port}/"
    print(f"Mill Lane is at {address}   (its files: {folder}; stop it with Ctrl-C)", flush=True)
    try:
        # Open event streams would keep a stopping server waiting for ever.
        uvicorn.run(app, host=host, port=port, log_level="warning", timeout_graceful_shutdown=1)
    finally:
        process.terminate()
        process.join(5)
        held.close()
