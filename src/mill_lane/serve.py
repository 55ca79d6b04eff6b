"""Serving: the web server and its worker, set up on an installation folder."""

from __future__ import annotations

import errno
import gc
import ipaddress
import secrets
import socket
import sys
from pathlib import Path

import psutil
import uvicorn
from sqlalchemy.exc import DatabaseError

from mill_lane.core.errors import MillError
from mill_lane.jobs.bootstrap import bootstrap
from mill_lane.store.home import Home, lock, open_home
from mill_lane.store.transactions import no_room, write
from mill_lane.web.app import create_app
from mill_lane.web.shared.settings import LOCAL, Settings
from mill_lane.work import fork_server, leftovers
from mill_lane.work.supervisor import Supervisor

PORTS = 10  # that are tried
LAST_PORT = 65535
EVERYWHERE = ("0.0.0.0", "::")
TOKEN_BYTES = 16
SWITCH = 0.001  # seconds that a thread may keep the others waiting: a page asks often


def free_port(host: str, port: int) -> int:
    """The port, or the next free one of ten.

    Raises
    ------
    MillError
        When all are taken, or the host or the port is none.
    """
    if not 1 <= port <= LAST_PORT:
        raise MillError(f"There is no port {port}.", f"Name one from 1 to {LAST_PORT} with --port.")
    last = min(port + PORTS - 1, LAST_PORT)
    for candidate in range(port, last + 1):
        try:
            family = socket.getaddrinfo(host, candidate, type=socket.SOCK_STREAM)[0][0]
            with socket.socket(family) as s:
                s.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
                s.bind((host, candidate))
        except (socket.gaierror, UnicodeError) as e:
            raise _no_host(host) from e
        except OSError as e:
            if e.errno == errno.EADDRNOTAVAIL:
                raise _no_host(host) from e
            if e.errno == errno.EACCES:
                raise MillError(
                    f"Port {candidate} is not for ordinary users.", "Name one from 1024 on."
                ) from e
            continue
        return candidate
    raise MillError(f"The ports {port} to {last} are all taken.", "Name another one with --port.")


def _no_host(host: str) -> MillError:
    return MillError(
        f"“{host}” is no address of this computer.",
        "Leave out --host, or give 0.0.0.0 for all addresses.",
    )


def names_of(host: str) -> tuple[str, ...]:
    """The names that a server on `host` answers to: its own, or all of this computer's."""
    if host not in EVERYWHERE:
        return (*LOCAL, host, f"[{host}]") if ":" in host else (*LOCAL, host)
    found = [socket.gethostname(), socket.getfqdn(), f"{socket.gethostname()}.local"]
    for addresses in psutil.net_if_addrs().values():
        for a in addresses:
            if a.family == socket.AF_INET:
                found.append(a.address)
            elif a.family == socket.AF_INET6:
                found.append(f"[{a.address.partition('%')[0]}]")
    return tuple(dict.fromkeys((*LOCAL, *(x.lower() for x in found))))


def is_local(host: str) -> bool:
    """Whether only this computer can reach a server on `host`."""
    try:
        return ipaddress.ip_address(host).is_loopback
    except ValueError:
        return host == "localhost"


def open_for_serving(folder: Path, demo: str | None) -> Home:
    """Open an installation and bring it into the state that every start begins with.

    Raises
    ------
    MillError
        With what is wrong: the folder, its disk, or its database.
    """
    try:
        home = open_home(folder)
        leftovers.sweep(home)
        write(home.sessions, lambda db: bootstrap(db, demo))
    except (DatabaseError, OSError) as e:
        said = str(getattr(e, "orig", None) or getattr(e, "strerror", None) or e)
        if no_room(e) or "disk" in said:
            raise MillError(
                f"The disk of {folder} is full.",
                "Make room there, or name another folder with --home.",
            ) from e
        raise MillError(
            f"What is kept in {folder} cannot be opened: {said}.",
            "Check who may write there, put a copy of mill-lane.sqlite back, or name another "
            "folder with --home.",
        ) from e
    return home


def serve(
    folder: Path,
    host: str,
    port: int,
    scenes: Path | None,
    demo: str | None,
    frames: Path | None = None,
    scheduler: str = "",
) -> None:
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
    frames : Path or None
        A folder where frames are read and written; None for the installation's own.
    scheduler : str
        The address of a scheduler whose workers may render frames.

    Raises
    ------
    MillError
        When the folder or a port cannot be had.
    """
    folder = folder.absolute()
    fork_server.begin()
    # Held before anything in it is touched: another server may be using it.
    held = lock(folder)
    port = free_port(host, port)
    home = open_for_serving(folder, demo)
    names = names_of(host)
    token = "" if is_local(host) else secrets.token_urlsafe(TOKEN_BYTES)
    supervisor = Supervisor(folder)
    settings = Settings(home, scenes, names, token, supervisor.watch, frames, scheduler)
    tell_addresses(host, port, names, token, folder)
    supervisor.start()
    sys.setswitchinterval(SWITCH)
    app = create_app(settings)
    # Modules and templates stay for good: the collector need not look at them for each page.
    gc.collect()
    gc.freeze()
    try:
        # Open event streams would keep a stopping server waiting for ever.
        uvicorn.run(
            app,
            host=host,
            port=port,
            log_level="warning",
            timeout_graceful_shutdown=1,
            timeout_keep_alive=60,  # a browser that asks again is not cut off in the middle
            proxy_headers=False,  # who asks is told by the connection alone
        )
    finally:
        supervisor.stop()
        held.close()


def tell_addresses(host: str, port: int, names: tuple[str, ...], token: str, folder: Path) -> None:
    """Print where the server is, and what opens it from elsewhere."""
    shown = f"[{host}]" if ":" in host else host
    here = "127.0.0.1" if host in EVERYWHERE else shown
    print(f"Mill Lane is at http://{here}:{port}/   (its files: {folder}; stop it with Ctrl-C)")
    if token:
        print("From other computers, with the password in the address:")
        for name in names:
            if name not in LOCAL and not name.startswith("[::1"):
                print(f"  http://{name}:{port}/?password={token}")
    print(end="", flush=True)
