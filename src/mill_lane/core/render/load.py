"""From a `Scene` to the arrays that the kernels read, step by step, telling what each step holds.

The order is geometry, then textures from the largest to the smallest: what is needed for a moment
(a file, a decoded picture) is then small when the most is held, and the ledger's total is the peak.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field, replace
from typing import Any, TypeVar

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.errors import MillError
from mill_lane.core.progress import Progress, of_megabytes, part, silent
from mill_lane.core.render import slots as s
from mill_lane.core.render.build import aligned, build_mesh
from mill_lane.core.render.in_order import in_order
from mill_lane.core.render.kept_trees import Trees, digest_of_mesh, keep, key_of, take
from mill_lane.core.render.load_textures import load_textures, texture_bytes
from mill_lane.core.render.sky_picture import sky_pixels
from mill_lane.core.render.texture import Textures
from mill_lane.core.render.texture_cache import TextureCache
from mill_lane.core.render.wide_nodes import LEAF, NODE
from mill_lane.core.scene.defaults import NO_MATERIAL
from mill_lane.core.scene.model import Geometry, Material, Part, Scene
from mill_lane.core.scene.surroundings import Environment, SkyPicture

GREY = 188  # sRGB code of a mid grey, for textures that are missing
WORTH_KEEPING = 50_000  # triangles, below which building is as quick as looking
T = TypeVar("T")
Tree = tuple[NDArray[np.float32], NDArray[np.float32]]  # nodes and leaves of one mesh
ALONE = 0.5  # a mesh with more than this share of the triangles is built by all threads together


@dataclass(frozen=True, eq=False)
class Loaded:
    """A scene in memory, without a pose: everything that does not depend on the frame.

    `parts` is int64 (P, 7): first node, first block, first triangle, first vertex, then first UV,
    UV of the second set and colour, or -1; `bounds` float64 (P, 6).  `held` are the bytes of the
    arrays by kind, as they are; of all that, "mapped" is what is mapped from files: the system has
    as much of it in memory as is read, and can let go of that.  `brightness` and `skies` keep
    maps of emissive textures and pictures of skies once made.
    """

    scene: Scene
    nodes: NDArray[np.float32]
    leaves: NDArray[np.float32]
    triangles: NDArray[np.uint32]
    normals: NDArray[np.float32]
    uvs: NDArray[np.float32]
    colors: NDArray[np.float32]
    parts: NDArray[np.int64]
    leaf_counts: dict[int, int]
    bounds: NDArray[np.float64]
    factors: NDArray[np.float64]
    slots: NDArray[np.int64]
    transforms: NDArray[np.float64]
    textures: Textures
    mesh_parts: dict[tuple[int, int], int]
    held: dict[str, int]
    time: float = 0.0
    threads: int = 1
    brightness: dict[tuple[float, ...], NDArray[np.float32]] = field(default_factory=dict)
    skies: dict[SkyPicture, NDArray[np.float32]] = field(default_factory=dict)

    @property
    def environment(self) -> Environment:
        """What lights the scene from all round; a picture of it is read once."""
        found = self.scene.environment or Environment()
        if found.picture is None:
            return found
        if found.picture not in self.skies:
            self.skies[found.picture] = sky_pixels(found.picture)
        return Environment(pixels=self.skies[found.picture])


def drawn_parts(scene: Scene) -> list[tuple[int, int, Part]]:
    """Every part of every drawn mesh once, as (mesh, index, part)."""
    meshes = sorted({mesh for _, mesh in scene.instances})
    return [
        (m, i, p) for m in meshes for i, p in enumerate(scene.meshes[m].parts) if p.triangles > 0
    ]


def load(
    scene: Scene,
    threads: int,
    progress: Progress = silent,
    time: float = 0.0,
    cache: TextureCache | None = None,
) -> Loaded:
    """Read geometry and textures into the flat arrays that kernels use.

    Parameters
    ----------
    scene : Scene
    threads : int
        That build acceleration structures and decode pictures.
    progress : callable
        Told how far it is, from 0 to 1, and may stop it.
    time : float
        Seconds, of the vertices that move among themselves.
    cache : TextureCache, optional
        Where decoded textures are kept, and acceleration structures.

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
    geometry = _geometry(scene, threads, part(progress, 0.0, 0.45), time, cache)
    textures, index = load_textures(scene, threads, part(progress, 0.45, 1.0), cache)
    held = {
        "geometry": sum(geometry[k].nbytes for k in ("triangles", "normals", "uvs", "colors")),
        "acceleration": geometry["nodes"].nbytes + geometry["leaves"].nbytes,
        "textures": texture_bytes(scene),
        "mapped": cache.mapped_bytes if cache is not None else 0,
    }
    materials: dict[str, Any] = _materials(scene, index, textures)
    return Loaded(
        scene=scene,
        textures=textures,
        held=held,
        time=time,
        threads=threads,
        **geometry,
        **materials,
    )


