"""Writing a scene that was read: what was touched is new, all else is as it came.

Any sequence of changes, written and read, gives the scene that was in memory; the validator has no
error; extensions and extras of what was not touched survive; what nobody refers to is gone.
"""

from __future__ import annotations

import copy
import functools
import hashlib
import json
import tempfile
import unittest
from collections.abc import Callable
from dataclasses import fields, replace
from pathlib import Path
from typing import Any

import numpy as np
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from mill_lane.core.formats.gltf import open_document, read_scene, scene_from, write_glb
from mill_lane.core.formats.gltf.container import Document
from mill_lane.core.formats.gltf.references import KINDS, references
from mill_lane.core.scene import edit
from mill_lane.core.scene.model import (
    Camera,
    Channel,
    Environment,
    Geometry,
    Light,
    Material,
    Medium,
    Mesh,
    Node,
    Scene,
    Texture,
    TextureUse,
)
from mill_lane.core.scene.pose import world_matrices
from mill_lane.demo import shapes
from mill_lane.demo.bakery import part_of
from tests.gltf_tools import npm_mesh, validate
from tests.scenes import picture, small_demo

FOLDER = tempfile.TemporaryDirectory(prefix="mill-lane-patch-")
STRANGE = "EXT_something_new"


def written(scene: Scene) -> Path:
    with tempfile.NamedTemporaryFile(dir=FOLDER.name, suffix=".glb", delete=False) as f:
        path = Path(f.name)
    write_glb(scene, path)
    return path


def decorated(path: Path) -> Path:
    """The file with extras and an unknown extension on everything, and with what is not drawn."""
    document = open_document(path)
    root = copy.deepcopy(document.json)
    root["extensionsUsed"] = sorted({*root.get("extensionsUsed", []), STRANGE})
    for kind in ("nodes", "meshes", "materials", "textures", "images", "cameras", "accessors"):
        for i, entry in enumerate(root.get(kind, [])):
            entry["extras"] = (entry.get("extras") or {}) | {"own": f"{kind} {i}"}
            entry.setdefault("extensions", {})[STRANGE] = {"depth": i}
    for mesh in root["meshes"]:
        for k, primitive in enumerate(mesh["primitives"]):
            primitive["extras"] = {"primitive": k}
            if primitive.get("material", 0) == 0 and root.get("materials"):
                mappings = [{"material": len(root["materials"]) - 1, "variants": [0]}]
                primitive["extensions"] = {"KHR_materials_variants": {"mappings": mappings}}
    root["extensionsUsed"] += ["KHR_materials_variants"]
    root.setdefault("extensions", {})["KHR_materials_variants"] = {"variants": [{"name": "wet"}]}
    root["extras"] = {"made by": "hand"}
    # A texture that only an unknown extension uses, and a loose point that is not drawn.
    if root.get("textures"):
        last = len(root["textures"]) - 1
        root["materials"][0]["extensions"][STRANGE]["wearTexture"] = {"index": last}
    first = root["meshes"][0]["primitives"]
    first.append({"mode": 0, "attributes": {"POSITION": first[0]["attributes"]["POSITION"]}})
    return written(scene_from(replace(document, json=root)))


def turning() -> Channel:
    times = np.array([0.0, 0.5, 1.0])
    return Channel("translation", "LINEAR", times, np.array([[0, 0, 0], [1, 0, 0], [1, 2, 0.0]]))


def generated() -> Scene:
    geometry = [shapes.box((1, 1, 1), 2), shapes.ball(0.5, 8), shapes.loaf(0.3, 0.2, 0.1, 8, 2, 3)]
    two = Mesh("two parts", (part_of(geometry[0], 0), part_of(geometry[1], 1)))
    meshes = (
        two,
        Mesh("ball", (part_of(geometry[1], 2),)),
        Mesh("loaf", (part_of(geometry[2], 0),)),
    )
    materials = (
        Material("wood", base_texture=TextureUse(0), normal_texture=TextureUse(1, strength=0.5)),
        Material("lamp", emissive=(3.0, 2.0, 1.0), metallic=0.0),
        Material("glass", transmission=0.9, roughness=0.0, thickness=0.1, clearcoat=0.3),
    )
    nodes = (
        Node("room", translation=(0, 1, 0)),
        Node("table", parent=0, mesh=0, scale=(2, 1, 1)),
        Node("ball", parent=1, mesh=1, channels=(turning(),)),
        Node("ball again", parent=0, mesh=1, translation=(3, 0, 0)),
        Node("loaf", mesh=2, rotation=(0, 0.6, 0, 0.8)),
        Node("eye", translation=(0, 1, 6), camera=0),
        Node("spot", translation=(0, 3, 0), light=0),
        Node("point", light=1),
    )
    return Scene(
        "generated",
        nodes=nodes,
        meshes=meshes,
        materials=materials,
        textures=(Texture("a", 0), Texture("b", 1, "mirror", "clamp"), Texture("c", 2)),
        images=(picture(8, 3, 8, "a"), picture(8, 3, 16, "b"), picture(4, 4, 8, "c")),
        lights=(Light("spot", "spot", (1, 0.5, 0.2), 40.0), Light("point", "point", range=9.0)),
        cameras=(Camera("eye", 0.7, 1.5),),
        media=(Medium("fog", (0, 0, 0), (1, 1, 1), 0.1),),
        environment=Environment((0.1, 0.2, 0.3), (0.4, 0.4, 0.4), (0.1, 0.1, 0.1)),
        frames=(1, 25),
    )


