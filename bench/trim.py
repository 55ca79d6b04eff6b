"""Everything proposed, applied: memory of a real process, triangles, time for the same noise and
SSIM of the demo and of three scenes of other characters; and how long trims take.
"""

from __future__ import annotations

import sys
import time
from pathlib import Path

import numpy as np

from bench.demo import folder, full_demo
from bench.memory import command
from bench.trim_scenes import SCENES, scan
from mill_lane.core.formats.gltf import write_glb
from mill_lane.core.formats.opening import open_scene
from mill_lane.core.image.compare import ssim
from mill_lane.core.image.srgb import from_linear
from mill_lane.core.recipe import Recipe
from mill_lane.core.render.load import load
from mill_lane.core.render.session import Session
from mill_lane.core.scene.model import Scene
from mill_lane.core.trim import TRIMS, apply_choices
from mill_lane.core.trim.simplify import joined, thinned
from mill_lane.core.weigh.duplicates import find_duplicates
from mill_lane.core.weigh.full import weigh_full

OPTIONS = {"samples": 256, "width": 160, "scenes": 4, "threads": 2}


def rendered(
    scene: Scene, recipe: Recipe, frame: int, threads: int
) -> tuple[np.ndarray, float, float]:
    """Display values, seconds, and the noise that is left."""
    session = Session(load(scene, threads), recipe, frame=frame, threads=threads, profiled=False)
    while not session.done:
        session.step(10)
    light = session.film.light / np.maximum(session.film.samples, 1)[..., None]
    return from_linear(light), session.seconds, session.noise().rms


def all_applied(path: Path, figures: dict[str, float], name: str, threads: int) -> Path:
    """The scene with everything that is proposed for a picture of 1080 rows."""
    scene = open_scene(path)
    analysis = weigh_full(scene, threads=threads)
    start = time.perf_counter()
    found = [p for t in TRIMS for p in t.propose(lambda: scene, analysis, t.usual(1080))]
    figures[f"{name}_proposals_seconds"] = time.perf_counter() - start
    lean, _ = apply_choices(scene, [p.choice for p in found if not p.left_alone])
    out = folder() / f"{name}-trimmed.glb"
    write_glb(lean, out)
    return out


def peak(path: Path) -> int:
    """Bytes that a real process takes at most to render a picture of 1920 x 1080, one sample."""
    got = command(
        *("render", str(path), "--out", str(folder() / "peak.exr")),
        *("--width", "1920", "--height", "1080", "--samples", "1", "--min-samples", "1"),
    )
    return int(got["peak_memory_bytes"])


def compared(
    name: str, before: Path, after: Path, samples: int, width: int, threads: int
) -> dict[str, float]:
    """Ratios of after to before, and the structural similarity over first, middle, last frame."""
    recipe = Recipe(
        width=width, height=width * 9 // 16, samples=samples, min_samples=samples, layers=()
    )
    a, b = open_scene(before), open_scene(after)
    first, last = a.frames
    alike, seconds, noise = [], [0.0, 0.0], [0.0, 0.0]
    for frame in sorted({first, (first + last) // 2, last}):
        shown = []
        for k, scene in enumerate((a, b)):
            picture, took, left = rendered(scene, recipe, frame, threads)
            shown.append(picture)
            seconds[k] += took
            noise[k] += left**2
        alike.append(ssim(shown[0], shown[1]))
    drawn = [sum(x.meshes[m].triangles for _, m in x.instances) for x in (a, b)]
    return {
        f"{name}_memory_ratio": peak(after) / peak(before),
        f"{name}_triangles_ratio": drawn[1] / drawn[0],
        # Noise falls with the root of the samples, so that time goes with its square.
        f"{name}_time_ratio": seconds[1] / seconds[0] * noise[1] / noise[0],
        f"{name}_ssim": min(alike),
    }


def run(samples: int, width: int, scenes: int, threads: int) -> dict[str, float]:
    figures: dict[str, float] = {}
    paths = {"bakery": full_demo()[0]}
    for name, make in list(SCENES.items())[: scenes - 1]:
        paths[name] = folder() / f"{name}.glb"
        if not paths[name].exists():
            write_glb(make(), paths[name])
    for name, path in paths.items():
        after = all_applied(path, figures, name, threads)
        found = compared(name, path, after, samples, width, threads)
        print(found, file=sys.stderr, flush=True)  # the whole takes long
        figures |= found
    g = scan(1001, 3)
    thinned([g], joined([g]), 900_000)  # compiled before the clock runs
    start = time.perf_counter()
    thinned([g], joined([g]), 100_000)
    figures["decimate_seconds"] = time.perf_counter() - start
    figures["decimate_triangles"] = len(g.triangles)
    street = SCENES["street"]()
    start = time.perf_counter()
    find_duplicates(street, list(range(len(street.meshes))))
    figures["twins_seconds"] = time.perf_counter() - start
    return figures