def retextured(
    loaded: Loaded,
    scene: Scene,
    threads: int,
    progress: Progress = silent,
    cache: TextureCache | None = None,
) -> Loaded:
    """The same geometry with the pictures and materials of another edition of the scene."""
    textures, index = load_textures(scene, threads, progress, cache)
    mapped = cache.mapped_bytes if cache is not None else 0
    if not loaded.nodes.flags.writeable:  # only what is mapped cannot be written
        mapped += loaded.held["acceleration"]
    held = loaded.held | {"textures": texture_bytes(scene), "mapped": mapped}
    materials: dict[str, Any] = _materials(scene, index, textures)
    return replace(loaded, scene=scene, textures=textures, held=held, brightness={}, **materials)


def at_time(loaded: Loaded, time: float) -> Loaded:
    """The same scene with its vertices at another time, in seconds; itself where none move."""
    if time == loaded.time or not any(p.load_at for _, _, p in drawn_parts(loaded.scene)):
        return loaded
    return replace(loaded, time=time, **_geometry(loaded.scene, loaded.threads, silent, time))


def _geometry(
    scene: Scene, threads: int, progress: Progress, time: float, cache: TextureCache | None = None
) -> dict[str, Any]:
    parts = drawn_parts(scene)
    vertices = sum(p.vertices for _, _, p in parts)
    corners = sum(p.triangles for _, _, p in parts)
    with_uvs = sum(p.vertices * (p.has_uvs + p.has_second_uvs) for _, _, p in parts)
    coloured = sum(p.vertices for _, _, p in parts if p.has_colors)
    normals, uvs = np.empty((vertices, 3), np.float32), np.empty((with_uvs, 2), np.float32)
    colors = np.empty((coloured, 4), np.float32)
    triangles = np.empty((corners, 3), np.uint32)
    table = np.full((len(parts), 7), -1, np.int64)
    bounds = np.zeros((len(parts), 6))
    at_vertex = at_triangle = at_uv = at_color = 0
    for i, (_, _, p) in enumerate(parts):
        table[i, :4] = 0, 0, at_triangle, at_vertex
        at_vertex, at_triangle = at_vertex + p.vertices, at_triangle + p.triangles
        for column, there in ((4, p.has_uvs), (5, p.has_second_uvs)):
            if there:
                table[i, column], at_uv = at_uv, at_uv + p.vertices
        if p.has_colors:
            table[i, 6], at_color = at_color, at_color + p.vertices

    def read(i: int) -> Geometry:
        mesh, _, p = parts[i]
        g = p.load() if p.load_at is None else p.load_at(time)
        if len(g.positions) != p.vertices or len(g.triangles) != p.triangles:
            raise MillError(
                f"The mesh “{scene.meshes[mesh].name}” changed while it was read.",
                "Open it again.",
            )
        _, _, t, v, u, u2, k = (int(x) for x in table[i])
        normals[v : v + p.vertices] = g.normals
        for at, laid in ((u, g.uvs), (u2, g.second_uvs)):
            if at >= 0:
                uvs[at : at + p.vertices] = 0.0 if laid is None else np.nan_to_num(laid)
        if k >= 0:
            colors[k : k + p.vertices] = 1.0 if g.colors is None else np.nan_to_num(g.colors)
        triangles[t : t + p.triangles] = g.triangles
        bounds[i, :3], bounds[i, 3:] = g.positions.min(0), g.positions.max(0)
        return g

    def known(i: int) -> bytes:
        g = read(i)
        return digest_of_mesh(g.positions, g.triangles)

    def built(i: int) -> Tree:
        g = read(i)
        together = threads if parts[i][2].triangles > ALONE * corners else 1
        nodes, leaves = build_mesh(g.positions, g.triangles, together)
        return nodes.copy(), leaves.copy()

    sizes = [p.bytes for _, _, p in parts]
    trees = None
    if cache is not None and corners >= WORTH_KEEPING:
        mark = key_of(_each(known, sizes, threads, progress, "loading geometry"))
        trees = take(cache, mark, len(parts))
        if trees is None:
            trees = _joined(
                list(_each(built, sizes, threads, progress, "preparing geometry for rays"))
            )
            keep(cache, mark, trees)
    else:
        trees = _joined(list(_each(built, sizes, threads, progress, "loading geometry")))
    counts = trees.counts
    table[:, :2] = np.cumsum(counts, 0) - counts
    return {
        "nodes": trees.nodes,
        "leaves": trees.leaves,
        "triangles": triangles,
        "normals": normals,
        "uvs": uvs,
        "colors": colors,
        "parts": table,
        "bounds": bounds,
        "mesh_parts": {(m, i): k for k, (m, i, _) in enumerate(parts)},
        "leaf_counts": {int(row[1]): int(n) for row, n in zip(table, counts[:, 1], strict=True)},
    }


