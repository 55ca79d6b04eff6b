"""A server of its own for the tests that look at one from outside."""

from __future__ import annotations

import os
import socket
import subprocess
import sys
import time
import urllib.error
import urllib.request
from pathlib import Path

ROOT = Path(__file__).resolve().parents[2]


class Server:
    """A Mill Lane of its own on a home folder, on a free port."""

    def __init__(
        self, home: Path, demo: str | None, scenes: Path | None = None, port: int = 0
    ) -> None:
        self.home, self.port = home, port
        if not port:
            with socket.socket() as s:
                s.bind(("127.0.0.1", 0))
                self.port = s.getsockname()[1]
        self.base = f"http://127.0.0.1:{self.port}"
        self.extra = [
            *(["--demo", demo] if demo else []),
            *(["--scenes", str(scenes)] if scenes else []),
        ]
        self.start()

    def start(self) -> None:
        command = [
            sys.executable,
            "-m",
            "mill_lane.cli",
            "serve",
            "--home",
            str(self.home),
            "--port",
            str(self.port),
            *self.extra,
        ]
        self.process = subprocess.Popen(
            command,
            stdout=subprocess.DEVNULL,
            cwd=ROOT,
            env=os.environ.copy(),
            start_new_session=True,
        )
        for _ in range(300):
            try:
                with urllib.request.urlopen(f"{self.base}/healthz", timeout=2) as answer:
                    if answer.status == 200:
                        return
            except (urllib.error.URLError, OSError):
                time.sleep(0.1)
        raise RuntimeError("the server did not start")

    def kill(self) -> None:
        """As a power cut would: the whole group at once."""
        os.killpg(self.process.pid, 9)
        self.process.wait()
        time.sleep(0.5)

    def close(self) -> None:
        self.process.terminate()
        try:
            self.process.wait(15)
        except subprocess.TimeoutExpired:
            self.kill()
