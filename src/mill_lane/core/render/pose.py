"""Instances at a time: where everything stands, moves to, and what lights it."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.errors import MillError
from mill_lane.core.render import slots as s
from mill_lane.core.render.build import build_boxes
from mill_lane.core.render.light_table import gather_lights
from mill_lane.core.render.load import Loaded, at_time
from mill_lane.core.render.sheen import albedo_table
from mill_lane.core.render.wide_nodes import NODE
from mill_lane.core.render.world import World
from mill_lane.core.scene.model import Scene
from mill_lane.core.scene.pose import node_matrix, world_matrices
from mill_lane.core.scene.surroundings import Environment


@dataclass(frozen=True)
class ScenePart:
    """A part of a scene that is rendered by itself, everything else lighting and shadowing it.

    `meshes` are those whose objects the camera sees; what they hide stays hidden by the others.
    `rest` says whether the sky and the fog that the camera sees are in it.  Each sample belongs to
    the part of what it meets first, so that the parts of a scene add up to the whole.
    """

    meshes: frozenset[int]
    rest: bool = False


@dataclass(frozen=True)
class Shot:
    """What of the recipe and of a preview changes the world itself.

    `shutter` is in seconds from the frame's time on; `scales` make lamps by name weaker or
    stronger; `only` shows the placed objects of one name alone; `environment` replaces the scene's
    own; `part` is what of it the camera sees.
    """

    shutter: float = 0.0
    scales: Mapping[str, float] | None = None
    only: str | None = None
    environment: Environment | None = None
    part: ScenePart | None = None


def pose(loaded: Loaded, time: float, shot: Shot | None = None) -> World:
    """Place the instances at a time, build their hierarchy, gather the lights.

    Parameters
    ----------
    loaded : Loaded
    time : float
        Seconds.
    shot : Shot, optional
        What of a recipe changes the world itself: the sky, the shutter, what is left out.

    Returns
    -------
    World
    """
    loaded = at_time(loaded, time)
    scene, shot = loaded.scene, shot or Shot()
    matrices = world_matrices(scene, time)
    moving_scene = any(n.channels for n in scene.nodes)
    following = world_matrices(scene, time + 1.0 / scene.frame_rate) if moving_scene else matrices
    keys = [matrices] * s.CAMERA_KEYS
    if moving_scene and shot.shutter > 0:
        keys = [
            world_matrices(scene, time + shot.shutter * k / (s.CAMERA_KEYS - 1))
            for k in range(s.CAMERA_KEYS)
        ]
    spare = len(scene.materials)
    # Flattened to nothing, an object has no area to hit.
    solid = np.abs(np.linalg.det(matrices[:, :3, :3])) >= 1e-18
    inverses = np.linalg.inv(np.where(solid[:, None, None], matrices, np.eye(4)))
    moves_on = ~(following == matrices).all((1, 2))
    blurred = ~np.all([(k == matrices).all((1, 2)) for k in keys], axis=0)
    rows, chosen, parts_of, names = [], [], [], []
    moves: list[NDArray[np.float64]] = []
    next_rows: list[NDArray[np.float64]] = []
    for index, (node, mesh) in enumerate(scene.instances):
        if not solid[node]:
            continue
        name = scene.nodes[node].name
        hidden = s.HIDDEN if shot.only is not None and name != shot.only else 0
        hidden |= sum(s.RAY_FLAGS[ray] for ray in scene.nodes[node].unseen_by)
        if shot.part is not None and mesh not in shot.part.meshes:
            hidden |= s.HELD_OUT
        for i, p in enumerate(scene.meshes[mesh].parts):
            if p.triangles == 0:
                continue
            k = loaded.mesh_parts[mesh, i]
            material = p.material if p.material >= 0 else spare
            plain = s.PLAIN if (matrices[node] == np.eye(4)).all() and not blurred[node] else 0
            flags = plain | (s.SEE_THROUGH if see_through(loaded.factors[material]) else 0) | hidden
            move = followed = -1
            if blurred[node]:
                move = len(moves)
                moves.append(np.array([x[node, :3].reshape(-1) for x in keys]))
            if moves_on[node]:
                followed = len(next_rows)
                next_rows.append(following[node, :3].reshape(-1))
            rows.append((*loaded.parts[k].tolist(), material, -1, flags, move, followed, index))
            chosen.append(node)
            parts_of.append(k)
            names.append(name)
    to_world, to_object = matrices[chosen, :3].reshape(-1, 12), inverses[chosen, :3].reshape(-1, 12)
    boxes = [
        placed_boxes(k[chosen], loaded.bounds[parts_of])
        for k in (keys if blurred.any() else keys[:1])
    ]
    low, high = np.min([b[0] for b in boxes], 0), np.max([b[1] for b in boxes], 0)
    instances = np.array(rows, np.int64).reshape(-1, s.INSTANCE_COLUMNS)
    world_rows = np.ascontiguousarray(to_world)
    top = top_panes = np.zeros((1, NODE), np.float32)
    centre, radius = np.zeros(3), 1.0
    shining = np.zeros((0, 4))
    cloth = (loaded.factors[:, s.M_SHEEN_R : s.M_SHEEN_B + 1] > 0).any()
    sheen = albedo_table() if cloth else np.zeros((1, 1))
    if rows:
        top = build_boxes(low, high)
        centre = (high.max(0) + low.min(0)) / 2
        radius = float(np.linalg.norm(high.max(0) - low.min(0))) / 2
        panes = np.flatnonzero(instances[:, s.P_FLAGS] & s.SEE_THROUGH)
        if len(panes):
            top_panes = build_boxes(low[panes], high[panes], panes)
        lit = _shines(loaded.factors)[instances[:, s.P_MATERIAL]]
        half = np.linalg.norm(high - low, axis=1) / 2
        shining = np.concatenate([(high + low) / 2, half[:, None]], 1)[lit]
    lights = gather_lights(
        loaded,
        matrices,
        instances,
        world_rows,
        radius,
        shot.scales,
        tuple(names),
        shot.environment,
    )
    media = np.array(
        [
            [*m.box_min, *m.box_max, m.scatter, m.scatter + m.absorb, m.g]
            for m in scene.media
            if m.scatter + m.absorb > 0
        ],
        float,
    ).reshape(-1, s.MEDIUM_COLUMNS)
    return World(
        top=top,
        nodes=loaded.nodes,
        leaves=loaded.leaves,
        to_object=np.ascontiguousarray(to_object),
        to_world=world_rows,
        instances=instances,
        normals=loaded.normals,
        uvs=loaded.uvs,
        colors=loaded.colors,
        sheen=sheen,
        triangles=loaded.triangles,
        factors=loaded.factors,
        slots=loaded.slots,
        transforms=loaded.transforms,
        textures=loaded.textures,
        lights=lights,
        media=media,
        moves=np.array(moves).reshape(-1, s.CAMERA_KEYS, 12),
        following=np.array(next_rows).reshape(-1, 12),
        top_panes=top_panes,
        centre=centre,
        size=radius,
        shining=shining,
    )


def _shines(factors: NDArray[np.float64]) -> NDArray[np.bool_]:
    """Which materials add light wherever a ray meets them, whatever falls on them."""
    glowing = factors[:, s.M_EMIT_R : s.M_EMIT_B + 1].sum(1) > 0
    return glowing | (factors[:, s.M_UNLIT] > 0)


def see_through(factors: NDArray[np.float64]) -> bool:
    """Whether a shadow ray may get through:

    alpha, or clear glass that is thin (or is looked through without bending).
    """
    return bool(factors[s.M_MODE] != s.OPAQUE or factors[s.M_TRANSMIT] > 0)


def placed_boxes(
    m: NDArray[np.float64], box: NDArray[np.float64]
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """World boxes round boxes (N, 6) placed by matrices (N, 4, 4), dilate by what float32 may
    lose: two (N, 3).
    """
    centre = np.einsum("nij,nj->ni", m[:, :3, :3], (box[:, :3] + box[:, 3:]) / 2) + m[:, :3, 3]
    half = np.einsum("nij,nj->ni", np.abs(m[:, :3, :3]), (box[:, 3:] - box[:, :3]) / 2)
    pad = 1e-6 * (np.abs(centre) + half) + 1e-9
    return centre - half - pad, centre + half + pad


def camera_track(
    scene: Scene, time: float, shutter: float, width: int, height: int, camera: str | None = None
) -> tuple[NDArray[np.float64], float, float]:
    """Follow the camera over the shutter, and to the next frame.

    Parameters
    ----------
    scene : Scene
    time, shutter : float
        Seconds.
    width, height : int
        Of the picture, pixels.
    camera : str or None
        By name; None for the first that the scene has.

    Returns
    -------
    track : array of float64, (CAMERA_KEYS + 1, 12)
        A row is position, direction to the picture's middle, to its right edge, to its top edge.
    angle : float
        Of a pixel, radians; 0 for an orthographic camera.
    width_of_pixel : float
        Metres, for an orthographic camera; 0 for any other.

    Raises
    ------
    MillError
        When there is no such camera.
    """
    try:
        node = scene.camera_node(camera)
    except KeyError as e:
        raise MillError(
            f"The scene has no camera “{camera or ''}”.",
            "Name one of the cameras of the scene.",
        ) from e
    own = scene.cameras[scene.nodes[node].camera]
    flat = own.half_height is not None
    t = own.half_height if own.half_height is not None else math.tan(own.yfov / 2)
    rows = []
    for at in [time + shutter * k / (s.CAMERA_KEYS - 1) for k in range(s.CAMERA_KEYS)] + [
        time + 1.0 / scene.frame_rate
    ]:
        m = node_matrix(scene, node, at)
        axes = m[:3, :3] / np.linalg.norm(m[:3, :3], axis=0)
        rows.append(
            np.concatenate(
                [m[:3, 3], -axes[:, 2], axes[:, 0] * (t * width / height), axes[:, 1] * t]
            )
        )
    pixel = 2 * t / height
    return np.concatenate(rows), 0.0 if flat else pixel, pixel if flat else 0.0
