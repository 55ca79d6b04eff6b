"""OBJ, PLY and STL: against trimesh, against what the formats say, and damaged in every way."""

from __future__ import annotations

import zipfile
from pathlib import Path

import numpy as np
import trimesh
from hypothesis import HealthCheck, settings

from mill_lane.core.errors import MillError
from mill_lane.core.formats.gltf import write_glb
from mill_lane.core.formats.gltf.turn import read_in
from mill_lane.core.formats.meshes.soup import fans
from mill_lane.core.formats.opening import check_vertices, open_scene
from mill_lane.core.formats.pictures import write_pixels
from mill_lane.core.formats.units import reading
from mill_lane.core.scene.model import Geometry, Scene
from mill_lane.core.scene.pose import world_matrices
from tests.core.test_gltf import Folder
from tests.gltf_tools import npm_mesh, validate

QUICK = settings(max_examples=120, deadline=None, suppress_health_check=list(HealthCheck))
CUBE = """# a cube of quads, V up, with a normal a face
mtllib cube.mtl
o cube
v 0 0 0
v 1 0 0
v 1 1 0
v 0 1 0
v 0 0 1
v 1 0 1
v 1 1 1
v 0 1 1
vt 0 0
vt 1 0
vt 1 1
vt 0 1
vn 0 0 -1
vn 0 0 1
vn 0 -1 0
vn 1 0 0
vn 0 1 0
vn -1 0 0
usemtl clay
f 1/1/1 4/4/1 3/3/1 2/2/1
f 5/1/2 6/2/2 7/3/2 8/4/2
f 1/1/3 2/2/3 6/3/3 5/4/3
usemtl glow
f 2/1/4 3/2/4 7/3/4 6/4/4
f -6/1/5 -5/2/5 -1/3/5 -2/4/5
f 1//6 5//6 8//6 4//6
"""
MTL = """newmtl clay
Kd 0.5 0.4 0.3
Ns 98
map_Kd -s 2 3 1 -o 0.25 0.5 0 -clamp on bricks.png
newmtl glow
Kd 0 0 0
Ke 3 2 1
d 0.5
"""


def parts(scene: Scene) -> list[Geometry]:
    return [p.load() for m in scene.meshes for p in m.parts]


def world_triangles(scene: Scene) -> np.ndarray:
    """Every triangle's corners in the world, (T, 3, 3)."""
    matrices = world_matrices(scene, 0.0)
    out = []
    for node, mesh in scene.instances:
        for p in scene.meshes[mesh].parts:
            g = p.load()
            at = np.c_[g.positions, np.ones(len(g.positions))] @ matrices[node].T
            out.append(at[:, :3][g.triangles])
    return np.concatenate(out)


def area(triangles: np.ndarray) -> float:
    t = triangles.astype(float)
    return float(np.linalg.norm(np.cross(t[:, 1] - t[:, 0], t[:, 2] - t[:, 0]), axis=1).sum() / 2)


