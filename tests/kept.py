"""Folders that tests start from: made once for these sources, kept beside the environment."""

from __future__ import annotations

import fcntl
import functools
import hashlib
import shutil
import tempfile
from collections.abc import Callable
from pathlib import Path

from tests.pool import KEPT, ROOT


@functools.cache
def stamp() -> str:
    """Another whenever the sources are, or what makes such folders."""
    found = hashlib.sha256()
    makers = [*(ROOT / "tests").glob("*.py"), *(ROOT / "tests/browser").glob("pre*.py")]
    for path in sorted([*(ROOT / "src").rglob("*.py"), *makers]):
        found.update(path.read_bytes())
    return found.hexdigest()[:16]


def kept(name: str, make: Callable[[Path], None]) -> Path:
    """The folder of a name, which `make` fills where there is none for these sources.

    Whoever needs it copies it: others start from it as well.
    """
    path = KEPT / f"{name}-{stamp()}"
    with (KEPT / f"{name}.lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        if not path.exists():
            for old in KEPT.glob(f"{name}-*"):
                shutil.rmtree(old)
            with tempfile.TemporaryDirectory(dir=KEPT, prefix="making-") as folder:
                made = Path(folder) / name
                make(made)
                made.rename(path)
    return path
