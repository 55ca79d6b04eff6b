"""What other programs hold of this computer's memory."""

from __future__ import annotations

import mmap
import subprocess
import sys
import tempfile
import unittest
from unittest import mock

import psutil

from mill_lane.core.devices import cpu

MB = 10**6
# A program that nobody here started: its parent ends at once.
ELSEWHERE = """
import os, sys, time
if os.fork():
    os._exit(0)
os.setsid()
held = bytearray(os.urandom(1 << 20)) * 300
print(os.getpid(), flush=True)
sys.stdin.read()
"""


def held() -> int:
    """What is held now, not two seconds ago."""
    cpu._held.cache_clear()
    return cpu.held_by_others()


class TestHeld(unittest.TestCase):
    def test_another_program_counts(self) -> None:
        """Whatever the system says is free; programs of others that come and go stay out of it."""
        memory = psutil.virtual_memory()
        free = mock.Mock(total=memory.total, available=memory.total)
        command = [sys.executable, "-c", ELSEWHERE]
        with subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE) as program:
            assert program.stdout is not None
            there = psutil.Process(int(program.stdout.readline()))
            with (
                mock.patch.object(psutil, "virtual_memory", return_value=free),
                mock.patch.object(psutil, "process_iter", return_value=[there]),
            ):
                self.assertAlmostEqual(held() / MB, 315, delta=30)
        self.assertGreater(held(), 0)

    def test_files_that_are_mapped_take_nothing_from_it(self) -> None:
        """What several processes map of one file they hold once, and it can be let go of."""
        memory = psutil.virtual_memory()
        still = mock.patch.object(psutil, "virtual_memory", return_value=memory)
        alone = mock.patch.object(psutil, "process_iter", return_value=[])
        with still, alone, tempfile.TemporaryFile() as file:
            file.write(bytes(300 * MB))
            file.flush()
            before = held()
            with mmap.mmap(file.fileno(), 0, prot=mmap.PROT_READ) as mapped:
                sum(mapped[i] for i in range(0, len(mapped), 4096))
                self.assertGreater(held() - before, -100 * MB)