class TestObj(Folder):
    def cube(self) -> Path:
        (self.folder / "cube.mtl").write_text(MTL)
        write_pixels(self.folder / "bricks.png", np.zeros((4, 8, 3), np.uint8))
        path = self.folder / "cube.obj"
        path.write_text(CUBE)
        return path

    def test_a_cube(self) -> None:
        scene = open_scene(self.cube())
        self.assertEqual([(m.name, m.triangles) for m in scene.meshes], [("cube", 12)])
        self.assertAlmostEqual(area(world_triangles(scene)), 6.0, places=6)
        theirs = trimesh.load(self.folder / "cube.obj", force="mesh")
        self.assertAlmostEqual(theirs.area, 6.0, places=6)
        for g in parts(scene):
            # Every corner's normal is its face's own, as the file has it: outwards.
            t = g.positions[g.triangles].astype(float)
            flat = np.cross(t[:, 1] - t[:, 0], t[:, 2] - t[:, 0])
            self.assertTrue((np.einsum("ijk,ik->ij", g.normals[g.triangles], flat) > 0.99).all())
            self.assertTrue(((t.mean(1) - 0.5) * flat).sum(1).min() > 0)

    def test_materials(self) -> None:
        scene = open_scene(self.cube())
        clay, glow = scene.materials
        self.assertEqual((clay.base_color, clay.metallic), ((0.5, 0.4, 0.3, 1.0), 0.0))
        # Walter et al. 2007, section 5.2: alpha = sqrt(2 / (n + 2)); roughness is its square root.
        self.assertAlmostEqual(clay.roughness**2, (2 / 100) ** 0.5)
        self.assertEqual(
            (glow.emissive, glow.alpha_mode, glow.base_color[3]), ((3.0, 2.0, 1.0), "BLEND", 0.5)
        )
        use = clay.base_texture
        assert use is not None
        self.assertEqual(scene.textures[use.texture].wrap_u, "clamp")
        # V runs up in the file and down in a picture: 1 - (3 v + 0.5) with v = 1 - v'.
        self.assertEqual((use.scale, use.offset), ((2.0, 3.0), (0.25, 1.0 - 3.0 - 0.5)))

    def test_it_comes_back_as_glb(self) -> None:
        first = open_scene(self.cube())
        write_glb(first, self.folder / "cube.glb")
        second = open_scene(self.folder / "cube.glb")
        np.testing.assert_allclose(world_triangles(second), world_triangles(first), atol=1e-6)
        self.assertEqual([m.name for m in second.materials], ["clay", "glow"])
        self.assertEqual(validate(self.folder / "cube.glb")["numErrors"], 0)

    def test_a_missing_picture_and_a_missing_library(self) -> None:
        path = self.cube()
        (self.folder / "bricks.png").unlink()
        scene = open_scene(path)
        self.assertTrue(scene.images[0].missing)
        write_glb(scene, self.folder / "again.glb")
        self.assertTrue(open_scene(self.folder / "again.glb").images[0].missing)
        (self.folder / "cube.mtl").unlink()
        texts = " ".join(n.text for n in open_scene(path).notes)
        self.assertIn("cube.mtl", texts)

    def test_other_pictures_become_png(self) -> None:
        path = self.cube()
        import OpenImageIO as oiio

        pixels = np.random.default_rng(0).integers(0, 65535, (4, 8, 3)).astype(np.uint16)
        out = oiio.ImageOutput.create(str(self.folder / "bricks.tif"))
        out.open(str(self.folder / "bricks.tif"), oiio.ImageSpec(8, 4, 3, "uint16"))
        out.write_image(pixels)
        out.close()
        (self.folder / "cube.mtl").write_text(MTL.replace("bricks.png", "C:\\work\\bricks.tif"))
        (self.folder / "cube.mtl").write_text(MTL.replace("bricks.png", "bricks.tif"))
        image = open_scene(path).images[0]
        self.assertEqual(
            (image.mime, image.bits, image.width, image.height), ("image/png", 16, 8, 4)
        )
        from mill_lane.core.formats.pictures import decode

        np.testing.assert_array_equal(decode(image.read(), image.mime), pixels)

    def test_nothing_outside_the_folder(self) -> None:
        for text in ("mtllib ../secret.mtl", "mtllib /etc/passwd"):
            path = self.folder / "x.obj"
            path.write_text(text + "\nv 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n")
            with self.assertRaises(MillError) as caught:
                open_scene(path)
            self.assertIn("outside", caught.exception.message)
        (self.folder / "cube.mtl").write_text(MTL.replace("bricks.png", "../bricks.png"))
        (self.folder / "y.obj").write_text(CUBE)
        with self.assertRaises(MillError):
            open_scene(self.folder / "y.obj")

    def test_flat_and_smooth(self) -> None:
        """Without normals a face is flat, and round where the file asks for smoothing."""
        text = "v 0 0 0\nv 1 0 0\nv 1 0 1\nv 0 0 1\nv 0 1 0\nv 0 1 1\n{}\nf 1 4 3 2\nf 1 5 6 4\n"
        path = self.folder / "x.obj"
        path.write_text(text.format("s off"))
        (flat,) = parts(open_scene(path))
        self.assertEqual(
            {tuple(abs(n)) for n in flat.normals.round(3)}, {(0.0, 1.0, 0.0), (1.0, 0.0, 0.0)}
        )
        path.write_text(text.format("s 1"))
        (smooth,) = parts(open_scene(path))
        self.assertEqual(len(smooth.positions), 6)
        shared = smooth.normals[(smooth.positions == 0).all(1)][0]
        np.testing.assert_allclose(np.abs(shared), [0.7071, 0.7071, 0], atol=1e-3)

    def test_a_quad_is_two_triangles_whichever_polygon(self) -> None:
        np.testing.assert_array_equal(
            fans(np.array([4, 2, 3, 5])),
            [[0, 1, 2], [0, 2, 3], [6, 7, 8], [9, 10, 11], [9, 11, 12], [9, 12, 13]],
        )

    def test_in_a_zip(self) -> None:
        self.cube()
        path = self.folder / "cube.zip"
        with zipfile.ZipFile(path, "w") as z:
            for name in ("cube.obj", "cube.mtl", "bricks.png"):
                z.write(self.folder / name, f"export/{name}")
            z.writestr("__MACOSX/export/._cube.obj", "x")
        scene = open_scene(path)
        check_vertices(scene)
        self.assertFalse(scene.images[0].missing)
        self.assertGreater(len(scene.images[0].read()), 50)


