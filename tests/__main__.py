"""Run the tests:

`python -m tests [WORD …]`.  With words, only the tests whose names contain one of them.
"""

from __future__ import annotations

import os
import sys
import time
import unittest
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent


def flatten(suite: unittest.TestSuite) -> list[unittest.TestCase]:
    out: list[unittest.TestCase] = []
    for test in suite:
        out += flatten(test) if isinstance(test, unittest.TestSuite) else [test]
    return out


def main() -> int:
    # What the tests compile is kept between runs, apart from what the application keeps.
    os.environ.setdefault("MILL_LANE_CACHE", str(ROOT / ".venv" / "kernels"))
    found = unittest.defaultTestLoader.discover(str(ROOT / "tests"), top_level_dir=str(ROOT))
    words = sys.argv[1:]
    tests = [t for t in flatten(found) if not words or any(w in t.id() for w in words)]
    start = time.monotonic()
    result = unittest.TextTestRunner(verbosity=1 if not words else 2).run(unittest.TestSuite(tests))
    bad, skipped = len(result.failures) + len(result.errors), len(result.skipped)
    line = f"{result.testsRun - bad - skipped} passed, {bad} failed, {skipped} skipped"
    print(f"tests took {time.monotonic() - start:.0f} s")
    (ROOT / ".venv" / "last-tests.txt").write_text(line + "\n")
    return 0 if result.wasSuccessful() and result.testsRun else 1


if __name__ == "__main__":
    sys.exit(main())
