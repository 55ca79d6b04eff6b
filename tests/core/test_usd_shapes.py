"""Curves, fog and copies that move: against the standard's formulas and the library's answers."""

from __future__ import annotations

import numpy as np
from pxr import Gf, Sdf, UsdGeom, UsdShade, UsdVol, Vt

from mill_lane.core.formats.usd import scattered
from mill_lane.core.formats.usd.curves import STEPS
from mill_lane.core.scene.model import Scene
from mill_lane.core.scene.pose import world_matrices
from tests.core.test_usd import UsdCase, quad


def blend(p: np.ndarray) -> np.ndarray:
    """Where a uniform cubic B-spline begins, by its first three points."""
    return np.asarray((p[0] + 4 * p[1] + p[2]) / 6)


class TestCurves(UsdCase):
    def curves(self, points: list, counts: list[int], **said: object) -> UsdGeom.BasisCurves:
        self.count = getattr(self, "count", 0) + 1
        self.on = self.stage(f"c{self.count}.usda")
        curves = UsdGeom.BasisCurves.Define(self.on, "/hair")
        curves.CreatePointsAttr(points)
        curves.CreateCurveVertexCountsAttr(counts)
        curves.CreateTypeAttr(said.get("type", "cubic"))
        curves.CreateBasisAttr(said.get("basis", "bezier"))
        curves.CreateWrapAttr(said.get("wrap", "nonperiodic"))
        if "widths" in said:
            curves.CreateWidthsAttr(said["widths"])
            curves.SetWidthsInterpolation(said.get("how", "constant"))
        return curves

    def middles(self, scene: Scene) -> np.ndarray:
        """The middle of each ring of a tube."""
        (mesh,) = [m for m in scene.meshes if m.name == "hair"]
        return mesh.parts[0].load().positions.reshape(-1, 3, 3).astype(float).mean(1)

    def test_a_bezier_runs_where_de_casteljau_has_it(self) -> None:
        control = np.array([[0, 0, 0], [1, 2, 0], [3, 2, 1], [4, 0, 0.0]])
        self.curves([tuple(p) for p in control], [4], widths=[0.1])
        found = self.middles(self.read(self.on))
        for k, t in enumerate(np.linspace(0, 1, STEPS + 1)):
            points = control
            while len(points) > 1:
                points = points[:-1] * (1 - t) + points[1:] * t
            np.testing.assert_allclose(found[k], points[0], atol=1e-5)

    def test_splines_begin_and_end_where_the_standard_says(self) -> None:
        """B-splines at the blend of their first three points, Catmull-Rom at the second; pinned
        ones at the very ends; periodic ones where they began.
        """
        points = [(0, 0, 0), (1, 1, 0), (2, -1, 0), (3, 0, 1), (5, 0, 0)]
        p = np.array(points, float)
        cases = {
            ("bspline", "nonperiodic"): (
                (p[0] + 4 * p[1] + p[2]) / 6,
                (p[2] + 4 * p[3] + p[4]) / 6,
            ),
            ("catmullRom", "nonperiodic"): (p[1], p[3]),
            ("bspline", "pinned"): (p[0], p[4]),
            ("catmullRom", "pinned"): (p[0], p[4]),
        }
        for (basis, wrap), (first, last) in cases.items():
            with self.subTest(basis=basis, wrap=wrap):
                self.curves(points, [5], widths=[0.1], basis=basis, wrap=wrap)
                found = self.middles(self.read(self.on))
                np.testing.assert_allclose([found[0], found[-1]], [first, last], atol=1e-5)
        self.curves(points, [5], widths=[0.1], basis="catmullRom", wrap="periodic")
        found = self.middles(self.read(self.on))
        np.testing.assert_allclose(found[0], found[-1], atol=1e-5)

    def test_linear_ones_and_their_widths(self) -> None:
        """Each of its own length and thickness; the tube is as thick as it says."""
        points = [(0, 0, 0), (0, 1, 0), (5, 0, 0), (5, 1, 0), (5, 2, 1)]
        self.curves(points, [2, 3], type="linear", widths=[0.2, 0.4], how="uniform")
        scene = self.read(self.on)
        g = next(m for m in scene.meshes if m.name == "hair").parts[0].load()
        rings = g.positions.reshape(-1, 3, 3).astype(float)
        radius = np.linalg.norm(rings - rings.mean(1, keepdims=True), axis=2)
        np.testing.assert_allclose(radius[:2], 0.1, rtol=1e-4)
        np.testing.assert_allclose(radius[2:], 0.2, rtol=1e-4)
        self.assertEqual(len(g.triangles), (1 + 2) * 2 * 3)

    def test_what_cannot_be_drawn_is_told(self) -> None:
        for said in ({}, {"widths": [1.0, 2.0, 3.0], "how": "vertex"}):
            self.curves([(0, 0, 0), (1, 0, 0)], [2], type="linear", **said)
            quad(self.on, "/a")
            self.assertIn("curves_left_out", [n.code for n in self.read(self.on).notes])