def bunny() -> Scene:
    positions, triangles = npm_mesh("bunny")
    normals = np.tile(np.array([[0, 1, 0]], np.float32), (len(positions), 1))
    part = part_of(Geometry(positions, normals, None, triangles), 0)
    nodes = tuple(Node(f"bunny {i}", mesh=0, translation=(12.0 * i, 0, 0)) for i in range(3))
    return Scene(
        "bunny",
        nodes=(*nodes, Node("eye", camera=0, translation=(0, 5, 30))),
        meshes=(Mesh("bunny", (part,)),),
        materials=(Material("fur", roughness=0.9), Material("clay", metallic=0.0)),
        cameras=(Camera("eye", 0.6, 1.5),),
    )


@functools.cache
def started(name: str) -> Path:
    made = {"generated": generated, "bunny": bunny}
    path = small_demo() if name == "demo" else written(made[name]())
    return decorated(path)


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
            drawn.append((scene.nodes[node].name, at, m.name, m.subdivision, parts))
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


Change = Callable[[Scene, int, int], Scene]


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


CHANGES: tuple[Change, ...] = (
    remove,
    remove_below,
    reshape,
    drop_part,
    share,
    move,
    repaint,
    wear_another,
    other_picture,
    copy_node,
    dim,
    other_frames,
)
STEPS = st.lists(
    st.tuples(st.sampled_from(CHANGES), st.integers(0, 99), st.integers(0, 99)),
    min_size=1,
    max_size=8,
)


class TestAnyChange(unittest.TestCase):
    def check(self, name: str, steps: Any, ask_validator: bool = True) -> None:
        scene = read_scene(started(name))
        for change, a, b in steps:
            scene = change(scene, a, b)
        path = written(scene)
        self.addCleanup(path.unlink, missing_ok=True)
        back = read_scene(path)
        self.assertEqual(content(back), content(scene))
        self.assertEqual(unused(open_document(path)), [])
        if ask_validator:
            issues = validate(path)
            self.assertEqual(issues["numErrors"], 0, issues["messages"][:4])

    @settings(max_examples=12, deadline=None, suppress_health_check=list(HealthCheck))
    @given(STEPS)
    def test_generated(self, steps: Any) -> None:
        self.check("generated", steps)

    @settings(max_examples=80, deadline=None, suppress_health_check=list(HealthCheck))
    @given(STEPS)
    def test_generated_many(self, steps: Any) -> None:
        self.check("generated", steps, ask_validator=False)

    @settings(max_examples=4, deadline=None, suppress_health_check=list(HealthCheck))
    @given(STEPS)
    def test_bunny(self, steps: Any) -> None:
        self.check("bunny", steps)

    @settings(max_examples=4, deadline=None, suppress_health_check=list(HealthCheck))
    @given(STEPS)
    def test_demo(self, steps: Any) -> None:
        self.check("demo", steps)


def unused(document: Document) -> list[tuple[str, int]]:
    """Entries that nothing refers to, of kinds that exist only to be referred to."""
    named = {
        (r.kind, r.index)
        for kind in KINDS
        for entry in lists(document, kind)
        for r in references(kind, entry)
    }
    kinds = ("accessors", "bufferViews", "meshes", "images")
    return [(k, i) for k in kinds for i in range(len(lists(document, k))) if (k, i) not in named]


def lists(document: Document, kind: str) -> list[Any]:
    if kind == "lights":
        found = document.json.get("extensions", {}).get("KHR_lights_punctual", {})
        return list(found.get("lights", []))
    return list(document.json.get(kind, []))


