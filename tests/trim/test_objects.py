"""Copies, objects, materials, lights, fog: what goes, and that the picture stays."""

from __future__ import annotations

import math
import unittest
from dataclasses import replace
from typing import Any

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from mill_lane.core.errors import MillError
from mill_lane.core.scene.model import Channel, Light, Node, Scene
from mill_lane.core.scene.parts import part_of
from mill_lane.core.scene.pose import world_matrices
from mill_lane.core.scene.surroundings import Medium
from mill_lane.core.trim import TRIMS, apply_choices, foresee
from mill_lane.core.trim.ladder import held, ladder
from mill_lane.core.trim.model import Choice, Target
from mill_lane.core.weigh.full import weigh_full
from mill_lane.core.weigh.measure import weigh
from mill_lane.demo import shapes
from tests.scenes import WHITE, even_sky, floor, lump, scene_of
from tests.trim.case import applied, pixels_of, proposed
from tests.weigh.test_duplicates import baked, disordered, rotation

SCAN = lump(10, 3)
RED = replace(WHITE, name="red", base_color=(0.8, 0.1, 0.1, 1.0))


def world_points(scene: Scene) -> list[np.ndarray]:
    """The corners of every placed object in world space."""
    matrices = world_matrices(scene, 0.0)
    out = []
    for node, mesh in scene.instances:
        for p in scene.meshes[mesh].parts:
            g = p.load()
            at = g.positions[g.triangles].reshape(-1, 3).astype(float)
            out.append(at @ matrices[node][:3, :3].T + matrices[node][:3, 3])
    return out


def copies(*maps: tuple[np.ndarray, tuple[float, ...]], **more: Any) -> Scene:
    """A scan, and copies of it with a map baked in and the vertices in another order."""
    rng = np.random.default_rng(5)
    things = [(SCAN, RED)]
    things += [(disordered(baked(SCAN, m, np.array(to)), rng), RED) for m, to in maps]
    return scene_of(*things, eye=(0, 1, 6), environment=even_sky(), **more)


