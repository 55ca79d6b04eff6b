"""The computing process from the worker's side: started, spoken to, started anew when it died."""

from __future__ import annotations

import multiprocessing
from collections.abc import Mapping
from multiprocessing.connection import Connection
from pathlib import Path
from typing import Any

from pydantic import BaseModel

from mill_lane.work import forks
from mill_lane.work.child import main as child_main


class Child:
    """The computing process and the pipe to it.

    Nothing is shared with it but the pipe: a process that is killed while it holds a lock would
    keep it for ever.
    """

    def __init__(self) -> None:
        self.pipe: Connection
        self.pipe, theirs = multiprocessing.Pipe()
        with theirs:
            self.process = forks.start(child_main, pipes=[theirs])

    def alive(self) -> bool:
        """Whether it runs."""
        return self.process.alive()

    @property
    def exit_code(self) -> int:
        """How it ended, negative for a signal."""
        return self.process.exit_code or 0

    def give(self, kind: str, request: BaseModel, folder: Path) -> bool:
        """Hand it a task; False where it is no longer there."""
        return self._send(("task", kind, request, folder))

    def ask(self, wants: Mapping[str, Any]) -> bool:
        """Tell it what is wanted."""
        return self._send(("wants", dict(wants)))

    def stop(self) -> bool:
        """Ask it to stop what it does."""
        return self._send(("stop",))

    def _send(self, message: tuple[Any, ...]) -> bool:
        try:
            self.pipe.send(message)
        except (OSError, ValueError):
            self.process.join(1)
            return False
        return True

    def kill(self) -> None:
        """End it at once."""
        self.process.kill()
        self.process.join()
        self.pipe.close()
