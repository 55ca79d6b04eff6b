"""Run the tests: `python -m tests [--all] [WORD …]`.

With words, only the tests whose names contain one of them.  Without, everything that `./check`
promises: style, types and import rules beside all tests.  With `--all` also what takes minutes
(`tests.thorough`), and the branches that are covered.
"""

from __future__ import annotations

import os
import subprocess
import sys
import time
from pathlib import Path

from tests.pool import INSTALLATION, KEPT, KERNELS, ROOT, Found, Pool, keep_times, processes
from tests.thorough import ALL

SLOWEST = 10  # tests that are told
COMPILED = 3.0  # seconds of compiling in a module from which it is told
# %, branches of what is measured: core and services; then what is under them.
LEAST_COVERAGE = {"core,jobs": 90.0, "work": 80.0, "store": 90.0, "web": 85.0}
PYTHON = sys.executable
BIN = Path(PYTHON).parent
STEPS = {
    KERNELS: [PYTHON, "-m", "tests.compiled"],
    "ruff, errors": [f"{BIN}/ruff", "check", "."],
    "ruff, format": [f"{BIN}/ruff", "format", "--check", "."],
    "mypy": [f"{BIN}/mypy"],
    "import rules": [f"{BIN}/lint-imports", "--no-cache"],
    "built files": ["frontend/build", "--check"],
    "templates, errors": [f"{BIN}/djlint", "src/mill_lane/web", "--lint", "--quiet"],
    "templates, format": [f"{BIN}/djlint", "src/mill_lane/web", "--check", "--quiet"],
    INSTALLATION: [PYTHON, "-m", "tests.browser.prepared"],
    "scripts": ["frontend/node_modules/.bin/biome", "check", "--error-on-warnings"],
}
BROWSER = ("tests.browser.", "tests.core.test_samples")  # need Chromium and node packages


def modules_of(words: list[str]) -> list[str]:
    """Modules of tests that may have one with such a name: read as text, nothing is imported."""
    shared = [p.read_text() for p in (ROOT / "tests").rglob("case.py")]
    inherited = any(w in text for w in words for text in shared)
    out = []
    for path in sorted((ROOT / "tests").rglob("test_*.py")):
        name = ".".join(path.relative_to(ROOT).with_suffix("").parts)
        text = f"{name}." + path.read_text()
        last = [w.rpartition(".")[2] for w in words]
        if not words or inherited or any(w in text for w in (*words, *last)):
            out.append(name)
    return out


def report(found: Found, took: float) -> None:
    """What took longest, and how much of the time the processors were busy."""
    for seconds, processor, name in sorted(found.tests, reverse=True)[:SLOWEST]:
        print(f"{seconds:6.1f} s  {processor:6.1f} s of a processor  {name}")
    for name, seconds in found.compiled.items():
        if seconds > COMPILED:
            print(f"{seconds:6.1f} s compiling in {name}: no step before it did")
    print(f"{took:.0f} s, {sum(found.modules.values()):.0f} s in {processes()} processes")


def covered() -> bool:
    """Tell the branches that were run; whether they are as many as is wanted."""
    data = f"--data-file={KEPT}/coverage"
    command = [PYTHON, "-m", "coverage"]
    subprocess.run([*command, "combine", "-q", data, *KEPT.glob("coverage.*")], check=False)
    good = True
    for folders, least in LEAST_COVERAGE.items():
        within = ",".join(f"src/mill_lane/{name}/*" for name in folders.split(","))
        told = subprocess.run(
            [*command, "report", data, "--skip-covered", f"--include={within}"],
            capture_output=True,
            text=True,
            check=False,
        ).stdout
        total = next((x for x in told.splitlines() if x.startswith("TOTAL")), "TOTAL 0%")
        share = float(total.split()[-1].rstrip("%"))
        print(f"branches of {folders}: {share:.0f} %, {least:.0f} wanted")
        if share < least:
            print(told)
            good = False
    return good


def main() -> int:
    # What the tests compile is kept between runs, apart from what the application keeps.
    os.environ.setdefault("MILL_LANE_CACHE", str(KEPT / "kernels"))
    words = sys.argv[1:]
    everything = "--all" in words
    words = [w for w in words if w != "--all"]
    if everything:
        os.environ[ALL] = "1"
        for path in KEPT.glob("coverage*"):
            path.unlink()
    modules = modules_of(words)
    if words and any(m.startswith(BROWSER) for m in modules):
        subprocess.run(["tools/setup", "browser"], cwd=ROOT, check=True)
    steps = {} if words else STEPS
    data = str(KEPT / "coverage") if everything and not words else ""
    began = time.monotonic()
    found = Pool(steps, modules, words, data).run(processes())
    keep_times(found.modules if not words and not everything else {})
    report(found, time.monotonic() - began)
    good = covered() if data else True
    passed, failed, skipped = found.counts
    failed += found.steps_failed + (not good)
    line = f"{passed} passed, {failed} failed, {skipped} skipped"
    (KEPT / "last-tests.txt").write_text(line + "\n")
    return 0 if failed == 0 and passed else 1


if __name__ == "__main__":
    sys.exit(main())