class TestInstances(unittest.TestCase):
    @settings(max_examples=15, deadline=None)
    @given(
        st.tuples(*[st.floats(-math.pi, math.pi)] * 3),
        st.floats(0.2, 4.0),
        st.sampled_from([1, -1]),
    )
    def test_they_stand_where_the_copies_stood(
        self, turn: tuple[float, ...], size: float, side: int
    ) -> None:
        m = rotation(*turn) @ np.diag([size * side, size, size])
        scene = copies((m, (1.5, 0.2, -0.5)))
        (p,) = proposed(scene, "instances", weigh(scene))
        lean, (change,) = applied(scene, [p])
        self.assertEqual(len({mesh for _, mesh in lean.instances}), 1)
        self.assertEqual(change.memory_saved_bytes, p.memory_saved_bytes)
        was, now = (np.sort(world_points(x)[1].round(4), 0) for x in (scene, lean))
        np.testing.assert_allclose(was, now, atol=2e-3 * size)

    def test_the_same_picture(self) -> None:
        """Also of a mirrored one: it does not turn inside out."""
        mirrored = rotation(0.3, 1.0, 0.2) @ np.diag([-1.0, 1, 1])
        scene = copies((rotation(0.4, 0, 1), (-1.4, 0, 0)), (mirrored, (1.4, 0, 0)))
        lean, changes = applied(scene, proposed(scene, "instances", weigh(scene)))
        self.assertEqual(len(changes), 2)
        a, b = pixels_of(scene, samples=32), pixels_of(lean, samples=32)
        self.assertAlmostEqual(float(a.mean()), float(b.mean()), delta=0.004 * float(a.mean()))
        told = foresee(weigh(scene), [p.choice for p in proposed(scene, "instances", weigh(scene))])
        found = weigh(lean)
        self.assertEqual(
            (told.triangles, told.unique_triangles, told.instances),
            (found.triangles, found.unique_triangles, found.instances),
        )

    def test_children_and_motion_stay(self) -> None:
        """What hangs below a copy, or moves it, goes by the copy's own place."""
        scene = copies((rotation(0, 1, 0), (1, 0, 0)))
        times, ways = np.array([0.0, 1.0]), np.array([[0.0, 0, 0], [0, 2, 0]])
        moving = replace(scene.nodes[1], channels=(Channel("translation", "LINEAR", times, ways),))
        below = Node("below", parent=1, translation=(0, 0, 1), mesh=0)
        scene = replace(scene, nodes=(scene.nodes[0], moving, *scene.nodes[2:], below))
        before = [world_matrices(scene, t) for t in (0.0, 0.5)]
        lean, _ = applied(scene, proposed(scene, "instances", weigh(scene)))
        for t, was in zip((0.0, 0.5), before, strict=True):
            now = world_matrices(lean, t)
            np.testing.assert_allclose(now[1], was[1])
            np.testing.assert_allclose(now[len(scene.nodes) - 1], was[-1])
        self.assertEqual(lean.nodes[1].mesh, -1)

    def test_what_is_none_after_all_stays(self) -> None:
        scene = copies((np.eye(3), (1, 0, 0)))
        other = replace(scene.meshes[1], parts=(part_of(lump(10, 4), 1),))
        scene = replace(scene, meshes=(scene.meshes[0], other))
        wish = Choice(
            trim="instances",
            target=Target(kind="mesh", index=1, name="x"),
            parameters={"of": 0},
        )
        lean, changes = apply_choices(scene, [wish])
        self.assertEqual((changes, lean.instances), ([], scene.instances))

    def test_thinned_copies_share_what_is_thinned(self) -> None:
        """Copies are shared before the one of them is thinned, as near as the nearest stands."""
        scene = copies((np.diag([2.0, 2, 2]), (0.0, 0, 3)))
        a = weigh(scene, exact=True)
        shared = proposed(scene, "instances", a)
        target = Target(kind="mesh", index=0, name="scan")
        thin = Choice(trim="decimate", target=target, parameters={"triangles": 60})
        lean, changes = apply_choices(scene, [thin, *(p.choice for p in shared)])
        self.assertEqual([c.kind for c in changes], ["instances", "decimate"])
        (mesh,) = {m for _, m in lean.instances}
        self.assertLess(lean.meshes[mesh].triangles, 0.75 * len(SCAN.triangles))


class TestMaterials(unittest.TestCase):
    def test_equal_ones_are_one_and_copies_across_them_are_found(self) -> None:
        twin = replace(RED, name="rosso")
        scene = scene_of((SCAN, RED), (SCAN, twin), (floor(), WHITE), environment=even_sky())
        found = proposed(scene, "same_material", weigh(scene))
        self.assertEqual([(p.target.name, p.after) for p in found], [("rosso", "red")])
        a = weigh(scene)
        self.assertEqual([m.duplicate_of for m in a.meshes], [None, 0, None])
        lean, changes = applied(scene, [*found, *proposed(scene, "instances", a)])
        self.assertEqual(len(changes), 2)
        self.assertEqual(len({m for _, m in lean.instances}), 2)
        np.testing.assert_allclose(pixels_of(scene).mean(), pixels_of(lean).mean(), rtol=1e-3)