class TestUntouched(unittest.TestCase):
    def test_what_was_not_touched_is_the_same_byte_for_byte(self) -> None:
        for name in ("generated", "bunny", "demo"):
            path = started(name)
            again = written(read_scene(path))
            self.assertEqual(again.read_bytes(), path.read_bytes(), name)

    def test_one_change_changes_one_thing(self) -> None:
        """A loaf less: every other entry is there with its extras and extensions, and its bytes."""
        scene = read_scene(started("generated"))
        loaf = next(i for i, n in enumerate(scene.nodes) if n.name == "loaf")
        before, after = (
            open_document(started("generated")),
            open_document(written(edit.remove_instances(scene, [loaf]))),
        )
        self.assertNotIn("loaf", json.dumps(after.json))
        for kind in ("nodes", "meshes", "materials", "textures", "images", "cameras"):
            kept = [e for e in before.json[kind] if e["name"] != "loaf"]
            self.assertEqual(
                [(e["name"], e["extras"], e["extensions"]) for e in kept],
                [(e["name"], e["extras"], e["extensions"]) for e in after.json[kind]],
            )
        self.assertEqual(after.json["extras"], {"made by": "hand"})
        self.assertIn(STRANGE, after.json["extensionsUsed"])
        self.assertLess(
            sum(b["byteLength"] for b in after.json["buffers"]),
            sum(b["byteLength"] for b in before.json["buffers"]),
        )

    def test_references_of_unknown_extensions_follow(self) -> None:
        """The variant's material and the wear texture are still the same things after a removal."""
        scene = read_scene(started("generated"))
        first = replace(scene.materials[1], name="gone", source=-1)
        scene = replace(scene, materials=(scene.materials[2], scene.materials[0], first))
        parts = {0: 1, 1: 2, 2: 0}
        for k, mesh in enumerate(scene.meshes):
            worn = tuple(replace(p, material=parts[p.material]) for p in mesh.parts)
            scene = edit.replace_mesh(scene, k, replace(mesh, parts=worn))
        after = open_document(written(scene)).json
        self.assertEqual([m["name"] for m in after["materials"]], ["glass", "wood", "gone"])
        variants = [
            p["extensions"]["KHR_materials_variants"]["mappings"][0]["material"]
            for m in after["meshes"]
            for p in m["primitives"]
            if "KHR_materials_variants" in p.get("extensions", {})
        ]
        self.assertEqual({after["materials"][v]["name"] for v in variants}, {"glass"})
        wood = after["materials"][1]["extensions"][STRANGE]["wearTexture"]["index"]
        root = open_document(started("generated")).json
        was = root["materials"][0]["extensions"][STRANGE]["wearTexture"]["index"]
        name = root["textures"][was]["name"]
        self.assertEqual(after["textures"][wood]["name"], name)

    def test_a_changed_material_keeps_what_is_not_understood(self) -> None:
        scene = read_scene(started("generated"))
        scene = edit.replace_material(scene, 0, replace(scene.materials[0], roughness=0.25))
        after = open_document(written(scene)).json["materials"][0]
        before = open_document(started("generated")).json["materials"][0]
        before["pbrMetallicRoughness"]["roughnessFactor"] = 0.25
        self.assertEqual(after, before)

    def test_strength_and_factor_are_one_thing(self) -> None:
        """A file may divide emission between factor and strength otherwise than we write it."""
        document = open_document(started("generated"))
        root = copy.deepcopy(document.json)
        lamp = next(m for m in root["materials"] if m["name"] == "lamp")
        lamp["emissiveFactor"] = [0.5, 0.5, 0.5]
        lamp["extensions"]["KHR_materials_emissive_strength"] = {"emissiveStrength": 10.0}
        scene = scene_from(replace(document, json=root))
        dimmed = replace(scene.materials[1], emissive=(2.5, 2.5, 2.5))
        back = read_scene(written(edit.replace_material(scene, 1, dimmed)))
        self.assertEqual(back.materials[1].emissive, (2.5, 2.5, 2.5))

    def test_a_skin_goes_with_its_joints(self) -> None:
        """Removing a joint drops the skin; the mesh stays, and the file is right."""
        document = open_document(started("generated"))
        root = copy.deepcopy(document.json)
        names = [n["name"] for n in root["nodes"]]
        root["skins"] = [{"joints": [names.index("ball again"), names.index("point")]}]
        root["nodes"][names.index("loaf")]["skin"] = 0
        scene = scene_from(replace(document, json=root))
        kept = written(scene)
        self.assertEqual(len(open_document(kept).json["skins"]), 1)
        point = next(i for i, n in enumerate(scene.nodes) if n.name == "point")
        after = open_document(written(edit.remove_nodes(scene, [point]))).json
        self.assertNotIn("skins", after)
        self.assertIn("loaf", [n["name"] for n in after["nodes"]])

    def test_pointers_of_animations_follow(self) -> None:
        document = open_document(started("generated"))
        root = copy.deepcopy(document.json)
        animation = root["animations"][0]
        for pointer in ("/materials/2/pbrMetallicRoughness/roughnessFactor", "/nodes/4/rotation"):
            extensions = {"KHR_animation_pointer": {"pointer": pointer}}
            target = {"path": "pointer", "extensions": extensions}
            animation["channels"].append({"sampler": 0, "target": target})
        root["extensionsUsed"].append("KHR_animation_pointer")
        scene = scene_from(replace(document, json=root))
        again = replace(scene, nodes=scene.nodes[:4] + scene.nodes[5:])  # without the loaf
        after = open_document(written(again)).json
        said = [
            c["target"]["extensions"]["KHR_animation_pointer"]["pointer"]
            for c in after["animations"][0]["channels"]
            if c["target"]["path"] == "pointer"
        ]
        self.assertEqual(len(said), 1)
        kind, number, rest = said[0].split("/", 3)[1:]
        self.assertEqual((kind, rest), ("materials", "pbrMetallicRoughness/roughnessFactor"))
        self.assertEqual(after["materials"][int(number)]["name"], "glass")
