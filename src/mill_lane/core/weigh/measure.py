"""Weighing:

counting what is in a scene, what it costs in memory, and how near the camera ever comes to it.
"""

from __future__ import annotations

import math
from collections import Counter, defaultdict
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.formats.emission import emissive_means, emitted_luminance
from mill_lane.core.image.srgb import LUMA
from mill_lane.core.progress import Progress, part, silent
from mill_lane.core.render.sizes import image_bytes, loading_order
from mill_lane.core.scene.model import Part, Scene
from mill_lane.core.scene.pose import world_matrices
from mill_lane.core.scene.surroundings import Medium
from mill_lane.core.weigh.analysis import (
    Analysis,
    LightRow,
    MediumRow,
    MeshRow,
    TextureRow,
    part_bytes,
)
from mill_lane.core.weigh.duplicates import Duplicate, find_duplicates
from mill_lane.core.weigh.folders import folders_of
from mill_lane.core.weigh.frames import Nearest, Track, camera_track, frames_looked_at
from mill_lane.core.weigh.outlines import ObjectOutline, outline_of
from mill_lane.core.weigh.surfaces import surface_row, with_longest_edges

PICTURE_HEIGHT = 1080  # pixels of the picture that figures in pixels are for; they grow with it
SAMPLED = 20_000
BY_ALPHA = ("specular", "sheen roughness")  # roles in which a texture's alpha counts
MOST_OUTLINES = 3000  # a page with more outlines would be slow


def box_distance(
    points: NDArray[np.float64], lo: NDArray[np.float64], hi: NDArray[np.float64]
) -> NDArray[np.float64]:
    """Measure from points to boxes.

    Parameters
    ----------
    points : array of float64, (F, 3)
    lo, hi : array of float64, (N, 3)

    Returns
    -------
    array of float64, (F, N)
        0 inside.
    """
    gap = np.maximum(np.maximum(lo[None] - points[:, None], points[:, None] - hi[None]), 0)
    return np.asarray(np.linalg.norm(gap, axis=2))