class TestLeaveOut(unittest.TestCase):
    def scene(self) -> Scene:
        """A ball in view, one behind the camera, one behind a wall, and one far away."""
        ball = shapes.ball(0.3, 8)
        things = [(ball, RED), (floor(4, -1), WHITE)]
        scene = scene_of(*things, eye=(0, 0, 5), environment=even_sky())
        places = ((0.0, 0, 20.0), (0, 0, -400.0))
        more = tuple(
            Node(f"ball {i}", translation=tuple(map(float, at)), mesh=0)  # type: ignore[arg-type]
            for i, at in enumerate(places)
        )
        return replace(scene, nodes=(*scene.nodes, *more))

    def test_beyond_behind_and_by_name(self) -> None:
        scene = self.scene()
        a = weigh(scene)
        for values, objects in (
            ({"beyond_m": 100.0}, [3]),
            ({"behind": True}, [2]),
            ({"names": "ball *, nothing"}, [2, 3]),
            ({}, []),
        ):
            found = proposed(scene, "leave_out", a, **values)
            self.assertEqual([o for p in found for o in p.parameters["objects"]], objects, values)
        (p,) = proposed(scene, "leave_out", a, names="ball *")
        lean, (change,) = applied(scene, [p])
        self.assertEqual((change.from_, change.to), (3, 1))
        self.assertEqual(len(lean.instances), 2)
        told, got = foresee(a, [p.choice]), weigh(lean)
        self.assertEqual((told.triangles, told.instances), (got.triangles, got.instances))

    def test_what_never_matters(self) -> None:
        """Weighed in full, what no ray meets is proposed; the picture is the same without it."""
        box = shapes.ball(0.2, 6)
        wall = [(floor(8, 0.0), WHITE), (box, RED)]
        scene = scene_of(*wall, eye=(0, 3, 0.1), at=(0, 0, 0))
        light = Light("lamp", "point", intensity=50.0)
        hidden = replace(scene.nodes[1], translation=(0.0, -30.0, 0.0))
        lamp = Node("lamp", translation=(0.0, 4.0, 0.0), light=0)
        scene = replace(
            scene, nodes=(scene.nodes[0], hidden, *scene.nodes[2:], lamp), lights=(light,)
        )
        a = weigh_full(scene, aspect=1.0)
        assert a.visibility is not None
        self.assertEqual(a.visibility.objects, "cn")
        (p,) = proposed(scene, "leave_out", a)
        self.assertIn("never seen", TRIMS["leave_out"].explain(p))
        lean, _ = applied(scene, [p])
        np.testing.assert_array_equal(pixels_of(scene), pixels_of(lean))

    def test_not_everything(self) -> None:
        scene = self.scene()
        wish = proposed(scene, "leave_out", weigh(scene), names="*")
        with self.assertRaisesRegex(MillError, "Nothing would be left"):
            applied(scene, wish)
        lost = wish[0].model_copy(update={"parameters": {"objects": [99]}})
        with self.assertRaisesRegex(MillError, "not there"):
            applied(scene, [lost])


class TestLights(unittest.TestCase):
    def scene(self) -> Scene:
        """A floor under one strong lamp and one a hundred thousand times weaker."""
        strong, weak = (Light(n, "point", intensity=x) for n, x in (("sun", 1e2), ("spark", 1e-3)))
        scene = scene_of((floor(3), WHITE), eye=(0, 3, 0.1), at=(0, 0, 0))
        lamps = tuple(
            Node(x.name, translation=(0.5, 2.0, 0.0), light=i) for i, x in enumerate((strong, weak))
        )
        return replace(scene, nodes=(*scene.nodes, *lamps), lights=(strong, weak))

    def test_weak_ones_go_out(self) -> None:
        scene = self.scene()
        a = weigh_full(scene, aspect=1.0)
        (p,) = proposed(scene, "weak_lights", a)
        self.assertEqual(p.target.name, "spark")
        lean, _ = applied(scene, [p])
        self.assertEqual([n.name for n in lean.nodes if n.light >= 0], ["sun"])
        self.assertEqual(len(foresee(a, [p.choice]).lights), 1)
        np.testing.assert_allclose(pixels_of(lean).mean(), pixels_of(scene).mean(), rtol=1e-3)
        with self.assertRaisesRegex(MillError, "no light"):
            applied(lean, [p.model_copy(update={"target": Target(kind="light", name="x")})])

    def test_weak_surfaces_stop_shining(self) -> None:
        glow = replace(WHITE, name="glow", emissive=(1e-4, 1e-4, 1e-4))
        scene = scene_of(
            (floor(3), WHITE), (floor(0.2, 0.5), glow), eye=(0, 3, 0.1), environment=even_sky()
        )
        a = weigh_full(scene, aspect=1.0)
        (p,) = proposed(scene, "weak_lights", a)
        lean, _ = applied(scene, [p])
        self.assertEqual(max(lean.materials[1].emissive), 0.0)

    def test_a_larger_bulb_gives_as_much(self) -> None:
        """Nine times the area at a ninth of the radiance: the floor is as bright."""
        glow = replace(WHITE, name="bulb", base_color=(0, 0, 0, 1), emissive=(9e3, 9e3, 9e3))
        bulb = shapes.ball(0.01, 10)
        scene = scene_of((floor(4), WHITE), (bulb, glow), eye=(0.1, 0.4, 0.6), at=(0, 0, 0))
        up = replace(scene.nodes[1], translation=(0.0, 1.0, 0.0))
        scene = replace(scene, nodes=(scene.nodes[0], up, *scene.nodes[2:]))
        rows = [x.model_copy(update={"noisy": True}) for x in weigh(scene).lights]
        a = weigh(scene).model_copy(update={"lights": rows})
        (p,) = proposed(scene, "strong_lights", a)
        lean, (change,) = applied(scene, [p])
        self.assertEqual(TRIMS["strong_lights"].describe(change), "3 times as wide")
        self.assertAlmostEqual(lean.materials[1].emissive[0], 1e3, 3)
        np.testing.assert_allclose(
            world_points(lean)[1].mean(0), world_points(scene)[1].mean(0), atol=1e-6
        )
        a, b = (pixels_of(x, samples=64).mean() for x in (scene, lean))
        self.assertAlmostEqual(a / b, 1.0, delta=0.02)


