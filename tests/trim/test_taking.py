"""Taking home: names, folders, lists, meshes; what came in goes out under its own name."""

from __future__ import annotations

import csv
import io
import json
import tempfile
import unittest
import zipfile
from dataclasses import replace
from pathlib import Path

import numpy as np
import trimesh

from mill_lane.core.formats.gltf import write_glb
from mill_lane.core.formats.opening import open_scene
from mill_lane.core.formats.pictures import encode
from mill_lane.core.formats.usd.write import write_usd
from mill_lane.core.image.srgb import to_linear
from mill_lane.core.scene.model import Scene, Texture, TextureUse
from mill_lane.core.trim import apply_choices
from mill_lane.core.trim.model import Change, Choice, Target
from mill_lane.core.trim.report import as_csv, report_rows
from mill_lane.core.trim.take_home import (
    changed_meshes,
    changed_pictures,
    write_meshes_zip,
    write_pictures_zip,
)
from tests.scenes import WHITE, even_sky, floor, lump, scene_of
from tests.trim.case import applied, image_of, looked_into, proposed
from tests.trim.test_objects import world_points
from tests.trim.test_pictures import smooth
from tests.weigh.test_duplicates import baked, rotation


def obj_with_pictures(folder: Path) -> Path:
    """A floor that wears pictures from two folders, two of them of the same name."""
    for name, size in (("wood/board.png", 64), ("stone/board.png", 64), ("stone/edge.jpg", 32)):
        path = folder / name
        path.parent.mkdir(exist_ok=True)
        mime = "image/jpeg" if name.endswith("jpg") else "image/png"
        path.write_bytes(encode(smooth(size), mime))
    (folder / "room.mtl").write_text(
        "newmtl a\nmap_Kd wood/board.png\nnewmtl b\nmap_Kd stone/board.png\n"
        "newmtl c\nmap_Kd stone/edge.jpg\n"
    )
    faces = "".join(f"usemtl {m}\nf 1/1 2/2 3/3\n" for m in "abc")
    text = "mtllib room.mtl\nv 0 0 0\nv 1 0 0\nv 0 1 0\nvt 0 0\nvt 1 0\nvt 0 1\n" + faces
    path = folder / "room.obj"
    path.write_text(text)
    return path


def sized(scene: Scene, image: int, limit: int) -> Choice:
    target = Target(kind="image", index=image, name=scene.images[image].name)
    return Choice(trim="texture_size", target=target, parameters={"limit": limit})


class TestPictures(unittest.TestCase):
    def setUp(self) -> None:
        keep = tempfile.TemporaryDirectory()
        self.addCleanup(keep.cleanup)
        self.folder = Path(keep.name)

    def test_names_and_folders_last_through_every_version(self) -> None:
        scene = open_scene(obj_with_pictures(self.folder))
        names = ["wood/board.png", "stone/board.png", "stone/edge.jpg"]
        self.assertEqual([x.file for x in scene.images], names)
        write_glb(scene, self.folder / "1.glb")
        first = open_scene(self.folder / "1.glb")
        self.assertEqual([x.file for x in first.images], names)
        lean, _ = apply_choices(first, [sized(first, 1, 16), sized(first, 2, 16)])
        write_glb(lean, self.folder / "2.glb")
        second = open_scene(self.folder / "2.glb")
        notes = write_pictures_zip(first, second, self.folder / "p.zip")
        self.assertEqual(notes, [])
        with zipfile.ZipFile(self.folder / "p.zip") as z:
            self.assertEqual(z.namelist(), ["stone/board.png", "stone/edge.jpg"])
            for name in z.namelist():
                (image,) = [x for x in second.images if x.file == name]
                self.assertEqual(z.read(name), image.read())
        # Dropped in place, the scene that they came with wears them.
        with zipfile.ZipFile(self.folder / "p.zip") as z:
            z.extractall(self.folder)
        again = open_scene(self.folder / "room.obj")
        self.assertEqual([x.width for x in again.images], [64, 16, 16])

    def test_another_kind_has_another_ending_and_is_told(self) -> None:
        scene = open_scene(obj_with_pictures(self.folder))
        target = Target(kind="image", index=0, name="board.png")
        wish = Choice(trim="texture_jpeg", target=target, parameters={"quality": 80})
        lean, _ = apply_choices(scene, [wish])
        notes = write_pictures_zip(scene, lean, self.folder / "p.zip")
        self.assertEqual([n.code for n in notes], ["renamed_pictures"])
        with zipfile.ZipFile(self.folder / "p.zip") as z:
            self.assertEqual(z.namelist(), ["wood/board.jpg", "read me.txt"])
            self.assertIn("wood/board.png is wood/board.jpg", z.read("read me.txt").decode())

    def test_nothing_changed(self) -> None:
        scene = open_scene(obj_with_pictures(self.folder))
        self.assertEqual(list(changed_pictures(scene, scene)), [])
        (note,) = write_pictures_zip(scene, scene, self.folder / "p.zip")
        self.assertEqual(note.code, "nothing_changed")

    def test_a_name_that_leaves_its_folder(self) -> None:
        scene = open_scene(obj_with_pictures(self.folder))
        odd = replace(scene.images[0], file="../../etc/x.png")
        scene = replace(scene, images=(odd, *scene.images[1:]))
        lean, _ = apply_choices(scene, [sized(scene, 0, 8)])
        ((name, _),) = changed_pictures(scene, lean)
        self.assertEqual(name, "etc/x.png")


