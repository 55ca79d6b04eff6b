"""Scenes written as OBJ and USD, read back, and held against trimesh and `usd-core`."""

from __future__ import annotations

import math
import tempfile
import unittest
import zipfile
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import trimesh

from mill_lane.core.errors import MillError
from mill_lane.core.formats.opening import open_scene
from mill_lane.core.formats.pictures import decode
from mill_lane.core.formats.saving import save_scene
from mill_lane.core.scene.framing import world_bounds
from mill_lane.core.scene.model import (
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
from mill_lane.core.scene.pose import world_matrices
from mill_lane.core.subdivision.surface import surface_mesh
from mill_lane.demo import shapes
from tests.gltf_tools import npm_mesh
from tests.scenes import WHITE, looking, picture, scene_of, small_demo
from tests.surfaces import CORNERS, QUADS, cage_of
from tests.usd_rules import complaints


def triangles(scene: Scene) -> int:
    return sum(scene.meshes[m].triangles for _, m in scene.instances)


def area(scene: Scene) -> float:
    """Of all triangles as they are placed."""
    matrices, total = world_matrices(scene, 0.0), 0.0
    for node, mesh in scene.instances:
        for p in scene.meshes[mesh].parts:
            g = p.load()
            c = (g.positions @ matrices[node][:3, :3].T)[g.triangles]
            total += float(
                np.linalg.norm(np.cross(c[:, 1] - c[:, 0], c[:, 2] - c[:, 0]), axis=1).sum() / 2
            )
    return total


def rich() -> Scene:
    """Two copies of one mesh, one mirrored; textures laid out askew; a moving ball; three lamps."""
    use = TextureUse(0, offset=(0.25, 0.1), rotation=0.4, scale=(2.0, 3.0))
    printed = Material(
        "print ed",
        (0.9, 0.8, 0.7, 1),
        0.0,
        0.6,
        base_texture=use,
        ior=1.4,
        clearcoat=0.3,
        clearcoat_roughness=0.2,
    )
    leaf = Material(
        "leaf",
        (1, 1, 1, 1),
        0.0,
        0.5,
        alpha_mode="MASK",
        alpha_cutoff=0.3,
        base_texture=TextureUse(1),
    )
    move = Channel(
        "translation", "LINEAR", np.array([0.0, 10 / 24]), np.array([[0.0, 0, 0], [2.0, 1, 0]])
    )
    lamps = (
        (Light("bulb", "point", (1, 0.8, 0.6), 40.0), looking((0, 3, 0.01), (0, 0, 0))),
        (
            Light("spot", "spot", (1, 1, 1), 25.0, inner_cone=0.2, outer_cone=0.5),
            looking((1, 3, 1), (0, 0, 0)),
        ),
        (Light("sun", "directional", (1, 1, 0.9), 2.5), looking((4, 5, 1), (0, 0, 0))),
    )
    scene = scene_of(
        (shapes.loaf(0.5, 0.3, 0.2, 12, 2, 0), printed),
        (shapes.ball(0.3, 12), leaf),
        lights=lamps,
        frames=(5, 15),
    )
    mirrored = np.diag([-1.0, 2.0, 1.0, 1.0])
    mirrored[:3, 3] = (1.5, 0.2, -0.5)
    nodes = (
        scene.nodes[0],
        Node("ball", mesh=1, channels=(move,)),
        Node("mirrored", mesh=0, matrix=mirrored),
        *scene.nodes[2:],
    )
    images = (picture(16, 3, name="a b.png"), picture(16, 4, name="leaf"))
    return replace(
        scene,
        nodes=nodes,
        images=images,
        textures=(Texture("a", 0, "mirror", "clamp"), Texture("leaf", 1)),
        frame_rate=24.0,
    )


class Saving(unittest.TestCase):
    def setUp(self) -> None:
        keep = tempfile.TemporaryDirectory()
        self.addCleanup(keep.cleanup)
        self.folder = Path(keep.name)

    def there_and_back(self, scene: Scene, name: str) -> Scene:
        save_scene(scene, self.folder / name)
        self.assertEqual([p.name for p in self.folder.glob(".writing-*")], [])
        return open_scene(self.folder / name)


class TestUsd(Saving):
    def test_there_and_back(self) -> None:
        scene = rich()
        for name in ("a.usda", "a.usdc", "a.usdz"):
            with self.subTest(name):
                back = self.there_and_back(scene, name)
                self.assertEqual(triangles(back), triangles(scene))
                self.assertAlmostEqual(area(back) / area(scene), 1, places=5)
                for a, b in zip(world_bounds(back), world_bounds(scene), strict=True):
                    np.testing.assert_allclose(a, b, atol=1e-5)
                # Copies stay copies.
                self.assertEqual(len({m for _, m in back.instances}), 2)
                self.assertEqual((back.frames, back.frame_rate), (scene.frames, scene.frame_rate))

    def test_motion_frame_by_frame(self) -> None:
        scene = rich()
        back = self.there_and_back(scene, "a.usdc")
        names = [n.name for n in back.nodes]
        for frame in (5, 9, 15):
            ball = world_matrices(back, back.seconds(frame))[
                next(i for i, n in enumerate(names) if n.startswith("ball"))
            ]
            np.testing.assert_allclose(
                ball[:3, 3], np.array([2.0, 1, 0]) * (frame - 5) / 10, atol=1e-6
            )

    def test_camera_and_lamps(self) -> None:
        scene = rich()
        back = self.there_and_back(scene, "a.usda")
        self.assertAlmostEqual(back.cameras[0].yfov, scene.cameras[0].yfov, places=5)
        self.assertAlmostEqual(back.cameras[0].aspect or 0, 1.0, places=5)
        found = {x.kind: x for x in back.lights}
        self.assertAlmostEqual(found["point"].intensity, 40.0, places=3)
        np.testing.assert_allclose(found["point"].color, (1, 0.8, 0.6), atol=1e-6)
        self.assertAlmostEqual(found["directional"].intensity, 2.5, places=5)
        self.assertAlmostEqual(found["spot"].outer_cone, 0.5, places=5)
        self.assertAlmostEqual(found["spot"].inner_cone, 0.2, places=5)
        node = next(
            i
            for i, n in enumerate(back.nodes)
            if n.light >= 0 and back.lights[n.light].kind == "spot"
        )
        np.testing.assert_allclose(
            world_matrices(back, 0.0)[node], looking((1, 3, 1), (0, 0, 0)), atol=1e-6
        )

    def test_materials_and_pictures(self) -> None:
        scene = rich()
        back = self.there_and_back(scene, "a.usdz")
        mine = {round(m.ior, 3): m for m in back.materials}
        printed, leaf = mine[1.4], mine[1.5]
        self.assertAlmostEqual(printed.clearcoat, 0.3, places=5)
        assert printed.base_texture is not None
        use = printed.base_texture
        np.testing.assert_allclose(
            (*use.offset, use.rotation, *use.scale), (0.25, 0.1, 0.4, 2.0, 3.0), atol=1e-5
        )
        texture = back.textures[use.texture]
        self.assertEqual((texture.wrap_u, texture.wrap_v), ("mirror", "clamp"))
        image = back.images[texture.image]
        np.testing.assert_array_equal(
            decode(image.read(), image.mime), decode(scene.images[0].read(), "image/png")
        )
        self.assertEqual((leaf.alpha_mode, round(leaf.alpha_cutoff, 5)), ("MASK", 0.3))

    def test_what_usd_core_says(self) -> None:
        """The stage holds what the schemas ask for:

        units, up axis, normals for each point, an extent that is right; no rule is broken.
        """
        from pxr import Usd, UsdGeom

        save_scene(rich(), self.folder / "a.usdc")
        self.assertEqual(complaints(self.folder / "a.usdc"), {})
        stage = Usd.Stage.Open(str(self.folder / "a.usdc"))
        self.assertEqual(
            (UsdGeom.GetStageMetersPerUnit(stage), UsdGeom.GetStageUpAxis(stage)), (1.0, "Y")
        )
        meshes = [
            UsdGeom.Mesh(p)
            for p in stage.Traverse(Usd.TraverseInstanceProxies())
            if p.IsA(UsdGeom.Mesh)
        ]
        self.assertEqual(len(meshes), 3)
        for mesh in meshes:
            points = mesh.GetPointsAttr().Get()
            self.assertEqual(len(mesh.GetNormalsAttr().Get()), len(points))
            np.testing.assert_allclose(
                mesh.GetExtentAttr().Get(), UsdGeom.PointBased.ComputeExtent(points), atol=1e-6
            )
        self.assertEqual(len([p for p in stage.Traverse() if p.IsInstance()]), 3)

    def test_the_bakery(self) -> None:
        scene = open_scene(small_demo())
        back = self.there_and_back(scene, "bakery.usdc")
        self.assertEqual(
            (triangles(back), len(back.instances)), (triangles(scene), len(scene.instances))
        )
        for a, b in zip(world_bounds(back), world_bounds(scene), strict=True):
            np.testing.assert_allclose(a, b, atol=1e-4)
        self.assertEqual(complaints(self.folder / "bakery.usdc"), {})
        save_scene(scene, self.folder / "bakery.usdz")
        self.assertEqual(complaints(self.folder / "bakery.usdz"), {})

    def test_parts_of_one_mesh_and_what_is_subdivided(self) -> None:
        """A mesh of two materials stays one; a surface goes out as its triangles."""
        scene = rich()
        both = Mesh("both", (scene.meshes[0].parts[0], scene.meshes[1].parts[0]))
        scene = replace(scene, meshes=(both, both))
        back = self.there_and_back(scene, "a.usdc")
        self.assertEqual([len(m.parts) for m in back.meshes], [2, 2])
        self.assertEqual(
            {back.materials[p.material].ior for p in back.meshes[0].parts},
            {m.ior for m in back.materials},
        )
        surface = surface_mesh("cube", cage_of(CORNERS, QUADS), [0], 2)
        back = self.there_and_back(replace(scene, meshes=(surface, surface)), "a.glb")
        self.assertEqual([(m.subdivision, m.triangles) for m in back.meshes], 2 * [(None, 192)])


class TestObj(Saving):
    def test_against_trimesh(self) -> None:
        scene = rich()
        save_scene(scene, self.folder / "a.obj")
        loaded: Any = trimesh.load(self.folder / "a.obj", process=False, force="mesh")
        self.assertEqual(len(loaded.faces), triangles(scene))
        self.assertAlmostEqual(loaded.area / area(scene), 1, places=5)
        np.testing.assert_allclose(loaded.bounds, world_bounds(scene), atol=1e-5)

    def test_there_and_back(self) -> None:
        scene = rich()
        for name in ("a.obj", "a.zip"):
            back = self.there_and_back(scene, name)
            self.assertEqual(triangles(back), triangles(scene))
            self.assertAlmostEqual(area(back) / area(scene), 1, places=5)
            printed = next(m for m in back.materials if m.name.startswith("print"))
            np.testing.assert_allclose(printed.base_color, (0.9, 0.8, 0.7, 1), atol=1e-6)
            assert printed.base_texture is not None
            image = back.images[back.textures[printed.base_texture.texture].image]
            np.testing.assert_array_equal(
                decode(image.read(), image.mime), decode(scene.images[0].read(), "image/png")
            )

    def test_places_on_the_texture_carry_its_transform(self) -> None:
        """KHR_texture_transform: scale, rotate counter-clockwise with V running down, move."""
        scene = rich()
        back = self.there_and_back(scene, "a.obj")
        before, after = scene.meshes[0].parts[0].load(), back.meshes[0].parts[0].load()
        assert before.uvs is not None
        assert after.uvs is not None
        u, v = before.uvs.astype(float)[before.triangles[:5].reshape(-1)].T
        c, s = math.cos(0.4), math.sin(0.4)
        want = np.stack([c * 2 * u + s * 3 * v + 0.25, -s * 2 * u + c * 3 * v + 0.1], 1)
        np.testing.assert_allclose(after.uvs[after.triangles[:5].reshape(-1)], want, atol=1e-5)

    def test_a_mirrored_copy_faces_outwards(self) -> None:
        back = self.there_and_back(rich(), "a.obj")
        mirrored = next(m for m in back.meshes if m.name.startswith("mirrored")).parts[0].load()
        c = mirrored.positions[mirrored.triangles].astype(float)
        n = np.cross(c[:, 1] - c[:, 0], c[:, 2] - c[:, 0])
        facing = (n * mirrored.normals[mirrored.triangles[:, 0]]).sum(1)
        self.assertGreater(float((facing[np.linalg.norm(n, axis=1) > 1e-7] > 0).mean()), 0.98)

    def test_what_is_lost_is_told(self) -> None:
        notes = save_scene(rich(), self.folder / "a.zip")
        self.assertIn("copies", notes[0].text)
        self.assertIn("cameras, lights, animation", notes[1].text)
        with zipfile.ZipFile(self.folder / "a.zip") as z:
            self.assertEqual(
                sorted(Path(n).suffix for n in z.namelist()), [".mtl", ".obj", ".png", ".png"]
            )


class TestOpenMeshes(Saving):
    def test_the_bunny_and_the_teapot(self) -> None:
        """Out and in again:

        as many triangles, the same area and Euler characteristic (vertices - edges + faces).
        """
        for name in ("bunny", "teapot"):
            positions, faces = npm_mesh(name)
            used, corners = np.unique(faces, return_inverse=True)
            positions, faces = positions[used], corners.reshape(-1, 3)
            body = trimesh.Trimesh(positions, faces, process=False)
            normals = np.ascontiguousarray(body.vertex_normals, np.float32)
            scene = scene_of((Geometry(positions, normals, None, faces.astype(np.uint32)), WHITE))
            for ending in (".obj", ".usdc", ".glb"):
                with self.subTest(name, ending=ending):
                    back = self.there_and_back(scene, name + ending)
                    g = back.meshes[0].parts[0].load()
                    again = trimesh.Trimesh(g.positions, g.triangles, process=False)
                    self.assertEqual(
                        (len(again.faces), again.euler_number), (len(faces), body.euler_number)
                    )
                    self.assertAlmostEqual(again.area / body.area, 1, places=5)


class TestEndings(Saving):
    def test_unknown(self) -> None:
        with self.assertRaises(MillError):
            save_scene(rich(), self.folder / "a.txt")

    def test_plain_materials_and_no_pictures(self) -> None:
        scene = scene_of((shapes.ball(1.0, 8), WHITE))
        for ending in (".glb", ".obj", ".zip", ".usda", ".usdz"):
            back = self.there_and_back(scene, f"plain{ending}")
            self.assertEqual(triangles(back), triangles(scene), ending)
