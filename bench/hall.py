"""Path tracing in the room against the bare ray rate: what all shading costs.

The room as one mesh of grey, a square lamp under its ceiling, four bounces, one thread.  Camera,
bounce and shadow rays of the same kind and in the same order are followed alone in the same run,
through the very world that the tracer works in; the ratio is the time of as many of them as the
tracer followed over the tracer's own.  A second ratio has them followed through the hall as a
single mesh without its lamp, which needs no instances.
"""

from __future__ import annotations

import time
from typing import Any

import numpy as np

from bench.scenes import room
from bench.tracing import camera_rays, path_rays
from mill_lane.core.recipe import Recipe
from mill_lane.core.render.load import load
from mill_lane.core.render.pose import pose
from mill_lane.core.render.session import Session
from mill_lane.core.render.shooting import Shooter, mesh_world
from mill_lane.core.scene.model import Camera, Geometry, Material, Mesh, Node, Scene
from mill_lane.core.scene.parts import part_of
from mill_lane.demo import shapes

ROUNDS = 9


def room_scene() -> tuple[Scene, Any, Any]:
    """The furnished hall with a lamp, and its bare positions and triangles."""
    positions, triangles = room()
    c = positions[triangles].astype(float)
    n = np.cross(c[:, 1] - c[:, 0], c[:, 2] - c[:, 0])
    normals = np.zeros_like(positions)
    normals[triangles.reshape(-1)] = np.repeat(
        n / np.maximum(np.linalg.norm(n, axis=1, keepdims=True), 1e-30), 3, 0
    )
    hall = Geometry(positions, normals, None, triangles)
    lamp = shapes.sheet(np.array([-1.5, 3.95, -1.5]), np.array([3.0, 0, 0]), np.array([0, 0, 3.0]))
    lamp = Geometry(lamp.positions, lamp.normals, None, lamp.triangles)
    eye, ahead = np.array([-4.6, 2.9, -3.6]), np.array([5.6, -1.9, 4.6])
    z = -ahead / np.linalg.norm(ahead)
    x = np.cross([0, 1, 0], z)
    x /= np.linalg.norm(x)
    m = np.eye(4)
    m[:3, :3], m[:3, 3] = np.stack([x, np.cross(z, x), z], 1), eye
    scene = Scene(
        "room",
        nodes=(Node("hall", mesh=0), Node("lamp", mesh=1), Node("camera", matrix=m, camera=0)),
        meshes=(Mesh("hall", (part_of(hall, 0),)), Mesh("lamp", (part_of(lamp, 1),))),
        materials=(
            Material("grey", (0.65, 0.6, 0.55, 1), 0.0, 1.0, ior=1.0, double_sided=True),
            Material("lamp", (0, 0, 0, 1), 0.0, 1.0, emissive=(12.0, 12.0, 12.0)),
        ),
        cameras=(Camera("camera", 1.02),),
    )
    return scene, positions, triangles


def rendered(
    scene: Scene, width: int = 320, height: int = 184, samples: int = 4, **more: Any
) -> tuple[float, dict[str, int]]:
    """(thread seconds, rays) of a render on one thread."""
    layers = more.pop("layers", ())
    profiled = more.pop("profiled", False)
    recipe = Recipe(
        width=width, height=height, samples=samples, min_samples=1, bounces=4, layers=layers, **more
    )
    session = Session(load(scene, 1), recipe, threads=1, profiled=profiled)
    start = time.thread_time()
    while not session.done:
        session.step(60.0)
    spent = time.thread_time() - start
    return spent, session.rays_by_kind()


def _alone(shooters: dict[str, Shooter], counts: dict[str, int]) -> float:
    """Seconds for so many rays of each kind, by what those of each shooter take."""
    spent = 0.0
    for kind, shooter in shooters.items():
        start = time.thread_time()
        if kind == "shadow":
            shooter.blocked()
        else:
            shooter.closest()
        spent += counts[kind] * (time.thread_time() - start) / len(shooter.o)
    return spent


def run() -> dict[str, Any]:
    scene, positions, triangles = room_scene()
    _, rays = rendered(scene, profiled=True)
    single, whole = mesh_world(positions, triangles), pose(load(scene, 1), 0.0)
    o, d = camera_rays(320, 184)
    bounced, shut = path_rays(single, positions, triangles, o, d, 5)
    worlds = [
        {"primary": Shooter(w, o, d), "diffuse": Shooter(w, *bounced), "shadow": Shooter(w, *shut)}
        for w in (whole, single)
    ]
    counts = {"primary": rays["camera"], "shadow": rays["shadow"], "diffuse": rays["diffuse"]}
    total = sum(counts.values())
    rounds = []
    for _ in range(ROUNDS):
        traced = rendered(scene)[0]
        alone, without = (_alone(shooters, counts) for shooters in worlds)
        rounds.append((alone / traced, total / traced / 1e6, total / alone / 1e6, without / traced))
    ratio, shaded, bare, stricter = (float(x) for x in np.median(rounds, axis=0))
    return {
        "room: rays a sample": total / rays["camera"],
        "room: million rays a second, shading included": shaded,
        "room: million rays a second, alone": bare,
        "room: path tracing / bare rays": ratio,
        "room: path tracing / bare rays in the hall as a single mesh": stricter,
        "room: path tracing / bare rays, lowest of the rounds": float(min(r[0] for r in rounds)),
        "room: path tracing / bare rays, highest of the rounds": float(max(r[0] for r in rounds)),
    }
