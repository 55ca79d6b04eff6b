"""Rungs: what a run goes on with when memory fails, on a card that refuses at each step."""

from __future__ import annotations

import unittest
from dataclasses import replace

from hypothesis import given
from hypothesis import strategies as st

from mill_lane.core.devices.model import GB, Device
from mill_lane.core.errors import MillError
from mill_lane.core.formats.opening import open_scene
from mill_lane.core.plan.fitting import check_way
from mill_lane.core.plan.less_memory import (
    LEAST_IN_FLIGHT,
    MOST_STRIPS,
    RUNGS,
    foretold,
    made_to_fit,
    with_less,
)
from mill_lane.core.plan.parts import REST_SIDE, in_parts
from mill_lane.core.plan.way import Means, Way
from mill_lane.core.recipe import DENOISE_LAYERS, Recipe
from mill_lane.core.render.sizes import loading_order
from mill_lane.core.weigh.analysis import Analysis
from mill_lane.core.weigh.measure import weigh
from tests.scenes import small_demo

CPU = Device(name="Processor", kind="cpu", memory_bytes=16 * GB, threads=4)
CARD = Device(name="Card", kind="card", memory_bytes=64 * GB, samples_in_flight=1 << 18)
ALL = ("albedo", "components", "lights", "variance", "half_buffers", "normal", "depth")


def analysis() -> Analysis:
    """The small demo, its pictures eight times as large each way: textures then weigh the most."""
    found = weigh(open_scene(small_demo()), 16 / 9)
    larger = [
        t.model_copy(update={"width": 8 * t.width, "height": 8 * t.height, "memory_bytes": 64 * n})
        for t in found.textures
        if (n := t.memory_bytes) or True
    ]
    return found.model_copy(update={"textures": larger})


