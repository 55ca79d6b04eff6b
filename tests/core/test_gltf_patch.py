"""Writing a scene that was read: what was touched is new, all else is as it came.

Any sequence of changes, written and read, gives the scene that was in memory; the validator has no
error; extensions and extras of what was not touched survive; what nobody refers to is gone.
"""

from __future__ import annotations

import copy
import functools
import json
import tempfile
import unittest
from collections.abc import Callable
from dataclasses import replace
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
    Geometry,
    Light,
    Material,
    Mesh,
    Node,
    Scene,
    Texture,
    TextureUse,
)
from mill_lane.core.scene.parts import part_of
from mill_lane.core.scene.surroundings import Environment, Medium
from mill_lane.demo import shapes
from tests.gltf_steps import (
    content,
    copy_node,
    dim,
    drop_part,
    move,
    other_frames,
    other_picture,
    remove,
    remove_below,
    repaint,
    reshape,
    share,
    wear_another,
)
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


Change = Callable[[Scene, int, int], Scene]


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