def _each(
    function: Callable[[int], T], sizes: list[int], threads: int, progress: Progress, doing: str
) -> Iterator[T]:
    """What a function makes of each part, in order, telling how many bytes are done."""
    total, done = max(sum(sizes), 1), 0

    def tell() -> None:
        progress(done / total, f"{doing}: {of_megabytes(done, total)}")

    for i, result in enumerate(in_order(function, len(sizes), threads, tell)):
        done += sizes[i]
        yield result
        del result
        tell()


def _joined(built: list[Tree]) -> Trees:
    """Nodes and leaves one after another, on cache lines; a piece is let go once it is copied."""
    counts = np.array([(len(n), len(b)) for n, b in built], np.int64).reshape(-1, 2)
    pieces = [n for n, _ in built], [b for _, b in built]
    built.clear()
    out = []
    for each, width in zip(pieces, (NODE, LEAF), strict=True):
        whole = aligned(sum(len(p) for p in each) * width).reshape(-1, width)
        at = 0
        for i, piece in enumerate(each):
            whole[at : at + len(piece)] = piece
            at += len(piece)
            each[i] = whole[:0]
        out.append(whole)
    return Trees(out[0], out[1], counts)


def _materials(scene: Scene, index: dict[int, int], textures: Textures) -> dict[str, NDArray[Any]]:
    materials = [*scene.materials, NO_MATERIAL]  # the last one is for parts without any
    factors = np.zeros((len(materials), s.FACTORS))
    slots = np.full((len(materials), s.TEXTURE_SLOTS), -1, np.int64)
    transforms = np.zeros((len(materials), s.TEXTURE_SLOTS, s.USE_COLUMNS))
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
            m.specular_texture,
            m.specular_color_texture,
            m.sheen_color_texture,
            m.sheen_roughness_texture,
            m.anisotropy_texture,
        )
        for k, use in enumerate(uses):
            if use is not None and use.texture in index:
                slots[i, k] = index[use.texture]
                cosine, sine = math.cos(use.rotation), math.sin(use.rotation)
                # KHR_texture_transform: scale, then rotate counter-clockwise in a picture whose V
                # runs down, then move.
                x, y = use.scale
                size = textures.table[slots[i, k], s.T_WIDTH : s.T_HEIGHT + 1].prod()
                transforms[i, k, s.U_LEVEL] = 0.5 * math.log2(float(size) * max(abs(x * y), 1e-12))
                transforms[i, k, s.U_SET] = float(use.uv_set > 0)
                transforms[i, k, :6] = (
                    x * cosine,
                    y * sine,
                    use.offset[0],
                    -x * sine,
                    y * cosine,
                    use.offset[1],
                )
        factors[i, s.M_TEXTURED] = float((slots[i] >= 0).any() or m.anisotropy > 0)
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
        m.specular,
        *m.specular_color,
        *m.sheen_color,
        m.sheen_roughness,
        m.anisotropy,
        m.anisotropy_rotation,
        float(m.layered),
    ]
