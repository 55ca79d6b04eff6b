"""How soon a scene is there: commands that start, files that are opened, copies that are found, the
demo listed on a fresh home with nothing compiled, and first looks.
"""

from __future__ import annotations

import os
import statistics
import subprocess
import sys
import tempfile
import time
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
from sqlalchemy import select

from bench.sent import sent
from bench.server import Server
from mill_lane.core.formats.blob import Blob
from mill_lane.core.formats.gltf import write_glb
from mill_lane.core.formats.opening import open_scene
from mill_lane.core.formats.pictures import encode
from mill_lane.core.formats.saving import save_scene
from mill_lane.core.formats.textures import image_of
from mill_lane.core.scene.model import (
    Camera,
    Geometry,
    Material,
    Mesh,
    Node,
    Scene,
    Texture,
    TextureUse,
)
from mill_lane.core.scene.parts import part_of
from mill_lane.core.weigh.duplicates import find_duplicates
from mill_lane.store.models import Task
from tests.scenes import lump

OPTIONS = {
    "obj": 600,
    "meshes": 2000,
    "triangles": 5_000_000,
    "cold": 1,
    "files": 60,
    "seed": 1,
}
STARTS = 5

READ = """
import sys, time
from pathlib import Path
from mill_lane.core.formats.opening import open_scene
from mill_lane.core.formats.meshes import obj_scan
from mill_lane.work.memory import peak_since, reset_peak, resident, return_large_blocks
return_large_blocks()  # as the process does that opens scenes
small = open_scene(Path(sys.argv[2]))  # compiled, or loaded
before = resident()
reset_peak()
begun = time.perf_counter()
scene = open_scene(Path(sys.argv[1]))
seconds = time.perf_counter() - begun
parts = [p.load() for m in scene.meshes for p in m.parts]
arrays = [a for g in parts for a in (g.positions, g.normals, g.uvs, g.triangles)]
held = sum(a.nbytes for a in arrays if a is not None)
print(peak_since(before) / held, seconds)
"""