class TestFog(UsdCase):
    def material(self, stage: object, **values: object) -> UsdShade.Material:
        """MaterialX's volume of an anisotropic distribution, as its USD binding writes it."""
        material = UsdShade.Material.Define(stage, "/smoke")
        vdf = UsdShade.Shader.Define(stage, "/smoke/vdf")
        vdf.CreateIdAttr("ND_anisotropic_vdf")
        for name, value in values.items():
            kind = Sdf.ValueTypeNames.Float if name == "anisotropy" else Sdf.ValueTypeNames.Vector3f
            vdf.CreateInput(name, kind).Set(value)
        volume = UsdShade.Shader.Define(stage, "/smoke/volume")
        volume.CreateIdAttr("ND_volume")
        volume.CreateInput("vdf", Sdf.ValueTypeNames.Token).ConnectToSource(
            vdf.ConnectableAPI(), "out"
        )
        material.CreateVolumeOutput("mtlx").ConnectToSource(volume.ConnectableAPI(), "out")
        return material

    def test_a_box_of_fog(self) -> None:
        """Coefficients in the stage's unit become those of metres; the box is fog, no cube."""
        stage = self.stage(unit=0.01)
        quad(stage, "/floor")
        cube = UsdGeom.Cube.Define(stage, "/air")
        cube.CreateSizeAttr(200.0)
        UsdGeom.XformCommonAPI(cube).SetTranslate((0, 100, 0))
        values = {"scattering": Gf.Vec3f(0.01), "absorption": Gf.Vec3f(0.002, 0.001, 0.003)}
        material = self.material(stage, **values, anisotropy=0.6)
        UsdShade.MaterialBindingAPI.Apply(cube.GetPrim()).Bind(material)
        scene = self.read(stage)
        (fog,) = scene.media
        np.testing.assert_allclose([fog.box_min, fog.box_max], [[-1, 0, -1], [1, 2, 1]], atol=1e-6)
        np.testing.assert_allclose((fog.scatter, fog.absorb, fog.g), (1.0, 0.2, 0.6), rtol=1e-5)
        self.assertNotIn("air", [n.name for n in scene.nodes])

    def test_voxels_are_told(self) -> None:
        stage = self.stage()
        quad(stage, "/floor")
        volume = UsdVol.Volume.Define(stage, "/smoke")
        field = UsdVol.OpenVDBAsset.Define(stage, "/smoke/density")
        field.CreateFilePathAttr("smoke.vdb")
        volume.CreateFieldRelationship("density", field.GetPath())
        scene = self.read(stage)
        self.assertEqual(scene.media, ())
        self.assertIn("Volume", " ".join(n.text for n in scene.notes if n.level == "lost"))


class TestScattered(UsdCase):
    def swarm(self, count: int = 5, name: str = "x.usda") -> tuple[object, UsdGeom.PointInstancer]:
        """Copies that fly and turn over five frames."""
        stage = self.stage(name)
        stage.SetStartTimeCode(1)
        stage.SetEndTimeCode(5)
        swarm = UsdGeom.PointInstancer.Define(stage, "/swarm")
        quad(stage, "/swarm/protos/a")
        swarm.CreatePrototypesRel().SetTargets(["/swarm/protos/a"])
        swarm.CreateProtoIndicesAttr([0] * count)
        positions, turns = swarm.CreatePositionsAttr(), swarm.CreateOrientationsAttr()
        for t in (1, 5):
            positions.Set([(k, t * 0.5, 0) for k in range(count)], t)
            half = np.radians(10 * t)
            turn = Gf.Quath(float(np.cos(half)), 0, float(np.sin(half)), 0)
            turns.Set(Vt.QuathArray([turn] * count), t)
        return stage, swarm

    def test_they_move_as_the_library_has_them(self) -> None:
        stage, swarm = self.swarm()
        scene = self.read(stage)
        self.assertEqual(len(scene.instances), 5)
        for frame in (1, 2, 4, 5):
            found = world_matrices(scene, scene.seconds(frame))
            theirs = swarm.ComputeInstanceTransformsAtTime(
                frame, frame, UsdGeom.PointInstancer.IncludeProtoXform
            )
            for k, (node, _) in enumerate(scene.instances):
                np.testing.assert_allclose(
                    found[node], np.array(theirs[k], float).T, atol=2e-3, err_msg=f"{frame} {k}"
                )

    def test_what_stands_still_instead_is_told(self) -> None:
        """Copies that come and go, and too many keys."""
        stage, swarm = self.swarm()
        swarm.GetProtoIndicesAttr().Clear()
        for t, count in ((1, 5), (3, 4)):
            swarm.GetProtoIndicesAttr().Set([0] * count, t)
        self.assertIn("copies_stand_still", [n.code for n in self.read(stage).notes])
        stage, swarm = self.swarm(6, "y.usda")
        before, scattered.MOST_KEYS = scattered.MOST_KEYS, 10
        self.addCleanup(setattr, scattered, "MOST_KEYS", before)
        scene = self.read(stage)
        self.assertEqual(len(scene.instances), 6)
        self.assertIn("copies_stand_still", [n.code for n in scene.notes])
