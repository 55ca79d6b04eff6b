"""Small scenes for the tests, made by code."""

from __future__ import annotations

import functools
import math
import tempfile
from pathlib import Path
from typing import Any

import numpy as np
import OpenImageIO as oiio

from mill_lane.core.formats.pictures import encode
from mill_lane.core.recipe import Recipe, Region
from mill_lane.core.render.load import load
from mill_lane.core.render.session import Session
from mill_lane.core.scene.model import Camera, Geometry, Image, Light, Material, Mesh, Node, Scene
from mill_lane.core.scene.parts import part_of
from mill_lane.core.scene.surroundings import Environment
from mill_lane.demo import shapes
from mill_lane.demo.bakery import encoded
from mill_lane.demo.make import make_demo

WHITE = Material("white", (1.0, 1.0, 1.0, 1.0), metallic=0.0, roughness=1.0)


def looking(eye: Any, at: Any, up: Any = (0.0, 1.0, 0.0)) -> np.ndarray:
    """The matrix of a camera or lamp at `eye` that looks along -Z at `at`."""
    z = np.asarray(eye, float) - np.asarray(at, float)
    z /= np.linalg.norm(z)
    x = np.cross(np.asarray(up, float), z)
    x /= np.linalg.norm(x)
    m = np.eye(4)
    m[:3, :3] = np.stack([x, np.cross(z, x), z], 1)
    m[:3, 3] = eye
    return m


def scene_of(
    *things: tuple[Geometry, Material],
    eye: Any = (0, 0, 5),
    at: Any = (0, 0, 0),
    up: Any = (0, 1, 0),
    yfov: float = 0.6,
    environment: Environment | None = None,
    lights: tuple[tuple[Light, Any], ...] = (),
    **more: Any,
) -> Scene:
    """Each geometry as a mesh of its own with its material, a camera, and lamps as (light,
    matrix).
    """
    meshes = tuple(Mesh(f"mesh {i}", (part_of(g, i),)) for i, (g, _) in enumerate(things))
    nodes = [Node(f"thing {i}", mesh=i) for i in range(len(things))]
    nodes.append(Node("camera", matrix=looking(eye, at, up), camera=0))
    nodes += [
        Node(light.name, matrix=np.asarray(m, float), light=i)
        for i, (light, m) in enumerate(lights)
    ]
    return Scene(
        "test",
        nodes=tuple(nodes),
        meshes=meshes,
        materials=tuple(m for _, m in things),
        lights=tuple(x for x, _ in lights),
        cameras=(Camera("camera", yfov, 1.0),),
        environment=environment,
        **more,
    )


def even_sky(radiance: float = 1.0) -> Environment:
    return Environment((radiance,) * 3, (radiance,) * 3, (radiance,) * 3)


def render(
    scene: Scene,
    samples: int = 16,
    size: int = 16,
    threads: int = 1,
    region: Region | None = None,
    **recipe: Any,
) -> Session:
    """Render to the end and return the session; on one thread, since tests run side by side."""
    values = {"width": size, "height": size, "samples": samples, "min_samples": 1} | recipe
    crop = {} if region is None else {"region": region}
    session = Session(
        load(scene, 1), Recipe(**values), threads=threads, frame=scene.frames[0], **crop
    )
    while not session.done:
        session.step(10)
    return session


def mean_luma(session: Session) -> tuple[float, float]:
    """The mean luminance of the picture, and its standard error from the film's own second
    moments.
    """
    film = session.film
    n = film.samples.astype(float)
    mean = film.luma[..., 0] / n
    variance = np.maximum(film.luma[..., 1] / n - mean**2, 0) / np.maximum(n - 1, 1)
    return float(mean.mean()), float(np.sqrt(variance.sum()) / mean.size)


def floor(size: float = 1.0, at: float = 0.0) -> Geometry:
    """A square on the floor, facing up, `size` along each side."""
    h = size / 2
    return shapes.sheet(np.array([-h, at, h]), np.array([size, 0, 0.0]), np.array([0, 0, -size]))


def ceiling(size: float, at: float) -> Geometry:
    """A square above the floor, facing down."""
    h = size / 2
    return shapes.sheet(np.array([-h, at, -h]), np.array([size, 0, 0.0]), np.array([0, 0, size]))


def picture(size: int = 8, channels: int = 3, bits: int = 8, name: str = "grain") -> Image:
    """A small PNG of random values."""
    top = 255 if bits == 8 else 65535
    pixels = (
        np.random.default_rng(3)
        .integers(0, top, (size, size, channels))
        .astype(np.uint8 if bits == 8 else np.uint16)
    )
    return encoded(name, "image/png", size, channels, bits, encode(pixels, "image/png"))


def write_sky(path: Path, pixels: np.ndarray) -> Path:
    """Write floats, (height, width, channels), as HDR or EXR by the path's ending."""
    out = oiio.ImageOutput.create(str(path))
    out.open(str(path), oiio.ImageSpec(pixels.shape[1], pixels.shape[0], pixels.shape[2], "float"))
    out.write_image(np.ascontiguousarray(pixels, np.float32))
    out.close()
    return path


@functools.cache
def small_demo() -> Path:
    """The small bakery as a file, made once for all tests."""
    folder = tempfile.TemporaryDirectory(prefix="mill-lane-tests-")
    small_demo.keep = folder  # type: ignore[attr-defined]
    path = Path(folder.name) / "bakery.glb"
    make_demo(path, "small")
    return path


def disc(radius: float, sides: int, y: float, up: bool) -> Geometry:
    """A flat disc round the Y axis."""
    angle = np.linspace(0, 2 * math.pi, sides, endpoint=False)
    # A polygon of the same area as the circle.
    r = radius * math.sqrt(2 * math.pi / (sides * math.sin(2 * math.pi / sides)))
    rim = np.stack([r * np.cos(angle), np.full(sides, y), r * np.sin(angle)], 1)
    points = np.concatenate([[[0, y, 0]], rim]).astype(np.float32)
    i = np.arange(sides)
    triangles = (
        np.stack([np.zeros(sides, int), 1 + (i + 1) % sides, 1 + i], 1)
        if up
        else np.stack([np.zeros(sides, int), 1 + i, 1 + (i + 1) % sides], 1)
    )
    normals = np.tile(np.array([[0, 1 if up else -1, 0]], np.float32), (sides + 1, 1))
    return Geometry(points, normals, None, triangles.astype(np.uint32))


def lump(rings: int, seed: int) -> Geometry:
    """Something like a scan: no symmetry at all."""
    rng = np.random.default_rng(seed)
    g = shapes.ball(0.5, rings)
    waves = sum(
        size * np.sin(g.positions @ rng.normal(size=3) * often + rng.uniform(0, 6))
        for size, often in ((0.06, 5), (0.04, 11), (0.03, 23))
    )
    points = (g.positions * (1 + np.asarray(waves)[:, None])).astype(np.float32)
    return Geometry(points, g.normals, g.uvs, g.triangles)