class TestMeshes(unittest.TestCase):
    def test_thinned_ones_alone(self) -> None:
        """Against trimesh: the files have the triangles, and stand where the mesh did."""
        scene = scene_of((lump(30, 2), WHITE), (lump(12, 3), WHITE), environment=even_sky())
        scene = replace(
            scene, meshes=tuple(replace(m, name=f"rock {i}") for i, m in enumerate(scene.meshes))
        )
        target = Target(kind="mesh", index=0, name="rock 0")
        thin = Choice(trim="decimate", target=target, parameters={"triangles": 300})
        lean, (change,) = apply_choices(scene, [thin])
        self.assertEqual([m.name for m in changed_meshes(scene, lean)], ["rock 0"])
        with tempfile.TemporaryDirectory() as folder:
            for kind in ("obj", "glb"):
                path = Path(folder) / f"{kind}.zip"
                write_meshes_zip(scene, lean, path, kind)
                with zipfile.ZipFile(path) as z:
                    (name,) = z.namelist()
                    data = io.BytesIO(z.read(name))
                found = trimesh.load(data, file_type=kind, force="mesh")
                self.assertEqual(len(found.faces), change.to)
                p = lump(30, 2).positions
                np.testing.assert_allclose(found.bounds, [p.min(0), p.max(0)], atol=0.08)


class TestList(unittest.TestCase):
    def test_csv_and_rows(self) -> None:
        changes = [
            Change(
                kind="texture_size",
                target="=wood",
                from_=[4096, 4096],
                to=[512, 512],
                memory_saved_bytes=5,
                why="nearest 31.6 m at frame 12: 512 px asked, 4096 held",
            ),
            Change(kind="camera", target="put up"),
        ]
        rows = report_rows(changes)
        self.assertEqual(len(rows), 1)
        (read,) = csv.DictReader(io.StringIO(as_csv(rows)))
        self.assertEqual(read["object"], "'=wood")  # no program takes it for a formula
        self.assertEqual((read["from"], read["to"]), ("4096 x 4096", "512 x 512"))
        self.assertIn("31.6 m", read["why"])
        self.assertEqual(json.loads(json.dumps(rows))[0]["memory_saved_bytes"], 5)


class TestUsd(unittest.TestCase):
    def test_names_of_files(self) -> None:
        with tempfile.TemporaryDirectory() as name:
            folder = Path(name)
            write_usd(open_scene(obj_with_pictures(folder)), folder / "room.usda")
            files = {x.file for x in open_scene(folder / "room.usda").images}
            self.assertEqual(len(files), 3)
            self.assertTrue(all((folder / f).is_file() for f in files))

    def test_trimmed_scenes_go_back_over_their_stage(self) -> None:
        """What trims did to materials, copies and meshes stands in the USD that is handed back."""
        flat = np.full((8, 8, 3), (200, 100, 50), np.uint8)
        wood = smooth(32)
        pictures = [image_of(flat, "flat"), image_of(wood, "a"), image_of(wood, "b")]
        worn = [replace(WHITE, name=f"m{i}", base_texture=TextureUse(i)) for i in range(3)]
        stone = lump(24, 3)
        turned = baked(stone, rotation(0.3, 0.4, 0.5), np.array([2.0, 0, 0]))
        things = [(stone, worn[0]), (turned, worn[0]), (lump(10, 4), worn[1]), (floor(), worn[2])]
        scene = scene_of(*things, environment=even_sky())
        scene = replace(
            scene,
            meshes=tuple(
                replace(m, parts=(replace(m.parts[0], material=max(0, i - 1)),))
                for i, m in enumerate(scene.meshes)
            ),
            materials=tuple(worn),
            images=tuple(pictures),
            textures=tuple(Texture(p.name, i) for i, p in enumerate(pictures)),
        )
        with tempfile.TemporaryDirectory() as name:
            folder = Path(name)
            write_usd(scene, folder / "1.usda")
            staged = open_scene(folder / "1.usda")
            analysis = looked_into(staged)
            found = [
                p
                for t in ("same_picture", "constant_texture", "instances")
                for p in proposed(staged, t, analysis)
            ]
            self.assertEqual(len(found), 3)
            lean, changes = applied(staged, found)
            write_glb(lean, folder / "2.glb")
            again = open_scene(folder / "2.glb", own=True)
            write_usd(again, folder / "3.usda")
            back = open_scene(folder / "3.usda")
        self.assertEqual(len(changes), 3)
        wears = {m.name: m for m in back.materials}
        plain = next(m for m in wears.values() if m.base_texture is None)
        np.testing.assert_allclose(plain.base_color[:3], to_linear(flat[0, 0] / 255), atol=1e-3)
        self.assertEqual(sum(m.base_texture is not None for m in wears.values()), 2)
        self.assertFalse(any(x.missing for x in back.images))
        for a, b in zip(world_points(staged), world_points(back), strict=True):
            np.testing.assert_allclose(np.sort(a, 0), np.sort(b, 0), atol=1e-3)
