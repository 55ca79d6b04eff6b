"""One process that runs modules of tests, named one a line on its input; see `tests.pool`.

It answers with a line of JSON for each test and each module, and with what they printed.
"""

from __future__ import annotations

import io
import json
import os
import resource
import sys
import time
import unittest
from collections.abc import Callable
from typing import Any, TextIO

# Driven from outside, by a browser or by killing them: nothing of them is run in this process.
OUTSIDE = (
    "tests.browser.",
    "tests.test_campaigns",
    "tests.test_start",
    "tests.work.test_machines",
    "tests.work.test_supervision",
    "tests.work.test_worker",
)


def spent() -> float:
    """Processor seconds of this process and of those that it waited for."""
    own, below = (resource.getrusage(w) for w in (resource.RUSAGE_SELF, resource.RUSAGE_CHILDREN))
    return own.ru_utime + own.ru_stime + below.ru_utime + below.ru_stime


class Timed(unittest.TextTestResult):
    """Tells how long each test took, to whoever reads `answers`."""

    answers: TextIO
    compiling: Callable[[], float] = staticmethod(float)  # seconds so far; 0 where nobody listens

    def startTest(self, test: unittest.TestCase) -> None:
        self.began, self.spent = time.monotonic(), spent()
        super().startTest(test)

    def stopTest(self, test: unittest.TestCase) -> None:
        took, processor = time.monotonic() - self.began, spent() - self.spent
        tell(self.answers, test=test.id(), seconds=took, processor=processor)
        super().stopTest(test)


def tell(answers: TextIO, **said: Any) -> None:
    answers.write(json.dumps(said) + "\n")
    answers.flush()


def flatten(suite: unittest.TestSuite) -> list[unittest.TestCase]:
    out: list[unittest.TestCase] = []
    for test in suite:
        out += flatten(test) if isinstance(test, unittest.TestSuite) else [test]
    return out


def run_module(name: str, words: list[str], answers: TextIO) -> None:
    """Run the tests of a module whose names have one of the words, or all."""
    began, before, compiled = time.monotonic(), spent(), Timed.compiling()
    printed = io.StringIO()
    found = flatten(unittest.defaultTestLoader.loadTestsFromName(name))
    chosen = [t for t in found if not words or any(w in t.id() for w in words)]
    result = unittest.TextTestRunner(
        stream=printed, verbosity=2 if words else 1, resultclass=Timed
    ).run(unittest.TestSuite(chosen))
    bad, skipped = len(result.failures) + len(result.errors), len(result.skipped)
    # A class that cannot be set up counts as one, and was not run.
    passed = max(0, result.testsRun - bad - skipped)
    tell(
        answers,
        module=name,
        seconds=time.monotonic() - began,
        processor=spent() - before,
        compiled=Timed.compiling() - compiled,
        counts=[passed, bad, skipped],
        printed=printed.getvalue() if bad or words else "",
    )


def main(words: list[str], data: str) -> None:
    """Serve until the input ends; with `data`, a file, branches are counted."""
    answers = os.fdopen(os.dup(1), "w")
    Timed.answers = answers
    if not words:  # a few tests begin at once: nothing is loaded for them
        from tests.compiling import Compiling
        from tests.usd_readers import forked

        heard = Compiling()
        Timed.compiling = staticmethod(lambda: heard.seconds)
        forked()
    os.dup2(2, 1)  # what tests print is no answer
    counter = None
    if data:
        import coverage

        counter = coverage.Coverage(data_file=data, data_suffix=True)
    for line in sys.stdin:
        name = line.strip()
        measured = counter is not None and not name.startswith(OUTSIDE)
        if counter is not None and measured:
            counter.start()
        run_module(name, words, answers)
        if counter is not None and measured:
            counter.stop()
    if counter is not None:
        counter.save()


if __name__ == "__main__":
    main(sys.argv[2:], sys.argv[1])
