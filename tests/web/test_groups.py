"""What is one thing to an artist is one row: copies, a material, a folder of the scene, a trim."""

from __future__ import annotations

import unittest
from dataclasses import replace
from typing import Any

import numpy as np
from sqlalchemy import select

from mill_lane.core.formats.gltf import write_glb
from mill_lane.core.formats.opening import open_scene
from mill_lane.core.scene.alike import first_alike
from mill_lane.core.scene.model import Geometry, Material, Node, Scene, Texture, TextureUse
from mill_lane.core.trim.groups import GROUPINGS, grouped
from mill_lane.core.trim.model import Proposal, Target
from mill_lane.core.weigh.measure import weigh
from mill_lane.demo import shapes
from mill_lane.store.models import Task, TrimEntry
from mill_lane.work.kinds.visible_cost import VISIBLE_COST
from tests.homes import do_tasks
from tests.scenes import WHITE, even_sky, picture, scene_of
from tests.web.case import WebCase

CHAIRS = 30


def chairs(count: int = CHAIRS, fine: int = 24) -> Scene:
    """Stored chairs that are one shape, half of them turned, in two folders, and a table."""
    chair = shapes.ball(0.4, fine)
    things: list[tuple[Geometry, Material]] = []
    for k in range(count):
        turn = np.array([[0, 0, 1], [0, 1, 0], [-1, 0, 0.0]]) if k % 2 else np.eye(3)
        r = turn.T.astype(np.float32)
        moved, bent = chair.positions @ r + np.float32([k, 0, 0]), chair.normals @ r
        worn = replace(
            chair,
            positions=np.ascontiguousarray(moved, np.float32),
            normals=np.ascontiguousarray(bent, np.float32),
        )
        things.append((worn, replace(WHITE, name="oak")))
    table = replace(WHITE, name="pine", base_color=(0.5, 0.4, 0.3, 1.0))
    scene = scene_of(
        *things, (shapes.box((2, 1, 1)), table), environment=even_sky(), eye=(9, 5, 40)
    )
    nodes = list(scene.nodes)
    for k in range(count + 1):
        name = f"chair.{k:03d}" if k < count else "table"
        nodes[k] = replace(
            nodes[k], name=name, parent=len(nodes) + (0 if k < 2 * count // 3 else 1)
        )
    nodes += [Node("Hall"), Node("Yard")]
    meshes = [replace(m, name=nodes[k].name) for k, m in enumerate(scene.meshes)]
    return replace(scene, nodes=tuple(nodes), meshes=tuple(meshes))


class TestGroups(WebCase):
    def setUp(self) -> None:
        super().setUp()
        path = self.home.scratch / "chairs.glb"
        write_glb(chairs(), path)
        self.analysis = weigh(open_scene(path))
        found = self.client.post("/api/scenes?name=chairs.glb", content=path.read_bytes())
        self.job = int(found.json()["job"])
        do_tasks(self.home, "open")
        self.url = f"/api/jobs/{self.job}/trim-list"

    def rows(self, query: str = "") -> list[Any]:
        page = self.page(f"/jobs/{self.job}/trim{query}")
        table = page.find("div", attrs={"aria-label": "Proposals"})
        return [] if table is None else table.select("tbody tr")  # type: ignore[union-attr]

    def entries(self) -> list[TrimEntry]:
        with self.home.sessions() as db:
            return list(db.scalars(select(TrimEntry)))

    def fields(self, row: Any) -> dict[str, Any]:
        return {i["name"]: i.get("value", "") for i in row.select("form input[name]")}

    def test_copies_are_one_row(self) -> None:
        """Staged as one, taken off as one, opened to single ones of which one can be taken off."""
        (row,) = self.rows("?trim=instances")
        text = " ".join(row.get_text().split())
        self.assertIn(f"× {CHAIRS - 1}", text)
        self.assertIn(f"{CHAIRS - 1} copies drawn as instances", text)
        self.done("POST", self.url, json=self.fields(row))
        self.assertEqual(len(self.entries()), CHAIRS - 1)
        page = self.page(f"/jobs/{self.job}/trim?trim=instances").get_text()
        self.assertIn(f"× {CHAIRS - 1}", " ".join(page.split()))
        key = self.fields(row)["group"]
        opened = self.rows(f"?trim=instances&open={key}")
        self.assertEqual(len(opened), CHAIRS)
        self.done("POST", self.url, json=self.fields(opened[3]) | {"targets": ["mesh:3"]})
        self.assertEqual(len(self.entries()), CHAIRS - 2)
        (row,) = self.rows("?trim=instances")
        self.assertIn(f"{CHAIRS - 2} of {CHAIRS - 1} staged", " ".join(row.get_text().split()))
        self.done("POST", self.url, json=self.fields(row))  # the rest of them
        self.assertEqual(len(self.entries()), CHAIRS - 1)
        (row,) = self.rows("?trim=instances")
        self.done("POST", self.url, json=self.fields(row))
        self.assertEqual(self.entries(), [])
        self.refused("POST", self.url, 404, json=self.fields(row) | {"group": "gone"})
        self.refused("POST", self.url, 404, json=self.fields(row) | {"by": "magic"})

    def test_applied_they_are_drawn_as_one(self) -> None:
        (row,) = self.rows("?trim=instances")
        self.done("POST", self.url, json=self.fields(row))
        self.done("POST", f"/api/jobs/{self.job}/trim", json={})
        do_tasks(self.home, "trim")
        self.assertEqual(self.rows("?trim=instances"), [])

    def test_looked_at_once(self) -> None:
        (row,) = self.rows("?trim=instances")
        do_tasks(self.home, "weigh")
        self.done("POST", self.url, json=self.fields(row))
        with self.home.sessions() as db:
            looks = list(db.scalars(select(Task).where(Task.kind == VISIBLE_COST.name)))
            self.assertEqual([len(t.payload["choices"]) for t in looks], [CHAIRS - 1])

    def test_by_folder_material_and_trim(self) -> None:
        """Of what is proposed for meshes each grouping has its own sets, and all of it."""
        proposals = [
            Proposal(
                trim="decimate",
                target=Target(kind="mesh", index=m.index, name=m.name),
                parameters={},
                before=1,
                after=0,
                memory_saved_bytes=1,
            )
            for m in self.analysis.meshes
        ]
        wanted = {
            "copies": [1, CHAIRS],
            "folder": [11, 20],
            "material": [1, CHAIRS],
            "trim": [CHAIRS + 1],
            "single": [1] * (CHAIRS + 1),
        }
        self.assertEqual(set(wanted), set(GROUPINGS.names))
        for by, sizes in wanted.items():
            found = grouped(proposals, by, self.analysis)
            self.assertEqual(sorted(map(len, found.values())), sizes, by)
        self.assertEqual(set(grouped(proposals, "folder", self.analysis)), {"Hall", "Yard"})
        for by in wanted:
            self.assertTrue(self.rows(f"?by={by}"))
        self.assertGreater(len(self.rows("?by=single")), CHAIRS - 2)

    def test_copies_that_become_unlike_are_apart(self) -> None:
        """Of equal surfaces the near one keeps more levels than the far one."""
        levels = [
            Proposal(
                trim="dicing",
                target=Target(kind="mesh", index=m.index, name=m.name),
                parameters={"level": 1 if m.index == 0 else 0, "copies": []},
                before=2,
                after=0,
                memory_saved_bytes=1,
            )
            for m in self.analysis.meshes[:CHAIRS]
        ]
        found = grouped(levels, "copies", self.analysis)
        self.assertEqual([len(x) for x in found.values()], [1, CHAIRS - 1])

    def test_fit_asks_the_same_ladder(self) -> None:
        """What changes nothing comes first on both pages, with the same figure."""
        said = f"Copies to instances: {CHAIRS - 1}"
        for page in ("fit", "trim"):
            text = " ".join(self.page(f"/jobs/{self.job}/{page}").get_text().split())
            self.assertIn(said, text)
        fit = " ".join(self.page(f"/jobs/{self.job}/fit").get_text().split())
        self.assertIn("Nothing that is drawn changes.", fit)


class TestFirstRound(unittest.TestCase):
    def test_copies_whose_materials_show_equal_pictures(self) -> None:
        """Each chair with a material and a picture of its own, bit for bit the same: found at once,
        not after the pictures were shared.
        """
        ball = shapes.ball(0.4, 12)
        chair = replace(ball, uvs=np.zeros((len(ball.positions), 2), np.float32))
        images = tuple(replace(picture(), name=f"oak {k}") for k in range(3))
        textures = tuple(Texture(f"oak {k}", k) for k in range(3))
        things = [
            (chair, replace(WHITE, name=f"oak {k}", base_texture=TextureUse(k))) for k in range(3)
        ]
        scene = scene_of(*things, images=images, textures=textures)
        self.assertEqual(first_alike(scene), [0, 0, 0])
        found = weigh(scene)
        self.assertEqual([m.duplicate_of for m in found.meshes], [None, 0, 0])
