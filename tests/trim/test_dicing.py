"""Levels of subdivision surfaces by the length of their edges on screen."""

from __future__ import annotations

import unittest
from dataclasses import replace
from typing import Any

import numpy as np

from mill_lane.core.devices.cpu import cpu_device, find_machine
from mill_lane.core.recipe import Recipe
from mill_lane.core.render.load import load
from mill_lane.core.scene.model import Scene
from mill_lane.core.subdivision.surface import surface_mesh
from mill_lane.core.trim import TRIMS, foresee
from mill_lane.core.trim.dicing import side_by_side
from mill_lane.core.weigh.analysis_versions import read_analysis
from mill_lane.core.weigh.ledger import DICING_BYTES, draw_up
from mill_lane.core.weigh.measure import weigh
from mill_lane.demo import shapes
from tests.scenes import WHITE, even_sky, scene_of
from tests.surfaces import CORNERS, QUADS, cage_of
from tests.trim.case import applied, proposed


def cube_at(distance: float, level: int = 5, **more: Any) -> Scene:
    """A surface seen from so far away."""
    made = scene_of((shapes.box((1, 1, 1)), WHITE), eye=(0, 0, distance), environment=even_sky())
    return replace(made, meshes=(surface_mesh("jug", cage_of(CORNERS, QUADS), [0], level),), **more)


def edge_on_screen(scene: Scene, height: int = 1080) -> float:
    """The longest edge in pixels where it is nearest, by its own triangles."""
    g = scene.meshes[0].parts[0].load()
    p = g.positions[g.triangles].astype(float)
    sides = np.linalg.norm(p - np.roll(p, -1, 1), axis=2)
    longest = max(sides[0::2, :2].max(), sides[1::2, 1:].max())  # without where quads are cut
    camera = scene.cameras[0]
    eye = scene.nodes[1].matrix
    assert eye is not None
    near = float(np.linalg.norm(g.positions - eye[:3, 3], axis=1).min())
    return longest / (2 * near * np.tan(camera.yfov / 2) / height)


