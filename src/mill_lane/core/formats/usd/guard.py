"""Reading USD in a process of its own.

The library ends its process on some damaged files, and asks for all memory there is on others.  So
a process that does nothing else turns the stage into a GLB, and only that is read here.
"""

from __future__ import annotations

import json
import os
import selectors
import signal
import sys
import tempfile
import time
from dataclasses import asdict, replace
from pathlib import Path
from subprocess import DEVNULL, PIPE, Popen

from mill_lane.core.errors import MillError
from mill_lane.core.formats.choices import Choices
from mill_lane.core.formats.gltf import read_scene
from mill_lane.core.formats.meshes.soup import damaged
from mill_lane.core.progress import Progress, silent
from mill_lane.core.scene.model import Note, Scene

LONGEST = 3600.0  # seconds


def read_usd(path: Path, progress: Progress = silent, choices: Choices | None = None) -> Scene:
    """The scene of a usda or usdc file; everything that it refers to must lie in its folder.

    `progress` is asked all the while, so that whoever waits can give up.  Raises MillError when the
    file cannot be used, or has not what is chosen, also when the library breaks on it.
    """
    keep = tempfile.TemporaryDirectory(prefix="mill-lane-usd-")
    made = Path(keep.name) / f"{path.stem}.glb"
    # -P: the working directory is no place for libraries, and so is not to be seen.
    command = [sys.executable, "-P", "-m", "mill_lane.core.formats.usd", str(path), str(made)]
    if choices:
        command.append(json.dumps(asdict(choices)))
    with Popen(command, stdout=PIPE, stderr=DEVNULL) as process:
        try:
            last = _heard(process, path, progress)
        finally:
            process.kill()
    if process.returncode != 0 or not last:
        how = (
            signal.Signals(-process.returncode).name
            if process.returncode < 0
            else f"status {process.returncode}"
        )
        raise damaged(path.name, f"the USD library gave up on it ({how})")
    said = json.loads(last)
    if "error" in said:
        raise MillError(said["error"], said["hint"], said["kept"])
    notes = tuple(Note(code, level, text) for code, level, text in said["notes"])
    return replace(read_scene(made), notes=notes, keep=keep)


def _heard(process: Popen[bytes], path: Path, progress: Progress) -> str:
    """The last line that the process says; lines with a share before it are progress."""
    assert process.stdout is not None
    os.set_blocking(process.stdout.fileno(), False)
    end, text, share, last, words = time.monotonic() + LONGEST, b"", 0.0, "", "reading the stage"
    with selectors.DefaultSelector() as selector:
        selector.register(process.stdout, selectors.EVENT_READ)
        while True:
            if selector.select(0.2):
                piece = process.stdout.read() or b""
                if not piece:
                    process.wait()
                    return last
                *lines, text = (text + piece).split(b"\n")
                for line in lines:
                    found = line.decode("utf-8", "replace").strip()
                    if found.startswith('{"share":'):
                        told = json.loads(found)
                        share, words = float(told["share"]), str(told["text"])
                    elif found:
                        last = found
            progress(share, words)
            if time.monotonic() > end:
                raise damaged(path.name, f"it was not read after {LONGEST / 60:.0f} minutes")
