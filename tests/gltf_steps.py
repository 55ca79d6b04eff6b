"""Changes to a scene, for tests that write it and read it back."""

from __future__ import annotations

import hashlib
from dataclasses import fields, replace
from typing import Any

import numpy as np

from mill_lane.core.scene import edit
from mill_lane.core.scene.model import (
    Material,
    Scene,
    TextureUse,
)
from mill_lane.core.scene.parts import part_of
from mill_lane.core.scene.pose import world_matrices
from mill_lane.demo import shapes
from tests.scenes import picture


def digest(*arrays: Any) -> str:
    h = hashlib.sha1()
    for a in arrays:
        h.update(b"-" if a is None else np.ascontiguousarray(a).tobytes())
    return h.hexdigest()[:12]


def material_of(scene: Scene, index: int) -> Any:
    if index < 0:
        return None

    def plain(value: Any) -> Any:
        if not isinstance(value, TextureUse):
            return tuple(round(x, 6) for x in value) if isinstance(value, tuple) else value
        t = scene.textures[value.texture]
        image = scene.images[t.image]
        data = digest(np.frombuffer(bytes(image.read()), np.uint8))
        return (t.name, t.wrap_u, t.wrap_v, image.name, data, replace(value, texture=0))

    m = scene.materials[index]
    return {f.name: plain(getattr(m, f.name)) for f in fields(m) if f.name != "source"}


def content(scene: Scene, geometry: bool = True) -> dict[str, Any]:
    """All that a scene draws, told without numbers of lists; what is not used does not count."""
    times = (0.0, 0.4, 1.0)
    where = [world_matrices(scene, t) for t in times]
    read: dict[int, Any] = {}

    def shape(part: Any) -> Any:
        if id(part.load) not in read:
            g = part.load()
            read[id(part.load)] = digest(g.positions, g.normals, g.triangles), g.uvs
        solid, uvs = read[id(part.load)]
        textured = part.material >= 0 and scene.materials[part.material].uses()
        # A textured part needs a place on the texture: without any it stands at 0.
        flat = np.zeros((part.vertices, 2), np.float32) if uvs is None and textured else uvs
        return solid, digest(flat), part.triangles

    drawn = []
    for node, mesh in scene.instances:
        m = scene.meshes[mesh]
        parts = [(shape(p), material_of(scene, p.material)) for p in m.parts]
        if parts:
            at = [np.round(w[node], 5).tolist() for w in where]
            drawn.append((scene.nodes[node].name, at, m.name, parts))
    lights = [
        (scene.nodes[n].name, np.round(where[0][n], 5).tolist(), repr(scene.lights[k]))
        for n, k in scene.placed_lights
    ]
    cameras = [
        (n.name, np.round(where[1][i], 5).tolist(), repr(scene.cameras[n.camera]))
        for i, n in enumerate(scene.nodes)
        if n.camera >= 0
    ]
    return {
        "name": scene.name,
        "nodes": [
            (n.name, scene.nodes[n.parent].name if n.parent >= 0 else "") for n in scene.nodes
        ],
        "drawn": drawn,
        "lights": lights,
        "cameras": cameras,
        "rest": (scene.media, scene.environment, scene.frame_rate, scene.frames),
    }


def remove(scene: Scene, a: int, b: int) -> Scene:
    instances = scene.instances
    if len(instances) < 2:
        return scene
    return edit.remove_instances(scene, [instances[a % len(instances)][0]])


def remove_below(scene: Scene, a: int, b: int) -> Scene:
    left = edit.remove_nodes(scene, [a % len(scene.nodes)])
    return left if any(scene.meshes[m].parts for _, m in left.instances) else scene


def reshape(scene: Scene, a: int, b: int) -> Scene:
    mesh = scene.instances[a % len(scene.instances)][1]
    parts = scene.meshes[mesh].parts
    if not parts:
        return scene
    k = b % len(parts)
    new = part_of(shapes.box((0.2 + b % 5, 1, 1), 1 + a % 3), parts[k].material)
    kept = replace(parts[k], load=new.load, vertices=new.vertices, triangles=new.triangles)
    kept = replace(kept, bounds_min=new.bounds_min, bounds_max=new.bounds_max, has_uvs=new.has_uvs)
    return edit.replace_part(scene, mesh, k, kept)


def drop_part(scene: Scene, a: int, b: int) -> Scene:
    mesh = scene.instances[a % len(scene.instances)][1]
    parts = scene.meshes[mesh].parts
    if len(parts) < 2:
        return scene
    k = b % len(parts)
    return edit.replace_mesh(
        scene, mesh, replace(scene.meshes[mesh], parts=(*parts[:k], *parts[k + 1 :]))
    )


def share(scene: Scene, a: int, b: int) -> Scene:
    node = scene.instances[a % len(scene.instances)][0]
    return edit.share_mesh(scene, node, scene.instances[b % len(scene.instances)][1])


def move(scene: Scene, a: int, b: int) -> Scene:
    matrix = np.eye(4)
    matrix[:3, 3] = (a % 7, b % 5, 1)
    matrix[0, 1] = 0.25 * (b % 3)
    return edit.move_node(scene, a % len(scene.nodes), matrix)


def repaint(scene: Scene, a: int, b: int) -> Scene:
    if not scene.materials:
        return scene
    k = a % len(scene.materials)
    was = scene.materials[k]
    made = (
        replace(was, roughness=0.125 * (b % 8), base_color=(0.5, 0.25, 0.125, 1.0)),
        replace(was, emissive=(0.5 * (b % 5), 4.0, 0.0)),
        replace(was, base_texture=None, transmission=0.0, thickness=0.0),
        replace(was, clearcoat=0.5, alpha_mode="MASK", double_sided=not was.double_sided),
        Material(f"new {b}", metallic=0.25),
    )
    return edit.replace_material(scene, k, made[b % len(made)])


def wear_another(scene: Scene, a: int, b: int) -> Scene:
    mesh = scene.instances[a % len(scene.instances)][1]
    parts = scene.meshes[mesh].parts
    if not parts or not scene.materials:
        return scene
    k = b % len(parts)
    index = (a + b) % (len(scene.materials) + 1) - 1
    return edit.replace_part(scene, mesh, k, replace(parts[k], material=index))


def other_picture(scene: Scene, a: int, b: int) -> Scene:
    if not scene.images:
        return scene
    k = a % len(scene.images)
    new = picture(4 + b % 3, 3, 8, scene.images[k].name)
    return edit.replace_images(scene, {k: replace(new, source=scene.images[k].source)})


def copy_node(scene: Scene, a: int, b: int) -> Scene:
    node = scene.nodes[scene.instances[a % len(scene.instances)][0]]
    return replace(
        scene, nodes=(*scene.nodes, replace(node, name=f"copy {b}", translation=(b % 4, 0, 0)))
    )


def dim(scene: Scene, a: int, b: int) -> Scene:
    if not scene.lights:
        return scene
    k = a % len(scene.lights)
    light = replace(scene.lights[k], intensity=float(b % 9))
    return replace(scene, lights=edit.set_item(scene.lights, k, light))


def other_frames(scene: Scene, a: int, b: int) -> Scene:
    return replace(scene, frames=(1, 1 + b % 30), media=())
