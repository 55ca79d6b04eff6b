"""A server of its own for the tests that look at one from outside."""

from __future__ import annotations

import multiprocessing
import os
import socket
import time
import urllib.error
import urllib.request
from contextlib import suppress
from pathlib import Path

from tests.browser.loaded import serve

ROOT = Path(__file__).resolve().parents[2]


class Server:
    """A Mill Lane of its own on a home folder, on a free port."""

    def __init__(
        self, home: Path, demo: str | None, scenes: Path | None = None, port: int = 0, look: int = 1
    ) -> None:
        self.home, self.port = home, port
        self.look = look  # samples a pixel after which the look that runs has seen enough
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
        arguments = ["--home", str(self.home), "--port", str(self.port), *self.extra]
        context = multiprocessing.get_context("forkserver")
        context.set_forkserver_preload(["tests.browser.preload"])
        given = (arguments, os.environ.copy(), str(ROOT), self.look)
        self.process = context.Process(target=serve, args=given)
        self.process.start()
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
        self.process.join()
        time.sleep(0.5)

    def close(self) -> None:
        self.process.terminate()
        self.process.join(15)
        # What computes ends by itself soon; the folder that it writes into goes now.
        with suppress(ProcessLookupError):
            self.kill()
