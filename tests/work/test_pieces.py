"""Frames in strips and in parts of the scene: the same picture, broken off and gone on with."""

from __future__ import annotations

import tempfile
import unittest
from pathlib import Path
from typing import Any
from unittest import mock

import numpy as np

from mill_lane.core.formats.exr import read_exr
from mill_lane.core.formats.opening import open_scene
from mill_lane.core.plan.night import troubles
from mill_lane.core.plan.parts import images_of
from mill_lane.core.plan.parts_check import add_up
from mill_lane.core.plan.way import Means
from mill_lane.core.progress import Cancelled
from mill_lane.core.recipe import Recipe
from mill_lane.core.render.layers import exr_names
from mill_lane.core.render.session import Session
from mill_lane.core.weigh.measure import weigh
from mill_lane.work.kept_scene import forget_scene
from mill_lane.work.kinds.base import Paused
from mill_lane.work.kinds.render_parts import Request, Result
from mill_lane.work.rendering import render
from tests.homes import Quiet
from tests.scenes import small_demo

RECIPE = Recipe(
    width=64, height=48, samples=4, min_samples=4, bounces=2, layers=("albedo", "half_buffers")
)


class Asking(Quiet):
    """Wants something once so many lines were told."""

    def __init__(self, wants: dict[str, Any], after: int) -> None:
        super().__init__()
        self.wants, self.after = wants, after

    def hear(self) -> dict[str, Any]:
        """What is wanted, as soon as it is time."""
        self.after -= 1
        return self.wants if self.after < 0 else {}


class Late(Quiet):
    """Wants a frame put aside once more than a share of it is done."""

    def __init__(self, share: float) -> None:
        super().__init__()
        self.wanted, self.share = share, 0.0

    def __call__(self, share: float, text: str) -> None:
        """Remember how far it is."""
        self.share = share

    def hear(self) -> dict[str, Any]:
        """Put it aside, where it is far enough."""
        return {"pause": True} if self.share > self.wanted else {}