def weigh(
    scene: Scene,
    aspect: float = 16 / 9,
    camera: str | None = None,
    progress: Progress = silent,
    exact: bool = False,
) -> Analysis:
    """Count and measure a scene over its frame range, without decoding a picture.

    Parameters
    ----------
    scene : Scene
    aspect : float
        Width over height of the picture.
    camera : str or None
        By name; None for the first that the scene has.
    progress : callable
        Told how far it is, from 0 to 1, and may stop it.
    exact : bool
        Whether distances are to the triangles themselves.  Otherwise they are to the world-aligned
        box round each placed part, so that they are never too long.

    Returns
    -------
    Analysis
        Of stage 1; `full.weigh_full` goes on from it.

    Raises
    ------
    MillError
        When there is no such camera.
    """
    frames = frames_looked_at(scene.frames)
    track = camera_track(scene, frames, aspect, camera)
    nearest: Nearest = {}  # by mesh and part: metres, frame, node
    seen: set[tuple[int, int]] = set()
    before: set[int] = set()  # meshes that are at times before the camera
    parts = [(n, m, i, p) for n, m in scene.instances for i, p in enumerate(scene.meshes[m].parts)]
    lo, hi = track.boxes(parts)
    for f in range(len(frames)):
        k = f if len(lo) > 1 else 0
        distance = box_distance(track.positions[f : f + 1], lo[k], hi[k])[0]
        visible = track.in_view(f, lo[k], hi[k])
        before.update(parts[j][1] for j in np.flatnonzero(track.in_front(f, lo[k], hi[k])))
        for j, (node, m, i, _) in enumerate(parts):
            if distance[j] < nearest.get((m, i), (math.inf, 0, 0))[0]:
                nearest[m, i] = (float(distance[j]), f, node)
            if visible[j]:
                seen.add((m, i))
        progress((0.2 if exact else 0.5) * (f + 1) / len(frames), "distances over the frames")
    if exact:
        # The compiler is loaded only where it is needed.
        from mill_lane.core.weigh.nearest import refine

        nearest |= refine(track, parts, lo, hi, box_distance, part(progress, 0.2, 0.8))
    copies = Counter(m for _, m in scene.instances)
    duplicates = find_duplicates(scene, sorted(copies), part(progress, 0.8 if exact else 0.5, 0.95))
    meshes = [
        _mesh_row(scene, m, copies[m], nearest, seen, duplicates, frames) for m in sorted(copies)
    ]
    folders = folders_of(scene)
    meshes = [
        m.model_copy(
            update={
                "behind": m.index not in before and m.triangles > 0,
                "folder": folders.get(m.index, ""),
            }
        )
        for m in meshes
    ]
    if exact:
        meshes = [_with_edges(scene, track, row, nearest) for row in meshes]
        meshes = [with_longest_edges(scene, row, track, PICTURE_HEIGHT) for row in meshes]
    outlines, left_out = _outlines(scene, track)
    sky = scene.environment.picture if scene.environment is not None else None
    return Analysis(
        name=scene.name,
        triangles=sum(r.triangles * r.copies for r in meshes),
        unique_triangles=sum(r.triangles for r in meshes),
        instances=len(scene.instances),
        frames=scene.frames,
        frames_looked_at=len(frames),
        frame_rate=scene.frame_rate,
        camera=track.name,
        cameras=scene.camera_names,
        camera_shapes=[scene.cameras[n.camera].shape for n in scene.nodes if n.camera >= 0],
        aspect=aspect,
        camera_path=[(float(p[0]), float(p[2])) for p in track.positions],
        camera_ahead=[(float(d[0]), float(d[2])) for d in track.forward],
        camera_half_angle=track.half_width,
        meshes=meshes,
        textures=_textures(scene, nearest, seen, frames),
        lights=_lights(scene, track.positions, lo[0], hi[0], parts),
        transparent_materials=sum(m.passes_light for m in scene.materials),
        media=len(scene.media),
        outlines=outlines,
        outlines_left_out=left_out,
        notes=list(scene.notes),
        read_as=scene.read_as,
        declared=scene.declared,
        variant_sets=[(s.name, list(s.variants), s.drawn) for s in scene.variant_sets],
        fogs=[_fog(m) for m in scene.media],
        layered=bool(scene.stage_root),
        stage=1 if exact else 0,
        environment="none"
        if scene.environment is None
        else "added"
        if scene.environment.added
        else "gradient"
        if sky is None
        else "picture",
        sky_picture=(sky.name, sky.width, sky.height) if sky is not None else None,
    )


def _mesh_row(
    scene: Scene,
    m: int,
    copies: int,
    nearest: Nearest,
    seen: set[tuple[int, int]],
    duplicates: dict[int, Duplicate],
    frames: list[int],
) -> MeshRow:
    mesh = scene.meshes[m]
    sizes = [part_bytes(p) for p in mesh.parts]
    near = min((nearest[m, i] for i in range(len(mesh.parts)) if (m, i) in nearest), default=None)
    return MeshRow(
        index=m,
        name=mesh.name,
        copies=copies,
        triangles=mesh.triangles,
        vertices=mesh.vertices,
        geometry_bytes=sum(g for g, _ in sizes),
        acceleration_bytes=sum(a for _, a in sizes),
        nearest_m=near[0] if near else None,
        nearest_frame=frames[near[1]] if near else None,
        in_view=any((m, i) in seen for i in range(len(mesh.parts))),
        duplicate_of=duplicates[m].of if m in duplicates else None,
        duplicate_baked=m in duplicates and duplicates[m].baked,
        duplicate_scale=duplicates[m].scale if m in duplicates else 1.0,
        uv_vertices=sum(p.vertices for p in mesh.parts if p.has_uvs),
        images=sorted(
            {
                scene.textures[use.texture].image
                for p in mesh.parts
                if p.material >= 0
                for _, use in scene.materials[p.material].uses()
            }
        ),
        subdivision=surface_row(mesh),
        deforms=any(p.load_at is not None for p in mesh.parts),
        materials=list(
            dict.fromkeys(scene.materials[p.material].name for p in mesh.parts if p.material >= 0)
        ),
    )


