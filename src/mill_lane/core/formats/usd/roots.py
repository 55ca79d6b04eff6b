"""Which of several stages others refer to: found in a process of its own, as stages are read."""

from __future__ import annotations

import json
import subprocess
import sys
from collections.abc import Sequence
from pathlib import Path

from mill_lane.core.errors import MillError
from mill_lane.core.formats.sought import boundary, sought

ENDINGS = (".usd", ".usda", ".usdc", ".usdz")
LONGEST = 120.0  # seconds
MOST = 2000  # stages that are looked into


def is_stage(path: Path) -> bool:
    """Whether a file is a stage, by its ending."""
    return path.suffix.lower() in ENDINGS


def referred_to(stages: Sequence[Path]) -> set[Path]:
    """Those of some stages in one folder that others of them refer to, resolved.

    What cannot be read refers to nothing: it is told when it is opened.
    """
    if len(stages) < 2 or len(stages) > MOST:
        return set()
    command = [sys.executable, "-P", "-m", __name__, *map(str, stages)]
    try:
        done = subprocess.run(command, capture_output=True, text=True, timeout=LONGEST, check=False)
        return {Path(p) for p in json.loads(done.stdout.splitlines()[-1])}
    except (subprocess.TimeoutExpired, ValueError, IndexError):
        return set()


def _look(stages: Sequence[Path]) -> set[str]:
    from pxr import Sdf, Tf

    found: set[str] = set()
    for stage in stages:
        try:
            layer = Sdf.Layer.FindOrOpen(str(stage))
            assets = layer.GetCompositionAssetDependencies() if layer is not None else ()
        except (Tf.ErrorException, RuntimeError):
            continue
        for asset in assets:
            try:
                named = sought(stage.parent, asset).path.resolve() if asset else stage.resolve()
            except MillError:  # told when it is opened
                continue
            if named != stage.resolve():
                found.add(str(named))
    return found


if __name__ == "__main__":
    from mill_lane.core.formats.usd.confine import confine

    given = [Path(p) for p in sys.argv[1:]]
    confine([boundary(given[0].parent.resolve())], [])
    print(json.dumps(sorted(_look(given))))
