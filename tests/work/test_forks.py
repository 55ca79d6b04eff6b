"""Processes that are forked: how they begin, how they end, and what ends with them."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import time
import unittest
from multiprocessing import Pipe
from multiprocessing.connection import Connection
from typing import Any
from unittest import mock

import psutil

from mill_lane.work import forks
from mill_lane.work.forks import GONE, Process

PATIENCE = 20.0  # seconds


def answer(pipe: Connection, what: str) -> None:
    """Say who this is, and what the environment says; then wait to be told how to end."""
    pipe.send((os.getpid(), what, os.environ.get("MILL_LANE_WORD"), os.getcwd()))
    sys.exit(pipe.recv())


def parent_of_one(pipe: Connection) -> None:
    """Have a process of one's own, and stay."""
    ours, theirs = Pipe()
    process = forks.start(answer, "below", pipes=[theirs])
    theirs.close()
    pipe.send((process.pid, ours.recv()[1]))
    time.sleep(600)


def breaks(pipe: Connection) -> None:
    """What nobody foresaw."""
    raise ValueError("on purpose")


def asked(target: Any, *args: Any) -> tuple[Process, Connection]:
    ours, theirs = Pipe()
    with theirs:
        return forks.start(target, *args, pipes=[theirs]), ours


class TestForks(unittest.TestCase):
    def test_it_begins_with_what_holds_here_and_tells_how_it_ended(self) -> None:
        with mock.patch.dict(os.environ, {"MILL_LANE_WORD": "of this process"}):
            process, pipe = asked(answer, "me")
        self.addCleanup(process.kill)
        self.assertEqual(pipe.recv(), (process.pid, "me", "of this process", os.getcwd()))
        self.assertTrue(process.alive())
        pipe.send(3)
        process.join(PATIENCE)
        self.assertEqual(process.exit_code, 3)

    def test_killed_and_broken(self) -> None:
        process, pipe = asked(answer, "me")
        pipe.recv()
        process.kill()
        process.join(PATIENCE)
        self.assertEqual(process.exit_code, GONE)
        self.assertRaises(EOFError, pipe.recv)
        process, _ = asked(breaks)
        process.join(PATIENCE)
        self.assertEqual(process.exit_code, 1)

    def test_the_second_begins_within_milliseconds(self) -> None:
        for n in range(3):
            began = time.perf_counter()
            process, pipe = asked(answer, "me")
            pipe.recv()
            took = time.perf_counter() - began
            process.kill()
            if n and took < 0.5:  # importing alone takes four times as long
                return
        self.fail(f"it took {took:.2f} s")

    def test_what_a_process_asked_for_ends_with_it(self) -> None:
        process, pipe = asked(parent_of_one)
        below, said = pipe.recv()
        self.assertEqual(said, "below")
        program = psutil.Process(below)
        os.kill(process.pid, signal.SIGKILL)
        process.join(PATIENCE)
        program.wait(PATIENCE)
        self.assertFalse(program.is_running())

    def test_a_fork_server_that_was_killed(self) -> None:
        """What it forked ends, that is told, and the next request starts another."""
        process, pipe = asked(answer, "before")
        pipe.recv()
        assert forks.client.server is not None
        os.kill(forks.client.server, signal.SIGKILL)
        process.join(PATIENCE)
        self.assertEqual(process.exit_code, GONE)
        process, pipe = asked(answer, "after")
        self.addCleanup(process.kill)
        self.assertEqual(pipe.recv()[1], "after")

    def test_forked_off_a_program_that_has_one_thread(self) -> None:
        """It answers, and what it forks ends as it says; with several threads nothing is forked."""
        script = (
            "import threading; from multiprocessing import Pipe\n"
            "from mill_lane.work import fork_server, forks\n"
            "from tests.work.test_forks import answer\n"
            "held = threading.Event(); other = threading.Thread(target=held.wait); other.start()\n"
            "fork_server.begin(); before = forks.client.server\n"
            "held.set(); other.join(); fork_server.begin(); begun = forks.client.server\n"
            "ours, theirs = Pipe()\n"
            "process = forks.start(answer, 'me', pipes=[theirs]); theirs.close()\n"
            "pid, *_ = ours.recv(); ours.send(3); process.join(20)\n"
            "same = begun == forks.client.server\n"
            "print(before, begun is not None, same, pid == process.pid, process.exit_code)"
        )
        command = [sys.executable, "-c", script]
        done = subprocess.run(command, capture_output=True, text=True, timeout=60, check=True)
        self.assertEqual(done.stdout, "None True True True 3\n", done.stderr)

    def test_all_end_with_who_began(self) -> None:
        script = (
            "import time; from multiprocessing import Pipe\n"
            "from mill_lane.work import forks; from tests.work.test_forks import parent_of_one\n"
            "ours, theirs = Pipe()\n"
            "process = forks.start(parent_of_one, pipes=[theirs])\n"
            "print(process.pid, *ours.recv(), flush=True); time.sleep(600)"
        )
        command = [sys.executable, "-c", script]
        with subprocess.Popen(command, stdout=subprocess.PIPE, text=True) as program:
            self.addCleanup(program.kill)
            assert program.stdout is not None
            pids = [int(word) for word in program.stdout.readline().split()[:2]]
            every = [psutil.Process(pid) for pid in pids]
            every += psutil.Process(program.pid).children(recursive=True)
            self.assertGreaterEqual(len(set(every)), 3)
            program.kill()
        _, alive = psutil.wait_procs(every, PATIENCE)
        self.assertEqual(alive, [])
