"""Objects that some rays do not see: what the camera, a mirror, glass, a shadow and bounced light
make of them.
"""

from __future__ import annotations

import tempfile
import unittest
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
from pxr import Sdf, Usd, UsdGeom, UsdLux

from mill_lane.core.formats.gltf import read_scene, write_glb
from mill_lane.core.formats.opening import open_scene
from mill_lane.core.formats.saving import save_scene
from mill_lane.core.scene.model import RAYS, Light, Material, Scene
from mill_lane.core.weigh.full import weigh_full
from mill_lane.demo import shapes
from tests.scenes import WHITE, ceiling, disc, floor, looking, render, scene_of

RED = replace(WHITE, name="red", base_color=(1.0, 0.0, 0.0, 1.0))
MIRROR = replace(WHITE, name="mirror", metallic=1.0, roughness=0.0)
GLOW = replace(WHITE, name="glow", base_color=(0, 0, 0, 1), emissive=(4.0, 4.0, 4.0))
GLASS = replace(WHITE, name="glass", roughness=0.0, transmission=1.0, thickness=1.0)
LAMP = Light("lamp", "point", intensity=40.0)


def unseen(scene: Scene, thing: int, *rays: str) -> Scene:
    nodes = list(scene.nodes)
    nodes[thing] = replace(nodes[thing], unseen_by=rays)
    return replace(scene, nodes=tuple(nodes))


def mean(scene: Scene, **more: Any) -> np.ndarray:
    """The mean colour of the picture."""
    film = render(scene, **({"samples": 64, "size": 12} | more)).film
    return (film.light / np.maximum(film.samples, 1)[..., None]).mean((0, 1))


def above_a_floor(material: Material = RED, **more: Any) -> Scene:
    """A square half a metre over a white floor, a lamp above both, seen from above."""
    lamps = ((LAMP, looking((0, 3, 0), (0, 0, 0), up=(0, 0, 1))),)
    things = ((floor(4.0), WHITE), (ceiling(1.0, 0.5), replace(material, double_sided=True)))
    return scene_of(*things, eye=(0, 2, 0), up=(0, 0, 1), yfov=0.3, lights=lamps, **more)


class TestRays(unittest.TestCase):
    def test_from_the_camera(self) -> None:
        """It is not there, its shadow is: black below, where the lamp alone lights."""
        scene = above_a_floor()
        self.assertGreater(mean(scene, bounces=0)[0], 0.1)
        np.testing.assert_array_equal(mean(unseen(scene, 1, "camera"), bounces=0), 0.0)

    def test_towards_a_light(self) -> None:
        """Without a shadow the floor is as bright as without the thing."""
        scene = above_a_floor()
        alone = replace(scene, nodes=(scene.nodes[0], *scene.nodes[2:]))
        lit = mean(unseen(scene, 1, "camera", "shadow"), bounces=0)
        np.testing.assert_allclose(lit, mean(alone, bounces=0), rtol=1e-6)

    def test_shadows_of_what_lets_light_through(self) -> None:
        pane = replace(RED, alpha_mode="BLEND", base_color=(1.0, 1.0, 1.0, 0.5))
        scene = above_a_floor(pane)
        dim, bright = (mean(unseen(scene, 1, "camera", *x), bounces=0) for x in ((), ("shadow",)))
        np.testing.assert_allclose(dim, bright / 2, rtol=0.02)

    def test_spread_by_a_dull_surface(self) -> None:
        """No red comes back to the floor; without its shadow, it might not be there."""
        lamps = ((LAMP, looking((1.5, 0.4, 0), (0, 0, 0), up=(0, 0, 1))),)
        things = ((floor(4.0), WHITE), (ceiling(1.0, 0.5), replace(RED, double_sided=True)))
        scene = scene_of(*things, eye=(0, 2, 0), up=(0, 0, 1), yfov=0.3, lights=lamps)
        gone = replace(scene, nodes=(scene.nodes[0], *scene.nodes[2:]))
        held = unseen(scene, 1, "camera")
        red, white = (x[0] / x[1] for x in (mean(held, bounces=1), mean(gone, bounces=1)))
        self.assertGreater(red, 1.05 * white)
        none = unseen(scene, 1, "camera", "indirect", "reflection", "shadow")
        np.testing.assert_allclose(mean(none, bounces=1), mean(gone, bounces=1), rtol=1e-6)

    def test_in_a_mirror(self) -> None:
        """Looking down at a mirror under a glowing ceiling: bright, or the dark behind it."""
        scene = scene_of(
            (floor(4.0), MIRROR), (ceiling(8.0, 3.0), GLOW), eye=(0, 2, 0), up=(0, 0, 1)
        )
        self.assertAlmostEqual(float(mean(scene)[0]), 4.0, delta=0.1)
        self.assertAlmostEqual(float(mean(unseen(scene, 1, "reflection"))[0]), 0.0, delta=1e-3)
        others = [r for r in RAYS if r != "reflection"]
        self.assertAlmostEqual(float(mean(unseen(scene, 1, *others))[0]), 4.0, delta=0.1)

    def test_through_glass(self) -> None:
        """Behind a solid pane only rays that went through it come by."""
        slab = shapes.box((3.0, 0.2, 3.0))
        below = floor(6.0, -1.0)
        scene = scene_of((slab, GLASS), (below, GLOW), eye=(0, 2, 0), up=(0, 0, 1), yfov=0.2)
        there, gone = mean(scene)[0], mean(unseen(scene, 1, "transmission"))[0]
        self.assertGreater(there, 3.0)
        self.assertLess(gone, 0.05 * there)

    def test_a_light_that_the_camera_does_not_see(self) -> None:
        """It lights as before: a disc over a floor, found by aiming and by chance alike."""
        for radius in (0.2, 1.5):
            things = ((floor(8.0), WHITE), (disc(radius, 64, 1.0, up=False), GLOW))
            scene = scene_of(*things, eye=(0, 0.5, 0), up=(0, 0, 1), yfov=0.1)
            hidden = unseen(scene, 1, "camera")
            a, b = (mean(x, samples=256, bounces=0) for x in (scene, hidden))
            np.testing.assert_allclose(a, b, rtol=1e-6)
            # Irradiance under the middle of a disc: pi L r² / (r² + h²) (Lambert).
            share = radius**2 / (radius**2 + 1)
            self.assertAlmostEqual(float(b[0]), 4.0 * share, delta=0.06 * 4.0 * share)
            none = unseen(scene, 1, "indirect", "reflection")
            np.testing.assert_array_equal(mean(none, bounces=0), 0.0)

    def test_one_thread_or_two(self) -> None:
        scene = unseen(above_a_floor(), 1, "camera", "reflection")
        a, b = (render(scene, threads=n).film.light for n in (1, 2))
        np.testing.assert_array_equal(a, b)


