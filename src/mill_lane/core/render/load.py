"""From a `Scene` to the arrays that the kernels read, step by step, telling what each step holds.

The order is geometry, then textures from the largest to the smallest: what is needed for a moment (a file, a decoded
picture) is then small when the most is held, and the ledger's total is the peak.
"""

from __future__ import annotations

import math
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.errors import MillError
from mill_lane.core.formats.pictures import decode
from mill_lane.core.progress import Progress, part, silent
from mill_lane.core.render import world as w
from mill_lane.core.render.build import build, build_mesh
from mill_lane.core.render.lamps import gather_lights
from mill_lane.core.render.sizes import chain_values, levels, loading_order, srgb_images
from mill_lane.core.render.texture import DECODE, WRAP_CODES, Textures, fill_chain
from mill_lane.core.render.traverse import Accel
from mill_lane.core.render.world import Surfaces, View, World
from mill_lane.core.scene.model import Material, Part, Scene, Texture
from mill_lane.core.scene.pose import world_matrices

GREY = 188  # sRGB code of a mid grey, for textures that are missing


@dataclass(frozen=True, eq=False)
class Loaded:
    """A scene in memory, without a pose: everything that does not depend on the frame.

    `held` are the bytes of the arrays by kind, as they are.
    """

    scene: Scene
    accel: Accel
    surfaces: Surfaces
    textures: Textures
    mesh_parts: dict[tuple[int, int], int]
    held: dict[str, int]


def drawn_parts(scene: Scene) -> list[tuple[int, int, Part]]:
    """Every part of every drawn mesh once, as (mesh, index, part)."""
    meshes = sorted({mesh for _, mesh in scene.placements})
    return [(m, i, p) for m in meshes for i, p in enumerate(scene.meshes[m].parts) if p.triangles > 0]


def load(scene: Scene, threads: int, progress: Progress = silent) -> Loaded:
    """Read geometry and textures.  Raises MillError when a file is damaged, MemoryError when memory is full."""
    accel, surfaces, mesh_parts = _geometry(scene, threads, part(progress, 0.0, 0.45))
    textures, index = _textures(scene, threads, part(progress, 0.45, 1.0))
    surfaces = surfaces._replace(**_materials(scene, index))
    held = {
        "geometry": sum(x.nbytes for x in (accel.positions, accel.triangles, surfaces.normals, surfaces.uvs)),
        "acceleration": accel.boxes.nbytes + accel.links.nbytes,
        "textures": textures.narrow.nbytes + textures.wide.nbytes,
    }
    return Loaded(scene, accel, surfaces, textures, mesh_parts, held)


def _geometry(scene: Scene, threads: int, progress: Progress) -> tuple[Accel, Surfaces, dict[tuple[int, int], int]]:
    parts = drawn_parts(scene)
    vertices = sum(p.vertices for _, _, p in parts)
    corners = sum(p.triangles for _, _, p in parts)
    with_uvs = sum(p.vertices for _, _, p in parts if p.has_uvs)
    positions, normals = np.empty((vertices, 3), np.float32), np.empty((vertices, 3), np.float32)
    uvs = np.empty((with_uvs, 2), np.float32)
    triangles = np.empty((corners, 3), np.uint32)
    table = np.full((len(parts), 3), -1, np.int64)
    at_vertex = at_uv = at_triangle = 0
    for i, (_, _, p) in enumerate(parts):
        table[i] = at_vertex, at_uv if p.has_uvs else -1, at_triangle
        at_vertex, at_triangle = at_vertex + p.vertices, at_triangle + p.triangles
        at_uv += p.vertices if p.has_uvs else 0

    def read(i: int) -> tuple[NDArray[np.float32], NDArray[np.uint32]]:
        mesh, _, p = parts[i]
        g = p.load()
        if len(g.positions) != p.vertices or len(g.triangles) != p.triangles:
            raise MillError(f"The mesh “{scene.meshes[mesh].name}” changed while it was read.", "Open it again.")
        v, u, t = (int(x) for x in table[i])
        positions[v : v + p.vertices], normals[v : v + p.vertices] = g.positions, g.normals
        if g.uvs is not None:
            uvs[u : u + p.vertices] = np.nan_to_num(g.uvs)
        order, boxes, links = build_mesh(g.positions, g.triangles)
        triangles[t : t + p.triangles] = g.triangles[order] + np.uint32(v)
        links[links[:, 1] > 0, 0] += np.uint32(t)
        return boxes, links

    done, built = 0, []
    for result in in_order(read, len(parts), threads):
        built.append(result)
        done += len(result[1])
        progress(len(built) / len(parts), f"geometry: {len(built)} of {len(parts)} meshes")
    starts = np.concatenate([[0], np.cumsum([len(x) for _, x in built])]).astype(np.int64)
    for (_, links), start in zip(built, starts, strict=False):
        links[links[:, 1] == 0, 0] += np.uint32(start)
    boxes = np.concatenate([b for b, _ in built])
    links = np.concatenate([x for _, x in built])
    del built
    none = np.empty(0, np.int64)
    accel = Accel(
        top_boxes=np.zeros((1, 6), np.float32),
        top_links=np.zeros((1, 2), np.uint32),
        top_order=np.zeros(0, np.uint32),
        to_object=np.zeros((0, 12), np.float32),
        instance_root=starts[:-1].astype(np.uint32),  # by part here; by instance once posed
        boxes=boxes,
        links=links,
        triangles=triangles,
        positions=positions,
    )
    surfaces = Surfaces(
        normals, uvs, table, none.reshape(0, 3), np.zeros((0, 12)), np.zeros((0, 20)),
        none.reshape(0, 5), np.zeros((0, 5, 6)),
    )  # fmt: skip
    return accel, surfaces, {(m, i): k for k, (m, i, _) in enumerate(parts)}


