"""Damaged files of every format, read as an upload is: what crashes, is not told, or takes long.

Every file is opened, checked, written and listed in a process of its own kind, with a limit of
memory; what lies outside the file's folder must not come in.
"""

from __future__ import annotations

import contextlib
import multiprocessing
import os
import resource
import sys
import tempfile
import threading
import time
import traceback
from collections import Counter
from multiprocessing.connection import Connection
from pathlib import Path
from typing import Any

import numpy as np

from bench import mutate
from mill_lane.core.errors import MillError
from mill_lane.core.formats.gltf import write_glb
from mill_lane.core.formats.opening import check_vertices, open_scene
from mill_lane.core.formats.sky_pictures import read_sky
from mill_lane.core.render.state import state_about, state_key
from mill_lane.core.weigh.measure import weigh

OPTIONS = {"files": 10_000, "seed": 1}
MEMORY = 4 * 10**9  # bytes
SLOW = 10.0  # seconds
# USD starts a process for each file: it gets a share of them.
SHARES = {"usda": 0.02, "usdc": 0.02, "usdz": 0.01}


def run(files: int = OPTIONS["files"], seed: int = OPTIONS["seed"]) -> dict[str, Any]:
    """Try so many files, in two processes side by side."""
    counts: Counter[str] = Counter()
    examples: list[str] = []
    start = time.monotonic()
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        mutate.outside(folder)
        scene = folder / "seed.glb"
        write_glb(mutate.small_scene(), scene)
        found = mutate.seeds(scene, folder)
        others = [k for k in found if k not in SHARES]
        shares = np.array([SHARES.get(k, (1 - sum(SHARES.values())) / len(others)) for k in found])
        halves = [range(i, files, 2) for i in range(2)]
        threads = [
            threading.Thread(target=_half, args=(h, seed, found, shares, folder, counts, examples))
            for h in halves
        ]
        for t in threads:
            t.start()
        for t in threads:
            t.join()
    for text in examples[:20]:
        print(text, file=sys.stderr)
    return {
        "files": counts["files"],
        "crashes": counts["crash"],
        "uncaught": counts["uncaught"],
        "over_10_s": counts["slow"],
        "outside": counts["outside"],
        "read": counts["read"],
        "refused": counts["refused"],
        "seconds": time.monotonic() - start,
        **{f"files, {k}": counts[f"files, {k}"] for k in found},
    }


def _half(
    numbers: range,
    seed: int,
    found: dict[str, mutate.Seed],
    shares: np.ndarray,
    folder: Path,
    counts: Counter[str],
    examples: list[str],
) -> None:
    reader = Reader()
    kinds = list(found)
    inner = folder / f"in-{numbers.start}"
    inner.mkdir()
    for number in numbers:
        rng = np.random.default_rng((seed, number))
        kind = kinds[int(rng.choice(len(kinds), p=shares))]
        path = inner / f"file-{number}{found[kind].ending}"
        path.write_bytes(mutate.mutated(found[kind], rng))
        what, text = reader.read(path)
        counts.update(["files", f"files, {kind}", what])
        if what not in ("read", "refused"):
            examples.append(f"{what}: seed {seed}, number {number}, {kind}: {text}")
        path.unlink()
    reader.end()


class Reader:
    """A process that reads files, started anew when it died or took too long."""

    def __init__(self) -> None:
        self.process: multiprocessing.process.BaseProcess | None = None
        self.pipe: Connection

    def read(self, path: Path) -> tuple[str, str]:
        """What became of a file, and what is told of it."""
        if self.process is None or not self.process.is_alive():
            context = multiprocessing.get_context("spawn")
            self.pipe, theirs = context.Pipe()
            self.process = context.Process(target=_serve, args=(theirs,), daemon=True)
            self.process.start()
            theirs.close()
            self.pipe.recv()
        self.pipe.send(path)
        try:
            if self.pipe.poll(SLOW):
                what, text = self.pipe.recv()
                return str(what), str(text)
        except (EOFError, OSError):
            self.process.join()
            return "crash", f"exit code {self.process.exitcode}"
        self.end()
        return "slow", f"over {SLOW:.0f} s"

    def end(self) -> None:
        """End the process."""
        if self.process is not None:
            self.process.kill()
            self.process.join()
            self.process = None


def _serve(pipe: Connection) -> None:
    resource.setrlimit(resource.RLIMIT_DATA, (MEMORY, resource.RLIM_INFINITY))
    os.dup2(os.open(os.devnull, os.O_WRONLY), 2)
    with tempfile.TemporaryDirectory() as folder:  # what is compiled is there before time counts
        (Path(folder) / "a.obj").write_text("v 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n")
        open_scene(Path(folder) / "a.obj")
    pipe.send("ready")
    with contextlib.suppress(EOFError):
        while True:
            pipe.send(_read(pipe.recv()))


def _read(path: Path) -> tuple[str, str]:
    """Open, check, write and list a file, as the task does that reads an upload."""
    out = path.with_name("out.glb")
    try:
        if path.suffix in (".hdr", ".exr"):
            read_sky(path)
            return "read", ""
        if path.suffix == ".session":
            state_about(path)
            state_key(path)
            return "read", ""
        scene = open_scene(path)
        check_vertices(scene)
        write_glb(scene, out)
        analysis = weigh(open_scene(out))
        analysis.model_dump_json()
    except MillError as e:
        return ("refused", e.message) if e.hint.strip() else ("uncaught", f"no hint: {e.message}")
    except Exception:
        return "uncaught", traceback.format_exc()[-700:]
    finally:
        out.unlink(missing_ok=True)
    far = any(abs(p.bounds_min[0] - mutate.FAR) < 1.0 for mesh in scene.meshes for p in mesh.parts)
    return ("outside", "what lies outside came in") if far else ("read", "")
