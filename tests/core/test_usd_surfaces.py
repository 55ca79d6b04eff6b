"""Subdivision surfaces of a stage: what is read, how it is kept, how it goes back."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
from pxr import Sdf, Usd, UsdGeom, UsdShade, Vt

from mill_lane.core.formats.gltf import read_scene, write_glb
from mill_lane.core.formats.gltf.read import scene_from
from mill_lane.core.formats.opening import open_scene
from mill_lane.core.formats.saving import save_scene
from mill_lane.core.scene.model import Geometry, Mesh, Scene
from mill_lane.core.subdivision.surface import at_level, cage_of
from tests.core.test_usd import UsdCase
from tests.surfaces import CORNERS, QUADS

RING = [0, 1, 3, 2, 0]


def cube(stage: Any, path: str = "/cube", scheme: str = "catmullClark") -> Any:
    mesh = UsdGeom.Mesh.Define(stage, path)
    mesh.CreatePointsAttr([tuple(map(float, p)) for p in CORNERS])
    mesh.CreateFaceVertexCountsAttr([4] * 6)
    mesh.CreateFaceVertexIndicesAttr([i for q in QUADS for i in q])
    mesh.CreateSubdivisionSchemeAttr(scheme)
    return mesh


def first(scene: Scene) -> Geometry:
    return scene.meshes[0].parts[0].load()


class TestReading(UsdCase):
    def test_drawn_as_the_surface(self) -> None:
        stage = self.stage()
        cube(stage)
        scene = self.read(stage)
        (note,) = [n for n in scene.notes if n.code == "subdivision"]
        self.assertIn("level 2 with 192 triangles; one level more would be 768", note.text)
        radii = np.linalg.norm(first(scene).positions, axis=1)
        self.assertAlmostEqual(float(radii.max()), 0.75**0.5, 6)

    def test_who_writes_normals_and_no_scheme_means_polygons(self) -> None:
        stage = self.stage()
        mesh = cube(stage)
        mesh.GetSubdivisionSchemeAttr().Clear()
        self.assertIsNotNone(self.read(stage).meshes[0].subdivision)
        mesh.CreateNormalsAttr([tuple(np.array(p) / 3**0.5) for p in CORNERS])
        self.assertEqual(self.read(stage).meshes[0].triangles, 12)
        cube(stage, "/cube", "bilinear")
        self.assertEqual(self.read(stage).meshes[0].triangles, 12)

    def test_creases_corners_holes_and_hands(self) -> None:
        stage = self.stage()
        mesh = cube(stage)
        mesh.CreateCreaseIndicesAttr(RING)
        mesh.CreateCreaseLengthsAttr([5])
        mesh.CreateCreaseSharpnessesAttr([10.0])
        mesh.CreateCornerIndicesAttr([7])
        mesh.CreateCornerSharpnessesAttr([10.0])
        mesh.CreateHoleIndicesAttr([3])
        scene = self.read(stage)
        cage = cage_of(scene.meshes[0])
        self.assertEqual(
            sorted(map(tuple, np.sort(cage.pairs, 1))), [(0, 1), (0, 2), (1, 3), (2, 3)]
        )
        self.assertEqual(cage.pinned.tolist(), [0.0] * 7 + [10.0])
        g = first(scene)
        self.assertEqual(len(g.triangles), 160)
        self.assertTrue((np.linalg.norm(g.positions - (1, 1, 1), axis=1) < 1e-6).any())
        mesh.CreateOrientationAttr("leftHanded")
        h = first(self.read(stage))
        np.testing.assert_allclose(h.positions.min(0), g.positions.min(0))
        for x, sign in ((g, 1), (h, -1)):
            p = x.positions[x.triangles]
            out = np.cross(p[:, 1] - p[:, 0], p[:, 2] - p[:, 0])
            self.assertTrue((sign * (out * p.mean(1)).sum(1) > 0).all())

    def test_borders(self) -> None:
        """`interpolateBoundary`: corners kept, rounded, or nothing drawn along the border."""
        stage = self.stage()
        mesh = UsdGeom.Mesh.Define(stage, "/sheet")
        mesh.CreatePointsAttr([(x, y, 0) for y in range(4) for x in range(4)])
        mesh.CreateFaceVertexCountsAttr([4] * 9)
        first_ = [4 * y + x for y in range(3) for x in range(3)]
        mesh.CreateFaceVertexIndicesAttr([i + k for i in first_ for k in (0, 1, 5, 4)])
        areas = []
        for rule in ("edgeAndCorner", "edgeOnly", "none"):
            mesh.CreateInterpolateBoundaryAttr(rule)
            g = first(self.read(stage))
            p = g.positions[g.triangles]
            areas.append(np.cross(p[:, 1] - p[:, 0], p[:, 2] - p[:, 0])[:, 2].sum() / 2)
        self.assertAlmostEqual(areas[0], 9.0, 4)
        self.assertTrue(1.1 < areas[1] < 9.0)
        self.assertAlmostEqual(areas[2], 1.0, 4)

    def test_places_materials_and_colours(self) -> None:
        stage = self.stage()
        mesh = cube(stage)
        st = UsdGeom.PrimvarsAPI(mesh).CreatePrimvar(
            "st", Sdf.ValueTypeNames.TexCoord2fArray, UsdGeom.Tokens.faceVarying
        )
        st.Set([(0, 0), (1, 0), (1, 1), (0, 1)] * 6)
        subset = UsdGeom.Subset.Define(stage, "/cube/half")
        subset.CreateIndicesAttr([0, 1])
        subset.CreateElementTypeAttr("face")
        subset.CreateFamilyNameAttr("materialBind")
        material = UsdShade.Material.Define(stage, "/red")
        UsdShade.MaterialBindingAPI.Apply(subset.GetPrim()).Bind(material)
        scene = self.read(stage)
        self.assertEqual([p.triangles for p in scene.meshes[0].parts], [64, 128])
        for part in scene.meshes[0].parts:
            g = part.load()
            assert g.uvs is not None
            self.assertEqual((len(g.positions), len(g.triangles)), (part.vertices, part.triangles))
            np.testing.assert_allclose([g.uvs.min(), g.uvs.max()], [0, 1], atol=1e-6)

    def test_loop_of_polygons_and_faces_that_are_none(self) -> None:
        """Quads are cut first; corners said twice and polygons of two corners go."""
        stage = self.stage()
        mesh = cube(stage, scheme="loop")
        self.assertEqual(self.read(stage).meshes[0].triangles, 12 * 16)
        mesh.CreateFaceVertexCountsAttr([4] * 6 + [2, 5])
        numbers = [i for q in QUADS for i in q] + [0, 1, 0, 0, 1, 3, 2]
        mesh.CreateFaceVertexIndicesAttr(numbers)
        mesh.CreateSubdivisionSchemeAttr("catmullClark")
        g = first(self.read(stage))
        self.assertEqual(len(g.triangles), 7 * 32)
        self.assertTrue(np.isfinite(g.positions).all() and np.isfinite(g.normals).all())

    def test_many_are_drawn_less_finely(self) -> None:
        stage = self.stage()
        mesh = UsdGeom.Mesh.Define(stage, "/sheet")
        n = 400
        y, x = np.mgrid[: n + 1, : n + 1].reshape(2, -1).astype(np.float32)
        mesh.CreatePointsAttr(Vt.Vec3fArray.FromNumpy(np.stack([x, y, 0 * x], 1)))
        mesh.CreateFaceVertexCountsAttr(Vt.IntArray.FromNumpy(np.full(n * n, 4, np.int32)))
        i = (np.arange(n)[:, None] * (n + 1) + np.arange(n)).reshape(-1, 1)
        quads = (i + np.array([0, 1, n + 2, n + 1])).astype(np.int32).reshape(-1)
        mesh.CreateFaceVertexIndicesAttr(Vt.IntArray.FromNumpy(quads))
        (said,) = [m.subdivision for m in self.read(stage).meshes]
        self.assertEqual((said.level, said.triangles(1)), (1, 8 * n * n))


class TestKeeping(UsdCase):
    def carried(self, scene: Scene, name: str) -> Scene:
        path = self.folder / name
        write_glb(scene, path)
        return read_scene(path)

    def test_cage_and_level_go_through_a_glb_of_our_own(self) -> None:
        stage = self.stage()
        cube(stage).CreateCreaseIndicesAttr(RING)
        scene = self.read(stage)
        there = self.carried(scene, "a.glb")
        finer = replace(there, meshes=(at_level(there.meshes[0], 4),))
        back = self.carried(finer, "b.glb")
        self.assertLess((self.folder / "b.glb").stat().st_size, 12_000)  # the cage alone
        said = back.meshes[0].subdivision
        assert said is not None
        self.assertEqual((said.level, back.meshes[0].triangles), (4, 6 * 8 * 64))
        for level in (2, 4):
            a, b = (at_level(s.meshes[0], level).parts[0].load() for s in (scene, back))
            np.testing.assert_array_equal(a.positions, b.positions)
            np.testing.assert_array_equal(a.triangles, b.triangles)

    def test_extras_of_that_name_by_others_count_for_nothing(self) -> None:
        stage = self.stage()
        cube(stage)
        scene = self.carried(self.read(stage), "a.glb")
        document: Any = scene.origin.document
        extras = document.json["meshes"][0]["extras"]["mill_lane_subdivision"]
        for wrong in ({"level": 99}, {"level": "2"}, {"sizes": [[1, 2]]}, {"scheme": "bilinear"}):
            entry = document.json["meshes"][0]
            entry["extras"] = {"mill_lane_subdivision": extras | wrong}
            self.assertIsNone(scene_from(document).meshes[0].subdivision)

    def test_back_over_its_stage_it_stays_a_surface(self) -> None:
        """As USD the cage with its scheme and creases; as GLB and OBJ what is drawn."""
        stage = self.stage()
        mesh = cube(stage)
        mesh.CreateCreaseIndicesAttr(RING)
        mesh.CreateCreaseLengthsAttr([5])
        mesh.CreateCreaseSharpnessesAttr([2.5])
        stage.Save()
        write_glb(open_scene(Path(stage.GetRootLayer().realPath)), self.folder / "kept.glb")
        scene = open_scene(self.folder / "kept.glb", own=True)
        scene = replace(scene, meshes=tuple(at_level(m, 3) for m in scene.meshes))
        save_scene(scene, self.folder / "out.usda")
        out_stage = Usd.Stage.Open(str(self.folder / "out.usda"))
        theirs = UsdGeom.Mesh.Get(out_stage, "/cube")
        self.assertEqual(theirs.GetSubdivisionSchemeAttr().Get(), "catmullClark")
        self.assertEqual(len(theirs.GetPointsAttr().Get()), 8)
        self.assertEqual(list(theirs.GetCreaseSharpnessesAttr().Get()), [2.5])
        for name in ("out.glb", "out.obj"):
            notes = save_scene(scene, self.folder / name)
            out = open_scene(self.folder / name)
            self.assertEqual((out.meshes[0].triangles, out.meshes[0].subdivision), (768, None))
            if name == "out.glb":
                self.assertIn("triangles of the level", notes[0].text)


class TestShared(UsdCase):
    def test_parts_of_one_evaluation(self) -> None:
        """Asked in any order and again, each part is the same."""
        stage = self.stage()
        cube(stage)
        subset = UsdGeom.Subset.Define(stage, "/cube/half")
        subset.CreateIndicesAttr([0, 1])
        subset.CreateElementTypeAttr("face")
        subset.CreateFamilyNameAttr("materialBind")
        material = UsdShade.Material.Define(stage, "/red")
        UsdShade.MaterialBindingAPI.Apply(subset.GetPrim()).Bind(material)
        mesh: Mesh = self.read(stage).meshes[0]
        rows = [
            [mesh.parts[k].load().positions for k in order] for order in ((0, 1), (1, 0), (0, 0))
        ]
        np.testing.assert_array_equal(rows[0][0], rows[1][1])
        np.testing.assert_array_equal(rows[0][1], rows[1][0])
        np.testing.assert_array_equal(rows[2][0], rows[2][1])