def in_order(function: Any, count: int, threads: int) -> Iterator[Any]:
    """Results of function(0), function(1), … in order, computed by a few threads; what waits is dropped on an error."""
    with ThreadPoolExecutor(max(1, threads)) as pool:
        waiting = [pool.submit(function, i) for i in range(count)]
        try:
            for future in waiting:
                yield future.result()
        finally:
            for future in waiting:
                future.cancel()


def _textures(scene: Scene, threads: int, progress: Progress) -> tuple[Textures, dict[int, int]]:
    """The textures, and which row of the table each texture of the scene has."""
    order = loading_order(scene)
    colours = srgb_images(scene)
    rows: dict[int, tuple[int, ...]] = {}
    at = [0, 0]
    for t, _ in order:
        image = scene.images[scene.textures[t].image]
        if scene.textures[t].image not in rows:
            wide = int(image.bits > 8)
            size = (image.width, image.height, image.channels)
            rows[scene.textures[t].image] = (wide, at[wide], *size, len(levels(image.width, image.height)))
            at[wide] += chain_values(*size)
    narrow, wide_values = np.empty(at[0], np.uint8), np.empty(at[1], np.uint16)
    images = list(rows)

    def read(i: int) -> None:
        image, row = scene.images[images[i]], rows[images[i]]
        out = (wide_values if row[0] else narrow)[row[1] : row[1] + chain_values(*row[2:5])]
        if image.missing:
            out[:] = GREY
            return
        pixels = decode(image.read(), image.mime, image.name)
        if pixels.shape != (image.height, image.width, image.channels) or pixels.dtype != out.dtype:
            raise MillError(
                f"The texture “{image.name}” does not hold what its header says.", "Save it again and export the scene."
            )
        fill_chain(out, pixels, images[i] in colours)

    for i, _ in enumerate(in_order(read, len(images), threads)):
        progress((i + 1) / len(images), f"textures: {i + 1} of {len(images)}")
    table = np.zeros((max(len(order), 1), 8), np.int64)
    for i, (t, _) in enumerate(order):
        texture: Texture = scene.textures[t]
        wide, offset, width, height, channels, depth = rows[texture.image]
        wraps = WRAP_CODES[texture.wrap_u], WRAP_CODES[texture.wrap_v]
        table[i] = (wide, offset, width, height, channels, *wraps, depth)
    return Textures(table, narrow, wide_values, DECODE), {t: i for i, (t, _) in enumerate(order)}


