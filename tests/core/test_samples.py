"""Files from elsewhere: opened, weighed, drawn, written in every format, and opened again.

`tests/samples.toml` lists them.  A run tries every sixteenth file, `./check --all` all of them.
"""

from __future__ import annotations

import tempfile
import tomllib
import unittest
from dataclasses import replace
from pathlib import Path

import numpy as np

from mill_lane.core.formats.opening import open_scene
from mill_lane.core.formats.saving import save_scene
from mill_lane.core.scene.model import Scene
from mill_lane.core.weigh.measure import weigh
from tests.scenes import render
from tests.thorough import EVERYTHING

ROOT = Path(__file__).resolve().parents[2]
SOME = 16
SIZE, SAMPLES = {"width": 160, "height": 90}, 4


def listed() -> list[Path]:
    said = tomllib.loads((ROOT / "tests/samples.toml").read_text())
    package = said["package"]
    folder = ROOT / "frontend/node_modules" / package["name"] / package["folder"]
    return [folder / entry["path"] for entry in said["files"]]


def drawn(scene: Scene) -> np.ndarray:
    film = render(scene, samples=SAMPLES, bounces=1, **SIZE).film
    return np.asarray(film.light / film.samples[..., None])


def factors(scene: Scene) -> list[tuple[float, ...]]:
    """Colour, metal and roughness of the materials that are worn, as a sorted list."""
    worn = {p.material for _, m in scene.instances for p in scene.meshes[m].parts}
    return sorted(
        tuple(round(float(x), 3) for x in (*m.base_color[:3], m.metallic, m.roughness))
        for i, m in enumerate(scene.materials)
        if i in worn
    )


class TestSamples(unittest.TestCase):
    def test_there_are_forty(self) -> None:
        self.assertGreaterEqual(len(listed()), 40)
        self.assertEqual([p.name for p in listed() if not p.is_file()], [])

    def test_in_and_out_again(self) -> None:
        files = listed()
        step = 1 if EVERYTHING else SOME
        for path in files[::step]:
            with self.subTest(path.parent.name), tempfile.TemporaryDirectory() as folder:
                self.round_trips(path, Path(folder))

    def round_trips(self, path: Path, folder: Path) -> None:
        scene = open_scene(path)
        first, picture = weigh(scene), drawn(scene)
        self.assertGreater(picture.mean(), 0.05)  # lit, if by nothing else by the default light
        for ending in (".glb", ".usdc", ".obj"):
            out = folder / f"again{ending}"
            lost = {n.code for n in save_scene(scene, out)}
            again = open_scene(out)
            found = weigh(again)
            self.assertEqual(found.triangles, first.triangles, ending)
            if ending != ".obj":
                self.assertEqual(found.unique_triangles, first.unique_triangles, ending)
                self.assertEqual(factors(again), factors(scene), ending)
            elif first.instances > len(first.meshes):
                self.assertIn("copies_written_out", lost)
            # The same seed from the same place (none of the files has a camera): what differs is
            # grain, and what was told as lost.
            self.assertEqual(again.nodes[-1].name, scene.nodes[-1].name)
            again = replace(
                again,
                nodes=(*again.nodes[:-1], scene.nodes[-1]),
                environment=scene.environment,
            )
            other = drawn(again)
            rms = float(np.sqrt(((picture - other) ** 2).mean()))
            allowed = 0.02 if ending == ".glb" else 0.06
            self.assertLess(rms, allowed, (ending, path.parent.name))
            self.assertAlmostEqual(picture.mean(), other.mean(), delta=0.02, msg=ending)


if __name__ == "__main__":
    unittest.main()
