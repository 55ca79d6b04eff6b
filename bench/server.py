"""A server of its own for a bench: started, asked, killed, started again."""

from __future__ import annotations

import http.client
import json
import os
import socket
import subprocess
import sys
import time
import urllib.error
import urllib.request
from collections.abc import Callable
from pathlib import Path
from typing import Any

import psutil
from sqlalchemy import create_engine, select
from sqlalchemy.orm import sessionmaker

from mill_lane.store.models import Task

Answer = tuple[int, dict[str, Any]]
GONE = (urllib.error.URLError, OSError, http.client.HTTPException)


class Server:
    """The server, its worker and the computing child, on a home of their own."""

    def __init__(self, home: Path, demo: str = "small") -> None:
        self.home, self.demo = home, demo
        with socket.socket() as s:
            s.bind(("127.0.0.1", 0))
            self.port = s.getsockname()[1]
        self.base = f"http://127.0.0.1:{self.port}"
        self.process: subprocess.Popen[bytes] | None = None
        self._sessions: sessionmaker[Any] | None = None

    def start(self) -> None:
        """Start it, in a group of its own, and wait until it answers."""
        command = [sys.executable, "-m", "mill_lane.cli", "serve", "--demo", self.demo]
        command += ["--home", str(self.home), "--port", str(self.port)]
        self.process = subprocess.Popen(
            command, stdout=subprocess.DEVNULL, stderr=self._log(), start_new_session=True
        )
        self.until(lambda: self.health()[0] in (200, 503), "the server", 60)

    def _log(self) -> int:
        return os.open(self.home.with_suffix(".log"), os.O_CREAT | os.O_APPEND | os.O_WRONLY)

    def stop(self) -> None:
        """Stop it as Ctrl-C does."""
        if self.process is not None:
            self.process.terminate()
            try:
                self.process.wait(30)
            except subprocess.TimeoutExpired:
                self.kill_group()

    def ask(self, method: str, path: str, body: Any = None, seconds: float = 60) -> Answer:
        """A request; status 0 where nobody answers."""
        raw = isinstance(body, bytes)
        data = body if raw else None if body is None else json.dumps(body).encode()
        kind = "application/octet-stream" if raw else "application/json"
        request = urllib.request.Request(
            self.base + path, data, {"Content-Type": kind}, method=method
        )
        try:
            with urllib.request.urlopen(request, timeout=seconds) as answer:
                text = answer.read()
                status = int(answer.status)
        except urllib.error.HTTPError as e:
            text, status = e.read(), e.code
        except GONE:
            return 0, {}
        try:
            found = json.loads(text)
        except ValueError:
            return status, {}
        return status, found if isinstance(found, dict) else {}

    def health(self) -> Answer:
        """What it says of itself."""
        return self.ask("GET", "/healthz", seconds=15)

    def pid(self, who: str) -> int | None:
        """The process of the "server", the "worker" or the "child", as far as it is known."""
        if who == "server":
            return self.process.pid if self.process else None
        said = self.health()[1].get(who) or {}
        found = said.get("pid")
        return int(found) if found else None

    def kill(self, who: str) -> bool:
        """Kill a process, or the "group" of all three; whether there was one."""
        if who == "group":
            self.kill_group()
            return True
        pid = self.pid(who)
        if pid is None:
            return False
        try:
            os.kill(pid, 9)
        except ProcessLookupError:
            return False
        if who == "server" and self.process is not None:
            self.process.wait()
        return True

    def kill_group(self) -> None:
        """Kill everything at once."""
        if self.process is None:
            return
        try:
            every = psutil.Process(self.process.pid).children(recursive=True)
        except psutil.NoSuchProcess:
            every = []
        for pid in [self.process.pid, *(p.pid for p in every)]:
            try:
                os.kill(pid, 9)
            except ProcessLookupError:
                continue
        self.process.wait()

    def sessions(self) -> Any:
        """Sessions on its database, for looking."""
        if self._sessions is None:
            engine = create_engine(
                f"sqlite:///{self.home / 'mill-lane.sqlite'}", connect_args={"timeout": 30}
            )
            self._sessions = sessionmaker(engine)
        return self._sessions()

    def tasks(self, *where: Any) -> list[Task]:
        """Tasks, oldest first."""
        with self.sessions() as db:
            return list(db.scalars(select(Task).where(*where).order_by(Task.id)))

    def task(self, number: int) -> Task | None:
        """One of them."""
        found = self.tasks(Task.id == number)
        return found[0] if found else None

    def idle(self) -> bool:
        """Whether nothing runs or waits."""
        return not self.tasks(Task.state.in_(("queued", "running")))

    def until(self, ready: Callable[[], object], what: str, seconds: float = 300) -> None:
        """Wait until something holds."""
        end = time.monotonic() + seconds
        while time.monotonic() < end:
            if ready():
                return
            time.sleep(0.1)
        raise RuntimeError(f"waited in vain for {what}")
