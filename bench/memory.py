"""The ledger's total against the measured peak of a real render process over its baseline, on six
different scenes.
"""

from __future__ import annotations

import json
import subprocess
import sys
from pathlib import Path
from typing import Any

import numpy as np

from bench.demo import folder, full_demo
from bench.scenes import boulder, room
from bench.weigh import scene_of
from mill_lane.core.formats.gltf import write_glb
from mill_lane.core.render.layers import LAYERS
from mill_lane.core.scene.model import Camera, Geometry, Material, Mesh, Node, Scene
from mill_lane.core.scene.parts import part_of
from mill_lane.core.scene.surroundings import Environment

SKY = Environment((0.4, 0.5, 0.7), (0.6, 0.6, 0.6), (0.2, 0.2, 0.2))


def command(*args: str) -> dict[str, Any]:
    """A mill-lane command in a process of its own, as JSON."""
    done = subprocess.run(
        [sys.executable, "-m", "mill_lane.cli", *args, "--json"],
        capture_output=True,
        text=True,
        check=True,
    )
    result: dict[str, Any] = json.loads(done.stdout)
    return result


def plain_scene(name: str, mesh: tuple[Any, Any], copies: int) -> Path:
    """One mesh without textures, placed so often."""
    path = folder() / f"{name}.glb"
    if not path.exists():
        positions, triangles = mesh
        g = Geometry(
            positions,
            np.tile(np.array([[0, 1, 0]], np.float32), (len(positions), 1)),
            None,
            triangles,
        )
        side = round(copies**0.5)
        nodes = [
            Node(f"{name} {i}", mesh=0, translation=(12.0 * (i % side), 0.0, -12.0 * (i // side)))
            for i in range(copies)
        ]
        nodes.append(Node("camera", camera=0, translation=(0.0, 2.0, 4.0)))
        scene = Scene(
            name,
            tuple(nodes),
            (Mesh(name, (part_of(g, 0),)),),
            (Material("grey", metallic=0.0),),
            cameras=(Camera("camera", 0.9),),
            environment=SKY,
        )
        write_glb(scene, path)
    return path


def run() -> dict[str, Any]:
    demo, made = full_demo()
    trimmed, out = demo.with_name("trimmed.glb"), demo.with_name("out.exr")
    trim = command("trim", str(demo), "--out", str(trimmed))
    figures: dict[str, Any] = {"demo built, s": made, "trim saved, GB": trim["saved_bytes"] / 1e9}
    every = ",".join(x for x in LAYERS.names if x != "lights")
    scenes: dict[str, tuple[Path, list[str]]] = {
        "bakery": (demo, []),
        "bakery, trimmed": (trimmed, []),
        "30 textures, 2.5 M triangles": (scene_of(2), []),
        "a boulder of 1.1 M triangles": (plain_scene("boulder", boulder(), 1), []),
        "2,500 copies of a hall": (plain_scene("room", room(), 2500), []),
        "a hall, all layers at 3840 x 2160": (
            plain_scene("hall", room(), 1),
            ["--width", "3840", "--height", "2160", "--layers", every],
        ),
    }
    worst = 0.0
    for name, (path, more) in scenes.items():
        r = command(
            "render", str(path), "--out", str(out), "--samples", "1", "--threads", "2", *more
        )
        ratio = r["predicted_memory_bytes"] / r["peak_memory_bytes"]
        figures[f"{name}: predicted, GB"] = r["predicted_memory_bytes"] / 1e9
        figures[f"{name}: measured peak, GB"] = r["peak_memory_bytes"] / 1e9
        figures[f"{name}: predicted / measured"] = ratio
        worst = max(worst, abs(ratio - 1))
    figures["farthest from 1"] = worst
    Path(out).unlink()
    return figures