class TestDicing(unittest.TestCase):
    def test_edges_are_as_short_as_asked_and_no_shorter(self) -> None:
        """Measured on what comes out, at any distance; one level less would be too long."""
        left = []
        for distance in (24.0, 60.0, 120.0, 240.0):
            scene = cube_at(distance, level=7)
            a = weigh(scene, exact=True)
            for edge in (2.0, 8.0):
                (p,) = proposed(scene, "dicing", a, edge=edge, cap=7)
                lean, _ = applied(scene, [p])
                self.assertLessEqual(edge_on_screen(lean), 1.02 * edge)
                coarser = p.model_copy(update={"parameters": {"level": p.after - 1}})
                self.assertGreater(edge_on_screen(applied(scene, [coarser])[0]), edge)
                left.append(lean.meshes[0].triangles)
        self.assertEqual(left[::2], sorted(left[::2], reverse=True))

    def test_the_largest_copy_and_the_nearest_frame_decide(self) -> None:
        scene = cube_at(240.0, level=7)
        levels = []
        for scale in (1.0, 4.0):
            nodes = (replace(scene.nodes[0], scale=(scale, 1.0, 1.0)), *scene.nodes[1:])
            big = replace(scene, nodes=nodes)
            (p,) = proposed(big, "dicing", weigh(big, exact=True), edge=2.0)
            levels.append(p.after)
            self.assertEqual(p.facts["nearest_frame"], 1)
        self.assertEqual(levels[1] - levels[0], 2)

    def test_copies_each_by_itself_until_they_are_one(self) -> None:
        """Far and near, in either order: a level each; as instances of one, that of the nearest."""
        for near, far in ((0, 1), (1, 0)):
            base = cube_at(20.0, level=5)
            away = replace(base.nodes[0], name="far", translation=(0.0, 0.0, -200.0))
            nodes = [base.nodes[0], away] if near == 0 else [away, base.nodes[0]]
            nodes[1] = replace(nodes[1], mesh=1)
            twin = replace(base.meshes[0], name="twin")
            scene = replace(base, nodes=(*nodes, base.nodes[1]), meshes=(base.meshes[0], twin))
            a = weigh(scene, exact=True)
            found = proposed(scene, "dicing", a, edge=32.0)
            apart = {p.target.index: p.after for p in found}
            self.assertGreater(apart[near], apart[far])
            both = [*proposed(scene, "instances", a), *found]
            lean, _ = applied(scene, both)
            (mesh,) = {m for _, m in lean.instances}
            said = lean.meshes[mesh].subdivision
            self.assertEqual(said.level if said else None, apart[near])
            ahead = foresee(a, [p.choice for p in both])
            self.assertEqual(ahead.triangles, weigh(lean).triangles)

    def test_a_far_one_that_stands_for_a_near_one(self) -> None:
        """Right as it is by itself, it becomes finer once a nearer copy is drawn as it."""
        base = cube_at(20.0, level=3)
        far = replace(base.nodes[0], name="far", translation=(0.0, 0.0, -100.0))
        near = replace(base.nodes[0], name="near", mesh=1)
        twin = replace(base.meshes[0], name="twin")
        scene = replace(base, nodes=(far, near, base.nodes[1]), meshes=(base.meshes[0], twin))
        a = weigh(scene, exact=True)
        edge = a.meshes[0].subdivision.edge(3) * 1.01  # type: ignore[union-attr]
        found = proposed(scene, "dicing", a, edge=edge, finer=True)
        lean, _ = applied(scene, [*proposed(scene, "instances", a), *found])
        self.assertEqual({m for _, m in lean.instances}, {0})
        self.assertGreater(lean.meshes[0].subdivision.level, 3)  # type: ignore[union-attr]

    def test_finer_only_where_asked_and_the_cap(self) -> None:
        scene = cube_at(4.0, level=1)
        a = weigh(scene, exact=True)
        self.assertEqual(proposed(scene, "dicing", a, edge=1.0), [])
        (p,) = proposed(scene, "dicing", a, edge=1.0, cap=3, finer=True)
        self.assertEqual((p.before, p.after), (1, 3))
        self.assertLess(p.memory_saved_bytes, 0)
        self.assertRegex(TRIMS["dicing"].explain(p), r"edges of at most \d+ px")

    def test_foreseen_is_what_comes(self) -> None:
        """Bytes, triangles and vertices, against weighing anew and the renderer's own arrays."""
        scene = cube_at(60.0)
        a = weigh(scene, exact=True)
        found = proposed(scene, "dicing", a, edge=4.0)
        lean, changes = applied(scene, found)
        row, real = foresee(a, [p.choice for p in found]).meshes[0], weigh(lean).meshes[0]
        keys = ("triangles", "vertices", "geometry_bytes", "acceleration_bytes")
        self.assertEqual([getattr(row, k) for k in keys], [getattr(real, k) for k in keys])
        held = load(lean, 1).held
        self.assertEqual(held["geometry"], real.geometry_bytes)
        self.assertEqual(found[0].memory_saved_bytes, changes[0].memory_saved_bytes)
        self.assertIn("level 5 →", TRIMS["dicing"].describe(changes[0]))

    def test_evaluating_is_in_the_ledger(self) -> None:
        """A surface takes more while it is evaluated than it holds afterwards, and that is told."""
        device = cpu_device(find_machine())
        small = Recipe(width=64, height=36, layers=())
        for level in (5, 6):
            scene = cube_at(12.0, level=level)
            a = weigh(scene)
            total = draw_up(a, small, device).total
            least = DICING_BYTES * a.unique_triangles
            self.assertGreaterEqual(total, least)
            self.assertLess(total, 1.3 * least + 10**7)

    def test_side_by_side(self) -> None:
        """Longer edges and lower caps both make fewer triangles; where a cap holds, it is told."""
        table = side_by_side(weigh(cube_at(12.0), exact=True))
        self.assertEqual([row[0].edge for row in table], [1, 2, 4, 8])
        for row in table:
            counts = [x.triangles for x in row]
            self.assertEqual(counts, sorted(counts))
        for k in range(4):
            counts = [row[k].triangles for row in table]
            self.assertEqual(counts, sorted(counts, reverse=True))
        self.assertEqual((table[0][0].capped, table[3][3].capped), (1, 0))

    def test_a_mesh_that_is_no_surface_stays(self) -> None:
        scene = scene_of((shapes.box((1, 1, 1)), WHITE), environment=even_sky())
        self.assertEqual(proposed(scene, "dicing", weigh(scene, exact=True)), [])
        (p,) = proposed(cube_at(130.0), "dicing", weigh(cube_at(130.0), exact=True))
        same, changes = applied(scene, [p])
        self.assertEqual((same.meshes, changes), (scene.meshes, []))

    def test_an_analysis_from_before(self) -> None:
        values = weigh(cube_at(9.0)).model_dump(mode="json")
        values["schema_version"] = 2
        values["meshes"][0]["subdivision"] = ["catmullClark", 24, 12]
        self.assertIsNone(read_analysis(values).meshes[0].subdivision)

    def test_acceleration_as_it_was_estimated(self) -> None:
        """What was stored at 57.5 bytes a triangle is told as weighed now; what a small mesh takes
        at least stays.
        """
        many = shapes.ball(1.0, 80)
        for geometry in (many, shapes.box((1, 1, 1))):
            now = weigh(scene_of((geometry, WHITE)))
            values = now.model_dump(mode="json") | {"schema_version": 3}
            (mesh,) = values["meshes"]
            least = mesh["acceleration_bytes"] if geometry is not many else 0
            mesh["acceleration_bytes"] = max(least, round(mesh["triangles"] * 57.5))
            told = read_analysis(values).meshes[0].acceleration_bytes
            self.assertAlmostEqual(told, now.meshes[0].acceleration_bytes, delta=1)