def _materials(scene: Scene, index: dict[int, int]) -> dict[str, NDArray[Any]]:
    materials = [*scene.materials, Material(metallic=0.0)]  # the last one is for parts without any
    factors = np.zeros((len(materials), 20))
    slots = np.full((len(materials), 5), -1, np.int64)
    transforms = np.zeros((len(materials), 5, 6))
    for i, m in enumerate(materials):
        factors[i] = _factors(m)
        uses = (m.base_texture, m.rough_texture, m.normal_texture, m.emissive_texture, m.transmission_texture)
        for k, use in enumerate(uses):
            if use is not None and use.texture in index:
                slots[i, k] = index[use.texture]
                c, s = math.cos(use.rotation), math.sin(use.rotation)
                # KHR_texture_transform: scale, then rotate counter-clockwise in a picture whose V runs down, then move.
                x, y = use.scale
                transforms[i, k] = (x * c, y * s, use.offset[0], -x * s, y * c, use.offset[1])
        if m.normal_texture:
            factors[i, w.M_NORMAL_SCALE] = m.normal_texture.strength
    return {"factors": factors, "slots": slots, "transforms": transforms}


def _factors(m: Material) -> list[float]:
    mode = {"OPAQUE": w.OPAQUE, "MASK": w.MASK, "BLEND": w.BLEND}[m.alpha_mode]
    absorb = [0.0, 0.0, 0.0]
    if math.isfinite(m.attenuation_distance) and m.attenuation_distance > 0:
        # Beer-Lambert: the colour is what is left after the attenuation distance (KHR_materials_volume).
        absorb = [-math.log(max(c, 1e-6)) / m.attenuation_distance for c in m.attenuation_color]
    return [
        *m.base_color, m.metallic, m.roughness, *m.emissive, m.ior, m.transmission, m.thickness,
        *absorb, mode, m.alpha_cutoff, float(m.double_sided), float(m.unlit), 1.0,
    ]  # fmt: skip


def pose(loaded: Loaded, time: float) -> World:
    """The world at a time in seconds: instances placed, their hierarchy built, lights gathered."""
    scene = loaded.scene
    matrices = world_matrices(scene, time)
    spare = len(scene.materials)
    rows, to_world, to_object, roots, boxes = [], [], [], [], []
    for node, mesh in scene.placements:
        m = matrices[node]
        if abs(np.linalg.det(m[:3, :3])) < 1e-18:
            continue  # flattened to nothing: it has no area to hit
        inverse = np.linalg.inv(m)
        for i, p in enumerate(scene.meshes[mesh].parts):
            if p.triangles == 0:
                continue
            k = loaded.mesh_parts[mesh, i]
            rows.append((k, p.material if p.material >= 0 else spare, -1))
            to_world.append(m[:3].reshape(-1))
            to_object.append(inverse[:3].reshape(-1))
            root = int(loaded.accel.instance_root[k])
            roots.append(root)
            lo, hi = loaded.accel.boxes[root, :3].astype(float), loaded.accel.boxes[root, 3:].astype(float)
            centre, half = m[:3, :3] @ ((lo + hi) / 2) + m[:3, 3], np.abs(m[:3, :3]) @ ((hi - lo) / 2)
            pad = 1e-6 * (np.abs(centre) + half) + 1e-7
            boxes.append(np.concatenate([centre - half - pad, centre + half + pad]))
    instances = np.array(rows, np.int64).reshape(-1, 3)
    accel = loaded.accel._replace(
        to_object=np.array(to_object, np.float32).reshape(-1, 12), instance_root=np.array(roots, np.uint32)
    )
    if rows:
        order, top, links = build(np.array(boxes, np.float32), 1)
        accel = accel._replace(top_order=order, top_boxes=top, top_links=links)
    surfaces = loaded.surfaces._replace(instances=instances, to_world=np.array(to_world, float).reshape(-1, 12))
    lights = gather_lights(scene, matrices, accel, surfaces, loaded.textures)
    media = np.array(
        [[*m.box_min, *m.box_max, m.scatter, m.scatter + m.absorb, m.g] for m in scene.media if m.scatter + m.absorb > 0],
        float,
    ).reshape(-1, 9)
    return World(accel, surfaces, loaded.textures, lights, media)


def camera_view(scene: Scene, time: float, width: int, height: int, camera: str | None = None) -> View:
    """The camera's view at a time for a picture of width x height.  Raises MillError when there is no such camera."""
    try:
        node = scene.camera_node(camera)
    except KeyError as e:
        raise MillError(f"The scene has no camera “{camera or ''}”.", "Name one of the cameras of the scene.") from e
    m = world_matrices(scene, time)[node]
    axes = m[:3, :3] / np.linalg.norm(m[:3, :3], axis=0)
    t = math.tan(scene.cameras[scene.nodes[node].camera].yfov / 2)
    return View(m[:3, 3].copy(), -axes[:, 2], axes[:, 0] * (t * width / height), axes[:, 1] * t, 2 * t / height)
