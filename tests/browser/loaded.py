"""A server as a process that is forked; see `tests.browser.preload`."""

from __future__ import annotations

import os
import signal
import sys
from multiprocessing import parent_process
from multiprocessing.connection import wait

from mill_lane.cli.main import main
from mill_lane.jobs import live


def serve(arguments: list[str], environment: dict[str, str], folder: str, look: int) -> None:
    """Be `mill-lane serve` in a group of its own, and say nothing."""
    os.setsid()
    live.SAMPLES = look
    _end_with_the_tests()
    os.environ.clear()
    os.environ.update(environment)
    os.chdir(folder)
    nothing = os.open(os.devnull, os.O_WRONLY)
    os.dup2(nothing, sys.stdout.fileno())
    sys.exit(main(["serve", *arguments]))


def _end_with_the_tests() -> None:
    """Tests that are killed leave no server behind, whose looks would take all processors."""
    server, tests = os.getpid(), parent_process()
    assert tests is not None
    if os.fork():
        return
    ended = wait([tests.sentinel, os.pidfd_open(server)])
    if tests.sentinel in ended:
        os.killpg(server, signal.SIGKILL)
    os._exit(0)