class TestPieces(unittest.TestCase):
    def setUp(self) -> None:
        held = tempfile.TemporaryDirectory(prefix="mill-lane-tests-")
        self.addCleanup(held.cleanup)
        self.addCleanup(forget_scene)
        self.folder = Path(held.name)
        self.scene = small_demo()
        found = open_scene(self.scene)
        self.images = images_of(weigh(found, 4 / 3))
        meshes = sorted({mesh for _, mesh in found.instances})
        self.halves = (tuple(meshes[::2]), tuple(meshes[1::2]))

    def request(self, name: str, means: Means) -> Request:
        folder = self.folder / name
        folder.mkdir(exist_ok=True)
        return Request(
            scene=self.scene,
            recipe=RECIPE,
            region=(0, 0, 64, 48),
            frame=2,
            preview={},
            threads=2,
            memory_limit=10**10,
            key="k",
            about="",
            sky=None,
            folder=folder,
            taken_apart=False,
            checkpoint_seconds=0.0,
            means=means,
            images=self.images,
        )

    def layers(self, result: Result) -> dict[str, np.ndarray]:
        return read_exr(result.exr, exr_names())

    def test_strips_are_the_whole(self) -> None:
        """Every layer bit for bit; figures as if it had been rendered at once."""
        whole = render(self.request("whole", Means()), Quiet())
        strips = render(self.request("strips", Means(strips=3)), Quiet())
        for name, plane in self.layers(whole).items():
            np.testing.assert_array_equal(self.layers(strips)[name], plane, name)
        for name in ("samples_mean", "mean_luminance", "bad_pixels", "passes"):
            self.assertAlmostEqual(strips.measured[name], whole.measured[name], 5, name)
        self.assertEqual(strips.measured["rays"], whole.measured["rays"])
        self.assertAlmostEqual(strips.measured["noise"] / whole.measured["noise"], 1.0, 1)

    def test_parts_are_the_whole(self) -> None:
        """But for rounding, where the textures of the others are not made smaller."""
        whole = self.layers(render(self.request("whole", Means()), Quiet()))
        means = Means(parts=self.halves, strips=2)
        parts = self.layers(render(self.request("parts", means), Quiet()))
        np.testing.assert_allclose(parts["albedo"], whole["albedo"], rtol=1e-5, atol=1e-5)
        light = [float(x["beauty"].mean()) for x in (parts, whole)]
        self.assertAlmostEqual(light[0] / light[1], 1.0, 2)

    def test_broken_off_anywhere(self) -> None:
        """It goes on in the middle of a strip and of a part, to the same bits."""
        means = Means(parts=self.halves, strips=2)
        whole = self.layers(render(self.request("whole", means), Quiet()))
        request, broken = self.request("broken", means), 0
        while True:
            try:
                result = render(request, Asking({"pause": True}, 1))
                break
            except Paused:
                broken += 1
        self.assertGreaterEqual(broken, 3)
        for name, plane in self.layers(result).items():
            np.testing.assert_array_equal(plane, whole[name], name)
        self.assertTrue(result.measured["resumed"])

    def broken_off(self, request: Request) -> None:
        """Begin a frame, and have it put aside in its last piece."""
        step, pieces = Session.step, request.means.pieces
        slow = mock.patch.object(Session, "step", lambda session, _: step(session, 1e-9))
        with slow, self.assertRaises(Paused):
            render(request, Late((pieces - 1) / pieces))

    def test_gone_on_with_in_other_pieces(self) -> None:
        """What was put aside in other pieces is no part of the picture: it is begun anew."""
        whole = self.layers(render(self.request("whole", Means()), Quiet()))
        rest = self.images[self.halves[0][0]]
        small = dict.fromkeys(rest, 16)
        for before, after in (
            (Means(strips=2), Means(strips=4)),
            (Means(strips=4), Means(strips=2)),
            (Means(strips=2), Means()),
            (Means(), Means(strips=2)),
            (Means(parts=self.halves), Means(strips=2)),
            (Means(strips=2, sizes=small), Means(strips=2)),
            (Means(sizes=small), Means()),
        ):
            with self.subTest(before=before, after=after):
                name = f"{before.strips}-{after.strips}-{len(before.parts)}-{len(before.sizes)}"
                self.broken_off(self.request(name, before))
                found = render(self.request(name, after), Quiet())
                self.assertFalse(found.measured["resumed"])
                for layer, plane in self.layers(found).items():
                    np.testing.assert_array_equal(plane, whole[layer], layer)

    def test_gone_on_with_for_another_picture(self) -> None:
        """Strips of another frame or recipe in the same folder are not taken for its own."""
        means = Means(strips=2)
        self.broken_off(self.request("other", means))
        self.assertTrue(list((self.folder / "other").glob("strip-0/figures.json")))
        request = self.request("other", means).model_copy(update={"key": "l"})
        self.assertFalse(render(request, Quiet()).measured["resumed"])

    def test_smaller_textures(self) -> None:
        """Half as large each way they are another picture, and take less."""
        sizes = {i: 16 for used in self.images.values() for i in used}
        whole = render(self.request("whole", Means()), Quiet())
        small = render(self.request("small", Means(sizes=sizes)), Quiet())
        self.assertFalse(small.measured["warm"])
        albedo = [self.layers(x)["albedo"] for x in (small, whole)]
        self.assertGreater(np.abs(albedo[0] - albedo[1]).max(), 0)
        again = render(self.request("again", Means(sizes=sizes)), Quiet())
        self.assertTrue(again.measured["warm"])

    def test_compared_before(self) -> None:
        """On a small frame the parts are the whole; where things are in none, it is said."""
        means = Means(parts=self.halves)
        request = self.request("c", means).model_copy(update={"compare": True})
        told = render(request, Quiet()).measured["parts"]
        self.assertEqual(told["said"], "")
        self.assertLess(abs(told["light"]), 0.01)
        self.assertLess(told["difference"], 0.1)
        self.assertEqual(troubles({"mean_luminance": 1.0, "parts": told}, []), [])
        few = Means(parts=(self.halves[0][:1], self.halves[1][:2]))
        found = add_up(open_scene(self.scene), RECIPE, few, self.images, 2, 2)
        self.assertLess(found.light, -0.1)
        said = troubles({"mean_luminance": 1.0, "parts": {"said": found.words}}, [])
        self.assertIn("of light", said[0])

    def test_stopped_by_hand(self) -> None:
        """A frame of which pieces are missing is none."""
        with self.assertRaises(Cancelled):
            render(self.request("s", Means(strips=3)), Asking({"finish": True}, 1))