def _with_edges(scene: Scene, track: Track, row: MeshRow, nearest: Nearest) -> MeshRow:
    """The row with its median edge in pixels, seen face on from where the camera comes nearest."""
    parts = [
        (i, p)
        for i, p in enumerate(scene.meshes[row.index].parts)
        if p.triangles and (row.index, i) in nearest
    ]
    if not parts:
        return row
    distance, f, node = min(nearest[row.index, i] for i, _ in parts)
    edge = median_edge([p for _, p in parts], track.matrices[f % len(track.matrices)][node][:3, :3])
    pixel = track.pixel(max(distance, 1e-6), PICTURE_HEIGHT)
    return row.model_copy(update={"edge_px": edge / pixel})


def median_edge(parts: list[Part], matrix: NDArray[np.float64]) -> float:
    """The median length of edges, metres, of at most about 20,000 triangles spread over each part;
    `matrix` is (3, 3).
    """
    found = []
    for p in parts:
        g = p.load()
        c = g.positions[g.triangles[:: -(-len(g.triangles) // SAMPLED)]].astype(float) @ matrix.T
        found += [np.linalg.norm(c[:, a] - c[:, b], axis=1) for a, b in ((0, 1), (1, 2), (2, 0))]
    return float(np.median(np.concatenate(found)))


def _fog(m: Medium) -> MediumRow:
    size = float(np.linalg.norm(np.array(m.box_max) - np.array(m.box_min)))
    dense = m.scatter + m.absorb
    return MediumRow(
        name=m.name,
        free_path_m=1 / dense if dense > 0 else math.inf,
        thickness=size * dense,
        size_m=size,
    )


def _textures(
    scene: Scene, nearest: Nearest, seen: set[tuple[int, int]], frames: list[int]
) -> list[TextureRow]:
    held = {scene.textures[t].image for t, _ in loading_order(scene)}
    roles: dict[int, list[str]] = defaultdict(list)
    near: dict[int, tuple[float, int]] = {}
    by_alpha: set[int] = set()
    visible: set[int] = set()
    by_material: dict[int, list[tuple[int, int]]] = defaultdict(list)
    for m, i in nearest:
        by_material[scene.meshes[m].parts[i].material].append((m, i))
    users: dict[int, list[str]] = {}
    for index, material in enumerate(scene.materials):
        for role, use in material.uses():
            image = scene.textures[use.texture].image
            names = users.setdefault(image, [])
            names += [material.name] if material.name not in names else []
            if role not in roles[image]:
                roles[image].append(role)
            if role in BY_ALPHA or (role == "base colour" and material.alpha_mode != "OPAQUE"):
                by_alpha.add(image)
            for key in by_material.get(index, []):
                near[image] = min(near.get(image, (math.inf, 0)), nearest[key][:2])
                if key in seen:
                    visible.add(image)
    return [
        TextureRow(
            index=i,
            name=image.name,
            width=image.width,
            height=image.height,
            channels=image.channels,
            bits=image.bits,
            mime=image.mime,
            file_bytes=image.file_bytes,
            memory_bytes=image_bytes(image) if i in held else 0,
            role=", ".join(roles.get(i, ())),
            nearest_m=near[i][0] if i in near else None,
            nearest_frame=frames[near[i][1]] if i in near else None,
            in_view=i in visible,
            missing=image.missing,
            alpha_needed=i in by_alpha,
            materials=users.get(i, []),
        )
        for i, image in enumerate(scene.images)
    ]


def _lights(
    scene: Scene,
    cameras: NDArray[np.float64],
    lo: NDArray[np.float64],
    hi: NDArray[np.float64],
    parts: list[tuple[int, int, int, Part]],
) -> list[LightRow]:
    matrices = world_matrices(scene, 0.0)
    luma = np.array(LUMA)
    rows = []
    for node, index in scene.placed_lights:
        light = scene.lights[index]
        strength = float(np.array(light.color) @ luma) * light.intensity
        distance = None
        if light.kind != "directional":
            distance = float(np.linalg.norm(cameras - matrices[node][:3, 3], axis=1).min())
        power = strength * (1 if light.kind == "directional" else 4 * math.pi)
        candela = 0.0 if light.kind == "directional" else strength
        rows.append(
            LightRow(
                name=scene.nodes[node].name,
                kind=light.kind,
                power=power,
                size_m=0.0,
                nearest_m=distance,
                candela=candela,
                node=node,
            )
        )
    means = emissive_means(scene)
    for j, (node, _, _, p) in enumerate(parts):
        if p.material >= 0 and max(scene.materials[p.material].emissive) > 0:
            material = scene.materials[p.material]
            radiance = emitted_luminance(material, p.load(), means.get(p.material))
            if radiance <= 0:
                continue
            extent = hi[j] - lo[j]
            # The area of the mesh itself, scaled as the placement scales volumes: exact for even
            # scaling.
            area = mesh_area(p) * abs(float(np.linalg.det(matrices[node][:3, :3]))) ** (2 / 3)
            distance = float(box_distance(cameras, lo[j : j + 1], hi[j : j + 1]).min())
            rows.append(
                LightRow(
                    name=scene.nodes[node].name,
                    kind="emissive mesh",
                    power=radiance * area * math.pi,
                    size_m=float(extent.max()),
                    nearest_m=distance,
                    # A sphere shows a quarter of its area, a card half of both its sides: what it
                    # gives in the mean.
                    candela=radiance * area / 4,
                    radiance=radiance,
                    node=node,
                    material=p.material,
                )
            )
    return sorted(rows, key=lambda r: -r.power)


def mesh_area(p: Part) -> float:
    """The area of a part's triangles, in the mesh's own units squared."""
    g = p.load()
    c = g.positions[g.triangles].astype(float)
    return float(np.linalg.norm(np.cross(c[:, 1] - c[:, 0], c[:, 2] - c[:, 0]), axis=1).sum() / 2)


def _outlines(scene: Scene, track: Track) -> tuple[list[ObjectOutline], int]:
    """Outlines of the largest placed objects, and how many smaller ones are left out."""
    sizes: dict[int, tuple[Any, Any, int]] = {}
    for mesh in {m for _, m in scene.instances}:
        boxes = [p for p in scene.meshes[mesh].parts if p.triangles]
        if boxes:
            lo = np.min([p.bounds_min for p in boxes], axis=0)
            hi = np.max([p.bounds_max for p in boxes], axis=0)
            sizes[mesh] = lo, hi, sum(sum(part_bytes(p)) for p in boxes)
    drawn = [
        (index, node, mesh) for index, (node, mesh) in enumerate(scene.instances) if mesh in sizes
    ]
    left_out = max(len(drawn) - MOST_OUTLINES, 0)
    if left_out:
        half = np.array([sizes[mesh][1] - sizes[mesh][0] for _, _, mesh in drawn]) / 2
        reach = np.einsum(
            "nij,nj->ni", np.abs(track.still[[node for _, node, _ in drawn], :3, :3]), half
        )
        order = np.argsort(-reach[:, 0] * reach[:, 2], kind="stable")[:MOST_OUTLINES]
        drawn = [drawn[i] for i in sorted(order)]
    made = [
        outline_of(scene.nodes[node].name, mesh, track.still[node], *sizes[mesh]).model_copy(
            update={"object": index}
        )
        for index, node, mesh in drawn
    ]
    return made, left_out