class TestWeighing(unittest.TestCase):
    def test_what_the_camera_does_not_see_only_shades(self) -> None:
        scene = above_a_floor()
        letters = []
        for rays in ((), ("camera",), ("camera", "shadow", "indirect")):
            found = weigh_full(unseen(scene, 1, *rays), aspect=1.0).visibility
            assert found is not None
            letters.append(found.objects[1])
        self.assertEqual(letters, ["c", "l", "n"])


class TestKeeping(unittest.TestCase):
    def setUp(self) -> None:
        held = tempfile.TemporaryDirectory(prefix="mill-lane-tests-")
        self.addCleanup(held.cleanup)
        self.folder = Path(held.name)

    def test_in_a_glb(self) -> None:
        scene = unseen(above_a_floor(), 1, "camera", "shadow")
        write_glb(scene, self.folder / "a.glb")
        back = read_scene(self.folder / "a.glb")
        self.assertEqual([n.unseen_by for n in back.nodes[:2]], [(), ("camera", "shadow")])
        write_glb(unseen(back, 1), self.folder / "b.glb")
        self.assertEqual(read_scene(self.folder / "b.glb").nodes[1].unseen_by, ())

    def test_in_a_stage_of_ours(self) -> None:
        scene = unseen(above_a_floor(), 1, "reflection", "shadow")
        save_scene(scene, self.folder / "a.usda")
        back = open_scene(self.folder / "a.usda")
        self.assertEqual(
            sorted(n.unseen_by for n in back.nodes if n.mesh >= 0), [(), ("reflection", "shadow")]
        )

    def test_from_the_words_of_a_stage_and_back(self) -> None:
        """A pass's camera visibility and the lights' shadow links (UsdRender, UsdLux)."""
        stage = Usd.Stage.CreateNew(str(self.folder / "s.usda"))
        for name in ("seen", "unseen", "shadowless"):
            mesh = UsdGeom.Mesh.Define(stage, f"/set/{name}")
            mesh.CreatePointsAttr([(0, 0, 0), (1, 0, 0), (0, 1, 0)])
            mesh.CreateFaceVertexCountsAttr([3])
            mesh.CreateFaceVertexIndicesAttr([0, 1, 2])
            mesh.CreateSubdivisionSchemeAttr("none")
        prim = stage.DefinePrim("/Render/main", "RenderPass")
        camera = Usd.CollectionAPI.Apply(prim, "cameraVisibility")
        camera.CreateIncludeRootAttr(True)
        camera.CreateExcludesRel().AddTarget("/set/unseen")
        for k in range(2):
            light = UsdLux.LightAPI(UsdLux.SphereLight.Define(stage, f"/lamp{k}").GetPrim())
            link = light.GetShadowLinkCollectionAPI()
            link.CreateExcludesRel().AddTarget("/set/shadowless")
            if k:
                link.GetExcludesRel().AddTarget("/set/seen")
        stage.Save()
        write_glb(open_scene(self.folder / "s.usda"), self.folder / "kept.glb")
        scene = open_scene(self.folder / "kept.glb", own=True)
        found = {n.path: n.unseen_by for n in scene.nodes if n.mesh >= 0 and "set" in n.path}
        self.assertEqual(
            found, {"/set/seen": (), "/set/unseen": ("camera",), "/set/shadowless": ("shadow",)}
        )
        number = next(i for i, n in enumerate(scene.nodes) if n.path == "/set/seen")
        changed = unseen(scene, number, "camera", "shadow", "indirect")
        save_scene(changed, self.folder / "out.usda")
        out = Usd.Stage.Open(str(self.folder / "out.usda"))
        again = Usd.CollectionAPI.Get(out.GetPrimAtPath("/Render/main"), "cameraVisibility")
        self.assertFalse(again.ComputeMembershipQuery().IsPathIncluded(Sdf.Path("/set/seen")))
        read = open_scene(self.folder / "out.usda")
        (seen,) = [n for n in read.nodes if n.path == "/set/seen"]
        self.assertEqual(seen.unseen_by, ("camera", "shadow", "indirect"))