def scene_of(parts: list[Geometry], materials: tuple[Material, ...] = (), **more: Any) -> Scene:
    """Each geometry as a mesh, in a row, before a camera."""
    meshes = tuple(
        Mesh(f"mesh {i}", (part_of(g, i % len(materials) if materials else -1),))
        for i, g in enumerate(parts)
    )
    side = int(np.ceil(len(parts) ** 0.5))
    nodes = [
        Node(f"node {i}", mesh=i, translation=(1.2 * (i % side), 1.2 * (i // side), 0.0))
        for i in range(len(parts))
    ]
    far = np.eye(4)
    far[:3, 3] = 0.6 * side, 0.6 * side, 2.2 * side
    nodes.append(Node("camera", matrix=far, camera=0))
    return Scene(
        "row",
        nodes=tuple(nodes),
        meshes=meshes,
        materials=materials,
        cameras=(Camera("camera", 0.7),),
        **more,
    )


def starts() -> float:
    """Seconds until a command has told what it can do."""
    spent = []
    for _ in range(STARTS):
        begun = time.perf_counter()
        command = [sys.executable, "-m", "mill_lane.cli", "--help"]
        subprocess.run(command, capture_output=True, check=True)
        spent.append(time.perf_counter() - begun)
    return statistics.median(spent)


def usdz(folder: Path) -> tuple[float, float]:
    """Seconds until the first figures of a USDZ of about 12 MB, and its megabytes."""
    path = folder / "row.usdz"
    rng = np.random.default_rng(2)
    grain = [encode(rng.integers(0, 255, (1024, 1024, 3), np.uint8), "image/png") for _ in range(3)]
    images = tuple(image_of(Blob.of(g), f"grain {i}") for i, g in enumerate(grain))
    worn = tuple(Material(f"m {i}", metallic=0.0, base_texture=TextureUse(i)) for i in range(3))
    textures = tuple(Texture(f"grain {i}", i) for i in range(3))
    made = scene_of([lump(200, i) for i in range(8)], worn, images=images, textures=textures)
    save_scene(made, path)
    begun = time.perf_counter()
    command = [sys.executable, "-m", "mill_lane.cli", "weigh", str(path), "--json"]
    subprocess.run(command, capture_output=True, check=True)
    return time.perf_counter() - begun, path.stat().st_size / 1e6


def obj(folder: Path, megabytes: int) -> tuple[float, float]:
    """The peak of reading an OBJ over what its arrays take, and the seconds."""
    path = folder / "many.obj"
    one = folder / "one.obj"
    save_scene(scene_of([lump(300, 1)]), one)
    copies = max(1, round(megabytes * 1e6 / one.stat().st_size))
    save_scene(scene_of([lump(300, i) for i in range(copies)]), path)
    command = [sys.executable, "-c", READ, str(path), str(one)]
    done = subprocess.run(command, capture_output=True, text=True, check=True)
    ratio, seconds = map(float, done.stdout.split())
    return ratio, seconds


def duplicates(meshes: int, triangles: int) -> tuple[float, int]:
    """Seconds to find the copies among many meshes, a tenth of them in another order."""
    rng = np.random.default_rng(3)
    rings = round((triangles / meshes) ** 0.5)
    made: list[Geometry] = []
    for k in range(meshes // 20):
        g = lump(rings, k)
        for j in range(20):
            turn = np.linalg.qr(rng.normal(size=(3, 3)))[0]
            turn *= np.sign(np.linalg.det(turn))
            points = (g.positions @ turn.T * rng.uniform(0.5, 2) + rng.uniform(-9, 9, 3)).astype(
                np.float32
            )
            normals = (g.normals @ turn.T).astype(np.float32)
            other = Geometry(points, normals, g.uvs, g.triangles)
            if j % 10 == 9 and g.uvs is not None:
                order = rng.permutation(len(points))
                mixed = np.argsort(order)[g.triangles.astype(np.int64)].astype(np.uint32)
                other = Geometry(points[order], normals[order], g.uvs[order], mixed)
            made.append(other)
    scene = scene_of(made)
    begun = time.perf_counter()
    found = find_duplicates(scene, list(range(len(made))))
    return time.perf_counter() - begun, len(found)


def heavy(folder: Path, triangles: int) -> Path:
    """A GLB of so many triangles with 60 textures of 2048 pixels, every third a PNG."""
    path = folder / "heavy.glb"
    rng = np.random.default_rng(1)
    images = []
    for i in range(60):
        small = rng.integers(0, 255, (128, 128, 3), np.uint8)
        pixels = np.ascontiguousarray(small.repeat(16, 0).repeat(16, 1))
        mime = "image/png" if i % 3 == 0 else "image/jpeg"
        images.append(image_of(Blob.of(encode(pixels, mime)), f"map {i}"))
    materials = tuple(
        Material(f"worn {i}", metallic=0.0, base_texture=TextureUse(i)) for i in range(60)
    )
    textures = tuple(Texture(f"map {i}", i) for i in range(60))
    rings = round((triangles / 60) ** 0.5)
    made = scene_of([lump(rings, i) for i in range(60)], materials)
    write_glb(replace(made, images=tuple(images), textures=textures), path)
    return path


def looks(server: Server, job: int) -> float:
    """Seconds from when a job's scene was listed to its first picture."""

    def listed() -> bool:
        with server.sessions() as db:
            tasks = db.scalars(select(Task).where(Task.job_id == job)).all()
            return any(t.kind == "first_look" for t in tasks)

    def seen() -> bool:
        with server.sessions() as db:
            tasks = db.scalars(select(Task).where(Task.job_id == job)).all()
            return any(
                t.kind == "first_look" and (t.live.get("shown") or t.result.get("picture"))
                for t in tasks
            )

    server.until(listed, "the scene", 600)
    begun = time.perf_counter()
    server.until(seen, "the first look", 600)
    return time.perf_counter() - begun


def run(obj: int, meshes: int, triangles: int, cold: int, files: int, seed: int) -> dict[str, Any]:
    out: dict[str, Any] = {"cli_start_seconds": starts()}
    with tempfile.TemporaryDirectory(prefix="mill-lane-bench-") as name:
        folder = Path(name)
        out["usdz_12mb_seconds"], out["usdz_mb"] = usdz(folder)
        out["obj_peak_ratio"], out["obj_seconds"] = globals()["obj"](folder, obj)
        out["obj_mb"] = (folder / "many.obj").stat().st_size / 1e6
        out["duplicates_seconds"], out["duplicates_found"] = duplicates(meshes, triangles)
        path = heavy(folder, triangles)
        out["heavy_triangles"] = sum(m.triangles for m in open_scene(path).meshes)
        if cold:
            os.environ["MILL_LANE_CACHE"] = str(folder / "cache")
        begun = time.perf_counter()
        server = Server(folder / "home", "full")
        server.start()
        try:

            def listed() -> bool:
                return server.ask("GET", "/jobs/1/scene.csv")[0] == 200

            server.until(listed, "the demo", 600)
            out["demo_listed_seconds"] = time.perf_counter() - begun
            server.until(lambda: compiled(server), "the compiler", 900)
            out["compiled_seconds"] = time.perf_counter() - begun
            server.until(lambda: idle(server), "the first look", 600)
            # Listed once more, now that the renderer is there.
            out["first_look_seconds"] = again(server)
            server.until(lambda: idle(server), "the second look", 600)
            _, answer = server.ask("POST", "/api/scenes?name=heavy.glb", path.read_bytes(), 600)
            out["first_look_5m_seconds"] = looks(server, int(answer["job"]))
        finally:
            server.stop()
    return out | sent(files, seed)


def compiled(server: Server) -> bool:
    with server.sessions() as db:
        return any(
            t.state == "done" for t in db.scalars(select(Task).where(Task.kind == "prepare"))
        )


def idle(server: Server) -> bool:
    """Whether no first look is waited for."""
    with server.sessions() as db:
        going = Task.state.in_(("queued", "running"))
        return not db.scalars(select(Task).where(Task.kind == "first_look", going)).all()


def again(server: Server) -> float:
    """Seconds until the bakery is seen at another frame, from when that was asked for."""
    server.ask("POST", "/api/jobs/1/look", {"frame": 40})
    begun = time.perf_counter()

    def seen() -> bool:
        with server.sessions() as db:
            task = db.scalars(
                select(Task).where(Task.kind == "first_look").order_by(Task.id.desc())
            ).first()
            return task is not None and bool(task.live.get("shown") or task.result.get("picture"))

    server.until(seen, "the look", 600)
    return time.perf_counter() - begun