class TestAgainstTrimesh(Folder):
    """The same mesh written by trimesh in each format and read by both."""

    def same(self, mesh: trimesh.Trimesh, ending: str, **how: object) -> None:
        path = self.folder / f"x.{ending}"
        written = mesh.export(file_type=ending, **how)
        path.write_bytes(written.encode() if isinstance(written, str) else written)
        scene = open_scene(path)
        check_vertices(scene)
        ours = np.concatenate([g.positions[g.triangles] for g in parts(scene)]).astype(float)
        theirs = trimesh.load(path, force="mesh", process=False)
        self.assertEqual(len(ours), len(theirs.faces))
        np.testing.assert_allclose(
            np.sort(ours.reshape(-1, 9), 0), np.sort(theirs.triangles.reshape(-1, 9), 0), atol=1e-5
        )
        merged = trimesh.Trimesh(*_merged(ours), process=False)
        self.assertEqual(merged.euler_number, trimesh.load(path, force="mesh").euler_number)
        self.assertAlmostEqual(area(ours) / theirs.area, 1.0, places=5)

    def test_shapes(self) -> None:
        for mesh in (
            trimesh.creation.icosphere(2),
            trimesh.creation.torus(2.0, 0.5),
            trimesh.creation.box((1, 2, 3)),
        ):
            self.same(mesh, "obj")
            self.same(mesh, "ply")
            self.same(mesh, "ply", encoding="ascii")
            self.same(mesh, "stl")

    def test_text_stl(self) -> None:
        mesh = trimesh.creation.icosphere(1)
        path = self.folder / "x.stl"
        path.write_text(trimesh.exchange.stl.export_stl_ascii(mesh))
        ours = np.concatenate([g.positions[g.triangles] for g in parts(open_scene(path))])
        np.testing.assert_allclose(
            np.sort(ours.reshape(-1, 9), 0), np.sort(mesh.triangles.reshape(-1, 9), 0), atol=1e-5
        )

    def test_bunny_and_teapot(self) -> None:
        """The npm packages' meshes: triangles, Euler characteristic and area as trimesh has
        them.
        """
        for name in ("bunny", "teapot"):
            mesh = trimesh.Trimesh(*npm_mesh(name), process=False)
            self.same(mesh, "obj")
            self.same(mesh, "ply")
            self.same(mesh, "stl")


def _merged(triangles: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    points, inverse = np.unique(
        triangles.reshape(-1, 3).astype(np.float32), axis=0, return_inverse=True
    )
    return points, inverse.reshape(-1, 3)


class TestUnits(Folder):
    def box(self, size: tuple[float, float, float], ending: str = "ply") -> Scene:
        mesh = trimesh.creation.box(size)
        mesh.apply_translation([0, 0, size[2] / 2])
        path = self.folder / f"x.{ending}"
        path.write_bytes(mesh.export(file_type=ending))
        return open_scene(path)

    def test_a_door_of_2000(self) -> None:
        """A box of 900 x 40 x 2000 that stands on the XY plane is a door of 2 m in the tens of
        metres or less.
        """
        scene = self.box((900, 40, 2000), "stl")
        low, high = (
            world_triangles(scene).reshape(-1, 3).min(0),
            world_triangles(scene).reshape(-1, 3).max(0),
        )
        np.testing.assert_allclose(high - low, [0.9, 2.0, 0.04], atol=1e-6)
        self.assertIn("millimetres with Z up", " ".join(n.text for n in scene.notes))

    def test_the_guess_is_put_right(self) -> None:
        """Read in another unit and with another axis, again and again:

        always from what the file says, never on top.
        """
        write_glb(self.box((900, 40, 2000), "stl"), self.folder / "a.glb")
        for i, (unit, up, want) in enumerate(
            (
                ("m", "z", [900, 2000, 40]),
                ("in", "y", [22.86, 1.016, 50.8]),
                ("mm", "z", [0.9, 2, 0.04]),
            )
        ):
            scene = read_in(
                open_scene(self.folder / ("a.glb" if i == 0 else f"b{i - 1}.glb")),
                reading(unit, up),
            )
            write_glb(scene, self.folder / f"b{i}.glb")
            size = np.ptp(world_triangles(open_scene(self.folder / f"b{i}.glb")).reshape(-1, 3), 0)
            np.testing.assert_allclose(size, want, rtol=1e-5)
            self.assertEqual(validate(self.folder / f"b{i}.glb")["numErrors"], 0)
        # A scene that stood in metres gets a node of its own.
        write_glb(self.box((0.9, 2.0, 0.04)), self.folder / "c.glb")
        write_glb(
            read_in(open_scene(self.folder / "c.glb"), reading("ft", "y")), self.folder / "d.glb"
        )
        size = np.ptp(world_triangles(open_scene(self.folder / "d.glb")).reshape(-1, 3), 0)
        np.testing.assert_allclose(size, np.array([0.9, 2.0, 0.04]) * 0.3048, rtol=1e-5)

    def test_metres_stay(self) -> None:
        scene = self.box((0.9, 0.04, 2.0))
        size = np.ptp(world_triangles(scene).reshape(-1, 3), 0)
        np.testing.assert_allclose(size, [0.9, 2.0, 0.04], atol=1e-6)
