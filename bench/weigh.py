"""Weighing scenes of four sizes, the largest of 5 million triangles and 60 textures of 4096 pixels,
each in a process of its own: seconds until it is listed and until it is weighed in full, and the
most memory that took.
"""

from __future__ import annotations

import json
import os
import subprocess
import sys
import time
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
import psutil

from bench.demo import folder
from mill_lane.core.formats.gltf import write_glb
from mill_lane.core.formats.opening import check_vertices, open_scene
from mill_lane.core.formats.pictures import encode
from mill_lane.core.scene.model import (
    Camera,
    Channel,
    Image,
    Light,
    Material,
    Mesh,
    Node,
    Scene,
    Texture,
    TextureUse,
)
from mill_lane.core.scene.parts import part_of
from mill_lane.core.scene.surroundings import Environment
from mill_lane.core.weigh.full import weigh_full
from mill_lane.core.weigh.measure import weigh
from mill_lane.demo import shapes
from mill_lane.work.memory import peak_since, reset_peak, resident
from mill_lane.work.warm import prepare

MESHES, SIDE = 50, 4096
SIZES = (8, 4, 2, 1)  # the largest scene is divided by these


def grain(seed: int, side: int) -> np.ndarray[Any, Any]:
    """Colours with something to compress and something not, uint8 (side, side, 3)."""
    rng = np.random.default_rng(seed)
    small = rng.integers(40, 216, (side // 16, side // 16, 3)).astype(np.uint8)
    out: np.ndarray[Any, Any] = np.repeat(np.repeat(small, 16, 0), 16, 1)
    out += rng.integers(0, 12, (side, side, 1)).astype(np.uint8)
    return out


def scene_of(divisor: int) -> Path:
    """Loaves on a plain, each with a texture or two of its own, two thirds JPEG and one third PNG;
    made once.
    """
    path = folder() / f"weigh-{divisor}.glb"
    if path.exists():
        return path
    count, textures = MESHES // divisor, 60 // divisor
    kinds = [("image/jpeg", encode(grain(k, SIDE), "image/jpeg")) for k in range(4)]
    kinds += [("image/png", encode(grain(9 + k, SIDE), "image/png")) for k in range(2)]
    images = []
    for i in range(textures):
        mime, data = kinds[i % 6]
        images.append(
            Image(f"texture {i}", mime, SIDE, SIDE, 3, 8, len(data), partial(bytes, data))
        )
    cells = 222  # 222 x 222 x 2 = 98,568; rounded up by the ends
    meshes, nodes = [], []
    for i in range(count):
        g = shapes.loaf(0.5, 0.3, 0.25, cells + 2, 3, i)
        meshes.append(Mesh(f"loaf {i}", (part_of(g, i),)))
        nodes.append(
            Node(f"loaf {i}", mesh=i, translation=(float(i % 10) - 4.5, 0.0, -float(i // 10)))
        )
    walk = Channel(
        "translation", "LINEAR", np.array([0.0, 4.0]), np.array([[-2.0, 1.2, 3.0], [2.0, 1.2, 2.0]])
    )
    nodes += [
        Node("camera", camera=0, channels=(walk,)),
        Node("lamp", light=0, translation=(0.0, 4.0, 0.0)),
    ]
    materials = tuple(
        Material(
            f"crust {i}",
            metallic=0.0,
            base_texture=TextureUse(i % textures),
            roughness_texture=TextureUse((count + i) % textures) if count + i < textures else None,
        )
        for i in range(count)
    )
    scene = Scene(
        "loaves",
        tuple(nodes),
        tuple(meshes),
        materials,
        tuple(Texture(f"t{i}", i) for i in range(textures)),
        tuple(images),
        (Light("lamp", "point", (1, 1, 1), 40.0),),
        (Camera("camera", 0.7),),
        environment=Environment((0.4, 0.5, 0.7), (0.6, 0.6, 0.6), (0.2, 0.2, 0.2)),
        frame_rate=24.0,
        frames=(1, 97),
    )
    write_glb(scene, path)
    return path


def measure(divisor: int) -> dict[str, Any]:
    """In this process, which does nothing else."""
    path = scene_of(divisor)
    prepare(lambda share, text: None)
    before = resident()
    reset_peak()
    start = time.perf_counter()
    scene = open_scene(path)
    listed = weigh(scene)
    done = {"listed": time.perf_counter() - start}
    check = time.perf_counter()
    check_vertices(scene)
    done["every vertex checked"] = time.perf_counter() - check
    start = time.perf_counter()
    last = [start]

    def ready(analysis: Any) -> None:
        done[("", "distances", "pictures", "looked at")[analysis.stage]] = (
            time.perf_counter() - last[0]
        )
        last[0] = time.perf_counter()

    full = weigh_full(scene, threads=len(os.sched_getaffinity(0)), ready=ready)
    done["lit"] = time.perf_counter() - last[0]
    done["weighed in full"] = time.perf_counter() - start
    held = sum(m.memory_bytes for m in full.meshes) + sum(t.memory_bytes for t in full.textures)
    assert full.visibility is not None
    return {
        "seconds": done,
        "triangles": listed.triangles,
        "texels": len(full.textures) * SIDE**2,
        "peak": peak_since(before),
        "held": held,
        "file": path.stat().st_size,
        "frames": len(full.visibility.frames),
    }


def run() -> dict[str, Any]:
    figures: dict[str, Any] = {"machine memory, GB": psutil.virtual_memory().total / 1e9}
    totals = []
    for divisor in SIZES:
        scene_of(divisor)
        code = (
            f"import json; from bench.weigh import measure; print(json.dumps(measure({divisor})))"
        )
        done = subprocess.run(
            [sys.executable, "-c", code], capture_output=True, text=True, check=True
        )
        r = json.loads(done.stdout.splitlines()[-1])
        name = f"{r['triangles'] / 1e6:.2f} M triangles"
        figures |= {f"{name}: {k}, s": v for k, v in r["seconds"].items()}
        figures[f"{name}: peak of weighing, GB"] = r["peak"] / 1e9
        figures[f"{name}: peak / what the renderer holds"] = r["peak"] / r["held"]
        figures[f"{name}: peak / file"] = r["peak"] / r["file"]
        figures[f"{name}: frames looked at"] = r["frames"]
        totals.append((r["triangles"], r["seconds"]["weighed in full"]))
    # 1 where the cost grows in proportion, less where a part of it stays the same.
    (t0, s0), (t1, s1) = totals[-2:]
    figures["growth of seconds / growth of the scene, last doubling"] = (s1 / s0) / (t1 / t0)
    return figures
