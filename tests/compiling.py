"""How long kernels were compiled that no cache had.  Importing it loads the compiler."""

from __future__ import annotations

import time

from numba.core.event import Event, Listener, register


class Compiling(Listener):
    """Adds it up, from when it is made."""

    def __init__(self) -> None:
        self.seconds, self._depth, self._began = 0.0, 0, 0.0
        register("numba:compile", self)

    def on_start(self, event: Event) -> None:
        if self._depth == 0:
            self._began = time.monotonic()
        self._depth += 1

    def on_end(self, event: Event) -> None:
        self._depth -= 1
        if self._depth == 0:
            self.seconds += time.monotonic() - self._began
