"""Run the tests: `python -m tests [WORD …]`.

With words, only the tests whose names contain one of them.  Without, all of them in two processes
side by side: those that drive other processes from outside, by a browser or by killing them, and
the others, whose coverage of core and services is measured (which makes them half as slow again).
"""

from __future__ import annotations

import json
import os
import subprocess
import sys
import time
import unittest
from pathlib import Path
from typing import ClassVar

ROOT = Path(__file__).resolve().parent.parent
KEPT = ROOT / ".venv"  # what is written beside the tests
OUTSIDE = (
    "tests.browser.",
    "tests.test_campaigns.",
    "tests.test_start.",
    "tests.work.test_machines.",
    "tests.work.test_supervision.",
    "tests.work.test_worker.",
)
SLOWEST = 25  # tests that are told
LEAST_COVERAGE = 90  # %, branches of core and services


class Timed(unittest.TextTestResult):
    """Remembers how long each test took."""

    took: ClassVar[list[tuple[float, str]]] = []

    def startTest(self, test: unittest.TestCase) -> None:
        self.began = time.monotonic()
        super().startTest(test)

    def stopTest(self, test: unittest.TestCase) -> None:
        self.took.append((time.monotonic() - self.began, test.id()))
        super().stopTest(test)


def flatten(suite: unittest.TestSuite) -> list[unittest.TestCase]:
    out: list[unittest.TestCase] = []
    for test in suite:
        out += flatten(test) if isinstance(test, unittest.TestSuite) else [test]
    return out


def run(words: list[str], group: str = "") -> int:
    """Run tests in this process, and write down how many passed."""
    found = unittest.defaultTestLoader.discover(str(ROOT / "tests"), top_level_dir=str(ROOT))
    tests = [t for t in flatten(found) if not words or any(w in t.id() for w in words)]
    if group:
        tests = [t for t in tests if t.id().startswith(OUTSIDE) == (group == "outside")]
    start = time.monotonic()
    verbosity = 2 if words else 1
    runner = unittest.TextTestRunner(verbosity=verbosity, resultclass=Timed)
    result = runner.run(unittest.TestSuite(tests))
    for seconds, name in sorted(Timed.took, reverse=True)[:SLOWEST]:
        print(f"{seconds:6.1f} s  {name}")
    bad, skipped = len(result.failures) + len(result.errors), len(result.skipped)
    times = "".join(f"{seconds:.2f} {name}\n" for seconds, name in sorted(Timed.took))
    (KEPT / f"tests-{group or 'chosen'}-times.txt").write_text(times)
    counts = [result.testsRun - bad - skipped, bad, skipped]
    (KEPT / f"tests-{group or 'chosen'}.json").write_text(json.dumps(counts))
    print(f"{group or 'chosen'} tests took {time.monotonic() - start:.0f} s")
    return 0 if result.wasSuccessful() and result.testsRun else 1


def run_all() -> int:
    """Compile once, then run both groups side by side; what they print comes one after another."""
    from mill_lane.work.warm import prepare

    print(f"kernels were ready after {prepare(lambda share, text: None):.0f} s", flush=True)
    python, data = sys.executable, KEPT / "coverage"
    measured = ["-m", "coverage", "run", f"--data-file={data}", "-m", "tests", "--group=rest"]
    commands = {"outside": [python, "-m", "tests", "--group=outside"], "rest": [python, *measured]}
    running = {}
    for group, command in commands.items():
        (KEPT / f"tests-{group}.json").unlink(missing_ok=True)
        log = (KEPT / f"tests-{group}.log").open("w")
        running[group] = subprocess.Popen(command, stdout=log, stderr=subprocess.STDOUT)
    failed = 0
    for group, process in running.items():
        failed |= process.wait()
        print((KEPT / f"tests-{group}.log").read_text(), flush=True)
    report = [python, "-m", "coverage", "report", f"--data-file={data}", "--skip-covered"]
    told = subprocess.run(report, capture_output=True, text=True, check=False).stdout
    total = next(
        (x for x in told.splitlines() if x.startswith("TOTAL")), "no coverage was measured"
    )
    print(f"branch coverage of core and services: {total}")
    share = float(total.split()[-1].rstrip("%")) if total.startswith("TOTAL") else 0.0
    if share < LEAST_COVERAGE:
        print(told)
        print(f"coverage is under {LEAST_COVERAGE} %")
        failed |= 1
    return failed


def told(groups: list[str]) -> str:
    """Sum up groups; one that wrote nothing down broke off, which counts as a failure."""
    sums = [0, 0, 0]
    for group in groups:
        path = KEPT / f"tests-{group}.json"
        counts = json.loads(path.read_text()) if path.exists() else [0, 1, 0]
        sums = [a + b for a, b in zip(sums, counts, strict=True)]
    return f"{sums[0]} passed, {sums[1]} failed, {sums[2]} skipped"


def main() -> int:
    # What the tests compile is kept between runs, apart from what the application keeps.
    os.environ.setdefault("MILL_LANE_CACHE", str(KEPT / "kernels"))
    words = sys.argv[1:]
    if words and words[0].startswith("--group="):
        return run([], words[0].removeprefix("--group="))
    failed = run(words) if words else run_all()
    line = told(["chosen"] if words else ["outside", "rest"])
    (KEPT / "last-tests.txt").write_text(line + "\n")
    return failed


if __name__ == "__main__":
    sys.exit(main())