class TestFog(unittest.TestCase):
    def test_unseen_fog_goes(self) -> None:
        fogs = tuple(
            Medium(n, (-1.0, y, -1.0), (1.0, y + 1, 1.0), scatter=0.2)
            for n, y in (("mist", 0.2), ("cellar", -9.0))
        )
        scene = scene_of(
            (floor(4), WHITE), eye=(0, 3, 0.1), at=(0, 0, 0), environment=even_sky(), media=fogs
        )
        # The cellar is beside the view, not only below the floor.
        away = replace(fogs[1], box_min=(30.0, 0.0, 30.0), box_max=(31.0, 1.0, 31.0))
        scene = replace(scene, media=(fogs[0], away))
        a = weigh_full(scene, aspect=1.0)
        (p,) = proposed(scene, "fog", a)
        self.assertEqual(p.target.name, "cellar")
        lean, _ = applied(scene, [p])
        self.assertEqual([m.name for m in lean.media], ["mist"])
        self.assertEqual(foresee(a, [p.choice]).media, 1)


class TestLadder(unittest.TestCase):
    def test_what_changes_nothing_first(self) -> None:
        scene = copies((rotation(0.1, 0, 0), (2, 0, 0)), (np.eye(3), (4, 0, 0)))
        a = weigh(scene, exact=True)
        found = [
            p
            for t in ("instances", "leave_out")
            for p in proposed(scene, t, a, **({"names": "thing 0"} if t == "leave_out" else {}))
        ]
        need = held(a) + 1000
        rungs = ladder(a, found, need, need - 1)
        self.assertEqual(rungs.rungs[0].trim, "instances")
        self.assertEqual(rungs.down_to, 1)
        needs = [r.needed for r in rungs.rungs]
        self.assertEqual(needs, sorted(needs, reverse=True))
        self.assertEqual(need - needs[-1], sum(r.saved for r in rungs.rungs))
        self.assertEqual(ladder(a, found, need, need).down_to, 0)
        self.assertIsNone(ladder(a, found, need, 10).down_to)

    def test_every_trim_describes_itself(self) -> None:
        scene = copies((np.eye(3), (2, 0, 0)))
        a = weigh(scene, exact=True)
        for trim in TRIMS:
            for p in trim.propose(lambda: scene, a, trim.usual(1080)):
                self.assertTrue(trim.explain(p) or p.left_alone, trim.name)
        self.assertEqual(foresee(a, []), a)