class TestRungs(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.analysis = analysis()

    def way(self, recipe: Recipe | None = None, **more: object) -> Way:
        recipe = recipe or Recipe(denoise="with", layers=ALL)
        return Way(self.analysis, recipe, CARD, cpu=CPU, **more)  # type: ignore[arg-type]

    def refusing(self, way: Way, free: int) -> Way:
        """The same on a card with so many bytes."""
        device = way.device.model_copy(update={"memory_bytes": free, "desktop_bytes": 0})
        return replace(way, device=device)

    def test_each_rung_where_it_is_needed(self) -> None:
        """For each there is a card that needs it alone: a byte less than without fits with it."""
        for rung in RUNGS:
            with self.subTest(rung.name):
                recipe = Recipe(denoise="with", layers=ALL)
                if rung.name == "denoise_later":  # large films take more than denoising does
                    recipe = Recipe(width=480, height=270, denoise="with", layers=())
                way = self.way(recipe)
                tight = self.refusing(way, way.ledger.total - 1)
                self.assertFalse(tight.fits)
                with self.assertRaisesRegex(MillError, "does not fit"):
                    check_way(tight)
                found, taken = made_to_fit(tight, (rung.name,))
                self.assertTrue(found.fits)
                self.assertEqual([r.name for r in taken], [rung.name])
                check_way(found)

    def test_all_the_way_down(self) -> None:
        """A card that refuses at each step goes down rung by rung, in the order that is wanted,
        and each takes less or has more.
        """
        for order in (RUNGS.names, tuple(reversed(RUNGS.names))):
            way, taken = self.refusing(self.way(), 10**6), []
            while (found := with_less(way, order)) is not None:
                self.assertLess(found[0].over, way.over)
                way = found[0]
                taken.append(found[1].name)
            self.assertEqual(way.device.kind, "cpu")
            firsts = list(dict.fromkeys(taken))
            at = [order.index(name) for name in firsts]
            self.assertEqual(at, sorted(at))
            self.assertLessEqual(way.means.strips, MOST_STRIPS)

    def test_not_allowed_not_taken(self) -> None:
        self.assertIsNone(with_less(self.refusing(self.way(), 10**6), ()))
        cpu = replace(self.way(Recipe(layers=())), device=CPU)
        of_cards = ("fewer_in_flight", "lent_memory", "processor")
        for name in (*of_cards, "denoise_later", "fewer_layers"):
            self.assertIsNone(with_less(cpu, (name,)), name)

    def test_what_makes_the_picture_stays(self) -> None:
        """No rung touches samples, bounces, size; what denoising needs is kept to the end."""
        way, same = self.way(Recipe(denoise="with", layers=ALL, samples=99)), {"denoise", "layers"}
        for rung in RUNGS:
            changed = rung.step(way)
            assert changed is not None
            before, after = (w.recipe.model_dump(exclude=same) for w in (way, changed))
            self.assertEqual(before, after)
            self.assertLessEqual(set(DENOISE_LAYERS), set(changed.recipe.kept_layers))

    def test_paths_textures_strips(self) -> None:
        """Each is halved as long as there is something to halve."""
        way, steps = self.way(), 0
        while (found := with_less(way, ("fewer_in_flight",))) is not None:
            way, steps = found[0], steps + 1
        self.assertEqual(way.device.samples_in_flight, LEAST_IN_FLIGHT)
        self.assertEqual(steps, 4)
        far = self.way(far_m=4.0)
        found = with_less(far, ("smaller_textures",))
        assert found is not None
        near = {t.index for t in self.analysis.textures if t.in_view and (t.nearest_m or 0) <= 4.0}
        self.assertTrue(near)
        self.assertFalse(near & set(found[0].means.sizes))
        strips = with_less(self.way(), ("strips",))
        assert strips is not None
        self.assertEqual(strips[0].means.strips, 2)
        self.assertEqual(strips[0].recipe.denoise, "later")

    def test_parts(self) -> None:
        """As few as it takes; each mesh is in one; what only others wear is small in each."""
        way = self.way(Recipe(layers=()))
        found = with_less(self.refusing(way, int(0.7 * way.ledger.total)), ("parts",))
        assert found is not None
        parts = found[0].means.parts
        self.assertGreaterEqual(len(parts), 2)
        every = sorted(m for part in parts for m in part)
        self.assertEqual(every, [m.index for m in self.analysis.meshes])
        images = {m.index: set(m.images) for m in self.analysis.meshes}
        for k, part in enumerate(parts):
            own = {i for m in part for i in images[m]}
            sizes = found[0].means.sizes_of(images, k)
            self.assertFalse(own & set(sizes))
            self.assertEqual(set(sizes.values()), {REST_SIDE})

    def test_told_before(self) -> None:
        """What each rung would leave to hold, one after another."""
        told = foretold(self.refusing(self.way(), 10**6), RUNGS.names)
        self.assertEqual([rung.name for rung, _ in told], list(RUNGS.names))
        sums = [n for _, n in told if n is not None]
        self.assertEqual(sums[:4], sorted(sums[:4], reverse=True))
        self.assertIsNone(foretold(replace(self.way(), device=CPU), ("processor",))[0][1])

    def test_as_kept(self) -> None:
        means = Means(sizes={3: 512}, strips=4, parts=((0, 2), (1,)))
        self.assertEqual(Means.model_validate_json(means.model_dump_json()), means)


class TestParts(unittest.TestCase):
    @given(
        st.dictionaries(st.integers(0, 30), st.sets(st.integers(0, 9), max_size=4), min_size=1),
        st.lists(st.integers(0, 10**9), min_size=10, max_size=10),
        st.integers(1, 6),
    )
    def test_shared_out(self, images: dict[int, set[int]], sizes: list[int], count: int) -> None:
        """Each mesh is in one part, none is empty, and none is larger than all together."""
        by_image = dict(enumerate(sizes))
        parts = in_parts(images, by_image, count)
        self.assertEqual(sorted(m for p in parts for m in p), sorted(images))
        self.assertTrue(all(parts))
        self.assertLessEqual(len(parts), count)

    def test_the_demo_has_textures(self) -> None:
        """What the other tests here go by."""
        self.assertTrue(loading_order(open_scene(small_demo())))
