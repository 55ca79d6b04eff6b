"""Reading USD in a process of its own.

The library ends its process on some damaged files, and asks for all memory there is on others.  So a process that does
nothing else turns the stage into a GLB, and only that is read here.
"""

from __future__ import annotations

import json
import signal
import subprocess
import sys
import tempfile
from dataclasses import replace
from pathlib import Path

from mill_lane.core.errors import MillError
from mill_lane.core.formats.gltf import read_scene
from mill_lane.core.formats.meshes.soup import damaged
from mill_lane.core.scene.model import Note, Scene

LONGEST = 3600.0  # seconds


def read_usd(path: Path) -> Scene:
    """The scene of a usda or usdc file; everything that it refers to must lie in its folder.

    Raises MillError when it cannot be used, also when the library breaks on it.
    """
    keep = tempfile.TemporaryDirectory(prefix="mill-lane-usd-")
    made = Path(keep.name) / f"{path.stem}.glb"
    command = [sys.executable, "-m", "mill_lane.core.formats.usd", str(path), str(made)]
    try:
        done = subprocess.run(command, capture_output=True, timeout=LONGEST, check=False)
    except subprocess.TimeoutExpired as e:
        raise damaged(path.name, f"it was not read after {LONGEST / 60:.0f} minutes") from e
    lines = done.stdout.decode("utf-8", "replace").strip().splitlines()
    if done.returncode != 0 or not lines:
        how = signal.Signals(-done.returncode).name if done.returncode < 0 else f"status {done.returncode}"
        raise damaged(path.name, f"the USD library gave up on it ({how})")
    said = json.loads(lines[-1])
    if "error" in said:
        raise MillError(said["error"], said["hint"], said["kept"])
    notes = tuple(Note(level, text) for level, text in said["notes"])
    return replace(read_scene(made), notes=notes, keep=keep)
