"""The process that reads USD:

`python -m mill_lane.core.formats.usd STAGE OUT.glb [CHOICES as JSON]`.  The last line of its output
is JSON.
"""

from __future__ import annotations

import contextlib
import ctypes
import json
import os
import resource
import signal
import sys
import tempfile
import time
from collections.abc import Sequence
from pathlib import Path

from mill_lane.core.errors import MillError
from mill_lane.core.formats.choices import Choices
from mill_lane.core.formats.sought import boundary
from mill_lane.core.formats.usd.confine import confine
from mill_lane.core.progress import part

SHARE = 0.8  # of the computer's memory


class Teller:
    """Progress as JSON lines, a few a second."""

    def __init__(self) -> None:
        self.last = 0.0

    def __call__(self, share: float, text: str) -> None:
        """Tell the parent how far it is, five times a second at most."""
        if time.monotonic() - self.last > 0.2:
            self.last = time.monotonic()
            print(json.dumps({"share": round(share, 4), "text": text}), flush=True)


def main(stage: Path, out: Path, choices: Choices) -> int:
    """Read the stage and write it; what went wrong, or the notes, to standard output."""
    # It ends with whoever asked for it.
    with contextlib.suppress(OSError, AttributeError):
        ctypes.CDLL(None).prctl(1, signal.SIGKILL)
    most = int(os.sysconf("SC_PAGE_SIZE") * os.sysconf("SC_PHYS_PAGES") * SHARE)
    soft, hard = resource.getrlimit(resource.RLIMIT_DATA)
    resource.setrlimit(
        resource.RLIMIT_DATA, (most if soft == resource.RLIM_INFINITY else min(most, soft), hard)
    )
    # Before the library is loaded: its threads are shut in, too.
    confine([boundary(stage.parent.resolve()), stage.resolve()], [out.parent.resolve()])
    tempfile.tempdir = str(out.parent)
    try:
        from mill_lane.core.formats.gltf import write_glb
        from mill_lane.core.formats.usd.read import read_stage

        tell = Teller()
        scene = read_stage(stage, part(tell, 0.0, 0.7), choices)
        write_glb(scene, out, part(tell, 0.7, 1.0))
        print(json.dumps({"notes": [(n.code, n.level, n.text) for n in scene.notes]}))
    except MillError as e:
        print(json.dumps({"error": e.message, "hint": e.hint, "kept": e.kept}))
    except MemoryError:
        hint = "Make it smaller, or export it again if it is not that large."
        print(
            json.dumps(
                {
                    "error": f"{stage.name} does not fit into memory.",
                    "hint": hint,
                    "kept": "Nothing was imported.",
                }
            )
        )
    return 0


def run(arguments: Sequence[str]) -> int:
    """Do what the command line says; returns the status to end with."""
    asked = json.loads(arguments[2]) if len(arguments) > 2 else {}
    variants = tuple((str(g), str(n)) for g, n in asked.get("variants", []))
    chosen = Choices(variants, tuple(map(str, asked.get("left_out", []))))
    return main(Path(arguments[0]), Path(arguments[1]), chosen)


if __name__ == "__main__":
    sys.exit(run(sys.argv[1:]))
