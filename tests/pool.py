"""Tests in one process more than there are cores, the longest modules first.

Modules are handed out one by one, so that the processes end at about the same time; how long each
took is kept for the next run.  Checks that are commands of their own go along.
"""

from __future__ import annotations

import json
import os
import subprocess
import sys
import threading
import time
from collections.abc import Iterable
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

ROOT = Path(__file__).resolve().parent.parent
KEPT = ROOT / ".venv"  # what is written beside the tests
TIMES = KEPT / "tests-times.json"
FIRST_TIMES = ROOT / "tests" / "times.json"  # of a run some day, for a machine that has none
KERNELS = "kernels"  # the step after which the renderer is compiled
INSTALLATION = "an installation"  # that tests copy: made with the renderer
# What can run before that: none of it has a kernel to compile that takes more than a second.
PLAIN = (
    "tests.core.test_choices",
    "tests.core.test_gltf",
    "tests.core.test_gltf_patch",
    "tests.core.test_usd",
    "tests.core.test_usd_back",
    "tests.core.test_usd_folders",
    "tests.core.test_usd_layers",
    "tests.core.test_usd_outside",
    "tests.core.test_usd_shapes",
    "tests.store.test_store",
)
PATIENCE = 900.0  # seconds without an answer after which a process is given up


@dataclass
class Found:
    """What came out: counts of tests passed, failed, skipped; and how long each took."""

    counts: list[int] = field(default_factory=lambda: [0, 0, 0])
    tests: list[tuple[float, float, str]] = field(default_factory=list)
    modules: dict[str, float] = field(default_factory=dict)
    compiled: dict[str, float] = field(default_factory=dict)
    steps_failed: int = 0


class Pool:
    """Steps and modules that are left, and the processes that take them.

    Parameters
    ----------
    steps : dict
        Commands by name; they go first.
    modules : iterable of str
    words : list of str
        Only tests whose names have one of them; none: all.
    data : str
        A file that branches are counted into; empty for none.
    """

    def __init__(
        self,
        steps: dict[str, list[str]],
        modules: Iterable[str],
        words: list[str],
        data: str = "",
    ) -> None:
        self.steps, self.words, self.data = dict(steps), words, data
        known = kept_times()
        self.left = sorted(modules, key=lambda m: -known.get(m, guess(m)))
        self.found = Found()
        self._lock = threading.Lock()
        self._ended = threading.Condition(self._lock)  # a step did
        self._awaited = {KERNELS, INSTALLATION} & steps.keys()
        self.began = time.monotonic()

    def run(self, processes: int) -> Found:
        """Run everything."""
        threads = [threading.Thread(target=self._serve, args=(k,)) for k in range(processes)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        return self.found

    def _next(self) -> tuple[str, list[str] | None]:
        """The next step with its command, or module; an empty name for nothing.

        While the renderer is compiled, or what tests copy is made, only what does without it is
        handed out.
        """
        with self._lock:
            while self.left or self.steps:
                compiling = KERNELS in self._awaited
                steps = [s for s in self.steps if s != INSTALLATION or not compiling]
                if steps:
                    return steps[0], self.steps.pop(steps[0])
                fit = [m for m in self.left if m in PLAIN or not compiling]
                if self._awaited:
                    fit = [m for m in fit if not m.startswith("tests.browser.")]
                if fit:
                    self.left.remove(fit[0])
                    return fit[0], None
                self._ended.wait()
        return "", None

    def _serve(self, number: int) -> None:
        process: subprocess.Popen[str] | None = None
        try:
            while True:
                name, command = self._next()
                if not name:
                    return
                if command is not None:
                    self._step(name, command)
                    continue
                if process is None or process.poll() is not None:
                    process = self._started(number)
                if not self._module(process, name):
                    process.kill()
                    process = None
        finally:
            if process is not None and process.stdin is not None:
                process.stdin.close()
                process.wait(60)

    def _started(self, number: int) -> subprocess.Popen[str]:
        log = (KEPT / f"tests-{number}.log").open("w")
        return subprocess.Popen(
            [sys.executable, "-W", "ignore", "-m", "tests.unit", self.data, *self.words],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            stderr=log,
            text=True,
            cwd=ROOT,
        )

    def _step(self, name: str, command: list[str]) -> None:
        began = time.monotonic()
        done = subprocess.run(command, capture_output=True, text=True, cwd=ROOT, check=False)
        took = time.monotonic() - began
        with self._lock:
            bad = done.returncode != 0
            self.found.steps_failed += bad
            self.found.modules[name] = took
            self._say(f"{name:<34}{'FAILED' if bad else 'ok':<8}{took:6.1f} s")
            if bad:
                print(done.stdout + done.stderr, flush=True)
            self._awaited.discard(name)
            self._ended.notify_all()

    def _module(self, process: subprocess.Popen[str], name: str) -> bool:
        """Have a process run a module; False where it ended on the way."""
        assert process.stdin is not None
        assert process.stdout is not None
        silence = threading.Timer(PATIENCE, process.kill)
        silence.start()
        try:
            process.stdin.write(name + "\n")
            process.stdin.flush()
            for line in process.stdout:
                said = json.loads(line)
                if "module" in said:
                    self._take(said)
                    return True
                with self._lock:
                    self.found.tests.append((said["seconds"], said["processor"], said["test"]))
        except OSError:
            pass
        finally:
            silence.cancel()
        with self._lock:
            self.found.counts[1] += 1
            self._say(f"{name}: its process ended, or gave no answer for {PATIENCE:.0f} s")
        return False

    def _take(self, said: dict[str, Any]) -> None:
        with self._lock:
            self.found.counts = [
                a + b for a, b in zip(self.found.counts, said["counts"], strict=True)
            ]
            self.found.modules[said["module"]] = said["seconds"]
            self.found.compiled[said["module"]] = said["compiled"]
            passed, bad, skipped = said["counts"]
            words = f"{passed} passed" + (f", {bad} FAILED" if bad else "")
            words += f", {skipped} skipped" if skipped else ""
            self._say(f"{said['module']:<42}{said['seconds']:6.1f} s  {words}")
            if said["printed"]:
                print(said["printed"], flush=True)

    def _say(self, words: str) -> None:
        print(f"{time.monotonic() - self.began:6.0f} s  {words}", flush=True)


def kept_times() -> dict[str, float]:
    """Seconds that modules took in the last run; on a new machine those of a run some day."""
    for path in (TIMES, FIRST_TIMES):
        try:
            found: dict[str, float] = json.loads(path.read_text())
            return found
        except (OSError, ValueError):
            continue
    return {}


def keep_times(modules: dict[str, float]) -> None:
    """Keep how long modules took; those that were not run stay as they were."""
    kept = kept_times() | {name: round(seconds, 1) for name, seconds in modules.items()}
    TIMES.write_text(json.dumps(kept, indent=0, sort_keys=True))


def guess(module: str) -> float:
    """Seconds of a module that was never run: those with a browser take long."""
    return 60.0 if module.startswith("tests.browser.") else 5.0


def processes() -> int:
    """One for each core, and one more: those that drive a browser wait half of their time."""
    return len(os.sched_getaffinity(0)) + 1
