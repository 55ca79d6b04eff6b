"""From a `Scene` to the arrays that the kernels read, step by step, telling what each step holds.

The order is geometry, then textures from the largest to the smallest: what is needed for a moment
(a file, a decoded picture) is then small when the most is held, and the ledger's total is the peak.
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
from mill_lane.core.render import slots as s
from mill_lane.core.render.build import LEAF, NODE, aligned, build_mesh
from mill_lane.core.render.mip_chain import chain_values
from mill_lane.core.render.sizes import loading_order, srgb_images
from mill_lane.core.render.texture import DECODE, WRAP_CODES, Textures, fill_chain, texture_table
from mill_lane.core.scene.model import Material, Part, Scene, Texture

GREY = 188  # sRGB code of a mid grey, for textures that are missing
ALONE = 0.5  # a mesh with more than this share of the triangles is built by all threads together


@dataclass(frozen=True, eq=False)
class Loaded:
    """A scene in memory, without a pose: everything that does not depend on the frame.

    `parts` is int64 (P, 5): first node, first block, first triangle, first vertex, first UV or -1;
    `bounds` float64 (P, 6).  `held` are the bytes of the arrays by kind, as they are.
    """

    scene: Scene
    nodes: NDArray[np.float32]
    leaves: NDArray[np.float32]
    triangles: NDArray[np.uint32]
    normals: NDArray[np.float32]
    uvs: NDArray[np.float32]
    parts: NDArray[np.int64]
    leaf_counts: dict[int, int]
    bounds: NDArray[np.float64]
    factors: NDArray[np.float64]
    slots: NDArray[np.int64]
    transforms: NDArray[np.float64]
    textures: Textures
    mesh_parts: dict[tuple[int, int], int]
    held: dict[str, int]


def drawn_parts(scene: Scene) -> list[tuple[int, int, Part]]:
    """Every part of every drawn mesh once, as (mesh, index, part)."""
    meshes = sorted({mesh for _, mesh in scene.instances})
    return [
        (m, i, p) for m in meshes for i, p in enumerate(scene.meshes[m].parts) if p.triangles > 0
    ]


def load(scene: Scene, threads: int, progress: Progress = silent) -> Loaded:
    """Read geometry and textures into the flat arrays that kernels use.

    Parameters
    ----------
    scene : Scene
    threads : int
        That build acceleration structures and decode pictures.
    progress : callable
        Told how far it is, from 0 to 1, and may stop it.

    Returns
    -------
    Loaded
        Exactly the bytes that `sizes` counts, taken geometry first, then textures by size.

    Raises
    ------
    MillError
        When a file is damaged.
    MemoryError
        When memory is full.
    """
    geometry = _geometry(scene, threads, part(progress, 0.0, 0.45))
    textures, index = _textures(scene, threads, part(progress, 0.45, 1.0))
    held = {
        "geometry": sum(geometry[k].nbytes for k in ("triangles", "normals", "uvs")),
        "acceleration": geometry["nodes"].nbytes + geometry["leaves"].nbytes,
        "textures": textures.narrow.nbytes + textures.wide.nbytes,
    }
    materials: dict[str, Any] = _materials(scene, index)
    return Loaded(scene=scene, textures=textures, held=held, **geometry, **materials)


def _geometry(scene: Scene, threads: int, progress: Progress) -> dict[str, Any]:
    parts = drawn_parts(scene)
    vertices = sum(p.vertices for _, _, p in parts)
    corners = sum(p.triangles for _, _, p in parts)
    with_uvs = sum(p.vertices for _, _, p in parts if p.has_uvs)
    normals, uvs = np.empty((vertices, 3), np.float32), np.empty((with_uvs, 2), np.float32)
    triangles = np.empty((corners, 3), np.uint32)
    table = np.full((len(parts), 5), -1, np.int64)
    bounds = np.zeros((len(parts), 6))
    at_vertex = at_uv = at_triangle = 0
    for i, (_, _, p) in enumerate(parts):
        table[i] = 0, 0, at_triangle, at_vertex, at_uv if p.has_uvs else -1
        at_vertex, at_triangle = at_vertex + p.vertices, at_triangle + p.triangles
        at_uv += p.vertices if p.has_uvs else 0

    def read(i: int) -> tuple[NDArray[np.float32], NDArray[np.float32]]:
        mesh, _, p = parts[i]
        g = p.load()
        if len(g.positions) != p.vertices or len(g.triangles) != p.triangles:
            raise MillError(
                f"The mesh “{scene.meshes[mesh].name}” changed while it was read.", "Open it again."
            )
        _, _, t, v, u = (int(x) for x in table[i])
        normals[v : v + p.vertices] = g.normals
        if g.uvs is not None:
            uvs[u : u + p.vertices] = np.nan_to_num(g.uvs)
        triangles[t : t + p.triangles] = g.triangles
        bounds[i, :3], bounds[i, 3:] = g.positions.min(0), g.positions.max(0)
        together = threads if p.triangles > ALONE * corners else 1
        nodes, leaves = build_mesh(g.positions, g.triangles, together)
        return nodes.copy(), leaves.copy()

    built = []
    for result in in_order(read, len(parts), threads):
        built.append(result)
        progress(len(built) / len(parts), f"geometry: {len(built)} of {len(parts)} meshes")
    counts = np.array([(len(n), len(b)) for n, b in built], np.int64).reshape(-1, 2)
    table[:, :2] = np.cumsum(counts, 0) - counts
    nodes = _joined([n for n, _ in built], NODE)
    leaves = _joined([b for _, b in built], LEAF)
    return {
        "nodes": nodes,
        "leaves": leaves,
        "triangles": triangles,
        "normals": normals,
        "uvs": uvs,
        "parts": table,
        "bounds": bounds,
        "mesh_parts": {(m, i): k for k, (m, i, _) in enumerate(parts)},
        "leaf_counts": {int(row[1]): int(n) for row, n in zip(table, counts[:, 1], strict=True)},
    }


def _joined(pieces: list[NDArray[np.float32]], width: int) -> NDArray[np.float32]:
    """The pieces one after another, on a cache line; each is let go as soon as it is copied."""
    out = aligned(sum(len(p) for p in pieces) * width).reshape(-1, width)
    at = 0
    for i, piece in enumerate(pieces):
        out[at : at + len(piece)] = piece
        at += len(piece)
        pieces[i] = out[:0]
    return out


def in_order(function: Any, count: int, threads: int) -> Iterator[Any]:
    """Results of function(0), function(1), … in order, computed by a few threads; what waits is
    dropped on an error.
    """
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
            rows[scene.textures[t].image] = (wide, at[wide], *size)
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
                f"The texture “{image.name}” does not hold what its header says.",
                "Save it again and export the scene.",
            )
        fill_chain(out, pixels, images[i] in colours)

    for i, _ in enumerate(in_order(read, len(images), threads)):
        progress((i + 1) / len(images), f"textures: {i + 1} of {len(images)}")
    entries = []
    for t, _ in order:
        texture: Texture = scene.textures[t]
        wide, offset, width, height, channels = rows[texture.image]
        entries.append(
            (
                wide,
                offset,
                width,
                height,
                channels,
                WRAP_CODES[texture.wrap_u],
                WRAP_CODES[texture.wrap_v],
            )
        )
    table, chain = texture_table(entries)
    return Textures(table, chain, narrow, wide_values, DECODE), {
        t: i for i, (t, _) in enumerate(order)
    }


def _materials(scene: Scene, index: dict[int, int]) -> dict[str, NDArray[Any]]:
    materials = [*scene.materials, Material(metallic=0.0)]  # the last one is for parts without any
    factors = np.zeros((len(materials), s.FACTORS))
    slots = np.full((len(materials), s.TEXTURE_SLOTS), -1, np.int64)
    transforms = np.zeros((len(materials), s.TEXTURE_SLOTS, 6))
    for i, m in enumerate(materials):
        factors[i] = _factors(m)
        uses = (
            m.base_texture,
            m.roughness_texture,
            m.normal_texture,
            m.emissive_texture,
            m.transmission_texture,
            m.clearcoat_texture,
            m.clearcoat_roughness_texture,
        )
        for k, use in enumerate(uses):
            if use is not None and use.texture in index:
                slots[i, k] = index[use.texture]
                cosine, sine = math.cos(use.rotation), math.sin(use.rotation)
                # KHR_texture_transform: scale, then rotate counter-clockwise in a picture whose V
                # runs down, then move.
                x, y = use.scale
                transforms[i, k] = (
                    x * cosine,
                    y * sine,
                    use.offset[0],
                    -x * sine,
                    y * cosine,
                    use.offset[1],
                )
        factors[i, s.M_TEXTURED] = float((slots[i] >= 0).any())
        if m.normal_texture:
            factors[i, s.M_NORMAL_SCALE] = m.normal_texture.strength
    return {"factors": factors, "slots": slots, "transforms": transforms}


def _factors(m: Material) -> list[float]:
    mode = {"OPAQUE": s.OPAQUE, "MASK": s.MASK, "BLEND": s.BLEND}[m.alpha_mode]
    absorb = [0.0, 0.0, 0.0]
    if math.isfinite(m.attenuation_distance) and m.attenuation_distance > 0:
        # Beer-Lambert: the colour is what is left after the attenuation distance
        # (KHR_materials_volume).
        absorb = [-math.log(max(c, 1e-6)) / m.attenuation_distance for c in m.attenuation_color]
    return [
        *m.base_color,
        m.metallic,
        m.roughness,
        *m.emissive,
        m.ior,
        m.transmission,
        m.thickness,
        *absorb,
        mode,
        m.alpha_cutoff,
        float(m.double_sided),
        float(m.unlit),
        1.0,
        m.clearcoat,
        m.clearcoat_roughness,
        0.0,
    ]
